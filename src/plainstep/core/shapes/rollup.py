"""A rollup: measures of groups of rows, kept up to date from old and new values, without reading the source again.

Each group's row also holds what its measures are made of (how many rows, sums, counts). Smallest, largest and distinct
values cannot be kept by adding and taking away: their values are counted in a table beside, a row for each group and
value. When the smallest value leaves, the next one is found there.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import pyarrow as pa

from plainstep.core.changes import in_tables
from plainstep.core.edits import Edits
from plainstep.core.evaluator import scratch, spilling
from plainstep.core.expressions import computed, typed
from plainstep.core.net import NetChanges
from plainstep.core.shapes.base import NUMBER, Found, Held, Moment, TargetTable
from plainstep.core.words import NOW, WAS, Op, quoted
from plainstep.errors import ConfigError, DataError, Refused

ROWS = "row_count"
VALUE = "value"
AT_ONCE = 1 << 19
MEASURE = re.compile(r"\s*(count|sum|avg|min|max)\s*\(\s*(distinct\s)?(.*)\)\s*", re.IGNORECASE | re.DOTALL)


@dataclass(frozen=True)
class Measure:
    """One measure of a group.

    Attributes:
        name: its column.
        kind: ``rows``, ``count``, ``sum``, ``avg``, ``min``, ``max`` or ``distinct``.
        of: what is measured, as SQL over the row; empty for rows.
    """

    name: str
    kind: str
    of: str = ""

    @staticmethod
    def parsed(name: str, sql: str) -> Measure:
        """A measure, as plainstep.toml writes it.

        Raises:
            ConfigError: it is none.
        """
        found = MEASURE.fullmatch(sql)
        kind, distinct, of = (found[1].lower(), found[2], found[3].strip()) if found else ("", None, "")
        if kind == "count" and of == "*" and not distinct:
            return Measure(name, "rows")
        if not of or of == "*" or (distinct and kind != "count"):
            raise ConfigError(
                f"measures.{name} = {sql!r} is no measure.",
                "There are count(*), count(x), count(distinct x), sum(x), avg(x), min(x) and max(x).",
            )
        return Measure(name, "distinct" if distinct else kind, of)


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
    keeps_rows = False
    gone = ""

    def names_of(self, column: str) -> list[str]:
        """None of a rollup's columns is the source's."""
        return []

    def tables(self) -> list[TargetTable]:
        """The groups, and a table of counted values for each expression whose values must be counted."""
        measures = [pa.field(one.name, self._kind(one)) for one in self.measures]
        groups = [*self._by, *measures, pa.field(ROWS, NUMBER), *self._parts]
        names = [field.name for field in groups]
        doubled = {name for name in names if names.count(name) > 1}
        if doubled:
            raise ConfigError(
                f"Two columns of the rollup would be called {min(doubled)}.",
                f"Besides its measures it keeps {ROWS}, and what sums and averages are made of.",
                "Give the measure, or the group, another name.",
            )
        values = [
            TargetTable(suffix, pa.schema([*self._by, (VALUE, self._types[of]), (ROWS, NUMBER)]), (*self.by, VALUE))
            for of, suffix in self._counted.items()
        ]
        return [TargetTable("", pa.schema(groups), tuple(self.by)), *values]

    @cached_property
    def _by(self) -> pa.Schema:
        return typed(self.by, plain(self.schema), "by")

    @cached_property
    def _types(self) -> dict[str, pa.DataType]:
        """What each measured expression gives."""
        found = {}
        for one in self.measures:
            if one.of and one.of not in found:
                kind = typed({one.name: one.of}, plain(self.schema), "measures").field(0).type
                if one.kind in ("sum", "avg") and not _addable(kind):
                    raise ConfigError(f"measures.{one.name} adds {one.of}, which is {kind}: no number.")
                found[one.of] = kind
        return found

    def _kind(self, measure: Measure) -> pa.DataType:
        if measure.kind in ("rows", "count", "distinct"):
            return NUMBER
        if measure.kind == "avg":
            return pa.float64()
        return _sum_type(self._types[measure.of]) if measure.kind == "sum" else self._types[measure.of]

    @cached_property
    def _parts(self) -> list[pa.Field]:
        """The columns that measures are made of."""
        sums = [
            pa.field(f"{one.name}_sum", _sum_type(self._types[one.of])) for one in self.measures if one.kind == "avg"
        ]
        return [*sums, *(pa.field(f"{one.name}_count", NUMBER) for one in self.measures if one.kind in ("avg", "sum"))]

    @cached_property
    def _counted(self) -> dict[str, str]:
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

    def _v(self, of: str) -> str:
        """The column of an expression among the inputs."""
        return f"v{list(self._types).index(of)}"

    def _computed(self, rows: pa.Table, sign: int) -> pa.Table:
        """The inputs of some rows that come (1) or go (-1)."""
        found = computed(rows.select(self.schema.names).replace_schema_metadata(None), self._inputs)
        for name, sql in self.by.items():
            if found[name].null_count:
                raise DataError(
                    f"A row belongs to no group: by.{name} = {sql!r} is null.",
                    "A group without a name could not be found again.",
                    f'Name it: by = {{ {name} = "coalesce({sql}, ...)" }}.',
                )
        return found.append_column("sign", pa.repeat(pa.scalar(sign, pa.int8()), found.num_rows))

    def first(self, rows: Iterator[pa.RecordBatch], now: Moment) -> list[Edits]:
        """Every group."""
        return [Edits(append=table.to_batches()) for table in self.whole(rows)]

    def whole(self, rows: Iterable[pa.RecordBatch]) -> list[pa.Table]:
        """Each table as it is over some rows, computed anew."""
        schema = plain(self.schema)
        with spilling() as evaluator:
            _store(evaluator, "r", self._computed(schema.empty_table(), 1))
            for some in in_tables(schema, (batch.cast(schema) for batch in rows), AT_ONCE):
                _store(evaluator, "r", self._computed(some, 1))
            tables = self.tables()
            found = [_asked(evaluator, self._whole_groups(), tables[0].schema)]
            for table, of in zip(tables[1:], self._counted, strict=True):
                found.append(_asked(evaluator, self._value_counts(of), table.schema))
            return found

    def _whole_groups(self) -> str:
        """Every group's row, as SQL over its inputs."""
        asked = {"rows": "count(*)", "count": "count({0})", "sum": "sum({0})", "avg": "sum({0}) / count({0})"}
        asked |= {"min": "min({0})", "max": "max({0})", "distinct": "count(DISTINCT {0})"}
        named = [(one.name, asked[one.kind].format(one.of and self._v(one.of))) for one in self.measures]
        named.append((ROWS, "count(*)"))
        named += [(f"{one.name}_sum", f"sum({self._v(one.of)})") for one in self.measures if one.kind == "avg"]
        counts = (one for one in self.measures if one.kind in ("avg", "sum"))
        named += [(f"{one.name}_count", f"count({self._v(one.of)})") for one in counts]
        return f"SELECT {self._groups('')}, {_named(named)} FROM r GROUP BY {self._groups('')}"

    def _groups(self, table: str) -> str:
        return ", ".join(table + quoted(name) for name in self.by)

    def _value_counts(self, of: str) -> str:
        """How often values came, less how often they went, as SQL over the inputs."""
        names = f"{self._groups('')}, {self._v(of)}"
        return (
            f"SELECT {names} AS {VALUE}, sum(sign) AS {ROWS} FROM r WHERE {self._v(of)} IS NOT NULL "
            f"GROUP BY {names} HAVING sum(sign) <> 0"
        )

    def edits(self, found: Found, now: Moment, held: Held) -> list[Edits]:
        """New rows of the groups that changed, and of the values that came or went."""
        net, tables = found.net, self.tables()
        if Op.PUT in net.ops or not _told(net):
            raise Refused(
                "The changes tell no old values, and a rollup takes them away from its groups.",
                "What a row counted for before it changed is not known.",
                'Name a mirror of the same source that has them: old_values = "LOAD"; or have the source tell them.',
            )
        held = _Nothing(tables) if net.truncated else held
        with scratch() as evaluator:
            _store(
                evaluator,
                "r",
                self._computed(net.images(WAS, net.rows(Op.UPDATE, Op.DELETE)).cast(plain(self.schema)), -1),
            )
            _store(
                evaluator,
                "r",
                self._computed(net.images(NOW, net.rows(Op.INSERT, Op.UPDATE)).cast(plain(self.schema)), 1),
            )
            values = [
                self._count_values(evaluator, index, table, of, held)
                for index, (table, of) in enumerate(zip(tables[1:], self._counted, strict=True))
            ]
            edits = [self._group_edits(evaluator, tables[0], held), *values]
        for one in edits:
            one.clear = net.truncated
        return edits

    def _count_values(self, evaluator: Any, index: int, table: TargetTable, of: str, held: Held) -> Edits:
        """Count values anew; leaves ``n{index}`` behind: their counts before and after."""
        delta = _asked(evaluator, self._value_counts(of), table.schema)
        before = held.rows(table.suffix, table.schema.names, delta.select(table.key)).cast(table.schema)
        evaluator.register("d", delta)
        evaluator.register("h", before)
        same = _same(table.key, "d", "h")
        evaluator.execute(
            f"CREATE TEMP TABLE n{index} AS SELECT {_of('d', table.key)}, coalesce(h.{ROWS}, 0) AS before, "
            f"coalesce(h.{ROWS}, 0) + d.{ROWS} AS {ROWS} FROM d LEFT JOIN h ON {same}"
        )
        _refuse_below_zero(evaluator, f"n{index}")
        return self._edits_of(evaluator, f"SELECT {{0}} FROM n{index} WHERE {ROWS} {{1}}", table, "before")

    def _edits_of(self, evaluator: Any, sql: str, table: TargetTable, before: str) -> Edits:
        """Rows to put and to drop; ``before`` is the column that tells whether a row was there."""
        names = ", ".join(quoted(name) for name in table.schema.names)
        keys = pa.schema([table.schema.field(name) for name in table.key])
        new = _asked(evaluator, sql.format(names, f"> 0 AND {before} = 0"), table.schema)
        known = _asked(evaluator, sql.format(names, f"> 0 AND {before} > 0"), table.schema)
        drop = _asked(evaluator, sql.format(_of("", table.key), f"= 0 AND {before} > 0"), keys)
        return Edits(put=pa.concat_tables([new, known]), new=new.num_rows, drop=drop)

    def _group_edits(self, evaluator: Any, table: TargetTable, held: Held) -> Edits:
        """The groups' rows as they become."""
        sums = {self._v(one.of) for one in self.measures if one.kind in ("sum", "avg")}
        counts = {self._v(one.of) for one in self.measures if one.kind in ("sum", "avg", "count")}
        added = [f"sum(sign) AS {ROWS}"]
        added += [f"sum(CASE WHEN sign > 0 THEN {v} ELSE -{v} END) AS s_{v}" for v in sorted(sums)]
        added += [f"sum(CASE WHEN {v} IS NULL THEN 0 ELSE sign END) AS c_{v}" for v in sorted(counts)]
        groups = self._groups("")
        evaluator.execute(f"CREATE TEMP TABLE g AS SELECT {groups}, {', '.join(added)} FROM r GROUP BY {groups}")
        keys = _asked(evaluator, f"SELECT {groups} FROM g", pa.schema(list(self._by)))
        evaluator.register("b", held.rows("", table.schema.names, keys).cast(table.schema))
        joins = [f"LEFT JOIN b ON {_same(table.key, 'g', 'b')}"]
        for index, of in enumerate(self._counted):
            joins.append(
                f"LEFT JOIN ({self._ends(evaluator, index, of, held)}) e{index} ON {_same(table.key, 'g', f'e{index}')}"
            )
        evaluator.execute(
            f"CREATE TEMP TABLE a AS SELECT {self._groups('g.')}, coalesce(b.{ROWS}, 0) AS before, {_named(self._becomes())} "
            f"FROM g {' '.join(joins)}"
        )
        _refuse_below_zero(evaluator, "a")
        return self._edits_of(evaluator, f"SELECT {{0}} FROM a WHERE {ROWS} {{1}}", table, "before")

    def _becomes(self) -> list[tuple[str, str]]:
        """Each column of a group's row as it becomes, as SQL."""
        found, parts = [], [(ROWS, f"coalesce(b.{ROWS}, 0) + g.{ROWS}")]
        for one in self.measures:
            v, mine = (self._v(one.of) if one.of else ""), f"b.{quoted(one.name)}"
            count = f"coalesce(b.{quoted(one.name + '_count')}, 0) + g.c_{v}"
            if one.kind == "rows":
                found.append((one.name, f"coalesce({mine}, 0) + g.{ROWS}"))
            elif one.kind == "count":
                found.append((one.name, f"coalesce({mine}, 0) + g.c_{v}"))
            elif one.kind == "sum":
                found.append((one.name, f"CASE WHEN {count} > 0 THEN coalesce({mine}, 0) + coalesce(g.s_{v}, 0) END"))
                parts.append((f"{one.name}_count", count))
            elif one.kind == "avg":
                total = f"coalesce(b.{quoted(one.name + '_sum')}, 0) + coalesce(g.s_{v}, 0)"
                found.append((one.name, f"CASE WHEN {count} > 0 THEN ({total}) / ({count}) END"))
                parts += [(f"{one.name}_sum", f"CASE WHEN {count} > 0 THEN {total} END"), (f"{one.name}_count", count)]
            else:
                e = f"e{list(self._counted).index(one.of)}"
                if one.kind == "distinct":
                    found.append((one.name, f"coalesce({mine}, 0) + coalesce({e}.more, 0)"))
                else:
                    pick = "least" if one.kind == "min" else "greatest"
                    kept = f"CASE WHEN {e}.{one.kind}_went THEN {e}.next_{one.kind} ELSE {mine} END"
                    found.append((one.name, f"{pick}({kept}, {e}.new_{one.kind})"))
        return found + parts

    def _ends(self, evaluator: Any, index: int, of: str, held: Held) -> str:
        """What became of a group's values, as SQL: how many more there are, and the smallest and largest."""
        kinds = [one for one in self.measures if one.of == of and one.kind in ("min", "max")]
        columns = [
            f"sum(CASE WHEN n.before = 0 AND n.{ROWS} > 0 THEN 1 WHEN n.before > 0 AND n.{ROWS} = 0 THEN -1 ELSE 0 END) AS more"
        ]
        joins = ""
        for one in kinds:
            kind, mine = one.kind, f"b.{quoted(one.name)}"
            columns.append(
                f"coalesce(bool_or(n.{ROWS} = 0 AND n.{VALUE} IS NOT DISTINCT FROM {mine}), false) AS {kind}_went"
            )
            columns.append(f"{kind}(CASE WHEN n.{ROWS} > 0 THEN n.{VALUE} END) AS new_{kind}")
            next_table = f"x{index}_{kind}"
            self._find_next(evaluator, index, one, next_table, held)
            columns.append(f"any_value({next_table}.{VALUE}) AS next_{kind}")
            joins += f" LEFT JOIN {next_table} ON {_same(tuple(self.by), 'n', next_table)}"
        return (
            f"SELECT {self._groups('n.')}, {', '.join(columns)} FROM n{index} n "
            f"LEFT JOIN b ON {_same(tuple(self.by), 'n', 'b')}{joins} GROUP BY {self._groups('n.')}"
        )

    def _find_next(self, evaluator: Any, index: int, measure: Measure, name: str, held: Held) -> None:
        """Make a table of the smallest (or largest) value that is left, of each group whose own one went."""
        by, suffix = tuple(self.by), self._counted[measure.of]
        went = f"n.{ROWS} = 0 AND n.{VALUE} IS NOT DISTINCT FROM b.{quoted(measure.name)}"
        groups = _asked(
            evaluator,
            f"SELECT DISTINCT {self._groups('n.')} FROM n{index} n JOIN b ON {_same(by, 'n', 'b')} WHERE {went}",
            pa.schema(list(self._by)),
        )
        most = evaluator.execute(
            f"SELECT coalesce(max(c), 0) FROM (SELECT count(*) AS c FROM n{index} WHERE {ROWS} = 0 GROUP BY {self._groups('')})"
        ).fetchall()[0][0]
        left = held.first_values(suffix, groups, VALUE, int(most) + 1, measure.kind == "max")
        evaluator.register("left_", left)
        evaluator.execute(
            f"CREATE TEMP TABLE {name} AS SELECT {self._groups('l.')}, {measure.kind}(l.{VALUE}) AS {VALUE} FROM left_ l "
            f"WHERE NOT EXISTS (SELECT 1 FROM n{index} n WHERE n.{ROWS} = 0 AND {_same((*by, VALUE), 'n', 'l')}) "
            f"GROUP BY {self._groups('l.')}"
        )

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


