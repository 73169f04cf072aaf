"""Comparing two whole tables by key, in the terms of net changes.

What stands at the target is taken away, what stands at the source is put there, and the net of both is the
difference: an insert is a row the target lacks, a delete one too many, an update one that differs.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable

import numpy as np
import pyarrow as pa

from plainstep.core.changes import AT, Changes
from plainstep.core.collapse import Collapser
from plainstep.core.net import NetChanges
from plainstep.core.words import NOW, WAS, Op
from plainstep.errors import DataError


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
    return pa.schema([field for field in wanted if field.name in found.names])


def widened(batch: pa.RecordBatch, wanted: pa.Schema) -> pa.RecordBatch:
    """The batch with nulls in the columns that the target does not have yet."""
    columns = [
        batch.column(field.name) if field.name in batch.schema.names else pa.nulls(batch.num_rows, field.type)
        for field in wanted
    ]
    return pa.record_batch(columns, schema=wanted)


# Sums of floating-point numbers depend on the order in which they were added; what differs beyond so many digits does not.
DIGITS = 10


def rounded(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The same rows, floating-point numbers in as many digits as sums of them are compared in."""
    columns = []
    for column in batch.columns:
        if pa.types.is_floating(column.type):
            values = column.to_numpy(zero_copy_only=False)
            with np.errstate(all="ignore"):
                size = np.where(np.isfinite(values) & (values != 0), np.floor(np.log10(np.abs(values))), 0)
                scale = 10.0 ** (DIGITS - 1 - size)
                found = np.where(np.isfinite(values * scale), np.round(values * scale) / scale, values)
            column = pa.array(found, column.type, mask=column.is_null().to_numpy(zero_copy_only=False))
        columns.append(column)
    return pa.record_batch(columns, schema=batch.schema)


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
