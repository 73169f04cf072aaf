"""The events of a binary log, as they are written: headers, transactions, statements, tables and rows. No value is looked at.

After the documentation of MariaDB's replication protocol.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field

HEADER = struct.Struct("<IBIIIH")
# Kinds of events.
QUERY, ROTATE, FORMAT, XID, TABLE_MAP, QUERY_COMPRESSED = 2, 4, 15, 16, 19, 165
XA_PREPARE, GTID, GTID_LIST = 38, 162, 163
# Variables of statements: they come only where changes are logged as statements.
OF_STATEMENTS = (5, 9, 13, 14, 17, 18)
# Rows that were written, updated, deleted: in the first and the second form, plain and compressed.
WRITE, UPDATE, DELETE = (23, 30, 166, 169), (24, 31, 167, 170), (25, 32, 168, 171)
ROWS = {*WRITE, *UPDATE, *DELETE}
COMPRESSED = {*range(165, 172)}
SECOND_FORM = {30, 31, 32, 169, 170, 171}
# What is said of a transaction.
STANDALONE, GROUPED, PREPARED, COMPLETED = 1, 2, 64, 128
# What a table map may tell of columns.
SIGNEDNESS, COLUMN_NAMES = 1, 4
YEAR = 13
NUMERIC = {1, 2, 3, 4, 5, 8, 9, YEAR, 246}
# Bytes of what is said of each type of a column.
METADATA = {4: 1, 5: 1, 15: 2, 253: 2, 254: 2, 252: 1, 245: 1, 255: 1, 16: 2, 17: 1, 18: 1, 19: 1, 246: 2, 247: 2, 248: 2,
            140: 1, 141: 2}  # fmt: skip


@dataclass(frozen=True)
class Header:
    """What is said of every event: when it was made (seconds since 1970), its kind, and where the next one begins."""

    at: int
    kind: int
    next: int


@dataclass(frozen=True)
class Transaction:
    """The beginning of a transaction.

    Attributes:
        domain, server, number: its name.
        flags: what is said of it.
        xid: the name that a transaction manager gave it, where one did.
    """

    domain: int
    server: int
    number: int
    flags: int
    xid: bytes = b""

    @property
    def name(self) -> str:
        """How it is called."""
        return f"{self.domain}-{self.server}-{self.number}"


@dataclass(frozen=True)
class Query:
    """A statement, and the database in which it was made."""

    database: str
    sql: str


@dataclass(frozen=True)
class TableMap:
    """A table as it stood when rows of it were written.

    Attributes:
        database, table: its name.
        kinds, metadata: of each column, its type and what is said of it.
        names: the columns' names; empty where the log does not tell them.
        unsigned: of each column, whether it holds no negative numbers.
    """

    database: str
    table: str
    kinds: tuple[int, ...]
    metadata: tuple[int, ...]
    names: tuple[str, ...] = ()
    unsigned: tuple[bool, ...] = field(default=())


@dataclass(frozen=True)
class RowsBody:
    """The rows of an event.

    Attributes:
        table: the number of its table.
        present: for each image, which columns it has: one image, or of an update two.
        data: the rows themselves.
    """

    table: int
    present: tuple[bytes, ...]
    data: bytes


def header_of(data: bytes, start: int) -> Header:
    """The header of an event."""
    at, kind, _, _, following, _ = HEADER.unpack_from(data, start)
    return Header(at, kind, following)


def transaction_of(body: bytes, server: int) -> Transaction:
    """The beginning of a transaction."""
    number, domain, flags = struct.unpack_from("<QIB", body)
    at = 13 + (8 if flags & GROUPED else 6)
    xid = b""
    if flags & (PREPARED | COMPLETED):
        at = 13 + (8 if flags & GROUPED else 0)
        _, one, two = struct.unpack_from("<IBB", body, at)
        xid = body[at : at + 6 + one + two]
    return Transaction(domain, server, number, flags, xid)


def query_of(body: bytes, compressed: bool) -> Query:
    """A statement."""
    _, _, length, _, status = struct.unpack_from("<IIBHH", body)
    at = 13 + status
    database = body[at : at + length].decode("utf-8", "replace")
    sql = body[at + length + 1 :]
    return Query(database, (unpacked(sql) if compressed else sql).decode("utf-8", "replace"))


def table_of(body: bytes, is_mysql: bool = False) -> tuple[int, TableMap]:
    """A table with its number. MySQL says nothing of the signs of years."""
    number = int.from_bytes(body[:6], "little")
    at = 8
    length = body[at]
    database = body[at + 1 : at + 1 + length].decode("utf-8", "replace")
    at += length + 2
    length = body[at]
    table = body[at + 1 : at + 1 + length].decode("utf-8", "replace")
    at += length + 2
    count, at = counted(body, at)
    kinds = tuple(body[at : at + count])
    at += count
    size, at = counted(body, at)
    metadata = _metadata(kinds, body[at : at + size])
    at += size + (count + 7) // 8
    names, unsigned = _told(kinds, body, at, NUMERIC - {YEAR} if is_mysql else NUMERIC)
    return number, TableMap(database, table, kinds, metadata, names, unsigned)


def _metadata(kinds: tuple[int, ...], data: bytes) -> tuple[int, ...]:
    """What is said of each column, as a number, the first byte lowest."""
    found, at = [], 0
    for kind in kinds:
        size = METADATA.get(kind, 0)
        found.append(int.from_bytes(data[at : at + size], "little"))
        at += size
    return tuple(found)


def _told(
    kinds: tuple[int, ...], body: bytes, at: int, with_signs: set[int]
) -> tuple[tuple[str, ...], tuple[bool, ...]]:
    """The columns' names, and which of them are unsigned, as far as they are told."""
    names: list[str] = []
    unsigned = [False] * len(kinds)
    while at < len(body):
        what = body[at]
        size, start = counted(body, at + 1)
        at = start + size
        if what == SIGNEDNESS:
            numeric = [place for place, kind in enumerate(kinds) if kind in with_signs]
            for bit, place in enumerate(numeric):
                unsigned[place] = bool(body[start + bit // 8] & (0x80 >> bit % 8))
        elif what == COLUMN_NAMES:
            while start < at:
                length, start = counted(body, start)
                names.append(body[start : start + length].decode("utf-8", "replace"))
                start += length
    return tuple(names), tuple(unsigned)


def table_number(body: bytes) -> int:
    """The number of the table that an event's rows are of."""
    return int.from_bytes(body[:6], "little")


def rows_of(kind: int, body: bytes) -> RowsBody:
    """The rows of an event."""
    at = 8
    if kind in SECOND_FORM:
        at += int.from_bytes(body[8:10], "little")
    count, at = counted(body, at)
    size = (count + 7) // 8
    images = 2 if kind in UPDATE else 1
    present = tuple(body[at + turn * size : at + (turn + 1) * size] for turn in range(images))
    data = body[at + images * size :]
    return RowsBody(table_number(body), present, unpacked(data) if kind in COMPRESSED else data)


def unpacked(data: bytes) -> bytes:
    """What was compressed: a byte that says how its length is written, that length, and the rest."""
    size = data[0] & 0x07
    return zlib.decompress(data[1 + size :])


def counted(data: bytes, at: int) -> tuple[int, int]:
    """A number that is written in one to nine bytes, and where the rest begins."""
    first = data[at]
    if first < 251:
        return first, at + 1
    size = {252: 2, 253: 3, 254: 8}[first]
    return int.from_bytes(data[at + 1 : at + 1 + size], "little"), at + 1 + size
