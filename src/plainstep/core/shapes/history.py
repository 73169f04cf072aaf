"""A history: a row for each version of each key.

A version is valid from its change and up to the next one of its key, half-open: there are no gaps and no overlaps while
the row is there, and a living key has one version that is open. Versions are made by going through each key's events in
order, the version that is open at the target before them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cache
from typing import Any

from plainstep.core.arrays import Bools, Ints, flat, numbers, utc_time
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes, concat
from plainstep.core.changes.events import Events, events_of
from plainstep.core.changes.net import differing
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.positions import Position
from plainstep.core.shapes.base import (
    StepContext,
    TargetReader,
    TargetTable,
    WindowChanges,
    WindowParts,
    constant,
    extended,
    half_rows,
    with_columns,
)
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import np, pa, pc
from plainstep.properties import cached_property

FROM, UPTO, BY = "valid_from", "valid_to", "valid_by"
FROM_POSITION, UPTO_POSITION = "from_position", "upto_position"
VERSION = "version_number"


@cache
def added_columns() -> dict[str, pa.DataType]:
    """What a history tells of each version, beside its row."""
    return {
        VERSION: pa.int64(),
        FROM: utc_time(),
        UPTO: utc_time(),
        BY: pa.string(),
        FROM_POSITION: pa.int64(),
        UPTO_POSITION: pa.int64(),
    }


# By what a version's time is known: its change told it, or only the step's own is known.
CHANGE, STEP = "change", "step"


@dataclass(frozen=True)
class History:
    """Versions of rows.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        watch: columns whose changes make a new version; a change in others alone is written into the version that is
            open. None for all columns.
        every_change: whether every change makes a version; otherwise every net change does.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    watch: tuple[str, ...] | None = None
    every_change: bool = False

    old_values = False
    placed = True
    by_key = True
    keeps_rows = True
    gone = UPTO

    @staticmethod
    def names_of(column: str) -> list[str]:
        """The same."""
        return [column]

    @cached_property
    def others(self) -> list[str]:
        """The source's columns that are not in the key."""
        return [name for name in self.schema.names if name not in self.key]

    @property
    def watched(self) -> list[str]:
        """The columns outside the key whose changes make a version."""
        return [name for name in self.others if self.watch is None or name in self.watch]

    def tables(self) -> list[TargetTable]:
        """The versions, counted for each key."""
        return [TargetTable("", self._versions, (*self.key, VERSION), {UPTO: "valid_upto"})]

    @cached_property
    def _versions(self) -> pa.Schema:
        return with_columns(self.schema, "a history", added_columns())

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """A version of every row. It has been as it is since the last change before the load, if that is known."""
        since = now.changed_at or now.at
        by = CHANGE if now.changed_at else STEP
        values = {VERSION: 1, FROM: since, UPTO: None, BY: by, FROM_POSITION: now.position, UPTO_POSITION: None}
        typed = {name: (value, added_columns()[name]) for name, value in values.items()}
        parts = (extended(pa.Table.from_batches([some]), typed) for some in rows)
        return [Edits(append=(batch for part in parts for batch in part.to_batches()))]

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """Versions that begin, versions that end, and those whose other columns change in place."""
        return found.by_key(lambda part, mine: self._edits(part, now, mine), held)

    def _edits(self, found: WindowChanges, now: StepContext, held: TargetReader) -> list[Edits]:
        timeline = list(self._timeline(found, now))
        happened = [one for one in timeline if isinstance(one, _Events)]
        keys_of = pa.concat_tables([one.keys for one in happened]).group_by(list(self.key)).aggregate([])
        opened = self._open(held, None if len(happened) < len(timeline) else keys_of)
        parts = [self._as_they_stood(held, opened, keys_of)]
        for one in timeline:
            parts.append(one if isinstance(one, _Events) else self._all_end(parts, *one))
        held_as = pa.schema([opened.schema.field(name) for name in self.schema.names])
        return [_written(replace(self, schema=held_as), _joined(parts), opened, now)]

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """The open versions."""
        return held.stream("", self.schema, UPTO)

    def _timeline(self, found: WindowChanges, now: StepContext) -> Iterator[_Events | tuple[int, datetime | None]]:
        """What happened to keys, in order; between, the position and the time of each truncate."""
        if not self.every_change or found.changes is None:
            if found.net.truncated:
                yield now.position, now.changed_at
            yield self._events(Events.of_net(found.net), found.numbering)
            return
        unread = {WAS + name for name in self.others}  # what versions held is told by those before them
        whole = concat(Changes(_without(part.table, unread)) for part in found.changes())
        begin = 0
        for place in np.flatnonzero(whole.op() == Op.TRUNCATE).tolist():
            yield self._events(events_of(Changes(whole.table.slice(begin, place - begin)), self.key), found.numbering)
            [position] = found.numbering.positions(whole.seq()[place : place + 1]).tolist()
            yield position, whole.table["at"][place].as_py()
            begin = place + 1
        yield self._events(events_of(Changes(whole.table.slice(begin)), self.key), found.numbering)

    def _events(self, events: Events, numbering: PositionIndex) -> _Events:
        """Events in the target's types."""
        rows = pa.array(np.arange(len(events.has)) if events.row is None else events.row)
        values = {name: flat(events.table[NOW + name]).take(rows) for name in self.others}
        keys_of = dict(zip(self.key, events.key_values, strict=True))
        return _Events(
            pa.table(keys_of).select(self.key).cast(self._fields(self.key)),
            np.asarray(events.has, dtype=np.bool_),
            numbering.positions(events.last_seq),
            events.at,
            pa.table(values, schema=None).cast(self._fields(self.others)) if values else _no_columns(len(rows)),
            {name: events.given[name] for name in self.others if name in events.given},
        )

    def _fields(self, names: Sequence[str]) -> pa.Schema:
        return pa.schema([self.schema.field(name) for name in names])

    def _open(self, held: TargetReader, keys_of: pa.Table | None) -> pa.Table:
        """The open versions of some keys, or of all."""
        found = held.rows("", self._versions.names, keys_of, UPTO)
        return found.cast(
            pa.schema([self.schema.field(one.name) if one.name in self.key else one for one in found.schema])
        )

    def _as_they_stood(self, held: TargetReader, opened: pa.Table, keys_of: pa.Table) -> _Events:
        """The open versions as events; of keys that have none, the end of their last one, if they ever had one."""
        key = list(self.key)
        rest = keys_of.join(opened.select(key), key, join_type="left anti")
        last = (UPTO, UPTO_POSITION, VERSION)
        ended = held.rows("", [*key, *last], rest).group_by(key).aggregate([(name, "max") for name in last])
        count = opened.num_rows + ended.num_rows
        nothing = self._fields(self.others).empty_table() if self.others else _no_columns(0)
        values = opened.select(self.others) if self.others else _no_columns(opened.num_rows)
        gone = {name: pa.nulls(ended.num_rows, nothing.schema.field(name).type) for name in self.others}
        return _Events(
            pa.concat_tables([opened.select(key), ended.select(key).cast(self._fields(key))]),
            np.arange(count) < opened.num_rows,
            np.concatenate([numbers(opened[FROM_POSITION]), numbers(ended[UPTO_POSITION + "_max"])]).astype(np.int64),
            pa.concat_arrays([flat(opened[FROM]), flat(ended[UPTO + "_max"]).cast(utc_time())]),
            pa.concat_tables([values, pa.table(gone, schema=nothing.schema)]) if self.others else _no_columns(count),
            {},
            np.concatenate([numbers(opened[VERSION]), numbers(ended[VERSION + "_max"])]).astype(np.int64),
        )

    def _all_end(self, parts: list[_Events], position: int, at: datetime | None) -> _Events:
        """A truncate: the end of every key there was."""
        every = pa.concat_tables([one.keys for one in parts]).group_by(list(self.key)).aggregate([]).select(self.key)
        count = every.num_rows
        gone = {name: pa.nulls(count, self.schema.field(name).type) for name in self.others}
        return _Events(
            every,
            np.zeros(count, dtype=np.bool_),
            np.full(count, position, dtype=np.int64),
            constant(at, utc_time(), count),
            pa.table(gone) if gone else _no_columns(count),
            {},
        )


