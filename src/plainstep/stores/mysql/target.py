"""Merging into MariaDB and MySQL: rows, watermark and ledger row in one transaction.

There, a statement that makes or changes a table commits whatever went before it. So tables are made to fit first; should the
transaction fail then, they have columns that nothing was written into, and the next step finds them as it wants them.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from itertools import count
from typing import TYPE_CHECKING, Any

import pymysql
from pymysql.constants import ER

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.api import KeyedRows
from plainstep.stores.commit_errors import moved
from plainstep.stores.keyed_rows import SqlRows
from plainstep.stores.merge import IndexedMerge, run
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.connection import number_of
from plainstep.stores.mysql.dialect import DIALECT
from plainstep.stores.mysql.load_data import write
from plainstep.stores.mysql.rows import read
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.mysql.types import Column, arrow_type, declaration
from plainstep.stores.records import Commit, LedgerEntry, TableInfo
from plainstep.stores.sql_target import SqlTarget

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire

quoted, text = DIALECT.quoted, DIALECT.string
BOOKS = bookkeeping.Books.under(catalog.OURS, DIALECT)
# Numbers for temporary tables: commits of several loads share a transaction.
STAGED = count()
# What stands in a table's comment for its identity: it goes with the table, also under another name, and with no copy.
IDENTITY = re.compile(r"\[plainstep ([0-9a-f]{32})\]")
# How texts are compared letter by letter, blanks at their end included: MariaDB's name of it, and MySQL's.
EXACT = ("utf8mb4_nopad_bin", "utf8mb4_0900_bin")


class MysqlTarget(SqlTarget):
    """A database to merge into."""

    kept_in = BOOKS

    def __init__(self, database: MysqlDatabase) -> None:
        super().__init__()
        self.database = database

    def _version(self) -> int | None:
        with self.database.opened() as connection:
            return kept_version(connection)

    def asked(self, sql: Callable[[bookkeeping.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of the tables of watermarks and of steps; none where they are not there yet."""
        query = sql(self.found.books(self._version))
        with self.database.opened() as connection:
            try:
                return connection.run(query, parameters)[1]
            except pymysql.ProgrammingError as error:
                if number_of(error) != ER.NO_SUCH_TABLE:
                    raise
                return []

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        with self.database.opened() as connection:
            connection.run(BOOKS.insert_refusal, bookkeeping.entry_values(entry))

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none.

        Raises:
            Refused: nothing makes the key unique in it, or it is not a table.
        """
        with self.database.opened() as connection:
            return table_info(connection, self.database.name, name, key)

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        with self.database.opened() as connection:
            found = catalog.find(connection, name)
            if found is None:
                return None
            return MergedTable(
                name, _identity_in(found.comment), connection.first(f"SELECT 1 FROM {found.sql} LIMIT 1") is not None
            )

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as the database would hold it.

        Raises:
            DataError: it has nothing to hold a column.
        """
        kinds = [(field, arrow_type(declaration(field, False, ""))) for field in schema]
        return pa.schema([pa.field(field.name, kind, metadata=field.metadata) for field, kind in kinds])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        with self.database.opened() as connection:
            found = catalog.find(connection, name)
            if found is None:
                return
            known = {column.name: column for column in found.columns}
            columns = [known.get(field.name, Column(field.name, "", field.type)) for field in schema]
            selected = ", ".join(column.read_sql(quoted(column.name)) for column in columns)
            for batch in read(connection, f"SELECT {selected} FROM {found.sql}", columns, name):
                yield batch.cast(schema)

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return SqlRows(MysqlTable(self.database, name, {}))

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
            LostConnection: the connection was cut; nothing was written.
        """
        at = self.database
        with self.answered(commits[0], at.url, at.wait) as answer, at.opened() as connection:
            merges = [_Merge(connection, at, commit, self.found) for commit in commits]
            for merge in merges:
                merge.prepare()
            try:
                connection.run("START TRANSACTION")
                run(merges)
                answer.awaited = True
                connection.run("COMMIT")
            except BaseException:
                if connection.open and not answer.awaited:
                    with suppress(pymysql.Error):
                        connection.run("ROLLBACK")
                raise
            finally:
                for merge in merges:
                    merge.drop_staged()


def kept_version(connection: Wire) -> int | None:
    """The format of the tables of watermarks and of steps, or None if they are not there yet."""
    sql = "SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_name IN (%s, %s)"
    there = {name for (name,) in connection.run(sql, bookkeeping.telling(BOOKS))[1]}
    return bookkeeping.version_of(BOOKS, there, connection.first)


def table_info(connection: Wire, place: str, name: str, key: tuple[str, ...]) -> TableInfo | None:
    """A table as it stands, or None if there is none.

    Raises:
        Refused: nothing makes the key unique in it, or it is not a table whose rows are written in transactions.
    """
    found = catalog.find(connection, name)
    if found is None:
        return None
    if not found.is_table:
        raise Refused(f"{place}.{name} is not a table that rows can be merged into.", "", "Name a table after 'into'.")
    if found.engine.lower() != "innodb":
        raise Refused(
            f"{place}.{name} is kept by {found.engine}, which knows no transactions.",
            "Rows and watermark could not be written together.",
            f"ALTER TABLE {found.sql} ENGINE = InnoDB;",
        )
    if key and set(key) <= set(found.names) and not any(set(unique) == set(key) for unique in found.uniques):
        columns = ", ".join(quoted(column) for column in key)
        raise Refused(
            f"Nothing makes {', '.join(key)} unique in {place}.{name}.",
            "Rows are merged by key: two rows with one key would stay two.",
            f"ALTER TABLE {found.sql} ADD UNIQUE ({columns});",
        )
    rows = connection.first(f"SELECT 1 FROM {found.sql} LIMIT 1")
    fields = [column.field for column in found.columns if not column.generated]
    return TableInfo(pa.schema(fields), rows is not None, _identity_in(found.comment))


def _identity_in(comment: str) -> str:
    """What tells a table from another one of its name, or empty."""
    found = IDENTITY.search(comment)
    return found[1] if found else ""


class _Merge(IndexedMerge):
    """The five primitives, in the words of MariaDB and MySQL: rows are sent into a temporary table and merged from there."""

    books = BOOKS

    def __init__(self, connection: Wire, database: MysqlDatabase, commit: Commit, kept: bookkeeping.FoundBooks) -> None:
        super().__init__(commit, kept)
        self.connection, self.database = connection, database
        self._staged: list[str] = []
        self._columns: dict[str, dict[str, Column]] = {}
        self._only_unique: dict[str, bool] = {}

    def prepare(self) -> None:
        """Make every table fit, before the transaction begins.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: a table does not fit.
        """
        if not self.commit.amends:
            super().make_books()
            self._refuse_moved()
        for part in self._each(self.commit.parts):
            self._prepare()
            found = catalog.existing(self.connection, part.table, self.database.name)
            self._columns[part.table] = {column.name: column for column in found.columns}
            apart = any(set(unique) != set(part.key) for unique in found.uniques)
            self._only_unique[part.table] = not apart and not found.other_uniques

    def _refuse_moved(self) -> None:
        """Before any table is changed: what another step has merged is not this one's to prepare for."""
        row = self.connection.first(self.books.find_watermark, [self.commit.watermark.load])
        now = bookkeeping.watermark_of(self.commit.watermark.load, row)
        if (now.step if now else None) != (self.commit.before.step if self.commit.before else None):
            raise moved(self.commit.watermark.load)

    def begin(self) -> None:
        """Move the watermark. The tables fit already."""
        if not self.commit.amends:
            self._move_watermark()

    def make_books(self) -> None:
        """Nothing to do: they were made before the transaction."""

    def kept_version(self) -> int | None:
        return kept_version(self.connection)

    def stamp(self) -> str:
        found = catalog.existing(self.connection, self.part.table, self.database.name)
        said = found.comment or f"Merged by the load {self.commit.watermark.load}."
        identity = uuid.uuid4().hex
        self.execute(f"ALTER TABLE {self.table} COMMENT = {text(f'{said} [plainstep {identity}]')}")
        return identity

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        try:
            return self.connection.run(sql, parameters)[0]
        except pymysql.IntegrityError as error:
            ours = sql.startswith(f"INSERT INTO {self.books.watermarks}")
            if ours and number_of(error) == ER.DUP_ENTRY:  # another first step of this load was quicker
                raise moved(self.commit.watermark.load) from error
            raise

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.connection.first(sql, parameters) is not None

    def table_info(self) -> TableInfo | None:
        return table_info(self.connection, self.database.name, self.part.table, self.part.key)

    def declaration(self, field: pa.Field) -> str:
        return declaration(field, field.name in self.key, _exact_texts(self.connection))

    def table_constraints(self) -> list[str]:
        return [f"PRIMARY KEY ({', '.join(quoted(name) for name in self.key)})"]

    def _stage(self, rows: pa.Table) -> str:
        """Send rows into a temporary table of the target's own types; return its name."""
        name = f"plainstep_staged_{next(STAGED)}"
        names = ", ".join(quoted(column) for column in rows.column_names)
        self.execute(f"CREATE TEMPORARY TABLE {name} AS SELECT {names} FROM {self.table} LIMIT 0")
        self._staged.append(name)
        self._write_into(name, rows.column_names, iter(rows.to_batches()))
        return name

    def _write_into(self, into: str, names: Sequence[str], batches: Iterator[pa.RecordBatch]) -> int:
        declared = {name: column.declared for name, column in self._columns[self.part.table].items()}
        return write(self.connection, into, names, declared, batches)

    def drop_staged(self) -> None:
        """Let go of the temporary tables."""
        if self._staged and self.connection.open:
            with suppress(pymysql.Error):
                self.connection.run(f"DROP TEMPORARY TABLE IF EXISTS {', '.join(self._staged)}")

    def _same_key(self) -> str:
        return " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in self.key)

    def _keyed(self, rows: pa.Table) -> str:
        """Stage rows that are found by their key.

        Raises:
            Refused: the database takes two keys for equal that are not.
        """
        staged = self._stage(rows)
        loose = [name for name in self.key if self._is_loose(self._columns[self.part.table][name])]
        if loose:
            self._refuse_equal_keys(staged, loose)
        return staged

    def _is_loose(self, column: Column) -> bool:
        """Whether texts of a column are equal that are not the same."""
        return bool(column.collation) and column.collation not in EXACT

    def _refuse_equal_keys(self, staged: str, loose: list[str]) -> None:
        key = ", ".join(map(quoted, self.key))
        shown = ", ".join(f"min(CAST({quoted(name)} AS BINARY)), max(CAST({quoted(name)} AS BINARY))" for name in loose)
        differs = " OR ".join(
            f"min(CAST({quoted(name)} AS BINARY)) <> max(CAST({quoted(name)} AS BINARY))" for name in loose
        )
        row = self.connection.first(f"SELECT {shown} FROM {staged} GROUP BY {key} HAVING {differs} LIMIT 1")
        if row is None:
            both = ", ".join(f"CAST(s.{quoted(name)} AS BINARY), CAST(t.{quoted(name)} AS BINARY)" for name in loose)
            other = " OR ".join(
                f"CAST(s.{quoted(name)} AS BINARY) <> CAST(t.{quoted(name)} AS BINARY)" for name in loose
            )
            row = self.connection.first(
                f"SELECT {both} FROM {staged} s JOIN {self.table} t ON {self._same_key()} WHERE {other} LIMIT 1"
            )
        if row is not None:
            told = [value.decode(errors="replace") if isinstance(value, bytes) else value for value in row]
            name, one, two = next(pair for pair in zip(loose, told[::2], told[1::2], strict=True) if pair[1] != pair[2])
            column = self._columns[self.part.table][name]
            raise Refused(
                f"{self.part.table} takes the keys {one!r} and {two!r} for equal: {column.name} is compared by {column.collation}.",
                "Two rows would become one.",
                f"ALTER TABLE {self.table} MODIFY {quoted(column.name)} {column.declared} {_exact_texts(self.connection)} NOT NULL;",
            )

    def drop(self, keys: pa.Table) -> int:
        staged = self._keyed(keys)
        return self.execute(f"DELETE t FROM {self.table} t JOIN {staged} s ON {self._same_key()}")

    def put(self, new: pa.Table, known: pa.Table) -> int:
        if not known.num_rows or not self._only_unique[self.part.table]:
            return super().put(new, known)
        # Twice as fast as an UPDATE, where no other index can take a row for another one.
        staged, names = self._keyed(known), ", ".join(quoted(name) for name in known.column_names)
        first, *rest = map(quoted, self.others(known) or self.key)
        # The server does not tell a row that was inserted from one that stays as it is: so those found are counted as they are.
        sets = [f"{first} = IF((@plainstep_found := @plainstep_found + 1) IS NULL, NULL, VALUES({first}))"]
        sets += [f"{name} = VALUES({name})" for name in rest]
        self.execute("SET @plainstep_found = 0")
        self.execute(
            f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {staged} ON DUPLICATE KEY UPDATE {', '.join(sets)}"
        )
        row = self.connection.first("SELECT @plainstep_found")
        self.odd += known.num_rows - int(row[0] if row else 0)
        return super().put(new, known.slice(0, 0)) + int(known.num_rows)

    def update(self, rows: pa.Table) -> int:
        if not self.others(rows):
            return self.insert_new(rows)
        return self._update(self._keyed(rows), rows, "s.{name}")

    def _update(self, staged: str, rows: pa.Table, value: str) -> int:
        """Set each column that is not in the key to a value, where the row is there."""
        sets = ", ".join(f"t.{name} = {value.format(name=name)}" for name in map(quoted, self.others(rows)))
        return self.execute(f"UPDATE {self.table} t JOIN {staged} s ON {self._same_key()} SET {sets}")

    def insert_new(self, rows: pa.Table) -> int:
        return self._insert(self._keyed(rows), rows)

    def _insert(self, staged: str, rows: pa.Table) -> int:
        """Insert the rows whose key is not there."""
        names = ", ".join(quoted(name) for name in rows.column_names)
        there = f"EXISTS (SELECT 1 FROM {self.table} t WHERE {self._same_key()})"
        return self.execute(f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {staged} s WHERE NOT {there}")

    def upsert(self, rows: pa.Table) -> None:
        self._either(rows, "s.{name}")

    def add(self, rows: pa.Table) -> int:
        self._either(rows, "coalesce(t.{name}, 0) + s.{name}")
        return int(rows.num_rows)

    def _either(self, rows: pa.Table, value: str) -> None:
        """Update the rows that are there, and insert those that are not.

        Not by ON DUPLICATE KEY: that takes a row for another one that is like it by any unique index.
        """
        staged = self._keyed(rows)
        if self.others(rows):
            self._update(staged, rows, value)
        self._insert(staged, rows)

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        return self._write_into(self.table, schema.names, batches)


def _exact_texts(connection: Wire) -> str:
    """What makes this server compare texts letter by letter."""
    return f"CHARACTER SET utf8mb4 COLLATE {EXACT[connection.is_mysql]}"
