"""A MariaDB or MySQL database, and the connections to it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import pymysql

from plainstep.deferred import pa
from plainstep.stores.mysql.connection import Connections
from plainstep.stores.mysql.open_transactions import Bound, bound
from plainstep.stores.mysql.wire import Packets, PacketSpool
from plainstep.stores.spool import TableSpool

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
        self._moment = threading.local()
        self._shared = threading.local()

    def opened(self) -> AbstractContextManager[Wire]:
        """A connection in autocommit mode."""
        return self.connections.opened()

    @contextmanager
    def read_once(self) -> Iterator[None]:
        """Meanwhile, a part of the log that several loads read is read once, and kept for those that come later."""
        self._shared.kept = {}
        try:
            yield
        finally:
            for spool in self._shared.__dict__.pop("kept").values():
                spool.close()

    def packets(self, window: str, read: Callable[[], Iterator[Packets]]) -> Iterator[Packets]:
        """What is read of the log in a window: from there, or from what was kept of it.

        Args:
            window: what tells the window apart.
            read: reads it.
        """
        kept: dict[str, PacketSpool] | None = getattr(self._shared, "kept", None)
        if kept is None:
            return read()
        if window not in kept:
            spool = PacketSpool()
            for packets in read():
                spool.add(packets)
            kept[window] = spool
        return kept[window]()

    @contextmanager
    def moment(self, tables: Sequence[str]) -> Iterator[None]:
        """Meanwhile, the spans and snapshots of these tables are of one moment: all are read in one transaction."""
        with self.opened() as connection:
            self._moment.bound = bound(connection)
        with self.read_transaction() as connection:
            self._moment.connection = connection
            try:
                yield
            finally:
                self._moment.__dict__.clear()

    @property
    def moment_bound(self) -> Bound | None:
        """Below which transaction all had ended at the moment that is looked at, if there is one."""
        found: Bound | None = getattr(self._moment, "bound", None)
        return found

    @property
    def moment_connection(self) -> Wire | None:
        """The connection that sees the moment that is looked at, if there is one."""
        found: Wire | None = getattr(self._moment, "connection", None)
        return found

    @contextmanager
    def snapshot(self) -> Iterator[Wire]:
        """A connection in a transaction that sees one moment."""
        shared = self.moment_connection
        if shared is not None:
            yield shared
            return
        with self.read_transaction() as connection:
            yield connection

    @contextmanager
    def read_transaction(self) -> Iterator[Wire]:
        """A connection in a transaction of its own that sees one moment."""
        with self.opened() as connection:
            connection.take_snapshot()
            try:
                yield connection
            finally:
                if connection.open:
                    with suppress(pymysql.Error):
                        connection.run("ROLLBACK")

    def kept(self, batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        """Rows of a snapshot: read at once where the connection is shared, for it can read one table at a time."""
        if self.moment_connection is None:
            return batches
        spool = TableSpool()
        for batch in batches:
            spool.add(pa.Table.from_batches([batch]))
        return (batch for table in spool() for batch in table.to_batches())
