"""Rows as the server sends them, as Arrow's columns: each column of many rows at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plainstep.core.arrays import Bools, Ints
from plainstep.deferred import np, npt, pa
from plainstep.errors import DataError
from plainstep.stores.misfit import Misfit
from plainstep.stores.mysql.types import Column, from_text, misfit
from plainstep.stores.mysql.wire import Packets, Wire

# What the first byte of a value says where it is not its length.
NULL, TWO, THREE, EIGHT = 251, 252, 253, 254


def read(connection: Wire, sql: str, columns: Sequence[Column], table: str) -> Iterator[pa.RecordBatch]:
    """The rows of a query, in batches.

    Args:
        connection: where.
        sql: a SELECT of just these columns.
        columns: what it selects.
        table: its name, for messages.

    Raises:
        DataError: a value has no equivalent in Arrow.
    """
    for packets in connection.select(sql):
        yield batch_of(packets, columns, table)


def batch_of(packets: Packets, columns: Sequence[Column], table: str) -> pa.RecordBatch:
    """Rows that were sent, in columns.

    Raises:
        DataError: a value has no equivalent in Arrow.
    """
    texts = texts_of(packets, len(columns))
    arrays = [typed(found, column, table) for found, column in zip(texts, columns, strict=True)]
    return pa.record_batch(arrays, names=[column.name for column in columns])


def texts_of(packets: Packets, count: int) -> list[pa.Array]:
    """The columns of rows, each value as the bytes that were sent."""
    data = np.frombuffer(packets.data, dtype=np.uint8)
    at = np.array(packets.starts, dtype=np.int64)
    buffer = pa.py_buffer(packets.data)
    columns = []
    for _ in range(count):
        start, end, null = _bounds(data, at)
        columns.append(sliced(buffer, start, end, null))
        at = end
    return columns


def _bounds(data: npt.NDArray[np.uint8], at: Ints) -> tuple[Ints, Ints, Bools]:
    """Where the values begin and end whose lengths stand at some places, and which of them are null."""
    first = data[at].astype(np.int64)
    null = first == NULL
    length, header = np.where(null, 0, first), np.ones(len(at), dtype=np.int64)
    for word, size in ((TWO, 2), (THREE, 3), (EIGHT, 8)):
        places = np.flatnonzero(first == word)
        if len(places):
            parts = data[at[places, None] + 1 + np.arange(size)].astype(np.int64)
            length[places] = (parts << (8 * np.arange(size))).sum(axis=1)
            header[places] += size
    start = at + header
    return start, start + length, null


def sliced(buffer: pa.Buffer, start: Ints, end: Ints, null: Bools) -> pa.Array:
    """Parts of a buffer, which follow one another with gaps, as bytes."""
    if not len(start):
        return pa.array([], pa.binary())
    # An array of the parts and of the gaps between them, of which every other one is taken: that is done by Arrow.
    offsets = np.stack([start, end], axis=1).reshape(-1).astype(np.int32)
    both = pa.Array.from_buffers(pa.binary(), len(offsets) - 1, [None, pa.py_buffer(offsets), buffer])
    return both.take(pa.array(np.arange(0, len(offsets), 2), mask=null if null.any() else None))


def typed(found: pa.Array, column: Column, table: str) -> pa.Array:
    """Values as the server writes them, as what they are.

    Raises:
        DataError: one of them has no equivalent in Arrow.
    """
    if pa.types.is_binary(column.kind):
        return found
    try:
        texts = found.cast(pa.string())
    except pa.ArrowInvalid:
        raise DataError(f"In {table}, the column {column.name} holds bytes that are no text.", "", "") from None
    try:
        return from_text(texts, column.kind)
    except Misfit as wrong:
        raise misfit(table, column, texts[wrong.index].as_py()) from None
