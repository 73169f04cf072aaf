"""SQLite files as stores: captured tables to read from, and tables to merge into."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import Refused
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.dialect import STANDARD
from plainstep.stores.sqlite import catalog
from plainstep.stores.sqlite.capture import readers
from plainstep.stores.sqlite.capture import refresh as refreshing
from plainstep.stores.sqlite.capture import state as capture
from plainstep.stores.sqlite.capture.source import SqliteSource
from plainstep.stores.sqlite.database import SqliteDatabase
from plainstep.stores.sqlite.table import SqliteTable
from plainstep.stores.sqlite.target import SqliteTarget

if TYPE_CHECKING:
    from contextlib import AbstractContextManager
    from pathlib import Path

    from plainstep.stores.queries import Queries
    from plainstep.stores.records import CaptureInfo, Reader
    from plainstep.stores.sqlite import queries
    from plainstep.stores.sqlite import scratch as scratches
    from plainstep.stores.sqlite.scratch import SqliteTemplate
else:
    queries, scratches = deferred("plainstep.stores.sqlite", "queries", "scratch")


class SqliteStore(SqliteDatabase, BaseStore):
    """A SQLite file as a store. See ``SqliteDatabase`` for its arguments."""

    exclusive = True
    appends_only = False
    types_results = False
    dialect = STANDARD
    methods = ("capture",)

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> SqliteSource:
        """The changes of one captured table."""
        return SqliteSource(self, table, types, reader)

    def table(self, name: str, types: dict[str, str]) -> SqliteTable:
        """One of its tables or views, to be read as it is."""
        return SqliteTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        with self.opened() as connection:
            return catalog.tables(connection)

    def queries(self) -> AbstractContextManager[Queries]:
        """A read-only transaction in which queries of people's own are asked."""
        return queries.opened(self)

    def wait_for_open(self, every: bool) -> bool:
        """Nothing to wait for: one writes at a time, and what it has not committed has no number that is told. Of times by a clock nothing is known."""
        return not every

    def target(self) -> SqliteTarget:
        """The file as a place to merge into."""
        return SqliteTarget(self)

    def capture_on(
        self, table: str, key: tuple[str, ...] | None = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on; say what is captured, and whether it was off before."""
        return capture.turn_on(self, table, key)

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Turn capture off and forget its changes."""
        return capture.turn_off(self, table)

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        return refreshing.refresh(self, table)

    def scratch(self, table: str, folder: Path, rows: int) -> AbstractContextManager[SqliteTemplate]:
        """A copy of the file's schema, with so many rows of each table, to try things out."""
        return scratches.scratch(self, table, folder, rows)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: a file keeps no log."""
        if what == "log":
            return Refused(
                f"{self.name} is a SQLite file, which keeps no log of changes that could be read.",
                "",
                "Use changes = 'capture', or capture on without --how.",
            )
        return super().lacking(what)

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured in this file; of one table, where it is named."""
        return [] if how == "log" else capture.list_all(self, table)

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are registered."""
        return readers.every(self, table)

    def forget(self, reader: str) -> int:
        """Remove a reader; return for how many tables it was registered."""
        return readers.forget(self, reader)