def _addable(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def _sum_type(kind: pa.DataType) -> pa.DataType:
    """Decimals are added exactly, in as many digits as there are."""
    if pa.types.is_decimal(kind):
        return pa.decimal128(38, kind.scale)
    return NUMBER if pa.types.is_integer(kind) else pa.float64()


def _store(evaluator: Any, name: str, rows: pa.Table) -> None:
    """Add rows to one of the evaluator's tables; made by the first."""
    evaluator.register("part", rows)
    evaluator.execute(f"CREATE TEMP TABLE IF NOT EXISTS {name} AS SELECT * FROM part LIMIT 0")
    evaluator.execute(f"INSERT INTO {name} SELECT * FROM part")
    evaluator.unregister("part")


def _asked(evaluator: Any, sql: str, schema: pa.Schema) -> pa.Table:
    """A query's rows, in these types.

    Raises:
        DataError: a number is too large.
    """
    found = evaluator.sql(sql).to_arrow_table()
    try:
        return found.rename_columns(schema.names).cast(schema)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"A measure has become too large for its column: {error}.",
            "",
            "Measure it as a DECIMAL or a DOUBLE: cast(x AS DOUBLE).",
        ) from None


def _refuse_below_zero(evaluator: Any, table: str) -> None:
    if evaluator.execute(f"SELECT 1 FROM {table} WHERE {ROWS} < 0 LIMIT 1").fetchall():
        raise Refused(
            "More rows leave a group than it holds.",
            "The rollup and its source are no longer of one mind: something else wrote one of them.",
            "plainstep reload LOAD computes it anew.",
        )


def _named(columns: list[tuple[str, str]]) -> str:
    return ", ".join(f"{sql} AS {quoted(name)}" for name, sql in columns)


def _of(table: str, names: Sequence[str]) -> str:
    return ", ".join((f"{table}." if table else "") + quoted(name) for name in names)


def _same(names: Sequence[str], one: str, other: str) -> str:
    return " AND ".join(f"{one}.{quoted(name)} = {other}.{quoted(name)}" for name in names)
