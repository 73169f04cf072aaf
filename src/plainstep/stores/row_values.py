"""Values of results that have no types: as texts, or as what is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Any

from plainstep.deferred import pa
from plainstep.errors import DataError


def text_of(value: Any) -> str | None:
    """A value as a text, as a layout's codes have it: bytes as ``0x`` and hexadecimal digits, yes and no as ``true`` and ``false``."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bytes | bytearray | memoryview):
        return "0x" + bytes(value).hex()
    if isinstance(value, bool):
        return str(value).lower()
    return value.isoformat() if isinstance(value, date | datetime) else str(value)


def texts(values: Sequence[Any]) -> pa.Array:
    """Values as texts."""
    return pa.array([text_of(value) for value in values], pa.string())


def natural_batch(names: Sequence[str], columns: Sequence[Sequence[Any]]) -> pa.RecordBatch:
    """Values in the types that they have; those of a column without one type, and decimals, whose size is not known, as nulls."""
    arrays = []
    for values in columns:
        kinds = {type(value) for value in values if value is not None}
        known = len(kinds) == 1 and kinds <= {int, float, str, bytes, bool, date, datetime}
        try:
            arrays.append(pa.array(values) if known else pa.nulls(len(values)))
        except (pa.ArrowException, OverflowError):
            arrays.append(pa.nulls(len(values)))
    return pa.record_batch(arrays, names=list(names))


def unfit(place: str, column: str, kind: pa.DataType, value: Any) -> DataError:
    """The error for a value that is not of the type that is asked for."""
    return DataError(
        f"A query of {place} gives {value!r} for {column}, which is not a valid {kind}.",
        "Merging it would change it.",
        f'Give another type: types = {{ "{column}" = "TEXT" }} in the load; or cast it in the query.',
    )
