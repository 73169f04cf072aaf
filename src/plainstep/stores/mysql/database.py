"""A MariaDB or MySQL database, and the connections to it."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import pymysql

from plainstep.errors import Refused
from plainstep.stores.mysql.connection import Connections
from plainstep.stores.mysql.log import reader

if TYPE_CHECKING:
    from plainstep.stores.mysql.log.gtids import State
    from plainstep.stores.mysql.wire import Wire

SNAPSHOT = "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"
# How often snapshots are taken until all of them stand at one place of the log; each takes half a millisecond.
TRIES = 200


class MysqlDatabase:
    """A MariaDB or MySQL database.

    Args:
        name: the store's name in plainstep.toml.
        url: ``mysql://user@host:port/database``, or ``mariadb://...``.
        base: the folder that relative paths start from; not used here.
        wait: how many seconds to wait for a lock, or for a server that is starting.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.wait = name, wait
        self.connections = Connections(name, url, wait)
        self.url = self.place = self.connections.shown
        self._moment = threading.local()

    def opened(self) -> AbstractContextManager[Wire]:
        """A connection in autocommit mode."""
        return self.connections.opened()

    @contextmanager
    def moment(self, tables: Sequence[str]) -> Iterator[None]:
        """Meanwhile, the spans and snapshots of these tables are of one moment: each has a snapshot, all at one place of the log.

        Raises:
            Refused: others commit too fast for that.
        """
        with ExitStack() as stack:
            connections = [stack.enter_context(self.opened()) for _ in tables]
            for _ in range(TRIES):
                states = [self._snapshot(connection) for connection in connections]
                if len({state.token for state in states}) == 1:
                    break
            else:
                raise Refused(
                    f"No two snapshots of {self.name} could be taken at one moment: others commit all the time.",
                    "The loads of a group begin at one moment.",
                    "Run the command again when fewer write; or begin these loads one by one, and put them into a group then.",
                )
            self._moment.state, self._moment.free = states[0], list(connections)
            try:
                yield
            finally:
                self._moment.__dict__.clear()
                for connection in connections:
                    _end(connection)

    def _snapshot(self, connection: Wire) -> State:
        connection.run("ROLLBACK")
        connection.run(SNAPSHOT)
        return reader.snapshot_state(connection)

    @property
    def moment_state(self) -> State | None:
        """Where the log stood at the moment that is looked at, if there is one."""
        return getattr(self._moment, "state", None)

    @contextmanager
    def snapshot(self) -> Iterator[tuple[Wire, State]]:
        """A connection in a transaction that sees one moment, and where the log stood then."""
        free = getattr(self._moment, "free", None)
        if free:
            yield free.pop(), self._moment.state
            return
        with self.opened() as connection:
            state = self._snapshot(connection)
            try:
                yield connection, state
            finally:
                _end(connection)


def _end(connection: Wire) -> None:
    if connection.open:
        with suppress(pymysql.Error):
            connection.run("ROLLBACK")
