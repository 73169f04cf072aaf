"""Net changes: what is left of all the changes of one key in one window.

Only a key's first and last change matter for what it was and what it is (and, where a feed sends parts of
rows, the last value given of each column). So a window is collapsed without sorting: code the keys, scatter
the row numbers to find each key's first and last, take the columns once.

Collapsing is associative. ``NetChanges`` therefore keeps what is needed to go on collapsing: ``had`` and
``has`` say whether the row existed before and after, and the operation follows from them. Keys whose changes
came to nothing are kept too, and left out of every view.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from plainstep.core import keys
from plainstep.core.changes import Changes, as_changes, concat, flat, name_lists, numbers, words
from plainstep.core.words import NOW, WAS, Op
from plainstep.errors import DataError

KEY, GIVEN = "key.", "given."
ABSENT, PRESENT, UNKNOWN = 0, 1, 2
NOTHING = 0

Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[Any]


@dataclass(frozen=True, eq=False)
class NetChanges:
    """The net changes of a window, one row a key, in no promised order.

    Attributes:
        key: the key columns.
        columns: the row's columns, the key's among them.
        state: ``key.*``, ``had`` (int8), ``has``, ``fresh`` (bool), ``count``, ``first_seq``, ``last_seq``
            (int64), ``last_at``; ``was.*`` and ``now.*`` of the other columns; ``given.*`` (bool) where
            rows came in parts.
        read: how many changes were collapsed.
        truncated: whether the table was truncated in the window: every key before it is gone.
        contradictions: changes that cannot follow on what came before them (an insert on a key that exists,
            an update or delete of one that does not). They are merged as the last state.
        last_seq: the last change that was read.
    """

    key: tuple[str, ...]
    columns: tuple[str, ...]
    state: pa.Table
    read: int = 0
    truncated: bool = False
    contradictions: int = 0
    last_seq: int | None = field(default=None)

    def __len__(self) -> int:
        """How many keys have a net change."""
        return int((self.ops != NOTHING).sum())

    @property
    def others(self) -> list[str]:
        """The columns that are not in the key."""
        return [name for name in self.columns if name not in self.key]

    @cached_property
    def ops(self) -> npt.NDArray[np.int8]:
        """The net operation of every key, 0 for nothing."""
        had, has = numbers(self.state["had"]), numbers(self.state["has"])
        ops = np.zeros(len(had), dtype=np.int8)
        ops[(had == ABSENT) & has] = Op.INSERT
        ops[(had == PRESENT) & has & self._any_changed] = Op.UPDATE
        ops[(had != ABSENT) & ~has] = Op.DELETE
        ops[(had == UNKNOWN) & has] = Op.PUT
        if self.partial:
            # The row went and came back in parts: what it was before must not show through.
            ops[(had == PRESENT) & has & numbers(self.state["fresh"]) & ~self._whole] = Op.PUT
        return ops

    @property
    def partial(self) -> bool:
        """Whether some rows came in parts."""
        return any(name.startswith(GIVEN) for name in self.state.column_names)

    def given(self, column: str) -> Bools:
        """For which keys the column's value was sent."""
        if GIVEN + column in self.state.column_names:
            return numbers(self.state[GIVEN + column])
        return np.ones(self.state.num_rows, dtype=np.bool_)

    @cached_property
    def _whole(self) -> Bools:
        whole = np.ones(self.state.num_rows, dtype=np.bool_)
        for name in self.others:
            whole &= self.given(name)
        return whole

    @cached_property
    def changed(self) -> dict[str, Bools]:
        """For each column outside the key, where its old and new values differ (rows before and after)."""
        both = (numbers(self.state["had"]) == PRESENT) & numbers(self.state["has"])
        found = {}
        for name in self.others:
            if WAS + name in self.state.column_names:
                differs = differing(flat(self.state[WAS + name]), flat(self.state[NOW + name]))
            else:
                differs = np.ones(len(both), dtype=np.bool_)  # no old values: it may have changed
            found[name] = differs & both & self.given(name)
        return found

    @cached_property
    def _any_changed(self) -> Bools:
        if not self.others:
            return np.zeros(self.state.num_rows, dtype=np.bool_)
        return np.logical_or.reduce(list(self.changed.values()))

    @cached_property
    def counts(self) -> dict[str, int]:
        """How many net changes there are of each operation, by word."""
        found = np.bincount(self.ops, minlength=len(Op) + 1)
        shown = {op.word: int(found[op]) for op in (Op.INSERT, Op.UPDATE, Op.DELETE)}
        if found[Op.PUT]:
            shown[Op.PUT.word] = int(found[Op.PUT])
        if self.truncated:
            shown[Op.TRUNCATE.word] = 1
        return shown

    def rows(self, *ops: int) -> pa.Array:
        """Where the keys with these operations are."""
        return pa.array(np.flatnonzero(np.isin(self.ops, ops)))

    def images(self, side: str, rows: pa.Array) -> pa.Table:
        """Whole rows, old or new (``was.`` or ``now.``), under the columns' own names."""
        picked = {
            name: flat(self.state[(KEY if name in self.key else side) + name]).take(rows)
            for name in self.columns
            if name in self.key or side + name in self.state.column_names
        }
        return pa.table(picked)

    def keys_of(self, rows: pa.Array) -> pa.Table:
        """The keys at these places, under the columns' own names."""
        return pa.table({name: flat(self.state[KEY + name]).take(rows) for name in self.key})

    def to_arrow(self) -> pa.Table:
        """The net changes, in no promised order: sort by ``last_seq`` for the order in which they came about.

        Returns:
            The key columns; ``op`` (a word); ``was.*`` (of the first change) and ``now.*`` (of the last) of
            the other columns; ``changed`` (list of column names); ``count``, ``first_seq``, ``last_seq``
            (int64), ``last_at`` (UTC). A truncate is not a row: see ``truncated``.
        """
        some = self.ops != NOTHING
        picked = self.state if some.all() else self.state.filter(pa.array(some))
        ops = self.ops[some]
        table: dict[str, Any] = {name: picked[KEY + name] for name in self.key}
        table["op"] = words(pa.array(ops))
        for side in (WAS, NOW):
            for name in self.others:
                if side + name in picked.column_names:
                    table[side + name] = picked[side + name]
        table["changed"] = name_lists({name: mask[some] for name, mask in self.changed.items()}, len(ops))
        if self.partial:
            table["given"] = name_lists({name: self.given(name)[some] for name in self.others}, len(ops))
        for name in ("count", "first_seq", "last_seq", "last_at"):
            table[name] = picked[name]
        return pa.table(table)

    def to_pandas(self) -> Any:
        """The net changes as a pandas DataFrame, in the form of ``to_arrow``, with Arrow-backed columns."""
        import pandas as pd

        return self.to_arrow().to_pandas(types_mapper=pd.ArrowDtype)

    def __repr__(self) -> str:
        told = ", ".join(f"{number:,} {word}" for word, number in self.counts.items() if number) or "nothing"
        return f"<NetChanges: {told} of {self.read:,} changes, key {', '.join(self.key)}>"


