"""DuckDB files as stores: tables to merge into, and tables to read that something else fills."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

from plainstep.errors import Refused
from plainstep.stores.duckdb.database import DuckdbDatabase, tables
from plainstep.stores.duckdb.table import DuckdbTable
from plainstep.stores.duckdb.target import DuckdbTarget

if TYPE_CHECKING:
    from plainstep.stores.api import Source
    from plainstep.stores.records import CaptureInfo, Reader


class DuckdbStore(DuckdbDatabase):
    """A DuckDB file as a store. See ``DuckdbDatabase`` for its arguments."""

    exclusive = True
    appends_only = False

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """Nothing to do: nothing is captured here."""
        return nullcontext()

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """Always refused: DuckDB has no triggers, so nothing records its changes."""
        raise self._no_capture()

    def table(self, name: str, types: dict[str, str]) -> DuckdbTable:
        """One of its tables or views, to be read as it is."""
        return DuckdbTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        if not self.path.exists():
            raise Refused(f"There is no file {self.path}.", "", "Check the store's url in plainstep.toml.")
        with self.opened(read_only=True) as connection:
            return tables(connection)

    def target(self) -> DuckdbTarget:
        """The file as a place to merge into."""
        return DuckdbTarget(self)

    def capture_on(
        self, table: str, key: tuple[str, ...] = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Always refused."""
        raise self._no_capture()

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Always refused."""
        raise self._no_capture()

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Always refused."""
        raise self._no_capture()

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """Nothing is ever captured here."""
        return []

    def readers(self, table: str = "") -> list[Reader]:
        """Nothing is captured, so nobody reads it."""
        return []

    def forget(self, reader: str) -> int:
        """Nobody is written down here."""
        return 0

    def _no_capture(self) -> Refused:
        return Refused(
            f"{self.name} is a DuckDB file, whose changes cannot be captured.",
            "DuckDB has no triggers, so nothing would record its changes.",
            "Read a change table that something else fills (changes = 'table'), or compare (changes = 'diff').",
        )