@dataclass
class _Events:
    """What happened to keys, in order.

    Attributes:
        keys: each event's key.
        has: whether the row is there after it.
        position: where it stands.
        at: when it was; null where that is not known.
        values: the other columns' values after it.
        given: for columns that come in parts, which events carry a value.
        version: the numbers of the versions that are there already; of none where they are not.
    """

    keys: pa.Table
    has: Bools
    position: Ints
    at: pa.Array
    values: pa.Table
    given: dict[str, Bools]
    version: Ints | None = None


def _without(table: pa.Table, names: set[str]) -> pa.Table:
    return table.select([name for name in table.column_names if name not in names])


def _no_columns(count: int) -> pa.Table:
    """A table of no columns, which has rows nevertheless."""
    return pa.table({"plainstep.none": pa.nulls(count, pa.int8())})


def _joined(parts: list[_Events]) -> _Events:
    """Events, one after the other."""
    partial = {name for one in parts for name in one.given}
    given = {
        name: np.concatenate([one.given.get(name, np.ones(len(one.has), dtype=np.bool_)) for one in parts])
        for name in partial
    }
    return _Events(
        pa.concat_tables([one.keys for one in parts]),
        np.concatenate([one.has for one in parts]),
        np.concatenate([one.position for one in parts]),
        pa.concat_arrays([flat(one.at).cast(utc_time()) for one in parts]),
        pa.concat_tables([one.values for one in parts], promote_options="permissive"),
        given,
        np.concatenate([np.zeros(len(one.has), np.int64) if one.version is None else one.version for one in parts]),
    )


