"""The rows of many events of a binary log, as Arrow's columns: each column of all rows at once.

How each type is written: MariaDB's replication protocol, and the comments in the servers' own sources (``rpl_record``,
``my_decimal``, ``compat56``).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from plainstep.core.arrays import Bools, Ints
from plainstep.core.changes.ops import Op
from plainstep.deferred import np, npt
from plainstep.stores.mysql.log.events import TableMap

# Types of columns.
TINY, SHORT, LONG, FLOAT, DOUBLE, LONGLONG, INT24, DATE, YEAR, VARCHAR, BIT = 1, 2, 3, 4, 5, 8, 9, 10, 13, 15, 16
TIMESTAMP, DATETIME, TIME, JSON, DECIMAL, ENUM, SET, BLOB, VAR_STRING, STRING, GEOMETRY = (
    17, 18, 19, 245, 246, 247, 248, 252, 253, 254, 255,
)  # fmt: skip
# MariaDB's compressed texts.
COMPRESSED_BLOB, COMPRESSED_VARCHAR = 140, 141
FIXED = {TINY: 1, SHORT: 2, INT24: 3, LONG: 4, LONGLONG: 8, FLOAT: 4, DOUBLE: 8, DATE: 3, YEAR: 1}
# Bytes of the whole part of a time with fractions.
WHOLE_TIME = {TIMESTAMP: 4, DATETIME: 5, TIME: 3}
# Bytes of so many decimal digits.
DIGITS = (0, 1, 1, 2, 2, 3, 3, 4, 4, 4)


@dataclass(frozen=True)
class Slots:
    """Where the values of a column lie, one for each row.

    Attributes:
        start, length: where each begins, and how many bytes it has.
        null: where there is none.
    """

    start: Ints
    length: Ints
    null: Bools

    def take(self, order: Ints) -> Slots:
        """Those of some rows, in another order."""
        return Slots(self.start[order], self.length[order], self.null[order])


@dataclass(frozen=True)
class Rows:
    """Rows of some events.

    Attributes:
        data: the bytes in which their values lie.
        event: for each row, the number of its event.
        op: for each row, its operation.
        was, now: for each column, where its values lie; null where there is no such image.
    """

    data: bytes
    event: Ints
    op: npt.NDArray[np.int8]
    was: list[Slots]
    now: list[Slots]


def rows_in(table: TableMap, data: bytes, starts: Sequence[int], ends: Sequence[int], ops: Sequence[Op]) -> Rows:
    """The rows of some events of one table, every image of which has every column.

    Args:
        table: the table.
        data: the events' rows, one after the other.
        starts, ends: where those of each event begin and end.
        ops: what each event did.
    """
    found = np.frombuffer(data + bytes(16), dtype=np.uint8)  # so that what is read behind a null at the end is there
    widths = [_width(kind, told) for kind, told in zip(table.kinds, table.metadata, strict=True)]
    at, end = np.array(starts, dtype=np.int64), np.array(ends, dtype=np.int64)
    op = np.array(ops, dtype=np.int8)
    events, firsts, seconds, seconds_of = [], [], [], []
    count = 0
    while True:
        active = np.flatnonzero(at < end)
        if not len(active):
            break
        slots, at[active] = _image(found, widths, at[active])
        events.append(active)
        firsts.append(slots)
        changed = np.flatnonzero(op[active] == Op.UPDATE)
        if len(changed):
            slots, at[active[changed]] = _image(found, widths, at[active[changed]])
            seconds.append(slots)
            seconds_of.append(count + changed)
        count += len(active)
    event = np.concatenate(events) if events else np.zeros(0, dtype=np.int64)
    order = np.argsort(event, kind="stable")  # within an event, the rows come in the order in which they were found
    which = op[event] if count else np.zeros(0, np.int8)
    first, second = _joined(firsts), _spread(seconds, seconds_of, count, len(widths))
    was = [_chosen(one, None, which != Op.INSERT) for one in first]
    now = [_chosen(one, two, which == Op.INSERT, which == Op.UPDATE) for one, two in zip(first, second, strict=True)]
    return Rows(data, event[order], which[order], [one.take(order) for one in was], [one.take(order) for one in now])


def _chosen(one: Slots, two: Slots | None, from_one: Bools, from_two: Bools | None = None) -> Slots:
    """The values of one image or of the other; where neither is meant, none."""
    start, length, null = (
        np.where(from_one, column, rest) for column, rest in ((one.start, 0), (one.length, 0), (one.null, True))
    )
    if two is not None and from_two is not None:
        start, length = np.where(from_two, two.start, start), np.where(from_two, two.length, length)
        null = np.where(from_two, two.null, null)
    return Slots(start, length, null.astype(np.bool_))


def _joined(parts: list[list[Slots]]) -> list[Slots]:
    if not parts:
        return []
    return [
        Slots(
            np.concatenate([one.start for one in column]),
            np.concatenate([one.length for one in column]),
            np.concatenate([one.null for one in column]),
        )
        for column in zip(*parts, strict=True)
    ]


def _spread(parts: list[list[Slots]], places: list[Ints], count: int, width: int) -> list[Slots | None]:
    """Second images at the places of their rows."""
    if not parts:
        return [None] * width
    at = np.concatenate(places)
    found: list[Slots | None] = []
    for one in _joined(parts):
        start, length, null = np.zeros(count, np.int64), np.zeros(count, np.int64), np.ones(count, np.bool_)
        start[at], length[at], null[at] = one.start, one.length, one.null
        found.append(Slots(start, length, null))
    return found


Width = tuple[int, int]


def _width(kind: int, told: int) -> Width:
    """How long a value of a column is: so many bytes; or so many bytes of a prefix that says it (then the first is 0)."""
    if kind in FIXED:
        return FIXED[kind], 0
    if kind in WHOLE_TIME:
        return WHOLE_TIME[kind] + (told + 1) // 2, 0
    if kind == DECIMAL:
        return _decimal_size(told & 0xFF, told >> 8), 0
    if kind == BIT:
        return (told >> 8) + bool(told & 0xFF), 0
    if kind in (VARCHAR, VAR_STRING, COMPRESSED_VARCHAR):
        return 0, 1 if told < 256 else 2
    if kind == STRING:
        real, length = string_of(told)
        return (length, 0) if real in (ENUM, SET) else (0, 1 if length < 256 else 2)
    if kind in (BLOB, GEOMETRY, JSON, COMPRESSED_BLOB):
        return 0, told
    raise NotImplementedError(kind)


def string_of(told: int) -> tuple[int, int]:
    """The real type of a text of a fixed length, and how many bytes it has at most."""
    first, second = told & 0xFF, told >> 8
    if first & 0x30 != 0x30:
        return first | 0x30, second | ((first & 0x30) ^ 0x30) << 4
    return first, second


def _decimal_size(precision: int, scale: int) -> int:
    whole = precision - scale
    return whole // 9 * 4 + DIGITS[whole % 9] + scale // 9 * 4 + DIGITS[scale % 9]


def _image(data: npt.NDArray[np.uint8], widths: list[Width], at: Ints) -> tuple[list[Slots], Ints]:
    """Where the values of some images lie that begin at these places, and where each of the images ends."""
    place = at + (len(widths) + 7) // 8
    slots = []
    for number, (size, prefix) in enumerate(widths):
        null = (data[at + number // 8] >> (number % 8) & 1).astype(np.bool_)
        if prefix:
            length = np.where(null, 0, little(data, place, prefix))
            start = place + np.where(null, 0, prefix)
        else:
            length, start = np.where(null, 0, size), place
        slots.append(Slots(start, length, null))
        place = start + length
    return slots, place


def little(data: npt.NDArray[np.uint8], at: Ints, size: int) -> Ints:
    """Whole numbers at some places, the lowest byte first."""
    found = np.zeros(len(at), dtype=np.int64)
    for place in range(size):
        found |= data[at + place].astype(np.int64) << (8 * place)
    return found


def big(data: npt.NDArray[np.uint8], at: Ints, size: int) -> Ints:
    """Whole numbers at some places, the highest byte first."""
    found = np.zeros(len(at), dtype=np.int64)
    for place in range(size):
        found = found << 8 | data[at + place].astype(np.int64)
    return found


def signed(numbers: Ints, size: int) -> Ints:
    """Numbers of so many bytes, of which the highest bit says that they are negative."""
    shift = np.int64(64 - 8 * size)
    return numbers << shift >> shift
