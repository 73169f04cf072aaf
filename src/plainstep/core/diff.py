"""Comparing two tables by key, in the terms of net changes: in memory, or in files where they do not fit.

What stands at the target is taken away, what stands at the source is put there, and the net of both is the
difference: an insert is a row the target lacks, a delete one too many, an update one that differs.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import chain
from typing import Any

from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes, in_tables
from plainstep.core.changes.collapse import Collapser
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.ops import NOW, ROW, WAS, Op
from plainstep.core.changes.parts import NetParts
from plainstep.deferred import duckdb, np, pa
from plainstep.errors import ConfigError, DataError
from plainstep.sql.engine import scratch, spilling
from plainstep.sql.literals import quoted

# Rows that are put aside at a time: DuckDB works on 122,880 (a row group), and this is some for each core.
AT_ONCE = 1 << 19
# What is compared in the evaluator that is there, in memory: one that could spill takes 20 to 40 ms to make.
FEW, FEW_BYTES = 1 << 16, 1 << 25
# A sample is so many parts in this many, by a hash of the key: the same keys on both sides, and at every run.
PARTS = 10_000


@dataclass(frozen=True)
class Scope:
    """What of two tables is compared.

    Attributes:
        columns: only these, beside the key; none for all.
        where: only rows for which this SQL condition holds; empty for all.
        sample: only about this share of the keys, above 0 and up to 1.
    """

    columns: tuple[str, ...] = ()
    where: str = ""
    sample: float = 1.0

    @property
    def all(self) -> bool:
        """Whether it is everything."""
        return not self.columns and not self.where and self.sample >= 1


class Comparison:
    """Two tables, compared.

    Attributes:
        target_rows: how many rows there are at the target.
        missing, extra, different: how many keys the target lacks, has too many, or has with other values.
        whole: each of the shape's tables as the source makes it, where it was computed.
        beside: what differs in those that stand beside the first.
    """

    def __init__(self, evaluator: Any, key: tuple[str, ...], schema: pa.Schema, target_rows: int) -> None:
        self._evaluator, self.key, self.schema = evaluator, key, schema
        self.target_rows = target_rows
        self.whole: list[pa.Table] = []
        self.beside: list[NetChanges] = []
        counts = dict(evaluator.sql("SELECT op, count(*) FROM d GROUP BY op").fetchall())
        self.missing, self.different, self.extra = (counts.get(int(op), 0) for op in (Op.INSERT, Op.UPDATE, Op.DELETE))

    @property
    def source_rows(self) -> int:
        """How many rows the source had where the target stands."""
        return self.target_rows + self.missing - self.extra

    def source(self) -> Iterator[pa.RecordBatch]:
        """The source's rows where the target has none: all of them, compared with nothing."""
        names = [NOW + name for name in self.schema.names]
        for table in self.tables():
            yield from table.select(names).rename_columns(self.schema.names).cast(self.schema).to_batches()

    def tables(self, limit: int | None = None) -> Iterator[pa.Table]:
        """The differences, as changes that make the target equal the source; with a limit, the first by key.

        Yields:
            ``op``, ``at`` (null), ``was.*`` and ``now.*``; at least one batch, which may be empty.
        """
        yield _flat_form(self.schema.empty_table(), self.schema, None)
        order = ", ".join(f"coalesce({quoted(WAS + name)}, {quoted(NOW + name)})" for name in self.key)
        some = "" if limit is None else f" ORDER BY {order} LIMIT {limit}"
        for batch in self._evaluator.sql(f"SELECT * FROM d{some}").to_arrow_reader(1 << 16):
            yield _flat_form(batch, self.schema, batch.column("op"))


@contextmanager
def compared(
    key: tuple[str, ...],
    schema: pa.Schema,
    target: Iterable[pa.RecordBatch],
    source: Iterable[pa.RecordBatch],
    waiting: NetParts | None = None,
    undo: bool = True,
    scope: Scope | None = None,
) -> Iterator[Comparison]:
    """Compare two tables by key.

    Args:
        key: the columns that tell rows apart.
        schema: the columns of both sides.
        target, source: their rows.
        waiting: net changes that the source has and the target is not meant to have yet.
        undo: whether they can be undone; otherwise their keys are left out.
        scope: what is compared; None for everything.

    Raises:
        ConfigError: the scope names a column that is not there, or its condition is none.
    """
    scope = scope or Scope()
    few, target = _looked_ahead(target)
    if few:
        few, source = _looked_ahead(source)
    with scratch() if few and len(waiting or ()) <= FEW else spilling() as evaluator:
        kept = _Sides(evaluator, key, schema, scope)
        kept.fill("t", target)
        kept.fill("s", with_keys(source, key, "the source"))
        [[target_rows]] = evaluator.execute("SELECT count(*) FROM t").fetchall()
        if waiting is not None and (len(waiting) or waiting.truncated):
            kept.settle(waiting, undo)
        evaluator.execute(f"CREATE TEMP TABLE d AS {_query(key, kept.compared)}")
        yield Comparison(evaluator, key, kept.compared, int(target_rows))


