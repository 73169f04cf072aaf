"""Merging into PostgreSQL: rows, watermark and ledger row in one transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import count
from typing import TYPE_CHECKING, Any

import psycopg

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.sql.literals import quoted, text
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.api import KeyedRows
from plainstep.stores.commit_errors import moved
from plainstep.stores.keyed_rows import SqlRows
from plainstep.stores.merge import IndexedMerge, run
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.copy import read, write
from plainstep.stores.postgresql.dialect import DIALECT
from plainstep.stores.postgresql.table import PostgresqlTable
from plainstep.stores.postgresql.types import Column, arrow_type, declaration
from plainstep.stores.records import Commit, LedgerEntry, TableInfo
from plainstep.stores.sql_target import SqlTarget

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

BOOKS = bookkeeping.Books.under("plainstep.", DIALECT)
KEPT = tuple(dict.fromkeys((*BOOKS.tables, *BOOKS.in_format(1).tables)))
# Whoever makes the schema and tables of watermarks holds this lock, so that two at once do not both try.
MAKING = 7_025_961_184
# Numbers for temporary tables: commits of several loads share a transaction.
STAGED = count()
# Rows to merge are found by the index unless they are a good part of the table. With the server's default cost of a
# random page, made for turning disks, it read a whole table of 2,000,000 rows for 10,000 (measured: four times slower).
BEGIN = "BEGIN; SET LOCAL random_page_cost = 1.1"


class PostgresqlTarget(SqlTarget):
    """A PostgreSQL database to merge into."""

    kept_in = BOOKS

    def __init__(self, database: PostgresqlDatabase) -> None:
        super().__init__()
        self.database = database
        self._ours = False  # whether nobody could put anything into the tables of watermarks and of steps

    def _version(self) -> int | None:
        with self.database.opened() as connection, connection.transaction():
            is_own = trust.held(connection, *KEPT)
            version = kept_version(connection)
            self._ours = is_own and version is not None
            return version

    @contextmanager
    def _as_they_are(self, connection: Connection) -> Iterator[None]:
        """Meanwhile, nobody else puts anything into the tables of watermarks and of steps."""
        if self._ours:
            yield
            return
        with connection.transaction():
            trust.held(connection, *KEPT)
            yield

    def asked(self, sql: Callable[[bookkeeping.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of the tables of watermarks and of steps; none where they are not there yet."""
        query = sql(self.found.books(self._version))
        with self.database.opened() as connection:
            try:
                with self._as_they_are(connection):
                    return connection.execute(query, parameters).fetchall()
            except psycopg.errors.UndefinedTable:
                return []

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        with self.database.opened() as connection, connection.transaction():
            self._hold(connection)
            connection.execute(BOOKS.insert_refusal, bookkeeping.entry_values(entry))

    def _hold(self, connection: Connection) -> None:
        """Keep the tables of watermarks and of steps as they are until the transaction ends."""
        if not self._ours:
            trust.held(connection, *KEPT, mode="ROW EXCLUSIVE")

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none.

        Raises:
            Refused: nothing makes the key unique in it, or it is not a table.
        """
        with self.database.opened() as connection:
            return table_info(connection, self.database.name, name, key)

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        table = catalog.sql_of(catalog.parts_of(name))
        with self.database.opened() as connection:
            row = connection.execute("SELECT to_regclass(%s)::oid::text", [table]).fetchone()
            if row is None or row[0] is None:
                return None
            rows = connection.execute(f"SELECT 1 FROM {table} LIMIT 1").fetchone()
            return MergedTable(name, row[0], rows is not None)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as PostgreSQL would hold it.

        Raises:
            DataError: PostgreSQL has nothing to hold a column.
        """

        fields = []
        for field in schema:
            native = declaration(field)
            kind = arrow_type(native)
            fields.append(pa.field(field.name, kind, metadata=field.metadata))
        return pa.schema(fields)

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        columns = [Column(field.name, str(field.type), field.type) for field in schema]
        selected = ", ".join(quoted(field.name) for field in schema)
        with self.database.opened() as connection:
            table = catalog.find(connection, name)
            if table is None:
                return
            for batch in read(connection, f"SELECT {selected} FROM {table.sql}", columns, name):
                yield batch.cast(schema)

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return SqlRows(PostgresqlTable(self.database, name, {}))

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
            LostConnection: the connection was cut; nothing was written.
        """
        at = self.database
        with self.answered(commits[0], at.url, at.wait) as answer, at.opened() as connection:
            try:
                connection.execute(BEGIN)
                self._hold(connection)
                run([_Merge(connection, at, commit, self.found) for commit in commits])
            except BaseException:
                if not connection.closed:
                    connection.execute("ROLLBACK")
                raise
            answer.awaited = True
            connection.execute("COMMIT")


def kept_version(connection: Connection) -> int | None:
    """The format of the tables of watermarks and of steps, or None if they are not there yet."""
    there = trust.existing(connection, bookkeeping.telling(BOOKS))
    return bookkeeping.version_of(BOOKS, there, lambda query: connection.execute(query).fetchone())


def table_info(connection: Connection, place: str, name: str, key: tuple[str, ...]) -> TableInfo | None:
    """A table as it stands, or None if there is none.

    Raises:
        Refused: nothing makes the key unique in it, or it is not a table.
    """
    table = catalog.find(connection, name)
    if table is None:
        return None
    if table.kind not in ("r", "p"):
        raise Refused(f"{place}.{name} is not a table that rows can be merged into.", "", "Name a table after 'into'.")
    catalog.refuse_hidden_rows(connection, table, f"{place}.{name}")
    catalog.refuse_inherited(table, f"{place}.{name}")
    if trust.is_superuser(connection):
        trust.held(connection, table.sql, mode="ROW EXCLUSIVE")
    if key and set(key) <= set(table.names) and not any(set(unique) == set(key) for unique in table.uniques):
        columns = ", ".join(quoted(column) for column in key)
        raise Refused(
            f"Nothing makes {', '.join(key)} unique in {place}.{name}.",
            "Rows are merged by key: two rows with one key would stay two.",
            f"CREATE UNIQUE INDEX ON {table.sql} ({columns});",
        )
    rows = connection.execute(f"SELECT 1 FROM {table.sql} LIMIT 1").fetchone()
    fields = [column.field for column in table.columns if column.name not in table.generated]
    return TableInfo(pa.schema(fields), rows is not None, str(table.oid))


class _Merge(IndexedMerge):
    """The five primitives, in PostgreSQL's words: rows are copied into a temporary table and merged from there."""

    books = BOOKS

    def __init__(
        self, connection: Connection, database: PostgresqlDatabase, commit: Commit, kept: bookkeeping.FoundBooks
    ) -> None:
        super().__init__(commit, kept)
        self.connection, self.database = connection, database

    def sql_of(self, table: str) -> str:
        """A table's name, as SQL writes it."""
        return catalog.sql_of(catalog.parts_of(table))

    def make_books(self) -> None:
        if self._are_made() or self.kept_version() == bookkeeping.FORMAT:
            return
        self.execute(f"SELECT pg_advisory_xact_lock({MAKING})")
        if self._one("SELECT to_regnamespace('plainstep')") == (None,):
            self.execute("CREATE SCHEMA plainstep")
        super().make_books()

    def kept_version(self) -> int | None:
        return kept_version(self.connection)

    def stamp(self) -> str:
        """Nothing to do: a table's number tells it apart."""
        return str(self._one(f"SELECT {text(self.table)}::regclass::oid::text")[0])

    def _one(self, sql: str) -> tuple[Any, ...]:
        row = self.connection.execute(sql).fetchone()
        assert row is not None
        return tuple(row)

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        try:
            return self.connection.execute(sql, parameters or None).rowcount
        except psycopg.errors.UniqueViolation as error:
            if error.diag.schema_name == "plainstep":  # another first step of this load was quicker
                raise moved(self.commit.watermark.load) from error
            raise

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.connection.execute(sql, parameters).fetchone() is not None

    def table_info(self) -> TableInfo | None:
        return table_info(self.connection, self.database.name, self.part.table, self.part.key)

    def declaration(self, field: pa.Field) -> str:
        return declaration(field)

    def table_constraints(self) -> list[str]:
        return [f"PRIMARY KEY ({', '.join(quoted(name) for name in self.key)})"]

    def _stage(self, rows: pa.Table) -> str:
        """Copy rows into a temporary table of the target's own types; return its name."""
        name = f"plainstep_staged_{next(STAGED)}"
        staged = f"pg_temp.{name}"
        names = ", ".join(quoted(name) for name in rows.column_names)
        self.execute(f"CREATE TEMP TABLE {name} ON COMMIT DROP AS SELECT {names} FROM {self.table} LIMIT 0")
        self._copy(staged, rows.column_names, iter(rows.to_batches()))
        return staged

    def _copy(self, into: str, names: Sequence[str], batches: Iterator[pa.RecordBatch]) -> int:
        return write(self.connection, into, names, batches, quoted)

    def _same_key(self) -> str:
        return " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in self.key)

    def drop(self, keys: pa.Table) -> int:
        staged = self._stage(keys)
        return self.execute(f"DELETE FROM {self.table} t USING {staged} s WHERE {self._same_key()}")

    def update(self, rows: pa.Table) -> int:
        sets = ", ".join(f"{quoted(name)} = s.{quoted(name)}" for name in self.others(rows))
        if not sets:
            return self.insert_new(rows)
        staged = self._stage(rows)
        return self.execute(f"UPDATE {self.table} t SET {sets} FROM {staged} s WHERE {self._same_key()}")

    def insert_new(self, rows: pa.Table) -> int:
        return self._insert(rows, "NOTHING")

    def upsert(self, rows: pa.Table) -> None:
        sets = ", ".join(f"{quoted(name)} = excluded.{quoted(name)}" for name in self.others(rows))
        self._insert(rows, f"UPDATE SET {sets}" if sets else "NOTHING")

    def add(self, rows: pa.Table) -> int:
        sets = [
            f"{quoted(name)} = coalesce(t.{quoted(name)}, 0) + excluded.{quoted(name)}" for name in self.others(rows)
        ]
        return self._insert(rows, f"UPDATE SET {', '.join(sets)}")

    def _insert(self, rows: pa.Table, on_conflict: str) -> int:
        names = ", ".join(quoted(name) for name in rows.column_names)
        key = ", ".join(quoted(name) for name in self.key)
        staged = self._stage(rows)
        return self.execute(
            f"INSERT INTO {self.table} AS t ({names}) OVERRIDING SYSTEM VALUE SELECT {names} FROM {staged} "
            f"ON CONFLICT ({key}) DO {on_conflict}"
        )

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        return self._copy(self.table, schema.names, batches)
