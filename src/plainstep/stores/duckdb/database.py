"""A DuckDB file, and the connections to it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path

from plainstep.deferred import duckdb
from plainstep.stores.duckdb.connection import opened, told
from plainstep.stores.shared_connection import SharedConnection
from plainstep.stores.urls import file_of


class DuckdbDatabase:
    """A DuckDB file.

    Args:
        name: the store's name in plainstep.toml.
        url: ``duckdb:///path``.
        base: the folder that relative paths start from.
        wait: how many seconds to wait while another process holds the file.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        self.path = file_of(url, base)
        self.place = str(self.path.absolute())
        self._kept: SharedConnection[duckdb.DuckDBPyConnection] = SharedConnection()

    @contextmanager
    def opened(self, read_only: bool) -> Iterator[duckdb.DuckDBPyConnection]:
        """A connection whose default database is the file."""
        with self._kept.used() as kept:
            if kept is not None and read_only:
                with told(self.path):
                    yield kept
            else:
                with opened(self.path, read_only, self.wait) as connection:
                    yield connection

    def kept_open(self) -> AbstractContextManager[None]:
        """Keep the file attached for reading meanwhile."""
        return self._kept.open(opened(self.path, True, self.wait)) if self.path.exists() else nullcontext()


def tables(connection: duckdb.DuckDBPyConnection) -> list[str]:
    """The tables of the connection's database, without Plain Step's own."""
    sql = (
        "SELECT table_name FROM duckdb_tables() WHERE database_name = current_database() AND schema_name = 'main' "
        "AND NOT starts_with(table_name, 'plainstep_') ORDER BY table_name"
    )
    return [name for (name,) in connection.execute(sql).fetchall()]
