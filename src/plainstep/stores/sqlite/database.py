"""A SQLite file, and the connections to it."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path

from plainstep.stores.shared_connection import SharedConnection
from plainstep.stores.sqlite.connection import begin, end, opened, told
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
        self._kept: SharedConnection[sqlite3.Connection] = SharedConnection(end)
        self._moment = threading.local()

    @contextmanager
    def opened(self, mode: str = "ro") -> Iterator[sqlite3.Connection]:
        """A connection to the file: ``ro`` reads, ``rw`` writes, ``rwc`` also makes the file."""
        with self._kept.used() as kept:
            if mode == "ro" and self._moment.__dict__:
                with told(self.path, self.wait):
                    yield self._moment.connection
            elif kept is not None and mode == "ro":
                with told(self.path, self.wait):
                    yield kept
            else:
                with opened(self.path, mode, self.wait) as connection:
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
        with opened(self.path, "ro", self.wait) as connection:
            connection.execute("BEGIN")
            connection.execute("SELECT 1 FROM sqlite_schema LIMIT 1").fetchone()  # it begins with the first reading
            self._moment.connection = connection
            try:
                yield
            finally:
                self._moment.__dict__.clear()

    def kept_open(self) -> AbstractContextManager[None]:
        """Keep a connection for reading open meanwhile: to open one, the whole schema is parsed."""
        return self._kept.open(opened(self.path, "ro", self.wait)) if self.path.exists() else nullcontext()
