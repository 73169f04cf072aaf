"""Any SQL database that SQLAlchemy knows, as a store: tables and queries to read, and tables to merge into."""

from __future__ import annotations

from contextlib import AbstractContextManager
from typing import TYPE_CHECKING

from sqlalchemy.dialects import registry

from plainstep.errors import Refused
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.sql import queries
from plainstep.stores.sql.catalog import tables
from plainstep.stores.sql.database import PREFIX, SqlDatabase
from plainstep.stores.sql.table import SqlTable
from plainstep.stores.sql.target import SqlAlchemyTarget

if TYPE_CHECKING:
    from plainstep.stores.queries import Queries


class SqlStore(SqlDatabase, BaseStore):
    """A database as a store. See ``SqlDatabase`` for its arguments."""

    appends_only = False
    types_results = False

    @staticmethod
    def knows(scheme: str) -> bool:
        """Whether a URL with this scheme may be one of SQLAlchemy's."""
        if scheme.startswith(PREFIX):
            return True
        try:
            registry.load(scheme.replace("+", "."))
        except Exception:  # whatever a dialect that is half installed raises
            try:
                registry.load(scheme.partition("+")[0])
            except Exception:
                return False
        return True

    @property
    def exclusive(self) -> bool:
        """Whether it cannot be written while it is read: a file."""
        return self.is_file

    def table(self, name: str, types: dict[str, str]) -> SqlTable:
        """One of its tables or views, to be read as it is."""
        return SqlTable(self, name, types)

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        with self.opened() as connection:
            return tables(connection)

    def queries(self) -> AbstractContextManager[Queries]:
        """A transaction in which queries of people's own are asked."""
        return queries.opened(self)

    def taking(self, really: bool) -> AbstractContextManager[Queries]:
        """The same, where a query may take away what it reads."""
        return queries.taking(self, really)

    def target(self) -> SqlAlchemyTarget:
        """The database as a place to merge into.

        Raises:
            Refused: it cannot be merged into.
        """
        if self.traits.not_a_target:
            raise Refused(
                f"{self.name} cannot be merged into: it is a database of {self.backend}.",
                self.traits.not_a_target,
                "Merge into another store.",
            )
        return SqlAlchemyTarget(self)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: nothing of ours records its changes."""
        if what not in ("capture", "log"):
            return super().lacking(what)
        return Refused(
            f"{self.name} is reached by SQLAlchemy, and nothing of ours records its changes.",
            "Triggers and logs differ from database to database.",
            "Read what the database itself tells (changes = 'query' or 'table'), by a column that grows, or compare (changes = 'diff').",
        )
