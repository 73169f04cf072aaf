"""SQLite files as stores: captured tables to read from, and tables to merge into."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import Refused
from plainstep.stores.shared_connection import Kept
from plainstep.stores.sqlite.connection import end, opened, told
from plainstep.stores.urls import file_of

if TYPE_CHECKING:
    from plainstep.stores.records import CaptureInfo, Reader
    from plainstep.stores.sqlite.capture.source import SqliteSource
    from plainstep.stores.sqlite.table import SqliteTable
    from plainstep.stores.sqlite.target import SqliteTarget


class SqliteStore:
    """A SQLite file.

    Args:
        name: the store's name in plainstep.toml.
        url: ``sqlite:///path``.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for a lock.
    """

    exclusive = True
    appends_only = False

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        self.path = file_of(url, base)
        self.place = str(self.path.absolute())
        self._kept: Kept[sqlite3.Connection] = Kept(end)
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

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> SqliteSource:
        """The changes of one captured table."""
        from plainstep.stores.sqlite.capture.source import SqliteSource

        self._refuse_log(how)
        return SqliteSource(self, table, types, reader)

    def table(self, name: str, types: dict[str, str]) -> SqliteTable:
        """One of its tables or views, to be read as it is."""
        from plainstep.stores.sqlite.table import SqliteTable

        return SqliteTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        from plainstep.stores.sqlite import catalog

        with self.opened() as connection:
            return catalog.tables(connection)

    def target(self) -> SqliteTarget:
        """The file as a place to merge into."""
        from plainstep.stores.sqlite.target import SqliteTarget

        return SqliteTarget(self)

    def capture_on(
        self, table: str, key: tuple[str, ...] = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on; say what is captured, and whether it was off before."""
        from plainstep.stores.sqlite.capture import state as capture

        self._refuse_log(how)
        return capture.turn_on(self, table, key)

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Turn capture off and forget its changes."""
        from plainstep.stores.sqlite.capture import state as capture

        self._refuse_log(how)
        return capture.turn_off(self, table)

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        from plainstep.stores.sqlite.capture import refresh as refreshing

        self._refuse_log(how)
        return refreshing.refresh(self, table)

    def _refuse_log(self, how: str) -> None:
        if how == "log":
            raise Refused(
                f"{self.name} is a SQLite file, which keeps no log of changes that could be read.",
                "",
                "Use changes = 'capture', or capture on without --how.",
            )

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured in this file; of one table, where it is named."""
        from plainstep.stores.sqlite.capture import state as capture

        return [] if how == "log" else capture.list_all(self, table)

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are written down."""
        from plainstep.stores.sqlite.capture import readers

        return readers.every(self, table)

    def forget(self, reader: str) -> int:
        """Strike a reader out; return how many tables it was written down for."""
        from plainstep.stores.sqlite.capture import readers

        return readers.forget(self, reader)
