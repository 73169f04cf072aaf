"""DuckDB files as stores: tables to merge into, and tables to read that something else fills."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import Refused
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.dialect import STANDARD
from plainstep.stores.duckdb.database import DuckdbDatabase, tables
from plainstep.stores.duckdb.table import DuckdbTable
from plainstep.stores.duckdb.target import DuckdbTarget

if TYPE_CHECKING:
    from contextlib import AbstractContextManager

    from plainstep.stores.duckdb import queries
    from plainstep.stores.queries import Queries
else:
    [queries] = deferred("plainstep.stores.duckdb", "queries")


class DuckdbStore(DuckdbDatabase, BaseStore):
    """A DuckDB file as a store. See ``DuckdbDatabase`` for its arguments."""

    exclusive = True
    appends_only = False
    types_results = True
    dialect = STANDARD

    def table(self, name: str, types: dict[str, str]) -> DuckdbTable:
        """One of its tables or views, to be read as it is."""
        return DuckdbTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        if not self.path.exists():
            raise Refused(f"There is no file {self.path}.", "", "Check the store's url in plainstep.toml.")
        with self.opened(read_only=True) as connection:
            return tables(connection)

    def queries(self) -> AbstractContextManager[Queries]:
        """A read-only transaction in which queries of people's own are asked."""
        return queries.opened(self)

    def wait_for_open(self, every: bool) -> bool:
        """Nothing to wait for: while the file is read here, no other process writes it."""
        return True

    def target(self) -> DuckdbTarget:
        """The file as a place to merge into."""
        return DuckdbTarget(self)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: nothing records its changes."""
        if what not in ("capture", "log"):
            return super().lacking(what)
        return Refused(
            f"{self.name} is a DuckDB file, whose changes cannot be captured.",
            "DuckDB has no triggers, so nothing would record its changes.",
            "Read a change table that something else fills (changes = 'table'), or compare (changes = 'diff').",
        )
