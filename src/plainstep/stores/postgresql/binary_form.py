"""Values in the form in which the server keeps them: which types are taken so, and how they become Arrow's. No I/O.

A number, a day or a time has a fixed width there, and needs no text to be made by the server and read again by us. What is not as
it mostly is (an infinite time, a number that is none, a type that changed) is not decided here: it is read as text again.

Source: the ``send`` functions of the server's types. A numeric (``numeric_send``) is four numbers of 16 bits (how many digits, the weight
of the first, the sign, the scale), and digits of base 10,000.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, partial

from plainstep.core.arrays import Bools, Numbers
from plainstep.deferred import np, pa
from plainstep.stores.postgresql.row_images import TextNeeded, Values
from plainstep.stores.postgresql.types import DECIMAL, Column, arrow_type, without_precision

Decode = Callable[[Values], pa.Array]

# Days and microseconds from 1970-01-01 to 2000-01-01, from which the server counts.
DAY = 86_400_000_000
DAYS, EPOCH = 10_957, 10_957 * DAY
# The years 1 to 9999, which every other store has, counted from 2000-01-01: first, and the first after.
FIRST_DAY, AFTER_DAYS = -719_162 - DAYS, 2_932_897 - DAYS
# Digits of a decimal that is reckoned in 64 bits.
NARROW = 18
POSITIVE, NEGATIVE = 0x0000, 0x4000
# The bytes of a value, by the number of its type (which are the same in every server): of boolean, smallint, integer, bigint, real, double
# precision, date, time, timestamp, timestamptz and uuid.
WIDTHS = {16: 1, 21: 2, 23: 4, 20: 8, 700: 4, 701: 8, 1082: 4, 1083: 8, 1114: 8, 1184: 8, 2950: 16}
CHARACTERS = re.compile(r"(text|character varying(\(\d+\))?|character\(\d+\)|json)$")


def decoder(column: Column) -> Decode | None:
    """What makes an Arrow array of a column's values; nothing where they have to be sent as text."""
    if not column.oid or arrow_type(column.declared) != column.kind:
        return None
    if CHARACTERS.match(column.declared):
        return _text
    decimal = DECIMAL.match(column.declared)
    if decimal and int(decimal[1]) <= NARROW and pa.types.is_decimal(column.kind):
        return partial(_decimal, kind=column.kind)
    return _decoders().get(without_precision(column.declared))


@cache
def _decoders() -> dict[str, Decode]:
    return {
        "smallint": partial(_number, dtype=">i2"),
        "integer": partial(_number, dtype=">i4"),
        "bigint": partial(_number, dtype=">i8"),
        "real": partial(_number, dtype=">f4"),
        "double precision": partial(_number, dtype=">f8"),
        "boolean": _boolean,
        "date": partial(_counted, dtype=">i4", kind=pa.date32(), low=FIRST_DAY, high=AFTER_DAYS, since=DAYS),
        "time without time zone": partial(_counted, dtype=">i8", kind=pa.time64("us"), low=0, high=DAY, since=0),
        "timestamp without time zone": partial(_moment, kind=pa.timestamp("us")),
        "timestamp with time zone": partial(_moment, kind=pa.timestamp("us", "UTC")),
        "bytea": lambda values: values.raw,
        "jsonb": _jsonb,
        "uuid": _uuid,
    }


def _text(values: Values) -> pa.Array:
    return values.raw.cast(pa.string())


def _fixed(values: Values, dtype: str) -> Numbers:
    """Numbers of one width."""
    width = np.dtype(dtype).itemsize
    if (values.length[values.given] != width).any():
        raise TextNeeded
    return values.numbers(dtype)


def _number(values: Values, dtype: str) -> pa.Array:
    return pa.array(_fixed(values, dtype), mask=values.missing)


def _boolean(values: Values) -> pa.Array:
    return pa.array(_fixed(values, "u1") != 0, mask=values.missing)


