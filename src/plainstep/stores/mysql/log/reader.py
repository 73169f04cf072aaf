"""Reading a binary log over an ordinary connection: its state, and its events from one transaction to another."""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator
from dataclasses import dataclass

import pymysql
from pymysql.constants import COMMAND

from plainstep.errors import Refused
from plainstep.stores.mysql.log import events
from plainstep.stores.mysql.log.events import Header
from plainstep.stores.mysql.log.gtids import State
from plainstep.stores.mysql.wire import Packets, Wire

# What the server answers if what it was asked for is not in its log, or not any more.
NOT_THERE = 1236
# The log is to end where it ends now, and not to wait for more.
UP_TO_NOW = 1
CHECKSUM = 4


@dataclass(frozen=True)
class Event:
    """An event.

    Attributes:
        header: what is said of every event.
        data: where it lies, with others.
        start, end: where its body begins and ends there.
    """

    header: Header
    data: bytes
    start: int
    end: int

    @property
    def body(self) -> bytes:
        """What the event says."""
        return self.data[self.start : self.end]

    @property
    def server(self) -> int:
        """The server that wrote it."""
        return int.from_bytes(
            self.data[self.start - events.HEADER.size + 5 : self.start - events.HEADER.size + 9], "little"
        )


def head(connection: Wire) -> State:
    """Up to where the log is written."""
    row = connection.first("SHOW MASTER STATUS")
    if row is None:
        return State()
    return at_place(connection, str(row[0]), int(row[1]))


def oldest(connection: Wire) -> State:
    """After which transactions all are still held."""
    row = connection.first("SHOW BINARY LOGS")
    return at_place(connection, str(row[0]), 4) if row else State()


def snapshot_state(connection: Wire) -> State:
    """Where the transaction's snapshot stands in the log."""
    _, rows = connection.run("SHOW STATUS LIKE 'binlog\\_snapshot\\_%'")
    told = {str(name).lower(): value for name, value in rows}
    return at_place(connection, str(told["binlog_snapshot_file"]), int(told["binlog_snapshot_position"]))


def at_place(connection: Wire, file: str, offset: int) -> State:
    """Up to where the log goes at a place."""
    row = connection.first("SELECT binlog_gtid_pos(%s, %s), @@server_uid", [file, offset])
    assert row is not None
    return State(State.parse(str(row[0] or "")).newest, file, offset, str(row[1]))


def packets(connection: Wire, after: State, upto: State, place: str) -> Iterator[Packets]:
    """What the server sends of the transactions after one state and up to another.

    Raises:
        Refused: they are not held any more.
    """
    connection.run("SET @master_binlog_checksum = 'CRC32', @mariadb_slave_capability = 4, @slave_gtid_strict_mode = 0")
    connection.run("SET @slave_connect_state = %s, @slave_until_gtid = %s", [after.gtids, upto.gtids])
    # A reader with the number of another one would end that one's connection.
    number = random.SystemRandom().randrange(1 << 31, (1 << 32) - 1)
    connection._execute_command(COMMAND.COM_BINLOG_DUMP, struct.pack("<IHI", 4, UP_TO_NOW, number))
    try:
        yield from connection.packets()
    except pymysql.Error as error:
        if error.args and error.args[0] == NOT_THERE:
            raise _gone(place, str(error.args[-1])) from error
        raise
    finally:
        connection._force_close()  # the server does the same


def events_in(sent: Iterator[Packets]) -> Iterator[Event]:
    """The events that were sent."""
    summed = True
    for found in sent:
        for start, end in zip(found.starts, found.ends, strict=True):
            header = events.header_of(found.data, start + 1)
            begin = start + 1 + events.HEADER.size
            if header.kind == events.FORMAT:  # its last five bytes: how events are summed, and its own sum
                summed = found.data[end - CHECKSUM - 1] == 1
            yield Event(header, found.data, begin, end - CHECKSUM * summed)


def _gone(place: str, told: str) -> Refused:
    return Refused(
        f"The log of {place} cannot be read from where a load stands: {told}.",
        "Changes in between may be held nowhere.",
        "plainstep reload LOAD compares the whole table and goes on from there.",
    )
