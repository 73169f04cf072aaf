"""MariaDB and MySQL databases as stores."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.capture import registry, switch
from plainstep.stores.mysql.capture.source import CapturedSource
from plainstep.stores.mysql.database import MysqlDatabase
from plainstep.stores.mysql.dialect import DIALECT
from plainstep.stores.mysql.log import logged
from plainstep.stores.mysql.log.source import LogSource
from plainstep.stores.mysql.open_transactions import wait_for_writers
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.mysql.target import MysqlTarget

if TYPE_CHECKING:
    from contextlib import AbstractContextManager

    from plainstep.stores.api import Source
    from plainstep.stores.mysql import queries
    from plainstep.stores.queries import Queries
    from plainstep.stores.records import CaptureInfo, Reader
else:
    [queries] = deferred("plainstep.stores.mysql", "queries")


class MysqlStore(MysqlDatabase, BaseStore):
    """A MariaDB or MySQL database as a store. See ``MysqlDatabase`` for its arguments."""

    exclusive = False
    appends_only = False
    types_results = True
    dialect = DIALECT
    methods = ("capture", "log")

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """The changes of one table, from its change table or from the server's log."""
        return LogSource(self, table, types) if how == "log" else CapturedSource(self, table, types, reader)

    def capture_on(
        self, table: str, key: tuple[str, ...] | None = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on; say what is captured, and whether it was off before. The log needs none: it is looked at only."""
        return logged.told(self, table) if how == "log" else switch.turn_on(self, table, key)

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Turn capture off and forget its changes."""
        return logged.told(self, table)[0] if how == "log" else switch.turn_off(self, table)

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        if how == "log":
            return logged.told(self, table)[0], "nothing to do: the log holds every column"
        return switch.refresh(self, table)

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured by triggers in this database; of one table, where it is named. (Of the log, all tables are.)"""
        return [] if how == "log" else switch.list_all(self, table)

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are registered."""
        with self.opened() as connection:
            return registry.readers(connection, table)

    def forget(self, reader: str) -> int:
        """Remove a reader; return for how many tables it was registered."""
        with self.opened() as connection:
            return registry.forget(connection, reader)

    def table(self, name: str, types: dict[str, str]) -> MysqlTable:
        """One of its tables or views, to be read as it is."""
        return MysqlTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        with self.opened() as connection:
            return catalog.tables(connection)

    def queries(self) -> AbstractContextManager[Queries]:
        """A read-only transaction in which queries of people's own are asked."""
        return queries.opened(self)

    def wait_for_open(self, every: bool) -> bool:
        """Wait until transactions have ended that are open now, or have written."""
        wait_for_writers(self.opened, self.wait, self.name, every)
        return True

    def target(self) -> MysqlTarget:
        """The database as a place to merge into."""
        return MysqlTarget(self)
