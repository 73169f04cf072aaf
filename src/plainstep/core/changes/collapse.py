"""Collapsing a window: all at once, batch by batch, or window after window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from plainstep.core.changes.batch import Changes, as_changes, concat
from plainstep.core.changes.duplicates import repeated
from plainstep.core.changes.fold import Events, fold, net_of
from plainstep.core.changes.net import GIVEN, NetChanges
from plainstep.core.changes.ops import NOW
from plainstep.deferred import np, pa
from plainstep.errors import DataError


def collapse(data: Any, key: str | Sequence[str]) -> NetChanges:
    """Collapse changes to net changes.

    Args:
        data: changes in the flat form (see ``plainstep.core.changes.batch.as_changes``), or an iterable of
            such batches in reading order.
        key: the column or columns that tell rows apart.

    Returns:
        The net changes: one insert, update or delete a key, or nothing.

    Raises:
        DataError: a null in the key, a missing key column, an unknown operation, an image that is missing.
    """
    names = (key,) if isinstance(key, str) else tuple(key)
    collapser = Collapser(names)
    parts = data if isinstance(data, (list, tuple)) or hasattr(data, "__next__") else [data]
    for part in parts:
        collapser.add(as_changes(part, names))
    return collapser.result()


class Collapser:
    """Collapses a window batch by batch, in memory for the keys rather than for the changes."""

    # Batches are gathered until they are worth one pass over all the keys seen so far.
    SMALLEST = 1 << 18

    def __init__(self, key: Sequence[str]) -> None:
        if not key:
            raise DataError("A key needs at least one column.")
        self.key = tuple(key)
        self._net: NetChanges | None = None
        self._waiting: list[Changes] = []
        self._rows = 0
        self._last: Changes | None = None

    def add(self, changes: Changes) -> None:
        """Add the next batch, in reading order. Changes that the batch before brought already are left out.

        Raises:
            DataError: see ``collapse``; or the batch lies before those that were added.
        """
        if len(changes) == 0 and (self._waiting or self._net):
            return
        before, self._last = self._last, changes if len(changes) else self._last
        if before is not None and len(changes) and changes.seq()[0] <= before.seq()[-1]:
            changes = _unseen(before, changes, self.key)
            self._last = self._last if len(changes) else before
        self._waiting.append(changes)
        self._rows += len(changes)
        known = self._net.state.num_rows if self._net else 0
        if self._rows >= max(self.SMALLEST, known // 4):
            self._flush()

    def _flush(self) -> None:
        changes = concat(self._waiting)
        self._waiting, self._rows = [], 0  # let go of before the keys are gone through: it may be much
        fresh = net_of(changes, self.key)
        del changes
        earlier, self._net = self._net, None
        self._net = fresh if earlier is None else merge(earlier, fresh)

    def result(self) -> NetChanges:
        """The net changes of all batches so far.

        Raises:
            DataError: no batch was added, so that the columns are not known.
        """
        if self._waiting:
            self._flush()
        if self._net is None:
            raise DataError("There are no changes to collapse, not even an empty batch.")
        return self._net


def _unseen(before: Changes, changes: Changes, key: tuple[str, ...]) -> Changes:
    """A batch without the changes that the one before it brought already.

    Raises:
        DataError: others of its changes lie before the end of that one.
    """
    end = int(before.seq()[-1])
    both = pa.concat_tables([before.table, changes.table], promote_options="default")
    fresh = ~repeated(both, np.ones(both.num_rows, dtype=np.bool_), key)[len(before) :]
    seq = changes.seq()
    late = seq[fresh & (seq < end)]
    if len(late):
        raise DataError(
            f"A batch brings a change with the seq {late[0]}, after one with the seq {end}.",
            "Which of them is the later one is not known.",
            "Give the batches in the order of their changes.",
        )
    return Changes(changes.table.filter(pa.array(fresh)))


def merge(earlier: NetChanges, later: NetChanges) -> NetChanges:
    """The net changes of two windows, one after the other: net(a then b) = net(net(a) then net(b)).

    Args:
        earlier: the first window.
        later: the window that follows it, with the same key.
    """
    between = 0
    if later.truncated:
        joined = later
    else:
        state = _joined(earlier.state, later.state)
        columns = tuple(dict.fromkeys([*earlier.columns, *later.columns]))
        joined = fold(Events.of_net(NetChanges(earlier.key, columns, state)))
        between = joined.contradictions
    return replace(
        joined,
        read=earlier.read + later.read,
        truncated=earlier.truncated or later.truncated,
        contradictions=earlier.contradictions + later.contradictions + between,
        last_seq=later.last_seq if later.last_seq is not None else earlier.last_seq,
    )


def _joined(earlier: pa.Table, later: pa.Table) -> pa.Table:
    """Two states, one after the other. A column only one of them has is null, or given throughout, in the other."""
    for name in {*earlier.column_names, *later.column_names}:
        if name.startswith(GIVEN):
            column = NOW + name[len(GIVEN) :]
            earlier, later = (
                state
                if name in state.column_names
                else state.append_column(name, pa.array(np.full(state.num_rows, column in state.column_names)))
                for state in (earlier, later)
            )
    return pa.concat_tables([earlier, later], promote_options="default")
