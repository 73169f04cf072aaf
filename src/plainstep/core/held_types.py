"""In which type values are held that come in one which targets lack: none loses anything, or a value that would is told."""

from __future__ import annotations

from plainstep.core.arrays import utc_time
from plainstep.core.schema_drift import holds, widens
from plainstep.deferred import pa


def held_as(kind: pa.DataType) -> pa.DataType:
    """The type in which values of a type are held.

    Whole numbers without a sign are held in the next wider type, those of 64 bits as decimals of 20 digits. Times are held in
    microseconds, with a zone in UTC; one with nanoseconds does not fit. Lists, maps and structs are held as JSON. What has no
    equivalent, such as a length of time, stays what it is, for a target to refuse.
    """
    if pa.types.is_dictionary(kind):
        return held_as(kind.value_type)
    if pa.types.is_timestamp(kind):
        return utc_time() if kind.tz is not None else pa.timestamp("us")
    if is_nested(kind):
        return pa.string()
    if pa.types.is_fixed_size_binary(kind):
        return pa.binary()
    if pa.types.is_decimal256(kind) and kind.precision <= 38:
        return pa.decimal128(kind.precision, kind.scale)
    return _others().get(str(kind), kind)


def _others() -> dict[str, pa.DataType]:
    return {
        "uint8": pa.int16(),
        "uint16": pa.int32(),
        "uint32": pa.int64(),
        "uint64": pa.decimal128(20, 0),
        "halffloat": pa.float32(),
        "date64[ms]": pa.date32(),
        "time32[s]": pa.time64("us"),
        "time32[ms]": pa.time64("us"),
        "time64[ns]": pa.time64("us"),
        "large_string": pa.string(),
        "large_binary": pa.binary(),
        "string_view": pa.string(),
        "binary_view": pa.binary(),
    }


def read_as(suggested: pa.DataType, fitted: pa.DataType, column: pa.DataType) -> pa.DataType:
    """The type in which a column is read of which values only suggest a type: as the target holds it, where that does not fit.

    Which values come decides what they suggest: of numbers, only whole ones may be among those that were looked at.

    Args:
        suggested: what they suggest.
        fitted: the same, as the target would hold it.
        column: the type of the target's column.
    """
    if holds(column, fitted) or widens(column, fitted) or not _means_the_same(suggested, column):
        return suggested
    # Numbers with fractions among them would have suggested this.
    return pa.float64() if pa.types.is_floating(column) else column


def _means_the_same(suggested: pa.DataType, column: pa.DataType) -> bool:
    """Whether every value of a column that seems to be of one type is, as one of another type, the same or none.

    A text among numbers may be a code (007), or a word that is read as a number (inf); a time may lack its zone.
    """
    types = pa.types
    if types.is_integer(column) or types.is_floating(column) or types.is_decimal(column):
        return bool(types.is_integer(suggested) or types.is_floating(suggested))
    if types.is_date32(column) or (types.is_timestamp(column) and column.tz is None):
        return bool(types.is_string(suggested) or types.is_date32(suggested) or types.is_timestamp(suggested))
    return bool(types.is_string(column))


def is_nested(kind: pa.DataType) -> bool:
    """Whether values hold others."""
    return bool(
        pa.types.is_list(kind)
        or pa.types.is_large_list(kind)
        or pa.types.is_fixed_size_list(kind)
        or pa.types.is_map(kind)
        or pa.types.is_struct(kind)
    )