def _counted(values: Values, dtype: str, kind: pa.DataType, low: int, high: int, since: int) -> pa.Array:
    """Days or microseconds, within the years that every store has."""
    found = _fixed(values, dtype)
    if ((found < low) | (found >= high)).any():
        raise TextNeeded
    return pa.array(found + found.dtype.type(since), kind, mask=values.missing)


def _moment(values: Values, kind: pa.DataType) -> pa.Array:
    return _counted(values, ">i8", kind, FIRST_DAY * DAY, AFTER_DAYS * DAY, EPOCH)


def _jsonb(values: Values) -> pa.Array:
    """Text after the number of its version, of which there is one."""
    if (values.numbers("u1")[values.given] != 1).any():
        raise TextNeeded
    return _text(Values(values.buffer, values.given, values.start + 1, np.maximum(values.length - 1, 0)))


def _uuid(values: Values) -> pa.Array:
    """16 bytes, written as the server writes them."""
    if (values.length[values.given] != 16).any():
        raise TextNeeded
    count = len(values)
    there = np.ndarray((len(values.buffer) - 15, 16), np.uint8, values.buffer, strides=(1, 1))[values.start]
    digits = np.frombuffer(b"0123456789abcdef", np.uint8)
    pairs = np.stack([digits[there >> 4], digits[there & 15]], axis=2).reshape(count, 32)
    written = np.full((count, 36), ord("-"), np.uint8)
    for after, (first, end) in enumerate(((0, 8), (8, 12), (12, 16), (16, 20), (20, 32))):
        written[:, first + after : end + after] = pairs[:, first:end]
    offsets = np.arange(0, 36 * (count + 1), 36, dtype=np.int32)
    return pa.Array.from_buffers(
        pa.string(), count, [_bitmap(values.given), pa.py_buffer(offsets), pa.py_buffer(written)]
    )


def _decimal(values: Values, kind: pa.Decimal128Type) -> pa.Array:
    """Digits of base 10,000, as a whole number of the scale's last place."""
    count, weight, sign = values.numbers(">u2"), values.numbers(">i2", 2).astype(np.int64), values.numbers(">u2", 4)
    if (values.length[values.given] != 8 + 2 * count[values.given].astype(np.int64)).any():
        raise TextNeeded
    if ((sign != POSITIVE) & (sign != NEGATIVE)).any():
        raise TextNeeded
    whole = np.zeros(len(values), np.int64)
    for place in range(int(count.max(initial=0))):
        rows = np.flatnonzero(count > place)
        digit = _digits(values, rows, 8 + 2 * place)
        whole[rows] += _shifted(digit, 4 * (weight[rows] - place) + kind.scale, kind.precision)
    if (whole >= 10**kind.precision).any():
        raise TextNeeded
    whole = np.where(sign == NEGATIVE, -whole, whole)
    return pa.Array.from_buffers(
        kind, len(values), [_bitmap(values.given), pa.py_buffer(np.stack([whole, whole >> 63], axis=1))]
    )


def _digits(values: Values, rows: Numbers, at: int) -> Numbers:
    """A digit of some rows' values."""
    some = Values(values.buffer, values.given[rows], values.start[rows], values.length[rows])
    return some.numbers(">u2", at).astype(np.int64)


def _shifted(digit: Numbers, places: Numbers, precision: int) -> Numbers:
    """Digits moved by decimal places: to the left, or to the right where nothing but noughts falls off."""
    powers = 10 ** np.arange(NARROW + 1, dtype=np.int64)
    if (digit * 10.0**places >= 10**precision).any():
        raise TextNeeded
    places = np.where(digit == 0, 0, places)
    left, right = powers[np.clip(places, 0, NARROW)], powers[np.clip(-places, 0, NARROW)]
    if (digit % right).any():
        raise TextNeeded
    return digit * left // right


def _bitmap(given: Bools) -> pa.Buffer | None:
    """Which values there are, as Arrow keeps it."""
    return None if given.all() else pa.array(given).buffers()[1]
