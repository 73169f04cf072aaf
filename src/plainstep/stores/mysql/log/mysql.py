"""The binary log of MySQL: its state, and what it sends from one transaction to another. Transactions are told by their names (GTID).

A transaction is written into the log first, then it shows to readers, then it counts as executed. So what is executed shows, and
what shows is in the log; in between, one may show or not. That is where a snapshot meets the log: see ``snapshot_state``.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING

import pymysql
from pymysql.constants import COMMAND

from plainstep.errors import Refused
from plainstep.stores.mysql.log import events, mysql_events
from plainstep.stores.mysql.log.events import Header
from plainstep.stores.mysql.log.gtid_sets import SetState
from plainstep.stores.mysql.log.server import NOT_THERE, Event, events_of, refuse_gone

if TYPE_CHECKING:
    from plainstep.stores.mysql.log.gtid_sets import SetTransaction
    from plainstep.stores.mysql.wire import Packets, Wire

COM_BINLOG_DUMP_GTID = 0x1E
# The log is to end where it ends now, and not to wait for more; and a set is sent of what is not wanted.
UP_TO_NOW, BUT = 1, 4
# What the server answers, too, if transactions were purged.
PURGED = 1789
# Where the first event of a file is.
BEGIN = 4


class MysqlLog:
    """The log of MySQL.

    Args:
        opened: gives a connection: one on which a log is read is closed by that.
    """

    is_mysql = True
    stops = False

    def __init__(self, opened: Callable[[], AbstractContextManager[Wire]]) -> None:
        self.opened = opened

    def parse(self, text: str) -> SetState:
        """A state, as it is written."""
        return SetState.parse(text)

    def head(self, connection: Wire) -> SetState:
        """Up to where the log is written, and counts as executed."""
        found = _status(connection)
        if found is None:
            return SetState()
        file, _, executed = found
        return SetState.parse(executed).within(file, self._made(file), _uuid(connection))

    def oldest(self, connection: Wire) -> SetState:
        """After which transactions all are still held."""
        row = connection.first("SELECT @@global.gtid_purged")
        return SetState.parse(str(row[0] or "") if row else "")

    def snapshot_state(self, connection: Wire, concerns: Callable[[Event], bool]) -> SetState | None:
        """Where the transaction's snapshot stands in the log; None where it cannot be told.

        What was executed before it began shows in it; of what came into the log since, nothing is known. Where none of that
        concerns the tables that are read, they are the same with it and without.
        """
        executed, written = connection.log_around
        if written is None:
            return self.head(connection)
        state = before = SetState.parse(executed)
        file, offset = str(written[0]), int(written[1])
        with self.opened() as other:
            for event in self._up_to(other, before, file, offset):
                one = self.transaction_of(event)
                if one is not None:
                    state = state.after(one)
                if any(concerns(inner) for inner in self.unpacked(event)):
                    return None
        return state.within(file, self._made(file), _uuid(connection))

    def _up_to(self, connection: Wire, after: SetState, file: str, offset: int) -> Iterator[Event]:
        """The events after a state, up to a place in the log."""
        now = ""
        for event in events_of(self.packets(connection, after, after, "the snapshot")):
            if event.header.kind == events.ROTATE:
                now = event.body[8:].split(b"\0")[0].decode()
            elif (_number(now), event.header.next) > (_number(file), offset):
                return
            yield event

    def is_same_log(self, connection: Wire, state: SetState, head: SetState) -> bool:
        """Whether the server's log is the one in which a state was, as far as it tells: numbers start anew when it is reset."""
        if not head.holds(state):
            return False
        if not state.file or state.server != head.server:
            return True
        names = [str(row[0]) for row in connection.run("SHOW BINARY LOGS")[1]]
        if state.file in names:
            return self._made(state.file) == state.made
        return bool(names) and _number(state.file) < _number(names[0])

    def _made(self, file: str) -> int:
        """When a file of the log was begun: what stands in its first event."""
        with self.opened() as connection:
            _set_checksum(connection)
            number = _reader()
            connection._execute_command(
                COMMAND.COM_BINLOG_DUMP, struct.pack("<IHI", BEGIN, UP_TO_NOW, number) + file.encode()
            )
            try:
                for event in events_of(connection.packets()):
                    if event.header.kind == events.FORMAT:
                        return event.header.at
            except pymysql.Error as error:
                if not _is_gone(error):
                    raise
            finally:
                connection._force_close()
        return 0

    def packets(self, connection: Wire, after: SetState, upto: SetState, place: str) -> Iterator[Packets]:
        """What the server sends of the transactions after one state. It goes on to the end of the log.

        Raises:
            Refused: they are not held any more.
        """
        _set_checksum(connection)
        but = after.packed
        asked = struct.pack("<HIIQI", UP_TO_NOW | BUT, _reader(), 0, BEGIN, len(but)) + but
        connection._execute_command(COM_BINLOG_DUMP_GTID, asked)
        try:
            yield from connection.packets()
        except pymysql.Error as error:
            if _is_gone(error):
                raise refuse_gone(place, str(error.args[-1])) from error
            raise
        finally:
            connection._force_close()  # the server does the same

    def transaction_of(self, event: Event) -> SetTransaction | None:
        """The transaction that an event begins.

        Raises:
            Refused: it has no name, or one with a tag.
        """
        kind = event.header.kind
        if kind == mysql_events.GTID:
            return mysql_events.transaction_of(event.body)
        if kind in (mysql_events.ANONYMOUS, mysql_events.TAGGED):
            what = "no name (GTID)" if kind == mysql_events.ANONYMOUS else "a name with a tag"
            raise Refused(
                f"The log has a transaction with {what}.",
                "Where a load stands in the log is told by the names of transactions.",
                "With gtid_mode = ON and gtid_next = 'AUTOMATIC' from then on, plainstep reload LOAD goes on after it.",
            )
        return None

    def unpacked(self, event: Event) -> Iterator[Event]:
        """An event, or those of a packed transaction."""
        if event.header.kind != mysql_events.PAYLOAD:
            yield event
            return
        try:
            data = mysql_events.payload_of(event.body)
        except (ValueError, OSError, LookupError) as error:
            raise Refused(
                f"A transaction of the log cannot be unpacked: {error}.",
                "What it changed is not known.",
                "SET GLOBAL binlog_transaction_compression = OFF; then plainstep reload LOAD compares the whole table.",
            ) from None
        at = 0
        while at < len(data):
            header = events.header_of(data, at)
            size = int.from_bytes(data[at + 9 : at + 13], "little")
            yield Event(Header(header.at, header.kind, event.header.next), data, at + events.HEADER.size, at + size)
            at += max(size, events.HEADER.size)


def _status(connection: Wire) -> tuple[str, int, str] | None:
    """The file that is written, how far, and what counts as executed."""
    row = connection.log_status()
    return (str(row[0]), int(row[1]), str(row[4] or "")) if row else None


def _uuid(connection: Wire) -> str:
    row = connection.first("SELECT @@server_uuid")
    return str(row[0]) if row else ""


def _number(file: str) -> int:
    """The number of a file of the log."""
    digits = file.rpartition(".")[2]
    return int(digits) if digits.isdigit() else 0


def _set_checksum(connection: Wire) -> None:
    connection.run("SET @master_binlog_checksum = 'CRC32', @source_binlog_checksum = 'CRC32'")


def _reader() -> int:
    """A number of a reader: one with the number of another one would end that one's connection."""
    return random.SystemRandom().randrange(1 << 31, (1 << 32) - 1)


def _is_gone(error: pymysql.Error) -> bool:
    return bool(error.args) and error.args[0] in (NOT_THERE, PURGED)
