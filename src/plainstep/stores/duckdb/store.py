"""DuckDB files as stores: tables to merge into, and tables to read that something else fills."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import Refused
from plainstep.stores.shared_connection import Kept
from plainstep.stores.urls import file_of

if TYPE_CHECKING:
    import duckdb

    from plainstep.stores.api import Source
    from plainstep.stores.duckdb.table import DuckdbTable
    from plainstep.stores.duckdb.target import DuckdbTarget
    from plainstep.stores.records import CaptureInfo, Reader


class DuckdbStore:
    """A DuckDB file.

    Args:
        name: the store's name in plainstep.toml.
        url: ``duckdb:///path``.
        base: the folder that relative paths start from.
        wait: how many seconds to wait while another process holds the file.
    """

    exclusive = True
    appends_only = False

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        self.path = file_of(url, base)
        self.place = str(self.path.absolute())
        self._kept: Kept[duckdb.DuckDBPyConnection] = Kept(lambda connection: None)

    @contextmanager
    def opened(self, read_only: bool) -> Iterator[duckdb.DuckDBPyConnection]:
        """A connection whose default database is the file."""
        from plainstep.stores.duckdb.connection import opened, told

        with self._kept.used() as kept:
            if kept is not None and read_only:
                with told(self.path):
                    yield kept
            else:
                with opened(self.path, read_only, self.wait) as connection:
                    yield connection

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """Nothing to do: nothing is captured here."""
        return nullcontext()

    def kept_open(self) -> AbstractContextManager[None]:
        """Keep the file attached for reading meanwhile."""
        from plainstep.stores.duckdb.connection import opened

        return self._kept.open(opened(self.path, True, self.wait)) if self.path.exists() else nullcontext()

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """Always refused: DuckDB has no triggers, so nothing records its changes."""
        raise self._no_capture()

    def table(self, name: str, types: dict[str, str]) -> DuckdbTable:
        """One of its tables or views, to be read as it is."""
        from plainstep.stores.duckdb.table import DuckdbTable

        return DuckdbTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        if not self.path.exists():
            raise Refused(f"There is no file {self.path}.", "", "Check the store's url in plainstep.toml.")
        with self.opened(read_only=True) as connection:
            return tables(connection)

    def target(self) -> DuckdbTarget:
        """The file as a place to merge into."""
        from plainstep.stores.duckdb.target import DuckdbTarget

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


def tables(connection: duckdb.DuckDBPyConnection) -> list[str]:
    """The tables of the connection's database, without Plain Step's own."""
    sql = (
        "SELECT table_name FROM duckdb_tables() WHERE database_name = current_database() AND schema_name = 'main' "
        "AND NOT starts_with(table_name, 'plainstep_') ORDER BY table_name"
    )
    return [name for (name,) in connection.execute(sql).fetchall()]
