"""PostgreSQL databases as stores: changes captured in tables or read from the server's log, and tables to merge into."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import ConfigError

if TYPE_CHECKING:
    from plainstep.stores.api import Source
    from plainstep.stores.postgresql.capture.slot import Log
    from plainstep.stores.postgresql.capture.triggers import Capture
    from plainstep.stores.postgresql.connection import Connection
    from plainstep.stores.postgresql.table import PostgresqlTable
    from plainstep.stores.postgresql.target import PostgresqlTarget
    from plainstep.stores.records import CaptureInfo, Reader


READ_ONLY = "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY"


class PostgresqlStore:
    """A PostgreSQL database.

    Args:
        name: the store's name in plainstep.toml.
        url: ``postgresql://user@host:port/database``, as libpq takes it.
        base: the folder that relative paths start from; not used here.
        wait: how many seconds to wait for a lock, or for a server that is starting.
    """

    exclusive = False
    appends_only = False

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        try:
            from plainstep.stores.postgresql.connection import Connections
        except ImportError as error:
            raise ConfigError(
                f"The store {name!r} is a PostgreSQL database, and psycopg is not installed.",
                "",
                "pip install 'plainstep[postgresql]'",
            ) from error
        self.name, self.wait = name, wait
        self._moment = threading.local()
        self.connections = Connections(name, url, wait)
        self.url = self.place = self.connections.shown

    def opened(self) -> AbstractContextManager[Connection]:
        """A connection in autocommit mode."""
        return self.connections.opened()

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """The changes of one table, from its change table or from the server's log."""
        from plainstep.stores.postgresql.capture.slot_source import LogSource
        from plainstep.stores.postgresql.capture.trigger_source import CapturedSource

        return LogSource(self, table, types, reader) if how == "log" else CapturedSource(self, table, types, reader)

    def table(self, name: str, types: dict[str, str]) -> PostgresqlTable:
        """One of its tables or views, to be read as it is."""
        from plainstep.stores.postgresql.table import PostgresqlTable

        return PostgresqlTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own, as ``schema.table``; of partitioned ones, the whole."""
        from plainstep.stores.postgresql import catalog

        with self.opened() as connection:
            return [f"{schema}.{name}" for schema, name in catalog.tables(connection)]

    def target(self) -> PostgresqlTarget:
        """The database as a place to merge into."""
        from plainstep.stores.postgresql.target import PostgresqlTarget

        return PostgresqlTarget(self)

    def capture_on(
        self, table: str, key: tuple[str, ...] = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on; say what is captured, and whether it was off before."""
        return self._way(how).turn_on(table, key, despite_row_security)

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Turn capture off and forget its changes."""
        return self._way(how).turn_off(table)

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        return self._way(how).refresh(table)

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured in this database; of one table, or in one way, where these are named."""
        ways = [how] if how else ["capture", "log"]
        with self.opened() as connection:
            return [info for way in ways for info in self._way(way).list_all(connection, table)]

    @contextmanager
    def moment(self, tables: Sequence[str]) -> Iterator[None]:
        """Meanwhile, the spans and snapshots of these tables are of one snapshot of the server's."""
        from plainstep.stores.postgresql import catalog

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
        if self.in_moment:
            connection.execute(f"SET TRANSACTION SNAPSHOT '{self._moment.snapshot}'")

    def kept_open(self) -> AbstractContextManager[None]:
        """Nothing to do: nothing here costs much to open."""
        return nullcontext()

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are written down."""
        from plainstep.stores.postgresql.capture import registry

        with self.opened() as connection:
            return [one for one in registry.readers(connection) if table in ("", one.table)]

    def forget(self, reader: str) -> int:
        """Strike a reader out; return how many tables it was written down for."""
        from plainstep.stores.postgresql.capture import registry

        with self.opened() as connection:
            return registry.forget(connection, reader)

    def _way(self, how: str) -> Capture | Log:
        from plainstep.stores.postgresql.capture.slot import Log
        from plainstep.stores.postgresql.capture.triggers import Capture

        return Log(self) if how == "log" else Capture(self)
