"""Net changes: what is left of all the changes of one key in one window.

Collapsing is associative. ``NetChanges`` therefore keeps what is needed to go on collapsing: ``had`` and
``has`` say whether the row existed before and after, and the operation follows from them. Keys whose changes
came to nothing are kept too, and left out of every view.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cache, partial
from itertools import pairwise
from typing import Any

from plainstep.core.arrays import Bools, Numbers, flat, numbers, utc_time
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import ABSENT, NOW, PRESENT, ROW, SAME, UNKNOWN, WAS, Op
from plainstep.core.changes.words import name_lists, words
from plainstep.deferred import np, npt, pa, pc, pd
from plainstep.errors import ConfigError, need_pandas
from plainstep.properties import cached_property

KEY, GIVEN = "key.", "given."
NOTHING = 0
# Rows that a notebook shows.
SHOWN = 20
# Bytes of texts in one array of lists.
MOST_TEXT = 1 << 30


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
    last_seq: int | None = None

    def _repr_html_(self) -> str | None:
        """How it shows itself in a notebook; as text where pandas is not installed."""
        try:
            return str(self.to_pandas().head(SHOWN)._repr_html_())
        except ConfigError:
            return None

    def __len__(self) -> int:
        """How many keys have a net change."""
        return int((self.ops != NOTHING).sum())

    @property
    def shown_key(self) -> tuple[str, ...]:
        """The columns of the key; none where rows have none, and each change is told by its number."""
        return () if self.key == (ROW,) else self.key

    @property
    def others(self) -> list[str]:
        """The columns that are not in the key."""
        return [name for name in self.columns if name not in self.key]

    @cached_property
    def ops(self) -> npt.NDArray[np.int8]:
        """The net operation of every key, 0 for nothing."""
        had, has = numbers(self.state["had"]), numbers(self.state["has"])
        # One look into a table of all cases: five masks took six times as long.
        ops = _net_ops().take((had * 2 + has) * 2 + self._any_changed)
        if self.partial:
            # The row went and came back in parts: what it was before must not show through.
            ops[(had == PRESENT) & has & numbers(self.state["fresh"]) & ~self._whole] = Op.PUT
        return ops

    @property
    def unsure(self) -> Numbers:
        """Keys that were changed more than once, where only the source can tell whether all came back as it was."""
        if SAME not in self._names:
            return np.zeros(0, dtype=np.int64)
        both = (numbers(self.state["had"]) == PRESENT) & numbers(self.state["has"])
        return np.flatnonzero(both & (numbers(self.state["count"]) > 1))

    @property
    def every(self) -> pa.Array:
        """Where all keys are, those that came to nothing among them."""
        return pa.array(np.arange(self.state.num_rows))

    def ends(self, rows: Numbers) -> tuple[list[int], list[int]]:
        """The first and the last change of some keys."""
        return numbers(self.state["first_seq"])[rows].tolist(), numbers(self.state["last_seq"])[rows].tolist()

    def made_sure(self, rows: Numbers, same: list[bool]) -> NetChanges:
        """The same net changes, knowing which of some keys came back as they were."""
        known = numbers(self.state[SAME]).copy()
        known[rows] = same
        place = self.state.schema.get_field_index(SAME)
        return replace(self, state=self.state.set_column(place, SAME, pa.array(known)))

    @cached_property
    def _names(self) -> set[str]:
        """The columns of the state. (Arrow makes a new list of them for everyone who asks, which of a thousand takes milliseconds.)"""
        return set(self.state.column_names)

    @property
    def has_before_images(self) -> bool:
        """Whether every old value is told, so that the net changes could be undone."""
        told = all(WAS + name in self._names for name in self.others)
        return told and not self.truncated and Op.PUT not in self.ops

    def without(self, keys_of: NetChanges) -> NetChanges:
        """The net changes of all keys but those of another window."""
        names = [KEY + name for name in self.key]
        others = keys_of.state.select(names).cast(pa.schema([self.state.schema.field(name) for name in names]))
        left = self.state.join(others, names, join_type="left anti")
        return replace(self, state=left.select(self.state.column_names))

    @property
    def partial(self) -> bool:
        """Whether some rows came in parts."""
        return any(name.startswith(GIVEN) for name in self._names)

    def given(self, column: str) -> Bools:
        """For which keys the column's value was sent."""
        if GIVEN + column in self._names:
            return numbers(self.state[GIVEN + column])
        return np.ones(self.state.num_rows, dtype=np.bool_)

    @property
    def whole(self) -> bool:
        """Whether every row that stands was sent in full."""
        return not self.partial or bool((self._whole | ~numbers(self.state["has"])).all())

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
        sides = {
            name: (flat(self.state[WAS + name]), flat(self.state[NOW + name]))
            for name in self.others
            if WAS + name in self._names
        }
        compared = keys.side_by_side({name: partial(differing, *both) for name, both in sides.items()}, len(both))
        found = {}
        for name in self.others:
            if name in compared:
                differs = compared[name]
            elif SAME in self._names:
                differs = ~numbers(self.state[SAME])  # some column changed, so this one may have
            else:
                differs = np.ones(len(both), dtype=np.bool_)  # no old values: it may have changed
            found[name] = differs & both & self.given(name) if self.partial else differs & both
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
            if name in self.key or side + name in self._names
        }
        return pa.table(picked)

    def keys_of(self, rows: pa.Array) -> pa.Table:
        """The keys at these places, under the columns' own names."""
        return pa.table({name: flat(self.state[KEY + name]).take(rows) for name in self.key})

    def as_changes(self) -> Changes:
        """The net changes as changes, in the order in which they came about. A truncate is not among them."""
        some = np.flatnonzero(self.ops != NOTHING)
        last = numbers(self.state["last_seq"])[some]
        ops = self.ops[some]
        # A row that moved to another key leaves the old one before it comes to the new one.
        order = np.lexsort((ops != Op.DELETE, last))
        rows = pa.array(some[order])
        ops = ops[order]
        table: dict[str, Any] = {"op": pa.array(ops), "seq": pa.array(last[order])}
        table["at"] = flat(self.state["last_at"]).take(rows)
        absent = {WAS: (ops == Op.INSERT) | (ops == Op.PUT), NOW: ops == Op.DELETE}
        for side in (WAS, NOW):
            for name in self.columns:
                if name in self.key:
                    values = flat(self.state[KEY + name]).take(rows)
                    table[side + name] = pc.if_else(pa.array(absent[side]), pa.scalar(None, values.type), values)
                elif side + name in self.state.column_names:
                    table[side + name] = flat(self.state[side + name]).take(rows)
        return Changes(pa.table(table))

    def standing_at(self, position: int, at: datetime | None) -> NetChanges:
        """The same net changes, as if all of them had come about at one position."""
        count = self.state.num_rows
        columns = {name: self.state[name] for name in self.state.column_names}
        columns |= {name: pa.repeat(pa.scalar(position, pa.int64()), count) for name in ("first_seq", "last_seq")}
        columns["last_at"] = pa.repeat(pa.scalar(at, utc_time()), count) if at else pa.nulls(count, utc_time())
        return replace(self, state=pa.table(columns))

    def with_old(self, stood: pa.Table) -> NetChanges:
        """The same net changes with old values.

        Args:
            stood: the rows that stood before them, of the keys that they change: all columns.
        """
        names = list(self.key)
        numbered = self.state.select([KEY + name for name in names]).rename_columns(names)
        numbered = numbered.append_column("plainstep.row", self.every)
        held = stood.select(list(self.columns)).cast(pa.schema([stood.schema.field(name) for name in self.columns]))
        held = held.append_column("plainstep.found", pa.array(np.ones(held.num_rows, dtype=np.bool_)))
        keyed = numbered.cast(pa.schema([*(held.schema.field(name) for name in names), ("plainstep.row", pa.int64())]))
        joined = keyed.join(held, names, join_type="left outer").sort_by("plainstep.row")
        found = pc.fill_null(flat(joined["plainstep.found"]).cast(pa.bool_()), False).to_numpy(zero_copy_only=False)
        columns = {name: self.state[name] for name in self.state.column_names if not name.startswith(GIVEN)}
        columns["had"] = pa.array(np.where(found, PRESENT, ABSENT).astype(np.int8))
        columns.pop(SAME, None)
        for name in self.others:
            old = flat(joined[name])
            new = flat(columns[NOW + name]).cast(old.type)
            columns[WAS + name] = old
            columns[NOW + name] = pc.if_else(pa.array(self.given(name)), new, old) if self.partial else new
        return replace(self, state=pa.table(columns))

    def to_arrow(self) -> pa.Table:
        """The net changes, in no promised order: sort by ``last_seq`` for the order in which they came about.

        Returns:
            The key columns; ``op`` (a word); ``was.*`` (of the first change) and ``now.*`` (of the last) of
            the other columns; ``changed`` (list of column names); ``count``, ``first_seq``, ``last_seq``
            (int64), ``last_at`` (UTC). A truncate is not a row: see ``truncated``.
        """
        some = self.ops != NOTHING
        ops, kept = self.ops[some], pa.array(some)
        in_one_piece = bool(some[: len(ops)].all())  # what came and went stands at the end

        def picked(name: str) -> pa.Array:
            return self.state[name].slice(0, len(ops)) if in_one_piece else keys.picked(self.state[name], kept)

        def named(masks: dict[str, Bools], part: slice) -> pa.Array:
            return name_lists({name: mask[part][some[part]] for name, mask in masks.items()}, int(some[part].sum()))

        made: dict[Any, Callable[[], pa.Array]] = {name: partial(picked, KEY + name) for name in self.key}
        made["op"] = lambda: words(pa.array(ops))
        for side in (WAS, NOW):
            made |= {side + name: partial(picked, side + name) for name in self.others if side + name in self._names}
        lists = {"changed": self.changed}
        if self.partial:
            lists["given"] = {name: self.given(name) for name in self.others}
        # Of many in parts: for all cores, as they take as long as all other columns together, and as one array holds 2 GiB of texts.
        most_text = len(some) * sum(len(name.encode()) for name in self.others)
        count = max(2 if len(some) >= keys.WORTH_SPLITTING else 1, most_text // MOST_TEXT + 1)
        cuts = [len(some) * part // count for part in range(count + 1)]
        parts = [slice(low, high) for low, high in pairwise(cuts)]
        halves: dict[Any, Callable[[], pa.Array]] = {
            (name, place): partial(named, lists[name], part) for name in lists for place, part in enumerate(parts)
        }
        last: dict[Any, Callable[[], pa.Array]] = {
            name: partial(picked, name) for name in ("count", "first_seq", "last_seq", "last_at")
        }
        found: dict[Any, pa.Array] = keys.side_by_side(halves | made | last, len(some))
        joined = {name: pa.chunked_array([found[name, place] for place in range(len(parts))]) for name in lists}
        return pa.table({name: found[name] for name in made} | joined | {name: found[name] for name in last})

    def to_pandas(self) -> Any:
        """The net changes as a pandas DataFrame, in the form of ``to_arrow``, with Arrow-backed columns."""
        need_pandas()
        return self.to_arrow().to_pandas(types_mapper=pd.ArrowDtype)

    def __repr__(self) -> str:
        told = ", ".join(f"{number:,} {word}" for word, number in self.counts.items() if number) or "nothing"
        return f"<NetChanges: {told} of {self.read:,} changes, key {', '.join(self.key)}>"


@cache
def _net_ops() -> npt.NDArray[np.int8]:
    """The net operation, by what was there before (see ``ops.ABSENT``), whether there is a row after, and whether a value differs."""
    ops = np.zeros((3, 2, 2), dtype=np.int8)
    ops[ABSENT, 1], ops[PRESENT, 1, 1], ops[UNKNOWN, 1] = Op.INSERT, Op.UPDATE, Op.PUT
    ops[PRESENT, 0] = ops[UNKNOWN, 0] = Op.DELETE
    return ops.ravel()


def differing(left: pa.Array, right: pa.Array) -> Bools:
    """Where two columns of one type differ; a null equals a null, and a NaN a NaN."""
    if pa.types.is_nested(left.type) or pa.types.is_null(left.type):
        return np.array([a != b for a, b in zip(left.to_pylist(), right.to_pylist(), strict=True)], dtype=bool)
    differs = surely(pc.not_equal(left, right))
    if left.null_count or right.null_count:
        differs = pc.or_(differs, pc.xor(left.is_null(), right.is_null()))
    found = differs.to_numpy(zero_copy_only=False)
    if pa.types.is_floating(left.type) and pc.any(pc.is_nan(left)).as_py():
        both_nan = surely(pc.and_(pc.is_nan(left), pc.is_nan(right)))
        found = found & ~both_nan.to_numpy(zero_copy_only=False)
    return found


def surely(answers: pa.Array) -> pa.Array:
    """Where the answer is yes; unknown is no. (In Kleene logic, unknown and no is no: far cheaper than filling nulls.)"""
    return pc.and_kleene(answers, answers.is_valid()) if answers.null_count else answers
