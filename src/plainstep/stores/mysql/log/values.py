"""The values of a column, as a binary log writes them, as Arrow's."""

from __future__ import annotations

import codecs
import re
import socket
from decimal import Decimal

from plainstep.core.arrays import Bools, Ints
from plainstep.deferred import np, npt, pa, pc
from plainstep.stores.misfit import Misfit
from plainstep.stores.mysql.log.images import (
    BIT,
    BLOB,
    COMPRESSED_BLOB,
    COMPRESSED_VARCHAR,
    DATE,
    DATETIME,
    DECIMAL,
    DIGITS,
    DOUBLE,
    ENUM,
    FIXED,
    FLOAT,
    INT24,
    JSON,
    LONG,
    LONGLONG,
    SET,
    SHORT,
    STRING,
    TIME,
    TIMESTAMP,
    TINY,
    VAR_STRING,
    VARCHAR,
    WHOLE_TIME,
    YEAR,
    Slots,
    big,
    little,
    signed,
    string_of,
)  # fmt: skip
from plainstep.stores.mysql.log.json_values import text_of
from plainstep.stores.mysql.rows import sliced
from plainstep.stores.mysql.types import Column, base_of

# Types of columns by what the catalogue calls them; what a log must say for a column to be read as what it is.
CODES: dict[str, tuple[int, ...]] = {
    "tinyint": (TINY,), "smallint": (SHORT,), "mediumint": (INT24,), "int": (LONG,), "bigint": (LONGLONG,), "year": (YEAR,),
    "float": (FLOAT,), "double": (DOUBLE,), "decimal": (DECIMAL,), "bit": (BIT,), "date": (DATE,), "datetime": (DATETIME,),
    "timestamp": (TIMESTAMP,), "time": (TIME,), "char": (STRING,), "varchar": (VARCHAR, VAR_STRING, COMPRESSED_VARCHAR),
    "binary": (STRING,), "varbinary": (VARCHAR, VAR_STRING, COMPRESSED_VARCHAR), "enum": (STRING,), "set": (STRING,),
    "uuid": (STRING,), "inet4": (STRING,), "inet6": (STRING,), "json": (JSON,),
}  # fmt: skip
BLOBS = (BLOB, COMPRESSED_BLOB)
INTEGERS = {TINY: 1, SHORT: 2, INT24: 3, LONG: 4, LONGLONG: 8}
# How Python calls the charsets that are not UTF-8. (What the servers call latin1 is Windows' own.)
CHARSETS = {
    "latin1": "cp1252", "latin2": "iso8859_2", "latin5": "iso8859_9", "latin7": "iso8859_13", "cp1250": "cp1250", "cp1251": "cp1251",
    "cp1256": "cp1256", "cp1257": "cp1257", "cp850": "cp850", "cp852": "cp852", "cp866": "cp866", "koi8r": "koi8_r", "koi8u": "koi8_u",
    "greek": "iso8859_7", "hebrew": "iso8859_8", "tis620": "tis_620", "big5": "big5", "cp932": "cp932", "sjis": "shift_jis",
    "euckr": "euc_kr", "gb2312": "gb2312", "gbk": "gbk", "ujis": "euc_jp", "eucjpms": "euc_jp", "ucs2": "utf_16_be",
    "utf16": "utf_16_be", "utf16le": "utf_16_le", "utf32": "utf_32_be",
}  # fmt: skip
PLAIN = ("", "utf8mb4", "utf8mb3", "utf8", "ascii", "binary")


def is_read(column: Column, kind: int) -> bool:
    """Whether a column that the log says to be of a type is read as what the catalogue says of it."""
    base = base_of(column.declared).removesuffix(" unsigned")
    known = CODES.get(base, BLOBS if re.search("text|blob|json", base) else ())
    return kind in known and column.charset in (*PLAIN, *CHARSETS)


def values_of(column: Column, kind: int, told: int, data: bytes, slots: Slots) -> pa.Array:
    """The values of a column.

    Args:
        column: what the catalogue says of it.
        kind, told: its type, and what the log says of that.
        data: the bytes in which they lie.
        slots: where.

    Raises:
        Misfit: one of them has no equivalent in Arrow.
    """
    found = np.frombuffer(data + bytes(16), dtype=np.uint8)
    at, null = slots.start, slots.null
    if kind in INTEGERS:
        return _integers(column, little(found, at, INTEGERS[kind]), INTEGERS[kind], null)
    if kind in (FLOAT, DOUBLE):
        numbers = little(found, at, FIXED[kind])
        floats = numbers.astype(np.uint32).view(np.float32) if kind == FLOAT else numbers.view(np.float64)
        return pa.array(floats, mask=null)
    if kind == DECIMAL:
        return _decimals(column, told & 0xFF, told >> 8, found, at, null)
    if kind == BIT:
        size = (told >> 8) + bool(told & 0xFF)
        return _wide(big(found, at, size).astype(np.uint64), null).cast(column.kind)
    if kind == YEAR:
        years = found[at].astype(np.int64)
        return pa.array(np.where(years, years + 1900, 0), mask=null).cast(column.kind)
    if kind == DATE:
        number = little(found, at, 3)
        return pa.array(_days(number >> 9, number >> 5 & 15, number & 31, null), mask=null).cast(pa.date32())
    if kind in WHOLE_TIME:
        return _times(column, kind, told, found, at, null)
    if kind == STRING and string_of(told)[0] in (ENUM, SET):
        return _words(column, string_of(told)[0], little(found, at, string_of(told)[1]), null)
    if kind == JSON:
        return _documents(_bytes(data, slots))
    return _texts(column, kind, told, _bytes(data, slots))


