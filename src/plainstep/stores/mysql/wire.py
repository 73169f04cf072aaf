"""A connection by PyMySQL that takes many rows at once: out of the server in bulk, and into it from memory.

PyMySQL makes Python objects of every value, which costs ten times what the server needs. Here the packets of a result are
taken as they come, and are made into Arrow's columns by ``plainstep.stores.mysql.rows``.
"""

from __future__ import annotations

import marshal
import re
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from tempfile import TemporaryFile
from typing import IO, Any

import pymysql
from pymysql.connections import Connection, MysqlPacket
from pymysql.constants import CLIENT, COMMAND, CR
from pymysql.protocol import FieldDescriptorPacket

SNAPSHOT = "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"
# From this version on MySQL is asked for the end of its log in another way.
RENAMED = (8, 2)
# Bytes of packets that are handed on at a time: so many that the work is Arrow's and not Python's.
CHUNK = 1 << 22
# Bytes that are asked of the network at a time.
READ = 1 << 20
# A packet of so many bytes is gone on with by the next one.
FULL = 0xFFFFFF
# Bytes of a packet in which rows are sent: what the server takes is more (16 MiB, as it is made).
SENT = 1 << 20


@dataclass(frozen=True)
class Packets:
    """Some packets, one after the other.

    Attributes:
        data: their bytes, headers included.
        starts, ends: where the payload of each begins and ends.
    """

    data: bytes
    starts: list[int]
    ends: list[int]


# Bytes of packets that are kept in memory for a second reading.
IN_MEMORY = 64 << 20


class PacketSpool:
    """Packets kept for several readings: in memory while they are few, else in a temporary file."""

    def __init__(self) -> None:
        self._kept: list[Packets] = []
        self._bytes = 0
        self._file: IO[bytes] | None = None
        self._count = 0

    def add(self, packets: Packets) -> None:
        """Keep some."""
        self._kept.append(packets)
        self._bytes += len(packets.data)
        if self._bytes <= IN_MEMORY:
            return
        if self._file is None:
            self._file = TemporaryFile(prefix="plainstep-")  # noqa: SIM115 (it lives as long as the spool)
        for one in self._kept:
            marshal.dump((one.data, one.starts, one.ends), self._file)
        self._count += len(self._kept)
        self._kept, self._bytes = [], 0

    def __call__(self) -> Iterator[Packets]:
        """All of them, in order."""
        if self._file is not None:
            self._file.seek(0)
            for _ in range(self._count):
                yield Packets(*marshal.load(self._file))
        yield from self._kept

    def close(self) -> None:
        """Forget them."""
        if self._file is not None:
            self._file.close()


