"""Names for arrays, for annotations, and the type of every time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.deferred import np, npt

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