def stood(version: dict[str, Any], place: Position) -> bool:
    """Whether a version was valid at a place; by its time, too, where this is known: a rebuilt capture counts anew."""
    by_position = version[FROM_POSITION] <= place.number and place.number < (
        place.number + 1 if version[UPTO_POSITION] is None else version[UPTO_POSITION]
    )
    if place.at is None:
        return by_position
    return by_position and version[FROM] <= place.at and (version[UPTO] is None or place.at <= version[UPTO])


def _written(shape: History, events: _Events, opened: pa.Table, now: StepContext) -> Edits:
    """The versions that events make, as far as they are not at the target as they are.

    The first events are the versions that were open: one for each row of ``opened``.
    """
    codes, _ = keys.code([flat(column) for column in events.keys.columns])
    order = np.argsort(codes, kind="stable")
    same = np.concatenate([[False], codes[order][1:] == codes[order][:-1]])[: len(order)]
    has = events.has[order]
    goes_on = same & has & np.concatenate([[False], has[:-1]])[: len(order)]
    source = _sources(shape, events, order, has, goes_on)
    begins = has & ~(goes_on & ~_differs(shape, events, source))
    firsts = np.flatnonzero(begins)
    lasts = np.zeros(len(firsts), dtype=np.int64)
    living = np.flatnonzero(has)
    lasts[(np.cumsum(begins) - 1)[living]] = living  # the last one that is written stays
    nexts = np.minimum(lasts + 1, len(order) - 1)
    closes = (lasts + 1 < len(order)) & same[nexts]
    # Clocks may be set back, and a transaction may commit after others that began later.
    position = _rising(events.position[order], same)
    known = order[firsts] < opened.num_rows
    times = _rising(_times(events, now)[order], same)
    number = _version_numbers(events, order, same, begins)[firsts]
    new, again, ends = ~known, known & (lasts != firsts), known & (lasts == firsts) & closes
    told = events.at.is_valid().to_numpy(zero_copy_only=False)[order]
    told[np.flatnonzero(order < opened.num_rows)] = flat(pc.equal(opened[BY], CHANGE)).to_numpy(zero_copy_only=False)[
        order[order < opened.num_rows]
    ]

    def versions(which: Bools) -> pa.Table:
        first, last, behind, open_ = firsts[which], lasts[which], nexts[which], ~closes[which]
        columns: dict[str, Any] = {name: flat(events.keys[name]).take(pa.array(order[first])) for name in shape.key}
        columns |= {name: flat(events.values[name]).take(pa.array(source[name][last])) for name in shape.others}
        columns[VERSION] = pa.array(number[which])
        columns[FROM] = pa.array(times[first], utc_time())
        columns[UPTO] = pa.array(times[behind], utc_time(), mask=open_)
        columns[BY] = pc.if_else(pa.array(told[first]), CHANGE, STEP)
        columns[FROM_POSITION] = pa.array(position[first], pa.int64())
        columns[UPTO_POSITION] = pa.array(position[behind], pa.int64(), mask=open_)
        return pa.table(columns).select(shape._versions.names).cast(shape._versions)

    put = pa.concat_tables([versions(new), versions(again)])
    closing = versions(ends).select([*shape.key, VERSION, UPTO, UPTO_POSITION])
    patch = [closing] if closing.num_rows else []
    return Edits(put=put, new=int(new.sum()), patch=patch, strict=False)


