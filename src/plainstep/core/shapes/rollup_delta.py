"""What a window makes of a rollup: the rows of its groups, and of its counted values, as they become.

Everything is asked of an in-memory evaluator that has three kinds of tables: ``r``, the inputs of rows that come (``sign``
is 1) and go (-1); ``n0``, ``n1`` ..., how often values are counted before and after; ``b``, the groups as they are.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.measures import ROWS, VALUE, Measure, answered
from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.sql.literals import quoted

if TYPE_CHECKING:
    from plainstep.core.shapes.base import TargetReader, TargetTable
    from plainstep.core.shapes.rollup_inputs import RollupInputs

# Beside a row as it becomes: how many rows it counted before.
BEFORE = "rows_before"


class RollupWindow:
    """One window.

    Args:
        rollup: the rollup.
        evaluator: a connection of its own to the evaluator.
        held: what the target holds.
    """

    def __init__(self, rollup: RollupInputs, evaluator: Any, held: TargetReader) -> None:
        self.rollup, self.evaluator, self.held = rollup, evaluator, held
        self.by = tuple(rollup.by)

    def edits(self) -> list[Edits]:
        """What is asked of each table."""
        groups, *counted = self.rollup.tables()
        values = [
            self._values(index, table, of)
            for index, (table, of) in enumerate(zip(counted, self.rollup.counted, strict=True))
        ]
        return [self._groups(groups), *values]

    def _values(self, index: int, table: TargetTable, of: str) -> Edits:
        """Count values anew; leaves their counts behind as ``n{index}``."""
        change = answered(self.evaluator, self.rollup.value_counts(of), table.schema)
        before = self.held.rows(table.suffix, table.schema.names, change.select(table.key))
        self.evaluator.register("d", change)
        self.evaluator.register("h", before)
        sql = (
            f"SELECT {_of('d', table.key)}, coalesce(h.{ROWS}, 0) + d.{ROWS} AS {ROWS}, coalesce(h.{ROWS}, 0) AS {BEFORE} "
            f"FROM d LEFT JOIN h ON {_same(table.key, 'd', 'h')}"
        )
        counts = self._become(sql, table)
        self.evaluator.register(f"n{index}", counts)
        return _edits_of(counts, table)

    def _become(self, sql: str, table: TargetTable) -> pa.Table:
        """Rows as they become, and how many rows each counted before.

        Raises:
            Refused: more rows leave than were there.
        """
        found = answered(self.evaluator, sql, table.schema.append(pa.field(BEFORE, pa.int64())))
        if found.num_rows and pc.min(found[ROWS]).as_py() < 0:
            raise Refused(
                "More rows leave a group than it holds.",
                "The rollup no longer matches its source: something else wrote to one of them.",
                "plainstep reload LOAD recomputes it.",
            )
        return found

    def _groups(self, table: TargetTable) -> Edits:
        """The groups' rows as they become."""
        mine = self.rollup.groups("")
        added = self.evaluator.sql(f"SELECT {mine}, {', '.join(self._added())} FROM r GROUP BY {mine}").to_arrow_table()
        self.evaluator.register("g", added)
        keys = added.select(self.by).cast(self._key())
        self.evaluator.register("b", self.held.rows("", table.schema.names, keys))
        joins = [f"LEFT JOIN b ON {_same(self.by, 'g', 'b')}"]
        for index, of in enumerate(self.rollup.counted):
            made = self._ends(index, of)
            joins += [f"LEFT JOIN {name} ON {_same(self.by, 'g', name)}" for name in made]
        becomes = dict(self._becomes())
        columns = [f"{becomes[name]} AS {quoted(name)}" for name in table.schema.names if name not in self.by]
        sql = f"SELECT {_of('g', self.by)}, {', '.join(columns)}, coalesce(b.{ROWS}, 0) AS {BEFORE} FROM g {' '.join(joins)}"
        return _edits_of(self._become(sql, table), table)

    def _key(self) -> pa.Schema:
        return pa.schema(list(self.rollup.by_columns))

    def _added(self) -> list[str]:
        """What comes to each group, less what goes, as SQL over ``r``."""
        measures, column = self.rollup.measures, self.rollup.input_of
        sums = {column(one.of) for one in measures if one.kind in ("sum", "avg")}
        counts = {column(one.of) for one in measures if one.kind in ("sum", "avg", "count")}
        added = [f"sum(sign) AS {ROWS}"]
        added += [f"sum(CASE WHEN sign > 0 THEN {v} ELSE -{v} END) AS s_{v}" for v in sorted(sums)]
        return added + [f"sum(CASE WHEN {v} IS NULL THEN 0 ELSE sign END) AS c_{v}" for v in sorted(counts)]

    def _becomes(self) -> list[tuple[str, str]]:
        """Each column of a group's row as it becomes, as SQL over ``b``, ``g`` and the ends."""
        found = [(ROWS, f"coalesce(b.{ROWS}, 0) + g.{ROWS}")]
        for one in self.rollup.measures:
            v, mine = (self.rollup.input_of(one.of) if one.of else ""), f"b.{quoted(one.name)}"
            count = f"coalesce(b.{quoted(one.name + '_count')}, 0) + g.c_{v}"
            if one.kind == "rows":
                found.append((one.name, f"coalesce({mine}, 0) + g.{ROWS}"))
            elif one.kind == "count":
                found.append((one.name, f"coalesce({mine}, 0) + g.c_{v}"))
            elif one.kind == "sum":
                found.append((one.name, f"CASE WHEN {count} > 0 THEN coalesce({mine}, 0) + coalesce(g.s_{v}, 0) END"))
                found.append((f"{one.name}_count", count))
            elif one.kind == "avg":
                total = f"coalesce(b.{quoted(one.name + '_sum')}, 0) + coalesce(g.s_{v}, 0)"
                found.append((one.name, f"CASE WHEN {count} > 0 THEN ({total}) / ({count}) END"))
                found.append((f"{one.name}_sum", f"CASE WHEN {count} > 0 THEN {total} END"))
                found.append((f"{one.name}_count", count))
            else:
                found.append((one.name, self._end(one, mine)))
        return found

    def _end(self, one: Measure, mine: str) -> str:
        """The smallest, largest, or number of distinct values, as SQL."""
        index, kind = list(self.rollup.counted).index(one.of), one.kind
        if kind == "distinct":
            return f"coalesce({mine}, 0) + coalesce(e{index}.more, 0)"
        following = f"x{index}_{kind}.{VALUE}"
        kept = f"CASE WHEN e{index}.{kind}_went THEN {following} ELSE {mine} END"
        return f"{'least' if kind == 'min' else 'greatest'}({kept}, e{index}.new_{kind})"

    def _ends(self, index: int, of: str) -> list[str]:
        """Make tables of what became of each group's values; return their names.

        ``e{index}`` tells how many more values there are, whether the smallest (largest) went, and the smallest (largest)
        of those that came or stay; ``x{index}_min`` (``_max``) the one that follows where it went.
        """
        kinds = [one for one in self.rollup.measures if one.of == of and one.kind in ("min", "max")]
        mine, gone = _of("n", self.by), f"n.{ROWS} = 0"
        came = f"CASE WHEN n.{BEFORE} = 0 THEN 1 WHEN {gone} THEN -1 ELSE 0 END"
        columns = [f"sum({came}) AS more", f"count(*) FILTER ({gone}) AS gone"]
        for one in kinds:
            went = f"{gone} AND n.{VALUE} IS NOT DISTINCT FROM b.{quoted(one.name)}"
            columns.append(f"bool_or({went}) AS {one.kind}_went")
            columns.append(f"{one.kind}(n.{VALUE}) FILTER (n.{ROWS} > 0) AS new_{one.kind}")
        sql = f"SELECT {mine}, {', '.join(columns)} FROM n{index} n LEFT JOIN b ON {_same(self.by, 'n', 'b')} GROUP BY {mine}"
        ends = self.evaluator.sql(sql).to_arrow_table()
        self.evaluator.register(f"e{index}", ends)
        for one in kinds:
            self._find_next(index, one, ends.filter(ends[f"{one.kind}_went"]))
        return [f"e{index}", *(f"x{index}_{one.kind}" for one in kinds)]

    def _find_next(self, index: int, measure: Measure, ends: pa.Table) -> None:
        """Make a table of the smallest (or largest) value that is left, of each group whose own one went."""
        # So many of the first values may have gone: the one after them is there still.
        enough = (pc.max(ends["gone"]).as_py() or 0) + 1
        suffix = self.rollup.counted[measure.of]
        groups = ends.select(self.by).cast(self._key())
        left = self.held.first_values(suffix, groups, VALUE, enough, measure.kind == "max")
        name = f"x{index}_{measure.kind}"
        if not left.num_rows:
            self.evaluator.register(name, left)
            return
        self.evaluator.register("left_", left)
        self.evaluator.execute(
            f"CREATE TEMP TABLE {name} AS SELECT {_of('l', self.by)}, {measure.kind}(l.{VALUE}) AS {VALUE} FROM left_ l "
            f"WHERE NOT EXISTS (SELECT 1 FROM n{index} n WHERE n.{ROWS} = 0 AND {_same((*self.by, VALUE), 'n', 'l')}) "
            f"GROUP BY {_of('l', self.by)}"
        )


def _edits_of(rows: pa.Table, table: TargetTable) -> Edits:
    """Rows to put and to drop, out of rows as they become."""
    there, stays = pc.greater(rows[BEFORE], 0), pc.greater(rows[ROWS], 0)
    names = table.schema.names
    new = rows.filter(pc.and_not(stays, there)).select(names)
    known = rows.filter(pc.and_(stays, there)).select(names)
    drop = rows.filter(pc.and_not(there, stays)).select(table.key)
    return Edits(put=pa.concat_tables([new, known]), new=new.num_rows, drop=drop)


def _of(table: str, names: Sequence[str]) -> str:
    return ", ".join(f"{table}.{quoted(name)}" for name in names)


def _same(names: Sequence[str], one: str, other: str) -> str:
    return " AND ".join(f"{one}.{quoted(name)} = {other}.{quoted(name)}" for name in names)