def differing(left: pa.Array, right: pa.Array) -> Bools:
    """Where two columns of one type differ; a null equals a null, and a NaN a NaN."""
    if pa.types.is_nested(left.type) or pa.types.is_null(left.type):
        return np.array([a != b for a, b in zip(left.to_pylist(), right.to_pylist(), strict=True)], dtype=bool)
    differs = _surely(pc.not_equal(left, right))
    if left.null_count or right.null_count:
        differs = pc.or_(differs, pc.xor(left.is_null(), right.is_null()))
    found = differs.to_numpy(zero_copy_only=False)
    if pa.types.is_floating(left.type):
        both_nan = _surely(pc.and_(pc.is_nan(left), pc.is_nan(right)))
        found = found & ~both_nan.to_numpy(zero_copy_only=False)
    return found


def _surely(answers: pa.Array) -> pa.Array:
    """Where the answer is yes; unknown is no. (In Kleene logic, unknown and no is no: far cheaper than filling nulls.)"""
    return pc.and_kleene(answers, answers.is_valid()) if answers.null_count else answers


def collapse(data: Any, key: str | Sequence[str]) -> NetChanges:
    """Collapse changes to net changes.

    Args:
        data: changes in the flat form (see ``plainstep.core.changes.as_changes``), or an iterable of
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
        collapser.add(as_changes(part))
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
        self._last_seq: int | None = None

    def add(self, changes: Changes) -> None:
        """Add the next batch, in reading order. Changes delivered before are left out.

        Raises:
            DataError: see ``collapse``.
        """
        if len(changes) == 0 and (self._waiting or self._net):
            return
        seq = changes.seq()
        if self._last_seq is not None and len(seq) and seq[0] <= self._last_seq:
            changes = Changes(changes.table.filter(pa.array(seq > self._last_seq)))
            seq = changes.seq()
        if len(seq):
            self._last_seq = int(seq[-1])
        self._waiting.append(changes)
        self._rows += len(changes)
        known = self._net.state.num_rows if self._net else 0
        if self._rows >= max(self.SMALLEST, known // 4):
            self._flush()

    def _flush(self) -> None:
        changes = concat(self._waiting)
        self._waiting, self._rows = [], 0  # let go of before the keys are gone through: it may be much
        fresh = _net_of(changes, self.key)
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


def merge(earlier: NetChanges, later: NetChanges) -> NetChanges:
    """The net changes of two windows, one after the other: net(a then b) = net(net(a) then net(b)).

    Args:
        earlier: the first window.
        later: the window that follows it, with the same key.
    """
    if later.truncated:
        joined = later
    else:
        state = _joined(earlier.state, later.state)
        columns = tuple(dict.fromkeys([*earlier.columns, *later.columns]))
        parts = NetChanges(earlier.key, columns, state, truncated=earlier.truncated)
        joined = _fold(_Events.of_net(parts))
    return replace(
        joined,
        read=earlier.read + later.read,
        truncated=earlier.truncated or later.truncated,
        contradictions=earlier.contradictions + later.contradictions + joined.contradictions * (joined is not later),
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


@dataclass(eq=False)
class _Events:
    """Things that happened to keys, in order: changes, or net changes of earlier windows.

    An update that moves a row to another key is two events; ``row`` says which row of ``table`` each event
    stands in.
    """

    key: tuple[str, ...]
    columns: tuple[str, ...]
    key_values: list[pa.Array]
    had: npt.NDArray[np.int8]
    has: Bools
    table: pa.Table
    first_seq: npt.NDArray[np.int64]
    last_seq: npt.NDArray[np.int64]
    at: pa.Array
    row: Ints | None = None
    count: Ints | None = None
    fresh: Bools | None = None
    given: dict[str, Bools] = field(default_factory=dict)
    images: bool = False  # whether rows without an image must be blanked, having been split

    @staticmethod
    def of_net(net: NetChanges) -> _Events:
        state = net.state
        given = {name: net.given(name) for name in net.others} if net.partial else {}
        return _Events(
            net.key,
            net.columns,
            [flat(state[KEY + name]) for name in net.key],
            numbers(state["had"]),
            numbers(state["has"]),
            state,
            numbers(state["first_seq"]),
            numbers(state["last_seq"]),
            flat(state["last_at"]),
            count=numbers(state["count"]),
            fresh=numbers(state["fresh"]),
            given=given,
        )


HAD = np.array([UNKNOWN, ABSENT, PRESENT, PRESENT, UNKNOWN, UNKNOWN], dtype=np.int8)
HAS = np.array([False, True, True, False, False, True])


def _net_of(changes: Changes, key: tuple[str, ...]) -> NetChanges:
    """The net changes of one batch."""
    for name in key:
        if name not in changes.columns:
            raise DataError(
                f"The changes have no column {name!r}, which the key names.",
                f"Their columns are {', '.join(changes.columns)}.",
            )
    read = len(changes)
    last_seq = int(changes.seq()[-1]) if read else None
    truncates = np.flatnonzero(changes.op() == Op.TRUNCATE)
    if len(truncates):
        changes = Changes(changes.table.slice(int(truncates[-1]) + 1))
    folded = _fold(_events(changes, key))
    return replace(folded, read=read, truncated=bool(len(truncates)), last_seq=last_seq)


def _events(changes: Changes, key: tuple[str, ...]) -> _Events:
    ops, seq = changes.op(), changes.seq()
    old = [changes.image(WAS, name) for name in key]
    new = [changes.image(NOW, name) for name in key]
    values = [pc.coalesce(now, was) for was, now in zip(old, new, strict=True)]
    events = _Events(
        key,
        tuple(changes.columns),
        values,
        HAD[ops],
        HAS[ops],
        changes.table,
        seq,
        seq,
        flat(changes.table["at"]),
        given=_given(changes, key),
    )
    moved = _moved(ops, old, new)
    if len(moved):
        events = _split(events, moved, old)
    deleted = ops == Op.DELETE
    if deleted.any() and any(now.null_count < int(deleted.sum()) for now in new):
        events.images = True  # a delete that carries new values: they are no row's
    for name, column in zip(key, events.key_values, strict=True):
        if column.null_count:
            row = pc.index(column.is_null(), True).as_py()
            raise DataError(
                f"The change at position {events.first_seq[row]} has no value in the key column {name!r}.",
                "A row without a key cannot be told apart from others, so it cannot be merged.",
            )
    return events


def _moved(ops: Ints, old: list[pa.Array], new: list[pa.Array]) -> Ints:
    """Where an update changes the key."""
    moved = np.zeros(len(ops), dtype=np.bool_)
    for was, now in zip(old, new, strict=True):
        if was.null_count < len(was):
            moved |= _surely(pc.not_equal(was, now)).to_numpy(zero_copy_only=False)
    return np.flatnonzero(moved & (ops == Op.UPDATE))


def _split(events: _Events, moved: Ints, old: list[pa.Array]) -> _Events:
    """An update that changes the key becomes a delete of the old key and an insert of the new one."""
    repeats = np.ones(len(events.had), dtype=np.int64)
    repeats[moved] = 2
    row = np.repeat(np.arange(len(repeats)), repeats)
    leaving = moved + np.arange(len(moved))  # where the first of each pair is now
    had, has = events.had[row], events.has[row]
    had[leaving], has[leaving] = PRESENT, False
    had[leaving + 1], has[leaving + 1] = ABSENT, True
    taken = pa.array(row)
    use_old = np.zeros(len(row), dtype=np.bool_)
    use_old[leaving] = True
    return replace(
        events,
        key_values=[
            pc.if_else(pa.array(use_old), was.take(taken), now.take(taken))
            for was, now in zip(old, events.key_values, strict=True)
        ],
        had=had,
        has=has,
        first_seq=events.first_seq[row],
        last_seq=events.last_seq[row],
        at=events.at.take(taken),
        row=row,
        given={name: mask[row] for name, mask in events.given.items()},
        images=True,
    )


def _given(changes: Changes, key: tuple[str, ...]) -> dict[str, Bools]:
    """For each column outside the key, in which changes it was sent; empty where rows are always whole."""
    if "given" not in changes.table.column_names:
        return {}
    lists = flat(changes.table["given"])
    every = lists.is_null().to_numpy(zero_copy_only=False)
    parents = numbers(pc.list_parent_indices(lists))
    names = pc.list_flatten(lists)
    masks = {}
    for column in changes.columns:
        if column not in key:
            mask = every.copy()
            mask[parents[pc.fill_null(pc.equal(names, column), False).to_numpy(zero_copy_only=False)]] = True
            masks[column] = mask
    return masks


def _fold(events: _Events) -> NetChanges:
    """One row a key, from its first and its last event."""
    codes, bound = keys.code(events.key_values)
    first, last = keys.ends(codes, bound)
    present = np.flatnonzero(last >= 0)
    firsts, lasts = first[present], last[present]
    fresh, resets = _resets(events, codes, bound)
    columns: dict[str, Any] = {}
    taken_last = pa.array(lasts)
    for name, values in zip(events.key, events.key_values, strict=True):
        columns[KEY + name] = values.take(taken_last)
    columns["had"] = pa.array(events.had[firsts])
    columns["has"] = pa.array(events.has[lasts])
    columns["fresh"] = pa.array(fresh[present])
    columns["count"] = pa.array(_count(events, codes, bound)[present])
    columns["first_seq"] = pa.array(events.first_seq[firsts])
    columns["last_seq"] = pa.array(events.last_seq[lasts])
    columns["last_at"] = events.at.take(taken_last)
    columns.update(_old_values(events, firsts))
    columns.update(_new_values(events, codes, present, lasts, resets))
    return NetChanges(
        events.key,
        events.columns,
        pa.table(columns),
        contradictions=_contradictions(events, codes, first, last),
    )


def _count(events: _Events, codes: Ints, bound: int) -> npt.NDArray[np.int64]:
    counts = np.bincount(codes, weights=events.count, minlength=bound)
    return counts.astype(np.int64)


def _resets(events: _Events, codes: Ints, bound: int) -> tuple[Bools, Ints | None]:
    """Which keys began anew in the window, and from which event on their values count."""
    fresh = np.zeros(bound, dtype=np.bool_)
    if not events.given:
        return fresh, None
    begins = events.had == ABSENT if events.fresh is None else (events.had == ABSENT) | events.fresh
    ends = ~events.has
    fresh[codes[begins | ends]] = True
    resets = np.full(bound, -1, dtype=np.int64)
    order = np.arange(len(codes), dtype=np.int64)
    marks = begins | ends
    resets[codes[marks]] = order[marks] + ends[marks]
    return fresh, resets


def _old_values(events: _Events, firsts: Ints) -> dict[str, pa.Array]:
    rows = pa.array(firsts if events.row is None else events.row[firsts])
    blank = events.had[firsts] != PRESENT if events.images else None
    others = [WAS + name for name in events.columns if name not in events.key]
    columns = {name: events.table[name] for name in others if name in events.table.column_names}
    return {name: _blanked(values, blank) for name, values in keys.take_all(columns, rows).items()}


def _new_values(events: _Events, codes: Ints, present: Ints, lasts: Ints, resets: Ints | None) -> dict[str, pa.Array]:
    others = [name for name in events.columns if name not in events.key and NOW + name in events.table.column_names]
    columns = {NOW + name: events.table[NOW + name] for name in others}
    if resets is None:
        rows = pa.array(lasts if events.row is None else events.row[lasts])
        blank = ~events.has[lasts] if events.images else None
        return {name: _blanked(values, blank) for name, values in keys.take_all(columns, rows).items()}
    found: dict[str, pa.Array] = {}
    for name in others:  # each column's last value that was sent
        sent = np.flatnonzero(events.given[name])
        latest = np.full(len(resets), -1, dtype=np.int64)
        latest[codes[sent]] = sent
        known = (latest >= resets) & (latest >= 0)
        at = np.where(known, latest, 0)[present]
        rows = pa.array(at if events.row is None else events.row[at])
        blank = ~(known[present] & events.has[lasts])
        found[GIVEN + name] = pa.array(known[present])
        found[NOW + name] = _blanked(flat(columns[NOW + name]).take(rows), blank)
    return found


def _blanked(values: pa.Array, blank: Bools | None) -> pa.Array:
    if blank is None or not blank.any():
        return values
    return pc.if_else(pa.array(blank), pa.scalar(None, values.type), values)


def _contradictions(events: _Events, codes: Ints, first: Ints, last: Ints) -> int:
    """How many events do not fit what went before them on their key.

    Only a key that is inserted after its first event, or deleted before its last, can have one; those few
    are put in order and looked at pair by pair.
    """
    inserted = np.flatnonzero(events.had == ABSENT)
    deleted = np.flatnonzero(~events.has)
    again, then = codes[inserted], codes[deleted]
    suspect = np.zeros(len(first), dtype=np.bool_)
    suspect[again[first[again] != inserted]] = True
    suspect[then[last[then] != deleted]] = True
    where = np.flatnonzero(suspect[codes])
    if len(where) == 0:
        return 0
    absent_before, present_before, present_after = 1, 2, 4
    tags = EXPECTS[events.had] | (events.has.view(np.int8) << 2)
    goes_on, tags = keys.in_order(codes, where, tags)
    left, found = (tags[:-1] & present_after) != 0, tags[1:]
    odd = np.where(left, found & absent_before, found & present_before) != 0
    return int((goes_on & odd).sum())


EXPECTS = np.zeros(3, dtype=np.int8)
EXPECTS[ABSENT], EXPECTS[PRESENT] = 1, 2


def nets(parts: Iterable[NetChanges]) -> NetChanges:
    """The net changes of several windows that follow on each other.

    Raises:
        ValueError: there is none.
    """
    merged: NetChanges | None = None
    for part in parts:
        merged = part if merged is None else merge(merged, part)
    if merged is None:
        raise ValueError("no windows")
    return merged
