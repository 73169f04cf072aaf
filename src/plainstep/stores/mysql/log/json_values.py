"""JSON as MySQL keeps it: a value as a tree of bytes. As text it is what the server itself would write.

After the documentation of the server's own source (``json_binary.h``): offsets count from where an object or an array begins.
"""

from __future__ import annotations

import base64
import json
import struct
from collections.abc import Iterator
from decimal import Decimal

# Types of values.
OBJECTS, ARRAYS, LITERAL, DOUBLE, STRING, OPAQUE = (0, 1), (2, 3), 4, 11, 12, 15
NUMBERS = {5: "<h", 6: "<H", 7: "<i", 8: "<I", 9: "<q", 10: "<Q"}
LITERALS = {0: "null", 1: "true", 2: "false"}
# Values that stand where others have their offset: in small objects and arrays, and in large ones.
INLINE = ({LITERAL, 5, 6}, {LITERAL, 5, 6, 7, 8})
# Types of columns that values of other types than JSON's own are of.
DECIMAL_COLUMN, DATE, TIME, DATETIME, TIMESTAMP = 246, 10, 11, 12, 7
# How far a number's point may be from its digits.
FAR = 15
# Objects and arrays within each other: the server takes no more than a hundred.
DEEPEST = 128


def text_of(data: bytes) -> str:
    """A value as text.

    Raises:
        ValueError: it is none.
    """
    if not data:  # what a row holds that was given none, by a server that was not strict
        return "null"
    try:
        return "".join(_value(data, data[0], 1, 0))
    except (IndexError, KeyError, struct.error, UnicodeDecodeError) as error:
        raise ValueError(f"not a value of JSON: {error}") from error


def _value(data: bytes, kind: int, at: int, depth: int) -> Iterator[str]:
    """The text of a value of a type that begins at a place."""
    if depth > DEEPEST:
        raise ValueError("it is too deep")
    if kind in OBJECTS or kind in ARRAYS:
        yield from _members(data, kind, at, depth)
    elif kind == LITERAL:
        yield LITERALS[data[at]]
    elif kind in NUMBERS:
        yield str(struct.unpack_from(NUMBERS[kind], data, at)[0])
    elif kind == DOUBLE:
        yield _double(struct.unpack_from("<d", data, at)[0])
    elif kind == STRING:
        size, begin = _length(data, at)
        yield _quoted(_bytes(data, begin, size))
    elif kind == OPAQUE:
        size, begin = _length(data, at + 1)
        yield _opaque(data[at], _bytes(data, begin, size))
    else:
        raise ValueError(f"type {kind}")


def _members(data: bytes, kind: int, at: int, depth: int) -> Iterator[str]:
    """The text of an object or an array: its count, its size, where keys are, and where values are."""
    large, is_object = kind % 2, kind in OBJECTS
    width, form = (4, "<I") if large else (2, "<H")
    count = struct.unpack_from(form, data, at)[0]
    entries = at + 2 * width
    values = entries + count * (width + 2) * is_object
    yield "{" if is_object else "["
    for number in range(count):
        if number:
            yield ", "
        if is_object:
            begin, size = struct.unpack_from(form + "H", data, entries + number * (width + 2))
            yield _quoted(_bytes(data, at + begin, size)) + ": "
        entry = values + number * (width + 1)
        one = data[entry]
        place = entry + 1 if one in INLINE[large] else at + struct.unpack_from(form, data, entry + 1)[0]
        yield from _value(data, one, place, depth + 1)
    yield "}" if is_object else "]"


def _length(data: bytes, at: int) -> tuple[int, int]:
    """A length, of which each byte has seven bits, the lowest first; and where what it is of begins."""
    found = 0
    for turn in range(5):
        byte = data[at + turn]
        found |= (byte & 0x7F) << 7 * turn
        if byte < 0x80:
            return found, at + turn + 1
    raise ValueError("a length without an end")


def _bytes(data: bytes, at: int, size: int) -> bytes:
    if at + size > len(data):
        raise ValueError("it is cut off")
    return data[at : at + size]


def _quoted(value: bytes) -> str:
    return json.dumps(value.decode(), ensure_ascii=False)


def _double(value: float) -> str:
    """The fewest digits that tell the number, written out as long as the point is within 15 places of them (``my_gcvt``)."""
    sign, figures, exponent = Decimal(repr(value)).normalize().as_tuple()
    digits, point = "".join(map(str, figures)), len(figures) + int(exponent)
    if not value:
        told = "0.0"
    elif not -FAR < point <= FAR:
        told = f"{digits[0]}{'.' * (len(digits) > 1)}{digits[1:]}e{point - 1}"
    elif point <= 0:
        told = f"0.{'0' * -point}{digits}"
    else:
        told = f"{digits[:point].ljust(point, '0')}.{digits[point:] or '0'}"
    return "-" * sign + told


def _opaque(kind: int, value: bytes) -> str:
    if kind == DECIMAL_COLUMN:
        return _decimal(value)
    if kind in (DATE, TIME, DATETIME, TIMESTAMP):
        return f'"{_moment(kind, int.from_bytes(value, "little", signed=True))}"'
    return f'"base64:type{kind}:{base64.b64encode(value).decode()}"'


def _decimal(value: bytes) -> str:
    """A decimal: its digits, those after the point, and groups of nine as in a column."""
    precision, scale, body = value[0], value[1], value[2:]
    sizes = (0, 1, 1, 2, 2, 3, 3, 4, 4, 4)
    whole = precision - scale
    groups = [whole % 9] * bool(whole % 9) + [9] * (whole // 9) + [9] * (scale // 9) + [scale % 9] * bool(scale % 9)
    is_negative = not body[0] & 0x80
    plain = bytes([body[0] ^ 0x80, *body[1:]])
    plain = bytes(byte ^ 0xFF for byte in plain) if is_negative else plain
    at, digits = 0, ""
    for count in groups:
        digits += f"{int.from_bytes(plain[at : at + sizes[count]], 'big'):0{count}d}"
        at += sizes[count]
    found = Decimal(f"{digits[:whole] or '0'}.{digits[whole:]}" if scale else digits or "0")
    return f"{'-' if is_negative else ''}{found:f}"


def _moment(kind: int, packed: int) -> str:
    """A time: microseconds in 24 bits, and above them what a column of its type has."""
    sign, packed = ("-", -packed) if packed < 0 else ("", packed)
    whole, micros = packed >> 24, packed & 0xFFFFFF
    if kind == TIME:
        return f"{sign}{whole >> 12 & 0x3FF:02d}:{whole >> 6 & 63:02d}:{whole & 63:02d}.{micros:06d}"
    date, clock = whole >> 17, whole & 0x1FFFF
    day = f"{date // 32 // 13:04d}-{date // 32 % 13:02d}-{date & 31:02d}"
    if kind == DATE:
        return day
    return f"{day} {clock >> 12:02d}:{clock >> 6 & 63:02d}:{clock & 63:02d}.{micros:06d}"
