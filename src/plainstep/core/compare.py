"""Comparing two whole tables by key, in the terms of net changes.

What stands at the target is taken away, what stands at the source is put there, and the net of both is the
difference: an insert is a row the target lacks, a delete one too many, an update one that differs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from plainstep.core.changes import AT, Changes, in_tables
from plainstep.core.collapse import Collapser
from plainstep.core.evaluator import spilling
from plainstep.core.net import NetChanges
from plainstep.core.words import NOW, WAS, Op, quoted
from plainstep.errors import DataError

# Rows that are put aside for a large comparison at a time.
AT_ONCE = 1 << 19


def difference(
    key: tuple[str, ...],
    schema: pa.Schema,
    target: Iterable[pa.RecordBatch],
    source: Iterable[pa.RecordBatch],
    waiting: NetChanges | None = None,
) -> tuple[NetChanges, int]:
    """What must happen to the target so that it equals the source.

    Args:
        key: the columns that tell rows apart.
        schema: the columns of both sides.
        target, source: their rows.
        waiting: net changes that the source has and the target is not meant to have yet: they are undone.

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
    if waiting is not None:
        for part in _undone(waiting, schema, seq):
            collapser.add(part)
    return collapser.result(), target_rows


def differences(
    key: tuple[str, ...], schema: pa.Schema, target: Iterable[pa.RecordBatch], source: Iterable[pa.RecordBatch]
) -> Iterator[pa.Table]:
    """The same in bounded memory, as changes that make the target equal the source; in no order.

    What does not fit in memory is kept in temporary files meanwhile.

    Args:
        key: the columns that tell rows apart.
        schema: the columns of both sides.
        target, source: their rows.

    Yields:
        ``op``, ``at`` (null), ``was.*`` and ``now.*``; at least one batch, which may be empty.
    """
    others = [name for name in schema.names if name not in key]
    yield _flat_form(schema.empty_table(), schema, None)
    on = " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in key)
    same = " AND ".join(f"t.{quoted(name)} IS NOT DISTINCT FROM s.{quoted(name)}" for name in others) or "true"
    absent = [f"{side}.{quoted(key[0])} IS NULL" for side in "ts"]
    images = ", ".join(
        f"{side}.{quoted(name)} AS {quoted(prefix + name)}"
        for side, prefix in (("t", WAS), ("s", NOW))
        for name in schema.names
    )
    query = (
        f"SELECT CASE WHEN {absent[0]} THEN 1 WHEN {absent[1]} THEN 3 ELSE 2 END::TINYINT AS op, {images} "
        f"FROM t FULL JOIN s ON {on} WHERE {absent[0]} OR {absent[1]} OR NOT ({same})"
    )
    with spilling() as evaluator:
        for name, batches in (("t", target), ("s", with_keys(source, key, "the source"))):
            _kept(evaluator, name, schema, batches)
        for batch in evaluator.sql(query).to_arrow_reader(1 << 16):
            yield _flat_form(batch, schema, batch.column("op"))


def _kept(evaluator: Any, name: str, schema: pa.Schema, batches: Iterable[pa.RecordBatch]) -> None:
    """Put rows into a table of the evaluator. (It would read a stream in threads of its own, which a store's may not like.)"""

    def insert(rows: pa.Table, sql: str) -> None:
        evaluator.register("part", rows)
        evaluator.execute(sql)
        evaluator.unregister("part")

    insert(schema.empty_table(), f"CREATE TABLE {name} AS SELECT * FROM part")
    for rows in in_tables(schema, (batch.cast(schema) for batch in batches), AT_ONCE):
        insert(rows, f"INSERT INTO {name} SELECT * FROM part")


def _flat_form(batch: pa.Table | pa.RecordBatch, schema: pa.Schema, op: pa.Array | None) -> pa.Table:
    count = batch.num_rows
    columns = {"op": pa.array([], pa.int8()) if op is None else op, "at": pa.nulls(count, AT)}
    for side in (WAS, NOW):
        for field in schema:
            found = batch.column(side + field.name) if op is not None else pa.array([], field.type)
            columns[side + field.name] = found.cast(field.type)
    return pa.table(columns)


def known(wanted: pa.Schema, found: pa.Schema) -> pa.Schema:
    """The columns that a table has of those that are wanted."""
    return pa.schema([field for field in wanted if field.name in found.names])


def widened(batch: pa.RecordBatch, wanted: pa.Schema) -> pa.RecordBatch:
    """The batch with nulls in the columns that the target does not have yet."""
    columns = [
        batch.column(field.name) if field.name in batch.schema.names else pa.nulls(batch.num_rows, field.type)
        for field in wanted
    ]
    return pa.record_batch(columns, schema=wanted)


def _as_changes(rows: pa.Table | pa.RecordBatch, op: Op, side: str, seq: int) -> Changes:
    """Rows as changes of one operation."""
    count = rows.num_rows
    columns = {
        "op": pa.array(np.full(count, op, dtype=np.int8)),
        "seq": pa.array(np.arange(seq + 1, seq + 1 + count)),
        "at": pa.nulls(count, AT),
    }
    other = NOW if side == WAS else WAS
    columns |= {side + name: rows.column(name) for name in rows.schema.names}
    columns |= {other + field.name: pa.nulls(count, field.type) for field in rows.schema}
    return Changes(pa.table(columns))


def _undone(net: NetChanges, schema: pa.Schema, seq: int) -> Iterator[Changes]:
    """Net changes backwards: what came goes, what went comes back as it was."""
    came, left = net.rows(Op.INSERT, Op.UPDATE), net.rows(Op.UPDATE, Op.DELETE)
    for rows, side, op in ((came, NOW, Op.DELETE), (left, WAS, Op.INSERT)):
        images = net.images(side, rows).select(schema.names).cast(schema)
        yield _as_changes(images, op, WAS if op is Op.DELETE else NOW, seq)
        seq += images.num_rows


def with_keys(batches: Iterable[pa.RecordBatch], key: tuple[str, ...], table: str) -> Iterator[pa.RecordBatch]:
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
