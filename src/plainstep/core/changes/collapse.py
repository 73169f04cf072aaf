"""Collapsing a window: all at once, batch by batch, or window after window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from plainstep.core.changes.batch import Changes, as_changes, concat
from plainstep.core.changes.duplicates import repeated
from plainstep.core.changes.events import Events
from plainstep.core.changes.fold import fold, net_of
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
    """Collapses a window batch by batch, in memory for the keys rather than for the changes.

    Args:
        key: the columns that tell rows apart.
        limit: bytes of net changes of batches that are held before they are collapsed to one.
    """

    # Batches are gathered until they are worth a pass.
    SMALLEST = 1 << 18
    # Bytes of what batches came to that are held at least before they are collapsed to one, and so many times what that was last: each
    # key is then gone through twice and a seventh, however many batches there are, in room for the keys.
    FEW, TIMES = 64 << 20, 8

    def __init__(self, key: Sequence[str], limit: int = 1 << 30) -> None:
        if not key:
            raise DataError("A key needs at least one column.")
        self.key, self.limit = tuple(key), limit
        self._nets: list[NetChanges] = []
        self._waiting: list[Changes] = []
        self._rows = self._bytes = 0
        self._enough = self.FEW
        self._last: Changes | None = None

    def add(self, changes: Changes) -> None:
        """Add the next batch, in reading order. Changes that the batch before brought already are left out.

        Raises:
            DataError: see ``collapse``; or the batch lies before those that were added.
        """
        if len(changes) == 0 and (self._waiting or self._nets):
            return
        before, self._last = self._last, changes if len(changes) else self._last
        if before is not None and len(changes) and changes.seq()[0] <= before.seq()[-1]:
            changes = _unseen(before, changes, self.key)
            self._last = self._last if len(changes) else before
        self._waiting.append(changes)
        self._rows += len(changes)
        if self._rows >= self.SMALLEST:
            self._flush()

    @property
    def is_empty(self) -> bool:
        """Whether it holds nothing, not even an empty batch."""
        return not self._nets and not self._waiting

    @property
    def is_full(self) -> bool:
        """Whether the keys alone take most of the limit, so that it would be reached again at once."""
        return len(self._nets) == 1 and self._bytes > self.limit // 2

    def taken(self) -> NetChanges:
        """The net changes of all batches so far, which it lets go of: it goes on with the next batch.

        Raises:
            DataError: no batch was added.
        """
        found, self._nets, self._bytes, self._enough = self.result(), [], 0, self.FEW
        return found

    def _flush(self) -> None:
        changes = concat(self._waiting)
        self._waiting, self._rows = [], 0  # let go of before the keys are gone through: it may be much
        fresh = net_of(changes, self.key)
        self._nets.append(fresh)
        self._bytes += int(fresh.state.nbytes)
        if self._bytes > min(self.limit, self._enough):
            self._collapse()

    def _collapse(self) -> None:
        """Collapse what is held to one."""
        if len(self._nets) > 1:
            nets, self._nets = self._nets, []
            self._nets = [merged(nets)]
            self._bytes = int(self._nets[0].state.nbytes)
        self._enough = max(self.FEW, self.TIMES * self._bytes)

    def result(self) -> NetChanges:
        """The net changes of all batches so far.

        Raises:
            DataError: no batch was added, so that the columns are not known.
        """
        if self._waiting:
            self._flush()
        if not self._nets:
            raise DataError("There are no changes to collapse, not even an empty batch.")
        self._collapse()
        return self._nets[0]


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
    return merged([earlier, later])


def merged(nets: Sequence[NetChanges]) -> NetChanges:
    """The net changes of some windows, one after the other.

    Args:
        nets: at least one, of one key.
    """
    begin = max((place for place, net in enumerate(nets) if net.truncated), default=0)  # every key before it is gone
    left = nets[begin:]
    if len(left) == 1:
        joined, between = left[0], 0
    else:
        columns = tuple(dict.fromkeys(name for net in left for name in net.columns))
        joined = fold(Events.of_net(NetChanges(left[0].key, columns, _joined([net.state for net in left]))))
        between = joined.contradictions
    return replace(
        joined,
        read=sum(net.read for net in nets),
        truncated=any(net.truncated for net in nets),
        contradictions=between + sum(net.contradictions for net in nets),
        last_seq=next((net.last_seq for net in reversed(nets) if net.last_seq is not None), None),
    )


def _joined(states: Sequence[pa.Table]) -> pa.Table:
    """States, one after the other. A column that some of them lack is null, or given throughout, in these."""
    for name in {name for state in states for name in state.column_names if name.startswith(GIVEN)}:
        column = NOW + name[len(GIVEN) :]
        states = [
            state
            if name in state.column_names
            else state.append_column(name, pa.array(np.full(state.num_rows, column in state.column_names)))
            for state in states
        ]
    return pa.concat_tables(states, promote_options="default")