class Wire(Connection):  # type: ignore[misc]  # PyMySQL comes without types
    """A connection in autocommit mode. It offers the server to send rows from memory, and never a file.

    Attributes:
        log_around: in MySQL, the transactions that were executed before the last snapshot was taken, and up to where the log was
            written after that, if the role may know.
    """

    log_around: tuple[str, tuple[Any, ...] | None] = ("", None)

    def __init__(self, **settings: Any) -> None:
        # Not by local_infile: then a server could ask for any file that we can read.
        super().__init__(
            client_flag=CLIENT.LOCAL_FILES | CLIENT.FOUND_ROWS, charset="utf8mb4", autocommit=True, **settings
        )

    @property
    def is_mysql(self) -> bool:
        """Whether the server is MySQL, and not MariaDB."""
        return "mariadb" not in self.get_server_info().lower()

    @property
    def version(self) -> tuple[int, ...]:
        """The server's version, as in (8, 0, 36)."""
        found = re.match(r"(?:5\.5\.5-)?(\d+)\.(\d+)\.(\d+)", self.get_server_info())
        return tuple(map(int, found.groups())) if found else ()

    def log_status(self) -> tuple[Any, ...] | None:
        """The file of the log that is written and how far, which databases it is of or not of, and in MySQL what counts as executed."""
        is_renamed = self.is_mysql and self.version >= RENAMED
        return self.first("SHOW BINARY LOG STATUS" if is_renamed else "SHOW MASTER STATUS")

    def take_snapshot(self) -> None:
        """Begin a transaction that sees one moment."""
        if not self.is_mysql:
            self.run(SNAPSHOT)
            return
        before = self.first("SELECT @@global.gtid_executed")
        self.run(SNAPSHOT)
        after = None
        with suppress(pymysql.Error):  # who may not read the log need not know
            after = self.log_status()
        self.log_around = str(before[0] or "") if before else "", after

    def run(self, sql: str, parameters: Any = None) -> tuple[int, list[tuple[Any, ...]]]:
        """Run a statement: how many rows it touched, and its rows."""
        with self.cursor() as cursor:
            count = cursor.execute(sql, parameters or None)
            return count, list(cursor.fetchall())

    def first(self, sql: str, parameters: Any = None) -> tuple[Any, ...] | None:
        """The first row of a query."""
        _, rows = self.run(sql, parameters)
        return rows[0] if rows else None

    def select(self, sql: str) -> Iterator[Packets]:
        """The rows of a query, as packets. A result that is read half closes the connection."""
        self.ask(sql)
        yield from self.packets()

    def ask(self, sql: str) -> list[FieldDescriptorPacket]:
        """Ask a query, whose rows ``packets`` gives; return what its columns are."""
        self._execute_command(COMMAND.COM_QUERY, sql)
        count = self._read_packet().read_length_encoded_integer()
        columns = [self._read_packet(FieldDescriptorPacket) for _ in range(count)]
        self._read_packet()  # these are all
        return columns

    def packets(self) -> Iterator[Packets]:
        """What comes, up to the packet that ends it."""
        done = False
        try:
            for found, is_last in self._chunks():
                done = is_last
                if found.starts:
                    yield found
        finally:
            if not done:
                self._force_close()

    def _chunks(self) -> Iterator[tuple[Packets, bool]]:
        held = bytearray()
        starts: list[int] = []
        ends: list[int] = []
        at = 0
        while True:
            for start, end in _payloads(held, at):
                first = held[start] if end > start else 0
                if first == 0xFF:
                    MysqlPacket(bytes(held[start:end]), self.encoding).raise_for_error()
                if first == 0xFE and end - start < 9:
                    yield Packets(bytes(held), starts, ends), True
                    return
                starts.append(start)
                ends.append(end)
                at = end
            if at >= CHUNK:
                yield Packets(bytes(held), starts, ends), False
                del held[:at]
                at, starts, ends = 0, [], []
            held += self._more()

    def _more(self) -> bytes:
        try:
            data: bytes = self._rfile.read1(READ)
        except OSError as error:
            self._force_close()
            raise pymysql.OperationalError(CR.CR_SERVER_LOST, f"Lost connection to the server ({error})") from error
        if not data:
            self._force_close()
            raise pymysql.OperationalError(CR.CR_SERVER_LOST, "Lost connection to the server during a query")
        return data

    def load(self, sql: str, parts: Iterable[memoryview]) -> int:
        """Run a LOAD DATA LOCAL statement, whose rows come from memory; return how many came.

        Raises:
            pymysql.Error: the server refuses the statement.
            pymysql.DataError: it took a row otherwise than it was sent. (Of these, it only warns.)
        """
        self._execute_command(COMMAND.COM_QUERY, sql)
        asked = self._read_packet()
        if not asked.is_load_local_packet():
            raise pymysql.OperationalError(CR.CR_MALFORMED_PACKET, "the server did not ask for the rows")
        for part in parts:
            for start in range(0, len(part), SENT):
                self.write_packet(bytes(part[start : start + SENT]))
        self.write_packet(b"")
        answer = self._read_packet()
        answer.advance(1)
        count = answer.read_length_encoded_integer()
        _, _, warnings = answer.read_length_encoded_integer(), answer.read_uint16(), answer.read_uint16()
        if warnings:
            _, found = self.run("SHOW WARNINGS LIMIT 1")
            raise pymysql.DataError(*(found[0][1:] if found else (0, "a row was changed on the way")))
        return int(count)


def _payloads(held: bytearray, at: int) -> Iterator[tuple[int, int]]:
    """Where the payloads of the whole packets begin and end that come from a place on. What was sent in several is put together."""
    while True:
        parts = _parts(held, at)
        if not parts:
            return
        for begin, _ in reversed(parts[1:]):  # without the headers in between
            del held[begin - 4 : begin]
        start = parts[0][0]
        end = start + sum(stop - begin for begin, stop in parts)
        yield start, end
        at = end


def _parts(held: bytearray, at: int) -> list[tuple[int, int]]:
    """Where the parts of a payload begin and end; nothing where not all of them are there yet."""
    parts = []
    while at + 4 <= len(held):
        begin = at + 4
        at = begin + (held[at] | held[at + 1] << 8 | held[at + 2] << 16)
        if at > len(held):
            return []
        parts.append((begin, at))
        if at - begin < FULL:
            return parts
    return []