def _sources(shape: History, events: _Events, order: Ints, has: Bools, goes_on: Bools) -> dict[str, Ints]:
    """For each column, where each event's value stands: with the event, or with the last one that sent it.

    Raises:
        Refused: it was never sent.
    """
    source = dict.fromkeys(shape.others, order)
    places = np.arange(len(order))
    began = np.maximum.accumulate(np.where(goes_on, 0, places)) if len(order) else places
    for name, given in events.given.items():
        sent = np.maximum.accumulate(np.where(given[order] & has, places, -1))
        missing = int((has & (sent < began)).sum())
        if missing:
            raise half_rows(missing)
        source[name] = order[np.maximum(sent, 0)]
    return source


def _differs(shape: History, events: _Events, source: dict[str, Ints]) -> Bools:
    """Which events have another value than the one before in a column that is watched."""
    found = np.zeros(len(events.has), dtype=np.bool_)
    for name in shape.watched:
        values = flat(events.values[name]).take(pa.array(source[name]))
        found[1:] |= differing(values.slice(1), values.slice(0, max(len(values) - 1, 0)))
    return found


def _version_numbers(events: _Events, order: Ints, same: Bools, begins: Bools) -> Ints:
    """The number of each event's version, if it begins one: they are counted on from those that are there."""
    starts = np.flatnonzero(~same)
    group = np.cumsum(~same) - 1
    assert events.version is not None
    there = events.version[order][starts]
    before: Ints = (np.cumsum(begins) - begins)[starts]
    # A version that is open is counted already.
    first = there - (begins[starts] & (there > 0)) - before
    found: Ints = np.cumsum(begins) + first[group] if len(order) else order
    return found


def _times(events: _Events, now: StepContext) -> Ints:
    """When events were, in microseconds."""
    known = pc.coalesce(events.at, pa.scalar(now.at, utc_time()))
    found: Ints = known.cast(pa.int64()).to_numpy(zero_copy_only=False)
    return found


def _rising(numbers: Ints, same: Bools) -> Ints:
    """Numbers none of which is smaller than one before it of the same key."""
    if not (same[1:] & (numbers[1:] < numbers[:-1])).any():
        return numbers
    count = len(numbers)
    order = np.argsort(numbers, kind="stable")
    rank = np.empty(count, dtype=np.int64)
    rank[order] = np.arange(count)
    before = (np.cumsum(~same) - 1) * count  # every key's ranks above those of the keys before it
    found: Ints = numbers[order][np.maximum.accumulate(before + rank) - before]
    return found
