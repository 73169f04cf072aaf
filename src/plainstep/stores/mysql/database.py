"""A MariaDB or MySQL database, and the connections to it."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.stores.mysql.connection import Connections

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Wire


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

    def opened(self) -> AbstractContextManager[Wire]:
        """A connection in autocommit mode."""
        return self.connections.opened()
