"""A SQLite file, and the connections to it."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

from plainstep.stores.sqlite.connection import FIRST_LOOK, Connections, begin, told
from plainstep.stores.urls import file_of


class SqliteDatabase:
    """A SQLite file.

    Args:
        name: the store's name in plainstep.toml.
        url: ``sqlite:///path``.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for a lock.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        self.path = file_of(url, base)
        self.place = str(self.path.absolute())
        self._connections = Connections(self.path, wait)
        self._moment = threading.local()

    @contextmanager
    def opened(self, mode: str = "ro") -> Iterator[sqlite3.Connection]:
        """A connection to the file: ``ro`` reads, ``rw`` writes, ``rwc`` also makes the file."""
        if mode == "ro" and self._moment.__dict__:
            with told(self.path, self.wait):
                yield self._moment.connection
        else:
            with self._connections.opened(mode) as connection:
                yield connection

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """A connection in one transaction, in which this thread reads everything meanwhile.

        Another connection could not begin to read while a writer waits for this one to end: both would wait, and the writer give up.
        """
        if self._moment.__dict__:
            yield self._moment.connection
            return
        with self.opened() as connection:
            begin(connection)
            self._moment.connection = connection
            try:
                yield connection
            finally:
                self._moment.__dict__.clear()

    @contextmanager
    def moment(self, tables: Sequence[str]) -> Iterator[None]:
        """Meanwhile, everything is read in one transaction."""
        with self.reading() as connection:
            connection.execute(FIRST_LOOK).fetchone()  # the transaction begins with the first reading
            yield

    def reused(self) -> AbstractContextManager[None]:
        """Use connections again meanwhile."""
        return self._connections.kept()

    kept_open = reused
