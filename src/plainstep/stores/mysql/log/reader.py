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
# How often the log's end is asked for until nothing is written in between.
TRIES = 20


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
    place = _written_to(connection)
    for _ in range(TRIES):
        row = connection.first("SELECT @@gtid_binlog_pos, @@server_uid")
        before, place = place, _written_to(connection)
        if place is None or row is None:
            return State()
        if before == place:  # nothing was written in between: these belong together
            return State(State.parse(str(row[0] or "")).newest, *place, str(row[1]))
    return at_place(connection, *place) if place else State()


def _written_to(connection: Wire) -> tuple[str, int] | None:
    row = connection.first("SHOW MASTER STATUS")
    return (str(row[0]), int(row[1])) if row else None


def oldest(connection: Wire) -> State:
    """After which transactions all are still held."""
    row = connection.first("SHOW BINARY LOGS")
    return at_place(connection, str(row[0]), 4) if row else State()


def snapshot_state(connection: Wire) -> State:
    """Where the transaction's snapshot stands in the log."""
    _, rows = connection.run("SHOW STATUS LIKE 'binlog\\_snapshot\\_%'")
    told = {str(name).lower(): value for name, value in rows}
    place = str(told["binlog_snapshot_file"]), int(told["binlog_snapshot_position"])
    now = head(connection)
    return now if (now.file, now.offset) == place else at_place(connection, *place)


def at_place(connection: Wire, file: str, offset: int) -> State:
    """Up to where the log goes at a place. The server reads the file from its beginning to tell that."""
    row = connection.first("SELECT binlog_gtid_pos(%s, %s), @@server_uid", [file, offset])
    assert row is not None
    return State(State.parse(str(row[0] or "")).newest, file, offset, str(row[1]))


def holds_place(connection: Wire, state: State) -> bool:
    """Whether the log still has a place, and this is the server that told it."""
    uid = connection.first("SELECT @@server_uid")
    if not state.file or uid is None or str(uid[0]) != state.server:
        return False
    sizes = {str(row[0]): int(row[1]) for row in connection.run("SHOW BINARY LOGS")[1]}
    return sizes.get(state.file, -1) >= state.offset


def packets(connection: Wire, after: State, upto: State, place: str) -> Iterator[Packets]:
    """What the server sends of the transactions after one state and up to another.

    Raises:
        Refused: they are not held any more.
    """
    connection.run("SET @master_binlog_checksum = 'CRC32', @mariadb_slave_capability = 4, @slave_gtid_strict_mode = 0")
    # By its place, where that is known: for the number of a transaction, the server reads the file from its beginning.
    file, offset = (after.file, after.offset) if holds_place(connection, after) else ("", 4)
    if not file:
        connection.run("SET @slave_connect_state = %s, @slave_until_gtid = %s", [after.gtids, upto.gtids])
    # A reader with the number of another one would end that one's connection.
    number = random.SystemRandom().randrange(1 << 31, (1 << 32) - 1)
    connection._execute_command(COMMAND.COM_BINLOG_DUMP, struct.pack("<IHI", offset, UP_TO_NOW, number) + file.encode())
    try:
        yield from connection.packets()
    except pymysql.Error as error:
        if error.args and error.args[0] == NOT_THERE:
            raise _gone(place, str(error.args[-1])) from error
        raise
    finally:
        connection._force_close()  # the server does the same


def events_in(sent: Iterator[Packets], after: State, upto: State, place: str) -> Iterator[Event]:
    """The events of the transactions after one state and up to another.

    Raises:
        Refused: they are not those that follow.
    """
    summed = True
    state = after
    for found in sent:
        for start, end in zip(found.starts, found.ends, strict=True):
            header = events.header_of(found.data, start + 1)
            begin = start + 1 + events.HEADER.size
            if header.kind == events.FORMAT:  # its last five bytes: how events are summed, and its own sum
                summed = found.data[end - CHECKSUM - 1] == 1
            event = Event(header, found.data, begin, end - CHECKSUM * summed)
            if header.kind == events.GTID:
                one = events.transaction_of(event.body, event.server)
                if one.number > upto.newest.get(one.domain, (0, 0))[1]:
                    return  # made since
                known = state.newest.get(one.domain)
                if known is not None and one.number <= known[1]:
                    raise _gone(place, f"after {state.gtids} comes {one.domain}-{one.server}-{one.number}")
                state = state.after(one.domain, one.server, one.number)
            yield event
    if any(state.newest.get(domain, (0, -1))[1] < number for domain, (_, number) in upto.newest.items()):
        raise _gone(place, f"it ends at {state.gtids or 'its beginning'}, before {upto.gtids}")


def _gone(place: str, told: str) -> Refused:
    return Refused(
        f"The log of {place} cannot be read from where a load stands: {told}.",
        "Changes in between may be held nowhere.",
        "plainstep reload LOAD compares the whole table and goes on from there.",
    )
