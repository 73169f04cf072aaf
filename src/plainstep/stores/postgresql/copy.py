"""Rows in bulk: out of the server as CSV into Arrow, and out of Arrow as CSV into the server."""

from __future__ import annotations

import io
from collections.abc import Callable, Generator, Iterator, Sequence
from typing import Any

from plainstep.deferred import pa, pacsv, pc
from plainstep.errors import DataError
from plainstep.stores.misfit import Misfit
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.types import Column, from_text, misfit

# Bytes of CSV that are made into columns at a time: so many that the work is Arrow's and not Python's.
CHUNK = 1 << 22
# Rows that are written at a time: some megabytes, which the server takes while the next are made.
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
        found = _csv(pa.py_buffer(held.getbuffer()), plain)
    except pa.ArrowInvalid:
        found = _csv(pa.py_buffer(held.getbuffer()), dict.fromkeys(plain, pa.string()))
    arrays = [_typed(found.column(column.name).combine_chunks(), column, table) for column in columns]
    return pa.record_batch(arrays, names=list(plain))


def images(
    texts: pa.Array, fields: pa.Array, slots: Sequence[Column | None], table: str, side: str
) -> dict[str, pa.Array]:
    """The columns of rows that are kept as the server writes a record: ``(1,"a ""b""\",,t)``, which is all but CSV.

    Args:
        texts: the rows; null where there is none.
        fields: how many values each has; later columns were not captured yet.
        slots: the columns in their places; None for one that is not read.
        table: its name, for messages.
        side: what goes before the columns' names.

    Raises:
        DataError: a value has no like in Arrow.
    """
    width = len(slots)
    lacking = [width - one if one else 0 for one in pc.unique(fields).to_pylist()]
    tails = pa.scalar("\n")
    if any(lacking):
        ends = {width - more: "," * more + "\n" for more in lacking}
        tails = pa.array([ends[one if one else width] for one in fields.to_pylist()], pa.string())
    inner = pc.utf8_slice_codeunits(texts, 1, -1)
    lines = pc.fill_null(pc.binary_join_element_wise(inner, tails, ""), "," * (width - 1) + "\n")
    named = {str(place): column for place, column in enumerate(slots)}
    wanted = {name: column for name, column in named.items() if column is not None}
    kinds = {name: pa.string() if pa.types.is_binary(column.kind) else column.kind for name, column in wanted.items()}
    data = lines.buffers()[2].slice(0, pc.sum(pc.binary_length(lines)).as_py()) if len(lines) else pa.py_buffer(b"")
    try:
        found = _csv(data, kinds, list(named))
    except pa.ArrowInvalid:
        found = _csv(data, dict.fromkeys(kinds, pa.string()), list(named))
    arrays = {name: _unescaped(found.column(name).combine_chunks()) for name in wanted}
    return {side + column.name: _typed(arrays[name], column, table) for name, column in wanted.items()}


def _unescaped(found: pa.Array) -> pa.Array:
    """Text without the second of each two backslashes that stand for one."""
    if not pa.types.is_string(found.type) or not pc.any(pc.match_substring(found, "\\\\")).as_py():
        return found
    return pc.replace_substring(found, "\\\\", "\\")


def _csv(data: pa.Buffer, kinds: dict[str, pa.DataType], names: list[str] | None = None) -> pa.Table:
    return pacsv.read_csv(
        pa.BufferReader(data),
        pacsv.ReadOptions(column_names=names or list(kinds), block_size=max(2 * CHUNK, len(data) + 1)),
        pacsv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        pacsv.ConvertOptions(
            column_types=kinds,
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            true_values=["t", "true"],
            false_values=["f", "false"],
            include_columns=list(kinds),
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
    options = pacsv.WriteOptions(include_header=False)  # quotes every text, so that an empty one is not a null
    pacsv.write_csv(pa.record_batch(arrays, names=batch.schema.names), sink, options)
    data = sink.getvalue().to_pybytes()
    if b"\0" in data:
        raise DataError(
            "A text holds a zero byte, which PostgreSQL cannot keep.",
            "Leaving it out would change the text.",
            "Fix the value at the source.",
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
