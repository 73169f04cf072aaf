"""PostgreSQL databases as stores: changes captured in tables or read from the server's log, and tables to merge into."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.capture import readers
from plainstep.stores.postgresql.capture.slot import Log
from plainstep.stores.postgresql.capture.slot_source import LogSource
from plainstep.stores.postgresql.capture.trigger_source import CapturedSource
from plainstep.stores.postgresql.capture.triggers import Capture
from plainstep.stores.postgresql.database import PostgresqlDatabase
from plainstep.stores.postgresql.dialect import DIALECT
from plainstep.stores.postgresql.table import PostgresqlTable
from plainstep.stores.postgresql.target import PostgresqlTarget

if TYPE_CHECKING:
    from contextlib import AbstractContextManager
    from pathlib import Path

    from plainstep.stores.api import Source
    from plainstep.stores.postgresql import queries
    from plainstep.stores.postgresql import scratch as scratches
    from plainstep.stores.postgresql.scratch import PostgresqlTemplate
    from plainstep.stores.queries import Queries
    from plainstep.stores.records import CaptureInfo, Reader
else:
    queries, scratches = deferred("plainstep.stores.postgresql", "queries", "scratch")


class PostgresqlStore(PostgresqlDatabase, BaseStore):
    """A PostgreSQL database as a store. See ``PostgresqlDatabase`` for its arguments."""

    exclusive = False
    appends_only = False
    types_results = True
    dialect = DIALECT
    methods = ("capture", "log")

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """The changes of one table, from its change table or from the server's log."""
        return LogSource(self, table, types, reader) if how == "log" else CapturedSource(self, table, types, reader)

    def table(self, name: str, types: dict[str, str]) -> PostgresqlTable:
        """One of its tables or views, to be read as it is."""
        return PostgresqlTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own, as ``schema.table``; of partitioned ones, the whole."""
        with self.opened() as connection:
            return [f"{schema}.{name}" for schema, name in catalog.tables(connection)]

    def queries(self) -> AbstractContextManager[Queries]:
        """A read-only transaction in which queries of people's own are asked."""
        return queries.opened(self)

    def wait_for_open(self, every: bool) -> bool:
        """Wait until transactions have ended that are open now, or have written."""
        return queries.wait_for_open(self, every)

    def target(self) -> PostgresqlTarget:
        """The database as a place to merge into."""
        return PostgresqlTarget(self)

    def capture_on(
        self, table: str, key: tuple[str, ...] | None = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on; say what is captured, and whether it was off before."""
        return self._way(how).turn_on(table, key, despite_row_security)

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Turn capture off and forget its changes."""
        return self._way(how).turn_off(table)

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        return self._way(how).refresh(table)

    def scratch(self, table: str, folder: Path, rows: int) -> AbstractContextManager[PostgresqlTemplate]:
        """A copy of the database's schema on the same server, with so many rows of each table, to try things out."""
        return scratches.scratch(self, table, rows)

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured in this database; of one table, or in one way, where these are named."""
        ways = [how] if how else ["capture", "log"]
        with self.opened() as connection:
            return [info for way in ways for info in self._way(way).list_all(connection, table)]

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are registered."""
        with self.opened() as connection:
            return [one for one in readers.every(connection) if table in ("", one.table)]

    def forget(self, reader: str) -> int:
        """Remove a reader; return for how many tables it was registered."""
        with self.opened() as connection:
            return readers.forget(connection, reader)

    def _way(self, how: str) -> Capture | Log:
        return Log(self) if how == "log" else Capture(self)