def _looked_ahead(batches: Iterable[pa.RecordBatch]) -> tuple[bool, Iterator[pa.RecordBatch]]:
    """Whether there are few rows, and all of them."""
    rest = iter(batches)
    first: list[pa.RecordBatch] = []
    rows = size = 0
    for batch in rest:
        first.append(batch)
        rows, size = rows + batch.num_rows, size + batch.nbytes
        if rows > FEW or size > FEW_BYTES:
            return False, chain(first, rest)
    return True, iter(first)


def told_apart(rows: Iterable[pa.RecordBatch], schema: pa.Schema) -> Iterator[pa.RecordBatch]:
    """Rows that have no key with one as their last column, ``ROW``: what they hold, and how many equal ones came before.

    Two tables have the same of these keys if they hold the same rows, each as often.
    """
    names = [quoted(name) for name in schema.names]
    held = ", ".join(f"coalesce(length({name}::VARCHAR) || ':' || {name}::VARCHAR, 'n')" for name in names)
    listed = ", ".join(names)
    few, rows = _looked_ahead(rows)
    with scratch() if few else spilling() as evaluator:
        evaluator.register("part", schema.empty_table())
        evaluator.execute("CREATE TEMP TABLE r AS SELECT * FROM part")
        for some in in_tables(schema, (batch.cast(schema) for batch in rows), AT_ONCE):
            evaluator.register("part", some)
            evaluator.execute("INSERT INTO r SELECT * FROM part")
        sql = f"SELECT {listed}, md5(concat({held})) || '-' || row_number() OVER (PARTITION BY {listed}) AS {quoted(ROW)} FROM r"
        yield from (batch.cast(keyed(schema)) for batch in evaluator.sql(sql).to_arrow_reader(1 << 16))


def keyed(schema: pa.Schema) -> pa.Schema:
    """The columns of rows that ``told_apart`` gives."""
    return schema.append(pa.field(ROW, pa.string()))


class _Sides:
    """Both tables, put aside."""

    def __init__(self, evaluator: Any, key: tuple[str, ...], schema: pa.Schema, scope: Scope) -> None:
        self.evaluator, self.key, self.schema, self.scope = evaluator, key, schema, scope
        unknown = [name for name in scope.columns if name not in schema.names]
        if unknown:
            raise ConfigError(f"There is no column {unknown[0]!r}.", f"Columns: {', '.join(schema.names)}.")
        wanted = {*key, *(scope.columns or schema.names)}
        self.compared = pa.schema([field for field in schema if field.name in wanted])
        self.selected = ", ".join(quoted(name) for name in self.compared.names)
        self.condition = self._condition()

    def _condition(self) -> str:
        """Which rows are compared, as SQL."""
        terms = [f"({self.scope.where})"] if self.scope.where else []
        if self.scope.sample < 1:
            columns = ", ".join(quoted(name) for name in self.key)
            terms.append(f"hash({columns}) % {PARTS} < {round(self.scope.sample * PARTS)}")
        condition = f" WHERE {' AND '.join(terms)}" if terms else ""
        for name in ("t", "s"):
            self._insert(
                self.schema.empty_table(), f"CREATE TEMP TABLE {name} AS SELECT {self.selected} FROM part{condition}"
            )
        return condition

    def fill(self, name: str, batches: Iterable[pa.RecordBatch]) -> None:
        """Put rows aside. (DuckDB would read a stream in threads of its own, which a store's may not like.)"""
        for rows in in_tables(self.schema, (batch.cast(self.schema) for batch in batches), AT_ONCE):
            self._insert(rows, f"INSERT INTO {name} SELECT {self.selected} FROM part{self.condition}")

    def settle(self, waiting: NetParts, undo: bool) -> None:
        """Take what waits out of the source, or its keys out of both sides. After a truncate, something waits for all."""
        if waiting.truncated:
            self.evaluator.execute("DELETE FROM s; DELETE FROM t")
            return
        for part in waiting:
            self._settle(part, undo)

    def _settle(self, waiting: NetChanges, undo: bool) -> None:
        same = " AND ".join(f"{{0}}.{quoted(name)} = part.{quoted(name)}" for name in self.key)
        changed = waiting.rows(*Op)  # rows that came back as they were differ from nothing
        keys = waiting.keys_of(changed).cast(pa.schema([self.schema.field(name) for name in self.key]))
        for name in ("s",) if undo else ("s", "t"):
            self._insert(keys, f"DELETE FROM {name} USING part WHERE {same.format(name)}")
        if undo:
            left = waiting.images(WAS, waiting.rows(Op.UPDATE, Op.DELETE)).select(self.schema.names)
            self.fill("s", left.cast(self.schema).to_batches())

    def _insert(self, rows: pa.Table, sql: str) -> None:
        self.evaluator.register("part", rows)
        try:
            self.evaluator.execute(sql)
        except (duckdb.ProgrammingError, duckdb.DataError) as error:
            if not self.scope.where:
                raise
            told = str(error).splitlines()[0].rstrip(".!")
            raise ConfigError(
                f"{self.scope.where!r} is not a condition on these rows: {told}.",
                f"Their columns: {', '.join(self.schema.names)}.",
            ) from None
        finally:
            self.evaluator.unregister("part")


