"""A rollup: measures of groups of rows, kept up to date from old and new values, without reading the source again.

Each group's row also holds what its measures are made of (how many rows, sums, counts). Smallest, largest and distinct
values cannot be kept by adding and taking away: their values are counted in a table beside, a row for each group and
value. When the smallest value leaves, the next one is found there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from plainstep.core.changes.batch import in_tables
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.ranks import Range
from plainstep.core.shapes.base import StepContext, TargetReader, TargetTable, WindowParts
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.measures import ROWS, answered
from plainstep.core.shapes.rollup_delta import RollupWindow
from plainstep.core.shapes.rollup_inputs import RollupInputs, plain
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.sql.engine import scratch, spilling
from plainstep.sql.literals import quoted

# Rows that are computed at a time, so that memory is bounded whatever the table's size.
AT_ONCE = 1 << 19


@dataclass(frozen=True)
class Rollup(RollupInputs):
    """Measures of groups of rows, as a shape. See ``RollupInputs`` for its attributes."""

    every_change = False
    old_values = True
    placed = False
    by_key = False
    keeps_rows = False
    gone = ""

    def names_of(self, column: str) -> list[str]:
        """None of a rollup's columns is the source's."""
        return []

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """Every group."""
        return [Edits(append=table.to_batches()) for table in self.whole(rows)]

    def whole(self, rows: Iterable[pa.RecordBatch]) -> list[pa.Table]:
        """Each table as it is over some rows, computed anew."""
        schema = plain(self.schema)
        with spilling() as evaluator:
            _store(evaluator, "r", self.computed([(schema.empty_table(), 1)]))
            for some in in_tables(schema, (batch.cast(schema) for batch in rows), AT_ONCE):
                _store(evaluator, "r", self.computed([(some, 1)]))
            queries = [self._whole_groups(), *map(self.value_counts, self.counted)]
            return [answered(evaluator, sql, table.schema) for sql, table in zip(queries, self.tables(), strict=True)]

    def _whole_groups(self) -> str:
        """Every group's row, as SQL over its inputs."""
        asked = {"rows": "count(*)", "count": "count({0})", "sum": "sum({0})", "avg": "sum({0}) / count({0})"}
        asked |= {"min": "min({0})", "max": "max({0})", "distinct": "count(DISTINCT {0})"}
        named = [(one.name, asked[one.kind].format(one.of and self.input_of(one.of))) for one in self.measures]
        named.append((ROWS, "count(*)"))
        named += [(f"{one.name}_sum", f"sum({self.input_of(one.of)})") for one in self.measures if one.kind == "avg"]
        counts = (one for one in self.measures if one.kind in ("avg", "sum"))
        named += [(f"{one.name}_count", f"count({self.input_of(one.of)})") for one in counts]
        columns = ", ".join(f"{sql} AS {quoted(name)}" for name, sql in named)
        return f"SELECT {self.groups('')}, {columns} FROM r GROUP BY {self.groups('')}"

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """New rows of the groups that changed, and of the values that came or went."""
        net = found.net
        held = _Nothing(self.tables()) if net.truncated else held
        with spilling() if len(net.parts) > 1 else scratch() as evaluator:
            for part in net:
                _store(evaluator, "r", self._going_and_coming(part))
            try:
                edits = RollupWindow(self, evaluator, held).edits()
            finally:
                evaluator.execute("DROP TABLE r")
        for one in edits:
            one.clear = net.truncated
        yield edits

    def _going_and_coming(self, net: NetChanges) -> pa.Table:
        """The inputs of the rows that go and come.

        Raises:
            Refused: the changes do not tell them.
        """
        if Op.PUT in net.ops and _told(net):
            raise Refused(
                "Rows came without their before images (as after a change of a column's type).",
                "A rollup subtracts before images from its groups.",
                "plainstep reload LOAD recomputes it.",
            )
        if not _told(net):
            raise Refused(
                "The changes have no before images, and a rollup subtracts these from its groups.",
                "What a row counted for before it changed is not known.",
                'Name a mirror of the same source that has them: old_values = "LOAD"; or have the source send them.',
            )
        return self.computed(
            [
                (net.images(WAS, net.rows(Op.UPDATE, Op.DELETE)), -1),
                (net.images(NOW, net.rows(Op.INSERT, Op.UPDATE)), 1),
            ]
        )

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """Nothing: a rollup holds no rows of the source."""
        return iter(())


class _Nothing:
    """What a target holds after a truncate."""

    def __init__(self, tables: list[TargetTable]) -> None:
        self.tables = {table.suffix: table.schema for table in tables}

    def rows(self, suffix: str, columns: Sequence[str], keys: pa.Table | None = None, where_null: str = "") -> pa.Table:
        """No row."""
        return self.tables[suffix].empty_table().select(list(columns))

    def stream(self, suffix: str, schema: pa.Schema, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """No row."""
        return iter(())

    def within(self, which: Range) -> _Nothing:
        """No row."""
        return self

    def first_values(self, suffix: str, group: pa.Table, value: str, count: int, largest: bool) -> pa.Table:
        """No value."""
        return self.tables[suffix].empty_table().select([*group.column_names, value])


def _told(net: NetChanges) -> bool:
    """Whether every old value is told."""
    return all(WAS + name in net.state.column_names for name in net.others) and not net.partial


def _store(evaluator: Any, name: str, rows: pa.Table) -> None:
    """Add rows to one of the evaluator's tables; made by the first."""
    evaluator.register("part", rows)
    evaluator.execute(f"CREATE TEMP TABLE IF NOT EXISTS {name} AS SELECT * FROM part LIMIT 0")
    evaluator.execute(f"INSERT INTO {name} SELECT * FROM part")
    evaluator.unregister("part")
