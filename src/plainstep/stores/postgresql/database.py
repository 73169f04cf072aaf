"""A PostgreSQL database, and the connections to it."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.connection import Connections

if TYPE_CHECKING:
    from plainstep.stores.postgresql.connection import Connection

READ_ONLY = "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY"


class PostgresqlDatabase:
    """A PostgreSQL database.

    Args:
        name: the store's name in plainstep.toml.
        url: ``postgresql://user@host:port/database``, as libpq takes it.
        base: the folder that relative paths start from; not used here.
        wait: how many seconds to wait for a lock, or for a server that is starting.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.wait = name, wait
        self._moment = threading.local()
        self.connections = Connections(name, url, wait)
        self.url = self.place = self.connections.shown

    def opened(self) -> AbstractContextManager[Connection]:
        """A connection in autocommit mode."""
        return self.connections.opened()

    @contextmanager
    def moment(self, tables: Sequence[str]) -> Iterator[None]:
        """Meanwhile, the spans and snapshots of these tables are of one snapshot of the server's."""
        with self.opened() as connection, connection.transaction():
            connection.execute(READ_ONLY)
            for table in tables:  # before the snapshot is taken: a truncate in between would show through it
                catalog.find_and_lock(connection, table)
            row = connection.execute("SELECT pg_export_snapshot()").fetchone()
            assert row is not None
            self._moment.snapshot = row[0]
            try:
                yield
            finally:
                self._moment.__dict__.clear()

    @property
    def in_moment(self) -> bool:
        """Whether everything is read as it stood at one moment now."""
        return bool(self._moment.__dict__)

    def read_only(self, connection: Connection) -> None:
        """Read in this transaction, which has just begun, what stood at one moment."""
        connection.execute(READ_ONLY)
        self.as_of_the_moment(connection)

    def as_of_the_moment(self, connection: Connection) -> None:
        """See in this transaction, which has just begun, what stood at the moment that is looked at, if there is one."""
        if self.in_moment:
            connection.execute(f"SET TRANSACTION SNAPSHOT '{self._moment.snapshot}'")
