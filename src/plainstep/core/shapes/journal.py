"""A journal: every change, or every net change, appended as it came."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cache, partial
from itertools import chain
from typing import Any

from plainstep.core.arrays import flat, utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.events import given_of
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.words import words
from plainstep.core.shapes.base import StepContext, TargetReader, TargetTable, WindowParts, constant
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import np, pa, pc
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.sql.engine import spilling
from plainstep.sql.literals import quoted


@cache
def about_change() -> dict[str, pa.DataType]:
    """What a journal tells of each change, before its values: then was_* and now_* of every column."""
    return {
        "step_number": pa.int64(),
        "stepped_at": utc_time(),
        "change_number": pa.int64(),
        "position": pa.int64(),
        "op": pa.string(),
        "changed_at": utc_time(),
        "txn": pa.string(),
        "changed_by": pa.string(),
    }


SIDES = {WAS: "was_", NOW: "now_"}


@dataclass(frozen=True)
class Journal:
    """Changes, appended.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        every_change: whether every change is written; otherwise every net change is.
        operations: which operations are written.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    every_change: bool = True
    operations: tuple[str, ...] = ("insert", "update", "delete")

    old_values = True
    placed = True
    by_key = False
    keeps_rows = True
    gone = ""

    @staticmethod
    def names_of(column: str) -> list[str]:
        """The old and the new value."""
        return [side + column for side in SIDES.values()]

    def tables(self) -> list[TargetTable]:
        """The changes. Nothing but the order in which they came tells them apart."""
        return [TargetTable("", self._columns, ())]

    @cached_property
    def _columns(self) -> pa.Schema:
        images = [(side + field.name, field) for side in SIDES.values() for field in self.schema]
        names = [*about_change(), *(name for name, _ in images)]
        doubled = {name for name in names if names.count(name) > 1}
        if doubled:
            raise ConfigError(
                f"Two columns of the journal would be called {min(doubled)}.",
                "It has was_* and now_* for every column of the source.",
                "Rename one: columns = { other_name = ..., ... } in the load.",
            )
        about = [pa.field(name, kind) for name, kind in about_change().items()]
        return pa.schema([*about, *(field.with_name(name) for name, field in images)])

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """Every row, as if it had been inserted at the position of the load."""
        parts = _numbered(self._begun(some, now) for some in rows)
        return [Edits(append=(batch for part in parts for batch in part.to_batches()))]

    def _begun(self, rows: pa.RecordBatch, now: StepContext) -> pa.Table:
        count = rows.num_rows
        columns: dict[str, Any] = {
            "position": constant(now.position, pa.int64(), count),
            "op": constant(Op.INSERT.word, pa.string(), count),
        }
        return self._written(columns | {SIDES[NOW] + name: rows.column(name) for name in rows.schema.names}, count, now)

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """The changes, or the net changes in the order in which they came about."""
        before = self._before_net(found, now) if found.among is None else ()
        parts = chain(before, map(partial(self._of_changes, found.numbering, now), found.changes()))
        yield [Edits(append=(batch for part in _numbered(parts) for batch in part.to_batches()))]

    def _of_changes(self, numbering: PositionIndex, now: StepContext, changes: Changes) -> pa.Table:
        ops = changes.op()
        wanted = [Op[word.upper()] for word in self.operations]
        if "delete" in self.operations:
            wanted.append(Op.TRUNCATE)
        if {"insert", "update"} & set(self.operations):
            wanted.append(Op.PUT)
        keep = pc.is_in(pa.array(ops), value_set=pa.array(wanted, pa.int8()))
        changes = Changes(changes.table.filter(keep))
        if not all(sent.all() for sent in given_of(changes, self.key).values()):
            raise _unsent()
        table = changes.table
        positions = pa.array(numbering.positions(changes.seq()), pa.int64())
        columns: dict[str, Any] = {"position": positions, "op": words(table["op"]), "changed_at": table["at"]}
        columns |= {
            mine: flat(table[theirs]).cast(pa.string())
            for mine, theirs in (("txn", "txn"), ("changed_by", "by"))
            if theirs in table.column_names
        }
        for side, prefix in SIDES.items():
            columns |= {prefix + name: changes.image(side, name) for name in self.schema.names}
        return self._written(columns, len(changes), now)

    def _before_net(self, found: WindowParts, now: StepContext) -> Iterator[pa.Table]:
        """What a journal tells before net changes."""
        if found.net.partial and not found.net.whole:
            raise _unsent()
        if found.net.truncated:  # what is left came after it
            cleared = {
                "position": constant(now.position, pa.int64(), 1),
                "op": constant(Op.TRUNCATE.word, pa.string(), 1),
            }
            yield self._written(cleared, 1, now)

    def _written(self, columns: dict[str, Any], count: int, now: StepContext) -> pa.Table:
        """Columns in the target's order and types; those that are not told are null."""
        columns |= {
            "step_number": constant(now.step, pa.int64(), count),
            "stepped_at": constant(now.at, utc_time(), count),
        }
        arrays = [
            columns[field.name].cast(field.type) if field.name in columns else pa.nulls(count, field.type)
            for field in self._columns
        ]
        return pa.table(arrays, schema=self._columns)

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """The rows that are left when the changes are gone through in order."""
        images = {SIDES[side] + name: self.schema.field(name) for side in SIDES for name in self.schema.names}
        wanted = pa.schema(
            [
                *((name, about_change()[name]) for name in ("step_number", "change_number", "op")),
                *(f.with_name(n) for n, f in images.items()),
            ]
        )
        with spilling() as evaluator:
            begun = False
            for batch in held.stream("", wanted):
                evaluator.register("part", pa.Table.from_batches([batch]))
                evaluator.execute(
                    "INSERT INTO j SELECT * FROM part" if begun else "CREATE TABLE j AS SELECT * FROM part"
                )
                begun = True
            if begun:
                for batch in evaluator.sql(self._replayed()).to_arrow_reader(1 << 16):
                    yield batch.cast(self.schema)

    def _replayed(self) -> str:
        """The rows that are left, as SQL over the journal. An update that moves a row to another key ends the old one.

        Positions say nothing of the order: they begin anew where a capture was rebuilt.
        """
        return self._latest() if self.key else self._counted()

    # Every entry with its number, and the last truncate.
    _ENTRIES = (
        "WITH e AS (SELECT *, row_number() OVER (ORDER BY step_number, change_number) AS n FROM j), "
        "t AS (SELECT coalesce(max(n), 0) AS n FROM e WHERE op = 'truncate')"
    )

    def _counted(self) -> str:
        """Without a key: as many equal rows as came and did not go."""
        names = ", ".join(quoted(name) for name in self.schema.names)
        sides = [(NOW, 1, "'insert', 'update', 'put'"), (WAS, -1, "'delete', 'update'")]
        parts = [
            f"SELECT {', '.join(f'{quoted(SIDES[side] + name)} AS {quoted(name)}' for name in self.schema.names)}, "
            f"{count} AS plainstep_count FROM e, t WHERE e.n > t.n AND op IN ({ops})"
            for side, count, ops in sides
        ]
        return (
            f"{self._ENTRIES}, c AS (SELECT {names}, sum(plainstep_count)::BIGINT AS plainstep_count "
            f"FROM ({' UNION ALL '.join(parts)}) GROUP BY {names}) "
            f"SELECT {names} FROM (SELECT {names}, unnest(range(plainstep_count)) AS plainstep_count FROM c)"
        )

    def _latest(self) -> str:
        """By key: what the last entry of each left."""
        was, now = SIDES[WAS], SIDES[NOW]
        keys = ", ".join(quoted(name) for name in self.key)
        moved = " AND ".join(f"{quoted(was + name)} IS NOT NULL" for name in self.key)
        news = ", ".join(f"{quoted(now + name)} AS {quoted(name)}" for name in self.schema.names)
        nulls = ", ".join(f"{quoted(was + name)} AS {quoted(name)}" for name in self.schema.names)
        return (
            f"{self._ENTRIES}, "
            f"v AS (SELECT n * 2 + 1 AS n, true AS there, {news} FROM e WHERE op IN ('insert', 'update', 'put') "
            f"UNION ALL SELECT n * 2, false, {nulls} FROM e WHERE op IN ('delete', 'update') AND {moved}), "
            f"l AS (SELECT v.*, row_number() OVER (PARTITION BY {keys} ORDER BY v.n DESC) AS last FROM v, t WHERE v.n > 2 * t.n) "
            f"SELECT {', '.join(quoted(name) for name in self.schema.names)} FROM l WHERE last = 1 AND there"
        )


def _unsent() -> Refused:
    return Refused(
        "Some rows come with a part of their values, and a journal would show the others as null.",
        "A value that was not sent is not a null. (PostgreSQL's log leaves out large values that did not change.)",
        "ALTER TABLE ... REPLICA IDENTITY FULL has all of them sent; then plainstep reload LOAD.",
    )


def _numbered(parts: Iterable[pa.Table]) -> Iterator[pa.Table]:
    """The parts of a step, their rows counted throughout."""
    begin = 1
    for part in parts:
        numbers = pa.array(np.arange(begin, begin + part.num_rows), pa.int64())
        yield part.set_column(part.schema.get_field_index("change_number"), part.schema.field("change_number"), numbers)
        begin += part.num_rows