def net_of(found: Comparison, limit: int | None = None) -> NetChanges:
    """The differences as net changes that make the target equal the source; with a limit, the first by key."""
    collapser = Collapser(found.key)
    for changes in changes_of(found, limit):
        collapser.add(changes)
    return collapser.result()


def changes_of(found: Comparison, limit: int | None = None) -> Iterator[Changes]:
    """The differences as changes that make the target equal the source; with a limit, the first by key."""
    seq = 0
    for table in found.tables(limit):
        yield Changes(table.append_column("seq", pa.array(np.arange(seq + 1, seq + 1 + table.num_rows))))
        seq += table.num_rows


def _query(key: tuple[str, ...], schema: pa.Schema) -> str:
    """The differences of both sides."""
    others = [name for name in schema.names if name not in key]
    on = " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in key)
    same = " AND ".join(f"t.{quoted(name)} IS NOT DISTINCT FROM s.{quoted(name)}" for name in others) or "true"
    absent = [f"{side}.{quoted(key[0])} IS NULL" for side in "ts"]
    images = ", ".join(
        f"{side}.{quoted(name)} AS {quoted(prefix + name)}"
        for side, prefix in (("t", WAS), ("s", NOW))
        for name in schema.names
    )
    return (
        f"SELECT CASE WHEN {absent[0]} THEN {int(Op.INSERT)} WHEN {absent[1]} THEN {int(Op.DELETE)} "
        f"ELSE {int(Op.UPDATE)} END::TINYINT AS op, {images} "
        f"FROM t FULL JOIN s ON {on} WHERE {absent[0]} OR {absent[1]} OR NOT ({same})"
    )


def _flat_form(batch: pa.Table | pa.RecordBatch, schema: pa.Schema, op: pa.Array | None) -> pa.Table:
    count = batch.num_rows
    columns = {"op": pa.array([], pa.int8()) if op is None else op, "at": pa.nulls(count, utc_time())}
    for side in (WAS, NOW):
        for field in schema:
            found = batch.column(side + field.name) if op is not None else pa.array([], field.type)
            columns[side + field.name] = found.cast(field.type)
    return pa.table(columns)


def difference(
    key: tuple[str, ...],
    schema: pa.Schema,
    target: Iterable[pa.RecordBatch],
    source: Iterable[pa.RecordBatch],
) -> tuple[NetChanges, int]:
    """What must happen to the target so that it equals the source.

    Args:
        key: the columns that tell rows apart.
        schema: the columns of both sides.
        target, source: their rows.

    Returns:
        The difference as net changes, and how many rows the target has.
    """
    collapser = Collapser(key)
    seq = 0
    target_rows = 0
    collapser.add(_as_changes(schema.empty_table(), Op.DELETE, WAS, seq))
    for batch in target:
        collapser.add(_as_changes(batch.cast(schema), Op.DELETE, WAS, seq))
        seq += batch.num_rows
        target_rows += batch.num_rows
    for batch in source:
        collapser.add(_as_changes(batch.cast(schema), Op.INSERT, NOW, seq))
        seq += batch.num_rows
    return collapser.result(), target_rows


def known(wanted: pa.Schema, found: pa.Schema) -> pa.Schema:
    """The columns that a table has of those that are wanted."""
    there = {*found.names}
    return pa.schema([field for field in wanted if field.name in there])


def widened(batch: pa.RecordBatch, wanted: pa.Schema) -> pa.RecordBatch:
    """The batch with nulls in the columns that the target does not have yet."""
    there = {*batch.schema.names}
    columns = [
        batch.column(field.name) if field.name in there else pa.nulls(batch.num_rows, field.type) for field in wanted
    ]
    return pa.record_batch(columns, schema=wanted)


def _as_changes(rows: pa.Table | pa.RecordBatch, op: Op, side: str, seq: int) -> Changes:
    """Rows as changes of one operation."""
    count = rows.num_rows
    columns = {
        "op": pa.array(np.full(count, op, dtype=np.int8)),
        "seq": pa.array(np.arange(seq + 1, seq + 1 + count)),
        "at": pa.nulls(count, utc_time()),
    }
    other = NOW if side == WAS else WAS
    columns |= {side + name: rows.column(name) for name in rows.schema.names}
    columns |= {other + field.name: pa.nulls(count, field.type) for field in rows.schema}
    return Changes(pa.table(columns))


def with_keys(batches: Iterable[pa.RecordBatch], key: tuple[str, ...], table: str) -> Generator[pa.RecordBatch]:
    """The same batches, refused where a key is null.

    Raises:
        DataError: a row has no value in a key column.
    """
    for batch in batches:
        for name in key:
            if batch.column(name).null_count:
                row = next(row for row in batch.to_pylist() if row[name] is None)
                raise DataError(
                    f"A row of {table} has no value in its key column {name!r}: {row}.",
                    "A row without a key cannot be told apart from others, so it cannot be merged.",
                    "Give the row a key, or delete it.",
                )
        yield batch
