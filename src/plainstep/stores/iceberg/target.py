"""Iceberg tables as a place to merge into: each step is one snapshot of one table."""

from __future__ import annotations

from collections.abc import Iterator
from copy import copy
from typing import Any

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.errors import ConfigError
from plainstep.stores.books import Book, followed_by
from plainstep.stores.commit_errors import moved
from plainstep.stores.iceberg.books import PROPERTY, CatalogBooks
from plainstep.stores.iceberg.catalogs import Catalog
from plainstep.stores.iceberg.commits import TableCommit, refuse_others
from plainstep.stores.iceberg.schema import held_as
from plainstep.stores.iceberg.table import IcebergTable
from plainstep.stores.lake.commits import LakeCommit
from plainstep.stores.lake.target import LakeTarget
from plainstep.stores.records import Commit, TableInfo


class IcebergTarget(LakeTarget):
    """The tables of a catalogue, as a place to merge into.

    Args:
        catalog: the catalogue.
        name: the store's name.
    """

    kind = "Iceberg tables"
    advice = "Bring it back, or drop the table: the next step then loads it anew."

    def __init__(self, catalog: Catalog, name: str) -> None:
        self.catalog, self.name = catalog, name
        self._books = CatalogBooks(catalog)
        self._upto: dict[str, int] = {}

    @property
    def books(self) -> CatalogBooks:
        """The books of its loads."""
        return self._books

    def _table(self, name: str) -> IcebergTable | None:
        """A table as it stands; None where there is none."""
        found = self.catalog.found(name)
        return None if found is None else IcebergTable(lambda: found, f"{self.name}.{name}", self._upto.get(name))

    def at_step(self, load: str, table: str, step: int) -> IcebergTarget | None:
        """The same, in which a table stands as it last did before a load's next step; None where that is not held any more."""
        there = self._table(table)
        found = there.at_step(load, step) if there else None
        if found is None:
            return None
        one = copy(self)
        one._upto = {table: found}
        return one

    def loads(self) -> list[str]:
        """Every load that merged into a table here, or began."""
        return self.books.loads()

    def newest(self, load: str) -> Book | None:
        """A load's book: that of its last step, in whichever table it merged into then."""
        tables = [self.catalog.found(name) for name in self.books.tables_of(load)]
        books = [self.books.of_table(table, load) for table in tables if table is not None]
        return max(
            (book for book in (*books, self.books.begun(load)) if book), key=lambda book: book.step, default=None
        )

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none."""
        found = self._table(name)
        if found is None:
            return None
        refuse_others(found)
        return TableInfo(found.rows().schema, bool(found.files()), self._identity(found))

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        found = self._table(name)
        return None if found is None else MergedTable(name, self._identity(found), bool(found.files()))

    def _identity(self, table: IcebergTable) -> str:
        """What tells a table from another one; and from itself, where it was put back behind the last step of a load."""
        for name in table.table.properties:
            book = self.books.of_table(table.table, name.removeprefix(PROPERTY)) if name.startswith(PROPERTY) else None
            if book is not None and 0 < table.newest_step(book.watermark.load) < book.step:
                return f"{table.identity}, put back"
        return table.identity

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as an Iceberg table holds it."""
        return pa.schema([pa.field(one.name, held_as(one.type)) for one in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        table = self._table(name)
        if table is None:
            return
        rows = table.rows()
        for file in table.files():
            found = rows.of(file, only=schema.names)
            columns = [found[one.name].cast(one.type) for one in schema]
            yield from pa.Table.from_arrays(columns, schema=schema).to_batches()

    def begin(self, commit: Commit) -> None:
        """Move the watermark of a load that has no table yet."""
        book = self.book(commit.watermark.load)
        if (book and book.step) != (commit.before and commit.before.step):
            raise moved(commit.watermark.load)
        self.books.begin(followed_by(book, commit, commit.entry, ()))

    def begun(self, commit: Commit, table: str) -> TableCommit:
        """A commit that is to be tried.

        Raises:
            ConfigError: the table is in no namespace.
        """
        space, dot, _ = table.rpartition(".")
        if not dot:
            raise ConfigError(
                f"{self.name}.{table} names no namespace.",
                "A catalogue holds tables in namespaces.",
                f"Write {self.name}.NAMESPACE.{table} in 'into'.",
            )
        self.catalog.make(space)
        if not commit.amends:
            self.books.note_table(commit.watermark.load, table)
        return TableCommit(self.books, commit, table, f"{self.name}.{table}")

    def state(self, made: LakeCommit[Any, Any]) -> IcebergTable | None:
        """The newest version of the table of a commit."""
        found = self._table(made.table)
        if found is not None:
            refuse_others(found)
        return found
