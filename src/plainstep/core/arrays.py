"""Arrays: names of their types for annotations, one array out of a column, and the type of every time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.deferred import np, pa, pc

if TYPE_CHECKING:
    from collections.abc import Mapping

    from plainstep.deferred import npt

    Bools = npt.NDArray[np.bool_]
    Ints = npt.NDArray[np.int64]
    Words = npt.NDArray[np.uint64]
    Codes = npt.NDArray[np.int8]
    Numbers = npt.NDArray[Any]
else:  # nothing is loaded for a name
    Bools = Ints = Words = Codes = Numbers = Any


def utc_time() -> pa.DataType:
    """The type of every time: microseconds, UTC."""
    return pa.timestamp("us", "UTC")


def flat(column: pa.ChunkedArray | pa.Array) -> pa.Array:
    """One array out of a column that may be in chunks."""
    if isinstance(column, pa.ChunkedArray):
        return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()
    return column


def replaced(column: pa.Array, values: Mapping[int, object]) -> pa.Array:
    """A column with other values in some rows."""
    if not values:
        return column
    mask = np.zeros(len(column), dtype=np.bool_)
    mask[list(values)] = True
    return pc.replace_with_mask(column, pa.array(mask), pa.array([values[row] for row in sorted(values)], column.type))


def text_offsets(texts: pa.Array) -> Numbers:
    """Where the texts of a column begin and end in their bytes: one number more than there are texts."""
    long = pa.types.is_large_string(texts.type) or pa.types.is_large_binary(texts.type)
    found = np.frombuffer(texts.buffers()[1], dtype=np.int64 if long else np.int32)
    return found[texts.offset : texts.offset + len(texts) + 1]


def numbers(column: pa.ChunkedArray | pa.Array) -> npt.NDArray[Any]:
    """A column without nulls as a numpy array."""
    return flat(column).to_numpy(zero_copy_only=False)
