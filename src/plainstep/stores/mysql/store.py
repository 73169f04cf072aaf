"""MariaDB and MySQL databases as stores."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.stores.capabilities import BaseStore
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.database import MysqlDatabase
from plainstep.stores.mysql.log.source import LogSource
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.mysql.target import MysqlTarget

if TYPE_CHECKING:
    from plainstep.stores.api import Source


class MysqlStore(MysqlDatabase, BaseStore):
    """A MariaDB or MySQL database as a store. See ``MysqlDatabase`` for its arguments."""

    exclusive = False
    appends_only = False
    methods = ("log",)

    def source(self, table: str, types: dict[str, str], how: str = "log", reader: str = "") -> Source:
        """The changes of one table, from the server's log."""
        return LogSource(self, table, types)

    def table(self, name: str, types: dict[str, str]) -> MysqlTable:
        """One of its tables or views, to be read as it is."""
        return MysqlTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        with self.opened() as connection:
            return catalog.tables(connection)

    def target(self) -> MysqlTarget:
        """The database as a place to merge into."""
        return MysqlTarget(self)
