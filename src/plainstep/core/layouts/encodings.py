"""How a feed writes values that are not written as what they are: bytes as text, times as numbers, and so on."""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from plainstep.core.arrays import Ints, flat, text_offsets
from plainstep.core.casting import fitted
from plainstep.deferred import np, pa, pc
from plainstep.errors import DataError
from plainstep.sql.expressions import computed

UNITS = ("seconds", "milliseconds", "microseconds", "nanoseconds")


def raw_kind(encoding: str) -> pa.DataType:
    """The type in which the values of an encoding are read."""
    return pa.int64() if encoding == "days" or encoding in UNITS else pa.string()


def usual_kind(encoding: str) -> pa.DataType | None:
    """The type of a column of this encoding, where nothing else says it; None where something must."""
    if encoding in ("base64", "hex"):
        return pa.binary()
    if encoding == "days":
        return pa.date32()
    return pa.timestamp("us", "UTC") if encoding in UNITS else None


def decoded(encoding: str, column: pa.Array, kind: pa.DataType) -> tuple[pa.Array, Ints]:
    """Values as what they are, and the rows whose values are not of the encoding, or do not fit (null in the result).

    Args:
        encoding: its name.
        column: the values, in the type that ``raw_kind`` gives, or as bytes.
        kind: the type that is wanted.
    """
    if encoding == "days":
        return _whole(column, pa.int32(), pa.date32(), kind)
    if encoding in UNITS:
        return _times(column, encoding, kind)
    at_once = _bytes_at_once(encoding, column)
    if at_once is not None:
        values = at_once if encoding != "decimal_bytes" else _numbers_at_once(at_once, kind)
        if values is not None:
            return fitted(values, kind)
    return _one_by_one(column, _readers(kind)[encoding], kind)


# How the evaluator reads texts as bytes, where every one of them is as it should be.
AT_ONCE = {"base64": "from_base64(v)", "decimal_bytes": "from_base64(v)", "hex": "unhex(v)"}
PLAIN_HEX = r"^(?:[0-9a-fA-F]{2})*$"


def _bytes_at_once(encoding: str, column: pa.Array) -> pa.Array | None:
    """All values as bytes; None where some are not of the encoding, or where it is another one."""
    if encoding not in AT_ONCE:
        return None
    if pa.types.is_binary(column.type):
        return column
    if encoding == "hex" and not pc.all(pc.match_substring_regex(column, PLAIN_HEX)).as_py():
        return None
    if encoding != "hex" and (found := _unpadded(column)) is not None:
        return found
    try:
        return flat(computed(pa.table({"v": column}), {"b": AT_ONCE[encoding]})["b"]).cast(pa.binary())
    except DataError:
        return None


