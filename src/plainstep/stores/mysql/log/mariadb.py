"""The binary log of MariaDB: its state, and what it sends from one transaction to another."""

from __future__ import annotations

import random
import struct
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import pymysql
from pymysql.constants import COMMAND

from plainstep.stores.mysql.log import events
from plainstep.stores.mysql.log.gtids import State, known
from plainstep.stores.mysql.log.server import NOT_THERE, Event, refuse_gone

if TYPE_CHECKING:
    from plainstep.stores.mysql.log.events import Transaction
    from plainstep.stores.mysql.wire import Packets, Wire

# The log is to end where it ends now, and not to wait for more.
UP_TO_NOW = 1
# How often the log's end is asked for until nothing is written in between.
TRIES = 20


class MariadbLog:
    """The log of MariaDB."""

    is_mysql = False
    stops = True

    def parse(self, text: str) -> State:
        """A state, as it is written."""
        return State.parse(text)

    def head(self, connection: Wire) -> State:
        """Up to where the log is written."""
        place = _written_to(connection)
        for _ in range(TRIES):
            row = connection.first("SELECT @@gtid_binlog_pos, @@server_uid")
            before, place = place, _written_to(connection)
            if place is None or row is None:
                return State()
            if before == place:  # nothing was written in between: these belong together
                return State(State.parse(str(row[0] or "")).newest, *place, str(row[1]))
        return self.at_place(connection, *place) if place else State()

    def oldest(self, connection: Wire) -> State:
        """After which transactions all are still held."""
        row = connection.first("SHOW BINARY LOGS")
        return self.at_place(connection, str(row[0]), 4) if row else State()

    def snapshot_state(self, connection: Wire, concerns: Callable[[Event], bool]) -> State:
        """Where the transaction's snapshot stands in the log."""
        _, rows = connection.run("SHOW STATUS LIKE 'binlog\\_snapshot\\_%'")
        told = {str(name).lower(): value for name, value in rows}
        place = str(told["binlog_snapshot_file"]), int(told["binlog_snapshot_position"])
        now = self.head(connection)
        return now if (now.file, now.offset) == place else self.at_place(connection, *place)

    def at_place(self, connection: Wire, file: str, offset: int) -> State:
        """Up to where the log goes at a place. The server reads the file from its beginning to tell that."""
        row = connection.first("SELECT binlog_gtid_pos(%s, %s), @@server_uid", [file, offset])
        assert row is not None
        return State(State.parse(str(row[0] or "")).newest, file, offset, str(row[1]))

    def holds_place(self, connection: Wire, state: State) -> bool:
        """Whether the log still has a place, and this is the server that told it."""
        uid = connection.first("SELECT @@server_uid")
        if not state.file or uid is None or str(uid[0]) != state.server:
            return False
        sizes = {str(row[0]): int(row[1]) for row in connection.run("SHOW BINARY LOGS")[1]}
        return sizes.get(state.file, -1) >= state.offset

    def is_same_log(self, connection: Wire, state: State, head: State) -> bool:
        """Whether the server's log is the one in which a state was, as far as this is the server that told where that is."""
        written = connection.first("SELECT @@gtid_binlog_state")
        if not known(str(written[0]) if written else "", state):
            return False
        at_its_end = head.gtids == state.gtids and (head.file, head.offset) != (state.file, state.offset)
        if not at_its_end or not self.holds_place(connection, state):
            return True
        return self.at_place(connection, state.file, state.offset).gtids == state.gtids

    def packets(self, connection: Wire, after: State, upto: State, place: str) -> Iterator[Packets]:
        """What the server sends of the transactions after one state and up to another.

        Raises:
            Refused: they are not held any more.
        """
        connection.run(
            "SET @master_binlog_checksum = 'CRC32', @mariadb_slave_capability = 4, @slave_gtid_strict_mode = 0"
        )
        # By its place, where that is known: for the number of a transaction, the server reads the file from its beginning.
        file, offset = (after.file, after.offset) if self.holds_place(connection, after) else ("", 4)
        if not file:
            connection.run("SET @slave_connect_state = %s, @slave_until_gtid = %s", [after.gtids, upto.gtids])
        # A reader with the number of another one would end that one's connection.
        number = random.SystemRandom().randrange(1 << 31, (1 << 32) - 1)
        connection._execute_command(
            COMMAND.COM_BINLOG_DUMP, struct.pack("<IHI", offset, UP_TO_NOW, number) + file.encode()
        )
        try:
            yield from connection.packets()
        except pymysql.Error as error:
            if error.args and error.args[0] == NOT_THERE:
                raise refuse_gone(place, str(error.args[-1])) from error
            raise
        finally:
            connection._force_close()  # the server does the same

    def transaction_of(self, event: Event) -> Transaction | None:
        """The transaction that an event begins."""
        return events.transaction_of(event.body, event.server) if event.header.kind == events.GTID else None

    def unpacked(self, event: Event) -> Iterator[Event]:
        """The event: what is packed is packed for itself."""
        yield event


def _written_to(connection: Wire) -> tuple[str, int] | None:
    row = connection.log_status()
    return (str(row[0]), int(row[1])) if row else None
