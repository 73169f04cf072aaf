"""Rows in bulk: out of the server as CSV into Arrow, and out of Arrow as CSV into the server."""

from __future__ import annotations

import io
from collections.abc import Callable, Generator, Iterator, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from plainstep.errors import DataError
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.types import Column, Misfit, from_text, misfit

# Bytes of CSV that are made into columns at a time: so many that the work is Arrow's and not Python's.
CHUNK = 1 << 22
# Rows that are written at a time.
ROWS = 1 << 16


def read(
    connection: Connection, query: str, columns: Sequence[Column], table: str
) -> Generator[pa.RecordBatch, None, None]:
    """The rows of a query, in batches.

    Args:
        connection: where.
        query: a SELECT of just these columns; no parameters.
        columns: what it selects.
        table: its name, for messages.

    Raises:
        DataError: a value has no like in Arrow.
    """
    with connection.cursor() as cursor, cursor.copy(f"COPY ({query}) TO STDOUT (FORMAT csv)") as copy:
        held = io.BytesIO()
        for row in copy:
            held.write(row)
            if held.tell() >= CHUNK:
                yield _parsed(held, columns, table)
                held = io.BytesIO()
        if held.tell():
            yield _parsed(held, columns, table)


def _parsed(held: io.BytesIO, columns: Sequence[Column], table: str) -> pa.RecordBatch:
    plain = {column.name: pa.string() if pa.types.is_binary(column.kind) else column.kind for column in columns}
    try:
        found = _csv(held, plain)
    except pa.ArrowInvalid:
        found = _csv(held, dict.fromkeys(plain, pa.string()))
    arrays = [_typed(found.column(column.name).combine_chunks(), column, table) for column in columns]
    return pa.record_batch(arrays, names=list(plain))


def _csv(held: io.BytesIO, kinds: dict[str, pa.DataType]) -> pa.Table:
    held.seek(0)
    return pa.csv.read_csv(
        held,
        pa.csv.ReadOptions(column_names=list(kinds), block_size=2 * CHUNK),
        pa.csv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        pa.csv.ConvertOptions(
            column_types=kinds,
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            true_values=["t", "true"],
            false_values=["f", "false"],
        ),
    )


def _typed(found: pa.Array, column: Column, table: str) -> pa.Array:
    if found.type == column.kind:
        return found
    try:
        return from_text(found, column.kind)
    except Misfit as wrong:
        raise misfit(table, column, found[wrong.index].as_py()) from None


def write(
    connection: Connection,
    into: str,
    names: Sequence[str],
    batches: Iterator[pa.RecordBatch],
    quoted: Callable[[str], str],
) -> int:
    """Copy rows into a table; return how many.

    Raises:
        DataError: a text holds a zero byte, which PostgreSQL cannot keep.
    """
    count = 0
    columns = ", ".join(quoted(name) for name in names)
    with connection.cursor() as cursor, cursor.copy(f"COPY {into} ({columns}) FROM STDIN (FORMAT csv)") as copy:
        for batch in batches:
            for start in range(0, batch.num_rows, ROWS):
                copy.write(_written(batch.slice(start, ROWS).select(list(names))))
            count += batch.num_rows
    return count


def _written(batch: pa.RecordBatch) -> Any:
    sink = pa.BufferOutputStream()
    arrays = [_as_text(column) for column in batch.columns]
    options = pa.csv.WriteOptions(include_header=False)  # quotes every text, so that an empty one is not a null
    pa.csv.write_csv(pa.record_batch(arrays, names=batch.schema.names), sink, options)
    data = sink.getvalue().to_pybytes()
    if b"\0" in data:
        raise DataError(
            "A text holds a zero byte, which PostgreSQL cannot keep.",
            "Leaving it out would change the text.",
            "Mend the value at the source.",
        )
    return data


def _as_text(column: pa.Array) -> pa.Array:
    if pa.types.is_binary(column.type) or pa.types.is_large_binary(column.type):
        return pa.array([None if value is None else "\\x" + value.hex() for value in column.to_pylist()], pa.string())
    if pa.types.is_large_string(column.type) or pa.types.is_null(column.type):
        return column.cast(pa.string())
    if pa.types.is_dictionary(column.type):
        return pc.cast(column, column.type.value_type)
    return column