def _unpadded(column: pa.Array) -> pa.Array | None:
    """Texts in base64 that stand for whole threes of bytes, as these; None where one does not, or is not of base64.

    They are read as one text, which takes a tenth of the time of reading each by itself.
    """
    texts = column.fill_null("") if column.null_count else column
    offsets = text_offsets(texts)
    data = (texts.buffers()[2] or pa.py_buffer(b""))[offsets[0] : offsets[-1]].to_pybytes()
    if ((offsets - offsets[0]) % 4).any() or b"=" in data:
        return None
    try:
        whole = binascii.a2b_base64(data, strict_mode=True)
    except binascii.Error:
        return None
    ends = ((offsets - offsets[0]) // 4 * 3).astype(np.int32)
    found = pa.BinaryArray.from_buffers(pa.binary(), len(texts), [None, pa.py_buffer(ends), pa.py_buffer(whole)])
    return pc.if_else(column.is_valid(), found, pa.scalar(None, pa.binary())) if column.null_count else found


def _numbers_at_once(data: pa.Array, kind: pa.DataType) -> pa.Array | None:
    """Whole numbers as big-endian bytes in two's complement, as decimals; None where one has none, or more than eight."""
    lengths = pc.fill_null(pc.binary_length(data), 1).to_numpy(zero_copy_only=False).astype(np.int64)
    if not len(data) or lengths.min() < 1 or lengths.max() > 8:
        return None
    filled = data.fill_null(b"\0") if data.null_count else data
    offsets = text_offsets(filled)
    every = np.frombuffer(filled.buffers()[2], dtype=np.uint8)
    first = every[offsets[:-1]]
    numbers = np.where(first >= 128, np.int64(-1), np.int64(0))
    alike = lengths.min() == lengths.max()  # mostly: then, nothing need be asked of each
    for place in range(int(lengths.max())):
        at = offsets[:-1] + place if alike else np.minimum(offsets[:-1] + place, offsets[1:] - 1)
        longer = (numbers << 8) | every[at]
        numbers = longer if alike else np.where(place < lengths, longer, numbers)
    mask = data.is_null().to_numpy(zero_copy_only=False)
    if not pa.types.is_decimal(kind):
        return pa.array(numbers, pa.int64(), mask=mask)
    halves = np.stack([numbers, numbers >> 63], axis=1)  # a decimal is 128 bits, the lower ones first
    wide = pa.Decimal128Array.from_buffers(
        pa.decimal128(38, kind.scale), len(numbers), [None, pa.py_buffer(halves.tobytes())]
    )
    return pc.if_else(pa.array(mask), pa.scalar(None, wide.type), wide) if mask.any() else wide


def _times(column: pa.Array, encoding: str, kind: pa.DataType) -> tuple[pa.Array, Ints]:
    """Numbers since 1970, in UTC. What has no zone is meant in UTC, too."""
    if encoding == "nanoseconds":
        column, encoding = _microseconds(column), "microseconds"
    unit = {"seconds": "s", "milliseconds": "ms", "microseconds": "us"}[encoding]
    zone = "UTC" if pa.types.is_timestamp(kind) and kind.tz is not None else None
    values, bad = fitted(column.cast(pa.timestamp(unit, zone)), pa.timestamp("us", zone))
    done, worse = fitted(values, kind)
    return done, np.union1d(bad, worse)


def _microseconds(column: pa.Array) -> pa.Array:
    """Nanoseconds as microseconds: parts of one are dropped, so that what is left is the earlier one, before 1970, too."""
    parts = np.floor_divide(column.fill_null(0).to_numpy(zero_copy_only=False), 1000)
    return pa.array(parts, pa.int64(), mask=column.is_null().to_numpy(zero_copy_only=False))


def _whole(column: pa.Array, number: pa.DataType, counted: pa.DataType, kind: pa.DataType) -> tuple[pa.Array, Ints]:
    numbers, bad = fitted(column, number)
    done, worse = fitted(numbers.cast(counted), kind)
    return done, np.union1d(bad, worse)


Reader = Callable[[Any], Any]


def _readers(kind: pa.DataType) -> dict[str, Reader]:
    scale = kind.scale if pa.types.is_decimal(kind) else 0
    return {
        "base64": lambda value: base64.b64decode(value, validate=True),
        "hex": lambda value: bytes.fromhex(value.removeprefix("0x").removeprefix("\\x")),
        "decimal_bytes": lambda value: Decimal(_signed(value)).scaleb(-scale),
        "tagged": _out_of_object,
    }


def _signed(value: str | bytes) -> int:
    """A whole number as big-endian bytes in two's complement; as text, these are in base64."""
    data = base64.b64decode(value, validate=True) if isinstance(value, str) else value
    return int.from_bytes(data, "big", signed=True)


def _out_of_object(text: str) -> Any:
    """A value out of the object that names its type; a number as it is written."""
    found = _untagged(json.loads(text))
    if isinstance(found, int | float) and not isinstance(found, bool):
        return _untagged(json.loads(text, parse_float=str, parse_int=str))
    return found


def _untagged(value: Any) -> Any:
    """A value out of an object whose one field names its type, and so within lists and maps.

    A map with one entry is told from such an object by where it stands: right within one, which is of maps.
    """
    if isinstance(value, dict) and len(value) == 1:
        value = next(iter(value.values()))
    if isinstance(value, dict):
        return {name: _untagged(inner) for name, inner in value.items()}
    return [_untagged(inner) for inner in value] if isinstance(value, list) else value


def _one_by_one(column: pa.Array, read: Reader, kind: pa.DataType) -> tuple[pa.Array, Ints]:
    """Each different value once: of most columns, there are few."""
    coded = column.dictionary_encode()
    values: list[Any] = []
    wrong: list[int] = []
    for place, value in enumerate(coded.dictionary.to_pylist()):
        try:
            values.append(_written(read(value)))
        except (ValueError, TypeError, binascii.Error, ArithmeticError):
            wrong.append(place)
            values.append(None)
    made = pa.array(values, _type_of(values))
    done, worse = fitted(made, kind)
    indices = coded.indices
    bad = np.isin(indices.fill_null(-1).to_numpy(zero_copy_only=False), np.union1d(wrong, worse))
    return done.take(indices), np.flatnonzero(bad)


def _written(value: Any) -> Any:
    """What is no plain value as JSON; numbers as they are written, so that no digit is lost."""
    if isinstance(value, dict | list):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, bool):
        return str(value).lower()
    return str(value) if isinstance(value, int | float | Decimal) else value


def _type_of(values: list[Any]) -> pa.DataType:
    return pa.binary() if any(isinstance(value, bytes) for value in values) else pa.string()
