"""Rows that came under another key, of which a feed left out values that did not change.

PostgreSQL's log sends no large value that an update left as it was. Where the row keeps its key, the target has that
value; where it moves, the target has it under the old key, or a change before in the same window sent it. So the
changes of such rows are gone through in order, and what was left out is filled in: exactly, or not at all.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from plainstep.core.arrays import flat
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.events import moved
from plainstep.core.changes.net import surely
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, npt, pa, pc

Key = tuple[Any, ...]


class MovedRows:
    """The rows of a window that came under another key.

    Args:
        key: the columns that tell rows apart.

    Attributes:
        partial: whether a value of any of them was left out.
    """

    def __init__(self, key: Sequence[str]) -> None:
        self.key = list(key)
        self.partial = False
        self._parts: list[pa.Table] = []

    def add(self, changes: Changes) -> None:
        """Look at the next batch. Where rows are always sent whole, that costs nothing."""
        if "given" not in changes.table.column_names:
            return
        moved = self._moved(changes)
        if not moved.any():
            return
        rows = pa.array(moved)
        self._parts += [
            pa.table({name: changes.image(side, name).filter(rows) for name in self.key}) for side in (WAS, NOW)
        ]
        self.partial = self.partial or flat(changes.table["given"]).filter(rows).null_count < int(moved.sum())

    def _moved(self, changes: Changes) -> npt.NDArray[np.bool_]:
        moved = np.zeros(len(changes), dtype=np.bool_)
        for name in self.key:
            differs = pc.not_equal(changes.image(WAS, name), changes.image(NOW, name))
            moved |= surely(differs).to_numpy(zero_copy_only=False)
        return moved & (changes.op() == Op.UPDATE)

    @property
    def keys(self) -> pa.Table:
        """The keys that rows came from, or went to."""
        return pa.concat_tables(self._parts).group_by(self.key).aggregate([]).select(self.key)

    def filled(self, batches: Iterable[Changes], held: pa.Table | None) -> Iterator[Changes]:
        """The changes again, with what was left out filled in where it is known; else it stays left out.

        Args:
            batches: the changes of the window, from its beginning.
            held: the rows that the target holds of these keys, as they were before the window; None if it holds none.
        """
        keys = self.keys
        rows = _Rows(self.key, held)
        for changes in batches:
            some = changes.among(keys)
            fills = rows.go_through(some) if len(some) else {}
            yield _with(changes, fills) if fills else changes


class _Rows:
    """What some rows hold, change after change; values that are not known are not there."""

    def __init__(self, key: list[str], held: pa.Table | None) -> None:
        self.key = key
        self.rows: dict[Key, dict[str, Any]] = {}
        for row in held.to_pylist() if held is not None else ():
            self.rows[self._key_of(row)] = row

    def _key_of(self, row: dict[str, Any]) -> Key:
        return tuple(row[name] for name in self.key)

    def go_through(self, changes: Changes) -> dict[int, dict[str, Any]]:
        """The values that were left out of rows that moved, by their changes' numbers."""
        fills: dict[int, dict[str, Any]] = {}
        for change in changes.table.to_pylist():
            op = change["op"]
            was, now = (
                {name: change.get(side + name) for name in changes.columns if side + name in change}
                for side in (WAS, NOW)
            )
            if op == Op.TRUNCATE:
                self.rows.clear()
                continue
            if op == Op.DELETE:
                self.rows.pop(self._key_of(was), None)
                continue
            given = changes.columns if change.get("given") is None else [*change["given"], *self.key]
            sent = {name: now.get(name) for name in given}
            if op == Op.INSERT or change.get("given") is None:
                known = sent
                old = self._key_of(was) if op == Op.UPDATE and was.get(self.key[0]) is not None else None
                if old is not None:
                    self.rows.pop(old, None)
            else:
                old = self._key_of(was) if was.get(self.key[0]) is not None else self._key_of(now)
                known = self.rows.pop(old, {}) | sent
                left = {name: value for name, value in known.items() if name not in sent}
                if old != self._key_of(now) and left:
                    fills[change["seq"]] = left
            self.rows[self._key_of(now)] = known
        return fills


def _with(changes: Changes, fills: dict[int, dict[str, Any]]) -> Changes:
    """Changes with values that were left out; what is whole now says so."""
    table = changes.table
    seq = changes.seq()
    given = flat(table["given"]).to_pylist()
    places = {int(number): place for place, number in enumerate(seq) if int(number) in fills}
    for name in {name for values in fills.values() for name in values}:
        column = flat(table[NOW + name])
        mask = np.zeros(len(seq), dtype=np.bool_)
        values: list[Any] = []
        for number, place in places.items():
            if name in fills[number]:
                mask[place] = True
                values.append(fills[number][name])
        filled = pc.replace_with_mask(column, pa.array(mask), pa.array(values, column.type))
        table = table.set_column(table.schema.get_field_index(NOW + name), NOW + name, filled)
    for number, place in places.items():
        given[place] = sorted({*(given[place] or changes.columns), *fills[number]})
    lists = pa.array(given, table.schema.field("given").type)
    return Changes(table.set_column(table.schema.get_field_index("given"), "given", lists))


def moves_apart(changes: Changes, key: Sequence[str]) -> Changes:
    """The changes, of which those that move a row to another key are two: a delete of the old, and an insert of the new."""
    ops = changes.op()
    places = moved(ops, *([changes.image(side, name) for name in key] for side in (WAS, NOW)))
    if not len(places):
        return changes
    repeats = np.ones(len(ops), dtype=np.int64)
    repeats[places] = 2
    rows = np.repeat(np.arange(len(ops)), repeats)
    leaving = places + np.arange(len(places))  # where the first of each pair is now
    ops = ops[rows]
    ops[leaving], ops[leaving + 1] = Op.DELETE, Op.INSERT
    table = changes.table.take(pa.array(rows))
    for name in table.column_names:
        if name.startswith((WAS, NOW)):
            blank = np.zeros(len(rows), dtype=np.bool_)
            blank[leaving + name.startswith(WAS)] = True
            column = pc.if_else(pa.array(blank), pa.scalar(None, table.schema.field(name).type), flat(table[name]))
            table = table.set_column(table.schema.get_field_index(name), name, column)
    place = table.schema.get_field_index("op")
    return Changes(table.set_column(place, table.schema.field(place), pa.array(ops)))
