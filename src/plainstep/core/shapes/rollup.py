"""A rollup: measures of groups of rows, kept up to date from old and new values, without reading the source again.

Each group's row also holds what its measures are made of (how many rows, sums, counts). Smallest, largest and distinct
values cannot be kept by adding and taking away: their values are counted in a table beside, a row for each group and
value. When the smallest value leaves, the next one is found there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from plainstep.core.changes.batch import in_tables
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.shapes.base import NUMBER, Found, Held, Moment, TargetTable
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.measures import ROWS, VALUE, Measure, addable, answered, sum_type
from plainstep.core.shapes.rollup_delta import RollupWindow
from plainstep.errors import ConfigError, DataError, Refused
from plainstep.sql.engine import scratch, spilling
from plainstep.sql.expressions import computed, typed
from plainstep.sql.literals import quoted

# Rows that are computed at a time.
AT_ONCE = 1 << 19


@dataclass(frozen=True)
class Rollup:
    """Measures of groups of rows.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        by: what makes a group: columns, each as SQL over the row.
        measures: the measures.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    by: dict[str, str]
    measures: tuple[Measure, ...]

    every_change = False
    old_values = True
    placed = False
    keeps_rows = False
    gone = ""

    def names_of(self, column: str) -> list[str]:
        """None of a rollup's columns is the source's."""
        return []

    def tables(self) -> list[TargetTable]:
        """The groups, and a table of counted values for each expression whose values must be counted."""
        return self._tables

    @cached_property
    def _tables(self) -> list[TargetTable]:
        measures = [pa.field(one.name, self._kind(one)) for one in self.measures]
        groups = [*self.by_columns, *measures, pa.field(ROWS, NUMBER), *self._parts]
        names = [field.name for field in groups]
        doubled = {name for name in names if names.count(name) > 1}
        if doubled:
            raise ConfigError(
                f"Two columns of the rollup would be called {min(doubled)}.",
                f"Besides its measures it keeps {ROWS}, and what sums and averages are made of.",
                "Give the measure, or the group, another name.",
            )
        values = [
            TargetTable(
                suffix, pa.schema([*self.by_columns, (VALUE, self._types[of]), (ROWS, NUMBER)]), (*self.by, VALUE)
            )
            for of, suffix in self.counted.items()
        ]
        return [TargetTable("", pa.schema(groups), tuple(self.by)), *values]

    @cached_property
    def by_columns(self) -> pa.Schema:
        """What makes a group, with types."""
        return typed(self.by, plain(self.schema), "by")

    @cached_property
    def _types(self) -> dict[str, pa.DataType]:
        """What each measured expression gives."""
        found = {}
        for one in self.measures:
            if one.of and one.of not in found:
                kind = typed({one.name: one.of}, plain(self.schema), "measures").field(0).type
                if one.kind in ("sum", "avg") and not addable(kind):
                    raise ConfigError(f"measures.{one.name} adds {one.of}, which is {kind}: no number.")
                found[one.of] = kind
        return found

    def _kind(self, measure: Measure) -> pa.DataType:
        if measure.kind in ("rows", "count", "distinct"):
            return NUMBER
        if measure.kind == "avg":
            return pa.float64()
        return sum_type(self._types[measure.of]) if measure.kind == "sum" else self._types[measure.of]

    @cached_property
    def _parts(self) -> list[pa.Field]:
        """The columns that measures are made of."""
        sums = [
            pa.field(f"{one.name}_sum", sum_type(self._types[one.of])) for one in self.measures if one.kind == "avg"
        ]
        return [*sums, *(pa.field(f"{one.name}_count", NUMBER) for one in self.measures if one.kind in ("avg", "sum"))]

    @cached_property
    def counted(self) -> dict[str, str]:
        """The expressions whose values are counted, each with the suffix of its table."""
        found: dict[str, str] = {}
        for one in self.measures:
            if one.kind in ("min", "max", "distinct"):
                found.setdefault(one.of, f"_{one.name}_values")
        return found

    @cached_property
    def _inputs(self) -> dict[str, str]:
        """What is computed of every row: its group, and each measured expression."""
        return self.by | {f"v{index}": of for index, of in enumerate(self._types)}

    def input_of(self, of: str) -> str:
        """The column of an expression among the inputs."""
        return f"v{list(self._types).index(of)}"

    def _computed(self, parts: Sequence[tuple[pa.Table, int]]) -> pa.Table:
        """The inputs of some rows, in parts that come (1) or go (-1)."""
        rows = pa.concat_tables([part.select(self.schema.names).cast(plain(self.schema)) for part, _ in parts])
        found = computed(rows, self._inputs)
        for name, sql in self.by.items():
            if found[name].null_count:
                raise DataError(
                    f"A row belongs to no group: by.{name} = {sql!r} is null.",
                    "A group without a name could not be found again.",
                    f'Name it: by = {{ {name} = "coalesce({sql}, ...)" }}.',
                )
        self._refuse_infinite(found)
        signs = [pa.repeat(pa.scalar(sign, pa.int8()), part.num_rows) for part, sign in parts]
        return found.append_column("sign", pa.chunked_array(signs, pa.int8()))

    def _refuse_infinite(self, inputs: pa.Table) -> None:
        """Refuse to add what could not be taken away again.

        Raises:
            DataError: a number to be added is infinite, or none.
        """
        for one in self.measures:
            if one.kind not in ("sum", "avg") or not pa.types.is_floating(self._types[one.of]):
                continue
            if pc.any(pc.invert(pc.is_finite(inputs[self.input_of(one.of)]))).as_py():
                raise DataError(
                    f"measures.{one.name} adds {one.of}, which is infinite or no number in some row.",
                    "A sum that such a value was added to could not be told when it leaves.",
                    f"Leave it out: {one.kind}(CASE WHEN isfinite({one.of}) THEN {one.of} END).",
                )

    def first(self, rows: Iterator[pa.RecordBatch], now: Moment) -> list[Edits]:
        """Every group."""
        return [Edits(append=table.to_batches()) for table in self.whole(rows)]

    def whole(self, rows: Iterable[pa.RecordBatch]) -> list[pa.Table]:
        """Each table as it is over some rows, computed anew."""
        schema = plain(self.schema)
        with spilling() as evaluator:
            _store(evaluator, "r", self._computed([(schema.empty_table(), 1)]))
            for some in in_tables(schema, (batch.cast(schema) for batch in rows), AT_ONCE):
                _store(evaluator, "r", self._computed([(some, 1)]))
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

    def groups(self, table: str) -> str:
        """The columns that make a group, as SQL, of a table (with its dot)."""
        return ", ".join(table + quoted(name) for name in self.by)

    def value_counts(self, of: str) -> str:
        """How often values came, less how often they went, as SQL over the inputs."""
        names = f"{self.groups('')}, {self.input_of(of)}"
        return (
            f"SELECT {names} AS {VALUE}, sum(sign) AS {ROWS} FROM r WHERE {self.input_of(of)} IS NOT NULL "
            f"GROUP BY {names} HAVING sum(sign) <> 0"
        )

    def edits(self, found: Found, now: Moment, held: Held) -> list[Edits]:
        """New rows of the groups that changed, and of the values that came or went."""
        net, tables = found.net, self.tables()
        if Op.PUT in net.ops and _told(net):
            raise Refused(
                "Rows came without what they held before, as after one of their columns changed its type.",
                "A rollup takes that away from its groups.",
                "plainstep reload LOAD computes it anew.",
            )
        if not _told(net):
            raise Refused(
                "The changes tell no old values, and a rollup takes them away from its groups.",
                "What a row counted for before it changed is not known.",
                'Name a mirror of the same source that has them: old_values = "LOAD"; or have the source tell them.',
            )
        held = _Nothing(tables) if net.truncated else held
        rows = self._computed(
            [
                (net.images(WAS, net.rows(Op.UPDATE, Op.DELETE)), -1),
                (net.images(NOW, net.rows(Op.INSERT, Op.UPDATE)), 1),
            ]
        )
        with scratch() as evaluator:
            edits = RollupWindow(self, evaluator, held).edits(rows)
        for one in edits:
            one.clear = net.truncated
        return edits

    def living(self, held: Held) -> Iterator[pa.RecordBatch]:
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

    def first_values(self, suffix: str, group: pa.Table, value: str, count: int, largest: bool) -> pa.Table:
        """No value."""
        return self.tables[suffix].empty_table().select([*group.column_names, value])


def _told(net: NetChanges) -> bool:
    """Whether every old value is told."""
    return all(WAS + name in net.state.column_names for name in net.others) and not net.partial


def plain(schema: pa.Schema) -> pa.Schema:
    """Columns without what a store says of them beside their types."""
    return pa.schema([(field.name, field.type) for field in schema])


def _store(evaluator: Any, name: str, rows: pa.Table) -> None:
    """Add rows to one of the evaluator's tables; made by the first."""
    evaluator.register("part", rows)
    evaluator.execute(f"CREATE TEMP TABLE IF NOT EXISTS {name} AS SELECT * FROM part LIMIT 0")
    evaluator.execute(f"INSERT INTO {name} SELECT * FROM part")
    evaluator.unregister("part")