def _integers(column: Column, numbers: Ints, size: int, null: Bools) -> pa.Array:
    if "unsigned" not in column.declared and "zerofill" not in column.declared:
        numbers = signed(numbers, size)
    elif size == 8:
        return _wide(numbers.view(np.uint64), null).cast(column.kind)
    if pa.types.is_boolean(column.kind):
        _refuse((numbers != 0) & (numbers != 1) & ~null)
        return pa.array(numbers.astype(np.bool_), mask=null)
    return pa.array(numbers, mask=null).cast(column.kind)


def _wide(numbers: npt.NDArray[np.uint64], null: Bools) -> pa.Array:
    """Numbers without a sign, as decimals: a decimal is 128 bits, the lower ones first."""
    halves = np.stack([numbers, np.zeros_like(numbers)], axis=1)
    wide = pa.Decimal128Array.from_buffers(pa.decimal128(38, 0), len(numbers), [None, pa.py_buffer(halves.tobytes())])
    return pc.if_else(pa.array(null), pa.scalar(None, wide.type), wide)


def _decimals(
    column: Column, precision: int, scale: int, data: npt.NDArray[np.uint8], at: Ints, null: Bools
) -> pa.Array:
    """Decimals: groups of nine digits, the highest byte first; the first bit is set where the number is not negative."""
    whole = precision - scale
    digits = [whole % 9] * bool(whole % 9) + [9] * (whole // 9) + [9] * (scale // 9) + [scale % 9] * bool(scale % 9)
    negative = (data[at] & 0x80) == 0
    flip = np.where(negative, 0xFF, 0).astype(np.int64)
    groups, place = [], at
    for number, count in enumerate(digits):
        size = DIGITS[count]
        found = np.zeros(len(at), dtype=np.int64)
        for byte in range(size):
            one = data[place + byte].astype(np.int64)
            one = one ^ 0x80 if number == 0 and byte == 0 else one
            found = found << 8 | one ^ flip
        groups.append(found)
        place = place + size
    if precision <= 18:
        numbers = np.zeros(len(at), dtype=np.int64)
        for found, count in zip(groups, digits, strict=True):
            numbers = numbers * 10**count + found
        numbers = np.where(negative, -numbers, numbers)
        halves = np.stack([numbers, numbers >> 63], axis=1)  # a decimal is 128 bits, the lower ones first
        wide = pa.Decimal128Array.from_buffers(
            pa.decimal128(38, scale), len(numbers), [None, pa.py_buffer(halves.tobytes())]
        )
        return pc.if_else(pa.array(null), pa.scalar(None, wide.type), wide).cast(column.kind)
    values: list[Decimal | str | None] = []
    for row, parts in enumerate(zip(*(group.tolist() for group in groups), strict=True)):
        text = "".join(f"{part:0{count}d}" for part, count in zip(parts, digits, strict=True))
        sign = "-" if negative[row] else ""
        front, back = text[:whole].lstrip("0") or "0", text[whole:]
        told = f"{sign}{front}{'.' if scale else ''}{back}"
        values.append(None if null[row] else told if pa.types.is_string(column.kind) else Decimal(told))
    return pa.array(values, column.kind)


def _days(year: Ints, month: Ints, day: Ints, null: Bools) -> npt.NDArray[np.datetime64]:
    """Days of the calendar.

    Raises:
        Misfit: one of them is none, such as 0000-00-00.
    """
    sound = (month >= 1) & (month <= 12) & (day >= 1) & (year >= 1)
    months = ((year - 1970) * 12 + np.maximum(month, 1) - 1).astype("datetime64[M]")
    days = months.astype("datetime64[D]") + (np.maximum(day, 1) - 1)
    sound &= days.astype("datetime64[M]") == months
    _refuse(~sound & ~null)
    return days


def _times(column: Column, kind: int, places: int, data: npt.NDArray[np.uint8], at: Ints, null: Bools) -> pa.Array:
    size, fraction = WHOLE_TIME[kind], (places + 1) // 2
    number = big(data, at, size)
    micros = big(data, at + size, fraction) * 10 ** (6 - 2 * fraction)
    if kind == TIMESTAMP:
        _refuse((number == 0) & (micros == 0) & ~null)
        return pa.array(number * 1_000_000 + micros, mask=null).cast(column.kind)
    number -= 1 << (8 * size - 1)
    if kind == TIME:
        _refuse(((number < 0) | (number >> 12 > 23)) & ~null)
        seconds = (number >> 12) * 3600 + (number >> 6 & 63) * 60 + (number & 63)
        return pa.array(seconds * 1_000_000 + micros, mask=null).cast(column.kind)
    date, clock = number >> 17, number & 0x1FFFF
    months = date >> 5
    days = _days(months // 13, months % 13, date & 31, null).astype("datetime64[D]").astype(np.int64)
    seconds = days * 86_400 + (clock >> 12) * 3600 + (clock >> 6 & 63) * 60 + (clock & 63)
    return pa.array(seconds * 1_000_000 + micros, mask=null).cast(column.kind)


def _refuse(wrong: Bools) -> None:
    if wrong.any():
        raise Misfit(int(np.flatnonzero(wrong)[0]))


def _bytes(data: bytes, slots: Slots) -> pa.Array:
    """Values as the bytes that they are. Those that are not there lie where the ones before them end."""
    reached = np.maximum.accumulate(slots.start + slots.length) if len(slots.start) else slots.start
    start = np.where(slots.null, reached, slots.start)
    return sliced(pa.py_buffer(data), start, np.where(slots.null, reached, start + slots.length), slots.null)


def _words(column: Column, kind: int, numbers: Ints, null: Bools) -> pa.Array:
    """The words of an enum by their numbers, or of a set by its bits."""
    listed = [one.replace("''", "'") for one in re.findall(r"'((?:[^']|'')*)'", column.declared)]
    if kind == ENUM:
        return pa.array(["", *listed], pa.string()).take(pa.array(numbers, mask=null))
    different, codes = np.unique(numbers, return_inverse=True)
    words = [",".join(word for bit, word in enumerate(listed) if number >> bit & 1) for number in different.tolist()]
    return pa.array(words, pa.string()).take(pa.array(codes, mask=null))


def _documents(found: pa.Array) -> pa.Array:
    """MySQL's JSON, as the server itself writes it as text."""
    try:
        return pa.array([None if one is None else text_of(one) for one in found.to_pylist()], pa.string())
    except ValueError:
        raise Misfit(0) from None


def _texts(column: Column, kind: int, told: int, found: pa.Array) -> pa.Array:
    base = base_of(column.declared)
    if kind in (COMPRESSED_BLOB, COMPRESSED_VARCHAR):
        raise Misfit(0)
    if base == "binary":  # zeros at the end are not logged
        size = string_of(told)[1]
        return pa.array([None if one is None else one.ljust(size, b"\0") for one in found.to_pylist()], pa.binary())
    if pa.types.is_binary(column.kind):
        return found
    if base in SPECIAL:
        return pa.array([None if one is None else SPECIAL[base](one) for one in found.to_pylist()], pa.string())
    if column.charset in PLAIN:
        return found.cast(pa.string())
    decode = codecs.lookup(CHARSETS[column.charset]).decode
    coded = found.dictionary_encode()
    texts = [_decoded(one, decode, column.charset) for one in coded.dictionary.to_pylist()]
    return pa.array(texts, pa.string()).take(coded.indices)


def _decoded(value: bytes, decode: object, charset: str) -> str:
    try:
        return str(decode(value)[0])  # type: ignore[operator]
    except UnicodeDecodeError:
        if charset != "latin1":
            raise Misfit(0) from None
        # The five bytes that Windows' table leaves out are control signs there.
        return "".join(bytes([one]).decode("cp1252", "ignore") or chr(one) for one in value)


def _uuid(value: bytes) -> str:
    """A UUID. Those of the older versions are kept with their parts in reverse order, so that they are in the order of their times."""
    whole = value.ljust(16, b"\0")
    if _is_swapped(whole):
        whole = whole[12:16] + whole[10:12] + whole[8:10] + whole[6:8] + whole[0:6]
    digits = whole.hex()
    return f"{digits[:8]}-{digits[8:12]}-{digits[12:16]}-{digits[16:20]}-{digits[20:]}"


def _is_swapped(kept: bytes) -> bool:
    """Whether a UUID as it is kept has its variant where others have their version, and that is one of 1 to 5."""
    return bool(kept[6] & 0x80) and 0 < kept[8] < 0x60


def _inet6(value: bytes) -> str:
    return socket.inet_ntop(socket.AF_INET6, value.ljust(16, b"\0"))


def _inet4(value: bytes) -> str:
    return socket.inet_ntop(socket.AF_INET, value.ljust(4, b"\0"))


SPECIAL = {"uuid": _uuid, "inet4": _inet4, "inet6": _inet6}
