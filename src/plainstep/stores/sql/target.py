"""Merging into a database that SQLAlchemy reaches: rows, watermark and ledger row in one transaction.

Rows are sent into a table of the session's own, and merged from there by their keys: those that are there are updated where
they stand, so that nothing that points to them is touched. Where a statement that makes or changes a table commits what went
before it, tables are made to fit first.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext, suppress
from itertools import count
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.properties import cached_property
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.api import KeyedRows
from plainstep.stores.commit_errors import moved
from plainstep.stores.keyed_rows import SqlRows
from plainstep.stores.merge import IndexedMerge, run
from plainstep.stores.records import Commit, LedgerEntry, TableInfo
from plainstep.stores.sql.bulk import write
from plainstep.stores.sql.catalog import columns_of, comment_of, identity_of, kept_version, sql_of, table_info
from plainstep.stores.sql.table import SqlTable, batches
from plainstep.stores.sql.types import Column, declaration, kind_declared
from plainstep.stores.sql_target import SqlTarget

if TYPE_CHECKING:
    from plainstep.stores.sql.database import SqlDatabase

PREFIX = "plainstep_"
# Numbers for tables of the session's own: commits of several loads share a transaction.
STAGED = count()


class SqlAlchemyTarget(SqlTarget):
    """A database to merge into."""

    def __init__(self, database: SqlDatabase) -> None:
        self.database = database
        self.kept_in = bookkeeping.Books.under(PREFIX, database.dialect)  # type: ignore[misc]  # each database writes its own SQL
        super().__init__()

    def asked(self, sql: Callable[[bookkeeping.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of the tables of watermarks and of steps; none where they are not there yet."""
        if self.database.is_missing:
            return []
        with self.database.opened() as connection:
            version = None if self.found.settled else kept_version(self.database, connection, self.kept_in)
            if version is None and not self.found.settled:
                return []
            kept = self.found.books(lambda: version)
            try:
                return [tuple(row) for row in self.database.run(connection, sql(kept), parameters).fetchall()]
            except (sa.exc.ProgrammingError, sa.exc.OperationalError):
                connection.rollback()
                if _is_there(connection, kept.watermarks):
                    raise
                return []

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        books = self.kept_in
        known = f"SELECT 1 FROM {books.refusals} WHERE load_name = ? AND step = ? AND note = ?"
        with self.database.transaction(self.database.traits.writing) as connection:
            if self.database.first(connection, known, [entry.load, entry.step, entry.note]) is None:
                self.database.run(connection, books.insert_refusal, bookkeeping.entry_values(entry))
                with suppress(sa.exc.IntegrityError):  # another one was quicker
                    self.database.end(connection, "COMMIT")

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none.

        Raises:
            Refused: nothing makes the key unique in it.
        """
        if self.database.is_missing:
            return None
        with self.database.opened() as connection:
            return table_info(self.database, connection, name, key)

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        if self.database.is_missing:
            return None
        with self.database.opened() as connection:
            if not columns_of(self.database, connection, name):
                return None
            found = self.database.first(
                connection, f"SELECT 1 FROM {sql_of(self.database, name)} {self.database.dialect.first(1)}"
            )
            return MergedTable(name, identity_of(self.database, connection, name), found is not None)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as the database would hold it.

        Raises:
            DataError: it has nothing to hold a column.
        """
        held = []
        for field in schema:
            declared = declaration(field, False, self.database.traits)
            held.append((field.name, _held_kind(self.database, field, declared)))
        return pa.schema(held)

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        quoted = self.database.dialect.quoted
        sql = f"SELECT {', '.join(quoted(field.name) for field in schema)} FROM {sql_of(self.database, name)}"
        with self.database.transaction(self.database.traits.reading) as connection:
            known = {column.name: column for column in columns_of(self.database, connection, name)}
            columns = [
                Column(field.name, known[field.name].declared if field.name in known else "", _read_as(known, field))
                for field in schema
            ]
            for batch in batches(connection, self.database, sql, (), columns, name):
                yield batch.cast(schema)

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return SqlRows(SqlTable(self.database, name, {}))

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
            LostConnection: the connection was cut; nothing was written.
        """
        at = self.database
        with self.answered(commits[0], at.url, at.wait) as answer, self._for_writing() as connection:
            merges = [_Merge(connection, at, commit, self.found, self.kept_in) for commit in commits]
            if at.joint is None:
                for merge in merges:
                    merge.prepare()
                connection.commit()
                at.begin(connection, at.traits.writing)
            try:
                run(merges)
                answer.awaited = True
                at.end(connection, "COMMIT")
            except BaseException:
                if not answer.awaited:
                    with suppress(sa.exc.SQLAlchemyError):
                        at.end(connection, "ROLLBACK")
                raise
            finally:
                for merge in merges:
                    merge.drop_staged()

    def _for_writing(self) -> AbstractContextManager[Connection]:
        """The connection that is written by: that in whose transaction was read, if that is so."""
        joint = self.database.joint
        return self.database.opened() if joint is None else nullcontext(joint)


def _held_kind(database: SqlDatabase, field: pa.Field, declared: str) -> pa.DataType:
    """The type in which a column comes back that is declared so."""
    if pa.types.is_decimal(field.type) or not pa.types.is_integer(field.type):
        long = {"large_string": pa.string(), "large_binary": pa.binary(), "float": pa.float64()}
        kind = long.get(str(field.type), field.type)
        return pa.timestamp("us") if "DATETIME(6)" in declared else kind
    if database.traits.columns:
        return kind_declared("", field.name, declared)
    return pa.int16() if declared == "SMALLINT" else pa.int64()


def _read_as(known: dict[str, Column], field: pa.Field) -> pa.DataType:
    """The type in which a column is read that is wanted in another one: its own, from which it is cast."""
    found = known.get(field.name)
    return field.type if found is None or pa.types.is_null(found.kind) else found.kind


def _is_there(connection: Connection, table: str) -> bool:
    return bool(sa.inspect(connection).has_table(table))


class _Merge(IndexedMerge):
    """The five primitives, from a table of the session's own into the target's."""

    def __init__(
        self,
        connection: Connection,
        database: SqlDatabase,
        commit: Commit,
        kept: bookkeeping.FoundBooks,
        books: bookkeeping.Books,
    ) -> None:
        super().__init__(commit, kept)
        self.books = books  # type: ignore[misc]  # each database writes its own SQL
        self.connection, self.database, self.traits = connection, database, database.traits
        self._staged: dict[str, str] = {}
        self._sent: tuple[int, str] = (0, "")

    def prepare(self) -> None:
        """Make every table fit before the transaction, where that could not be part of it.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: a table does not fit.
        """
        if not self.traits.ddl_commits:
            return
        if not self.commit.amends:
            super().make_books()
            self._refuse_moved()
        for _ in self._each(self.commit.parts):
            self._prepare()
            self._make_stage()

    def begin(self) -> None:
        """Move the watermark, and make the tables fit where that was not done before."""
        if self.traits.guard:
            self.execute(self.traits.guard.format(formats=self.books.formats, watermarks=self.books.watermarks))
        if self.traits.ddl_commits:
            if not self.commit.amends:
                self._move_watermark()
            return
        super().begin()
        for _ in self._each(self.commit.parts):
            self._make_stage()

    def _refuse_moved(self) -> None:
        """Before any table is changed: what another step has merged is not this one's to prepare for."""
        load = self.commit.watermark.load
        now = bookkeeping.watermark_of(load, self.database.first(self.connection, self.books.find_watermark, [load]))
        if (now.step if now else None) != (self.commit.before.step if self.commit.before else None):
            raise moved(load)

    def make_books(self) -> None:
        """Make the tables of watermarks and of steps, unless that was done before the transaction."""
        if not self.traits.ddl_commits:
            super().make_books()

    def kept_version(self) -> int | None:
        return kept_version(self.database, self.connection, self.books)

    def sql_of(self, table: str) -> str:
        return sql_of(self.database, table)

    def stamp(self) -> str:
        if not self.traits.comment:
            return ""
        said = comment_of(self.connection, self.part.table) or f"Merged by the load {self.commit.watermark.load}."
        identity = uuid.uuid4().hex
        told = self.database.dialect.string(f"{said} [plainstep {identity}]")
        self.execute(self.traits.comment.format(table=self.table, text=told))
        return identity

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        try:
            return max(int(self.database.run(self.connection, sql, parameters).rowcount), 0)
        except sa.exc.IntegrityError as error:
            if sql.startswith(f"INSERT INTO {self.books.watermarks}"):  # another first step of this load was quicker
                raise moved(self.commit.watermark.load) from error
            raise

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.database.first(self.connection, sql, parameters) is not None

    def table_info(self) -> TableInfo | None:
        return table_info(self.database, self.connection, self.part.table, self.part.key)

    def declaration(self, field: pa.Field) -> str:
        declared = declaration(field, field.name in self.key, self.traits)
        # Each has its own name for the collation that tells blanks at the end.
        exact = "utf8mb4_nopad_bin" if getattr(self.connection.dialect, "is_mariadb", False) else "utf8mb4_0900_bin"
        return declared.replace("utf8mb4_bin", exact)

    def table_constraints(self) -> list[str]:
        return [f"PRIMARY KEY ({', '.join(map(self.dialect.quoted, self.key))})"]

    def widen(self, column: str, declared: str) -> None:
        if self.traits.widening:  # where there is none, types are only names
            super().widen(column, declared)

    @cached_property
    def _mark(self) -> str:
        return "#" if self.database.backend == "mssql" else ""

    def _make_stage(self) -> None:
        """A table of the session's own with the columns of the target's, for its rows to be sent into."""
        name = f"{self._mark}plainstep_staged_{next(STAGED)}"
        self._staged[self.part.table] = name
        self.execute(self.traits.staging.format(staged=name, table=self.table))

    def drop_staged(self) -> None:
        """Let go of these tables, where they do not go with the transaction: the connection is used again."""
        if not self.traits.drop_staging:
            return
        for name in self._staged.values():
            with suppress(sa.exc.SQLAlchemyError):  # it may have gone with a transaction that was rolled back
                self.execute(self.traits.drop_staging.format(staged=name))
                self.connection.commit()

    def _stage(self, rows: pa.Table) -> str:
        """Send rows, unless they are those that were sent last; return the table's name."""
        name = self._staged[self.part.table]
        if self._sent != (id(rows), name):
            self.execute(f"DELETE FROM {name}")
            write(self.database, self.connection, name, rows.column_names, iter(rows.to_batches()))
            self._sent = (id(rows), name)
            self._kept_rows = rows  # so that no other rows get its number
            self._refuse_equal_keys(name, rows)
        return name

    def _refuse_equal_keys(self, staged: str, rows: pa.Table) -> None:
        """Refuse keys that the database takes for equal, and that are not: two rows would become one.

        Raises:
            Refused: there are two.
        """
        texts = [name for name in self.key if pa.types.is_string(rows.schema.field(name).type)]
        if not texts or not self.traits.exact:
            return
        found = self.database.first(self.connection, self._equal_within(staged)) or self.database.first(
            self.connection, self._equal_beside(staged, texts)
        )
        if found is not None:
            raise Refused(
                f"{self.part.table} takes the key {' and '.join(map(repr, found))} for equal to another that is not the same.",
                f"Its column {texts[0]} does not compare texts letter by letter, and two rows would become one.",
                "Give the column a binary collation that tells blanks at the end; or merge into another table ('into').",
            )

    def _equal_within(self, staged: str) -> str:
        """The query for keys that came more than once, to the database."""
        keys = ", ".join(map(self.dialect.quoted, self.key))
        return (
            f"SELECT {keys} FROM {staged} GROUP BY {keys} HAVING count(*) > 1 ORDER BY {keys} {self.dialect.first(1)}"
        )

    def _equal_beside(self, staged: str, texts: Sequence[str]) -> str:
        """The query for keys that are equal to others of the table, to the database, and not the same."""
        on = " AND ".join(f"t.{name} = s.{name}" for name in map(self.dialect.quoted, self.key))
        exact, first = self.traits.exact, self.dialect.quoted(texts[0])
        differs = " OR ".join(
            f"{exact.format(f's.{name}')} <> {exact.format(f't.{name}')}" for name in map(self.dialect.quoted, texts)
        )
        tail = f"WHERE {differs} ORDER BY s.{first} {self.dialect.first(1)}"
        return f"SELECT s.{first}, t.{first} FROM {staged} s JOIN {self.table} t ON {on} {tail}"

    def _on(self) -> str:
        quoted = self.dialect.quoted
        target = "t.{}" if self.traits.aliased else f"{self.table}.{{}}"
        return " AND ".join(f"{target.format(quoted(name))} = s.{quoted(name)}" for name in self.key)

    def drop(self, keys: pa.Table) -> int:
        return self.execute(self.traits.delete.format(table=self.table, staged=self._stage(keys), on=self._on()))

    def update(self, rows: pa.Table) -> int:
        if not self.others(rows):
            return self._there(rows)
        return self._update(rows, "s.{name}")

    def _there(self, rows: pa.Table) -> int:
        """How many of some rows are there, of which there is nothing but their keys."""
        found = self.database.first(
            self.connection,
            f"SELECT count(*) FROM {self._stage(rows)} s JOIN {self.table} t ON {self._on().replace(f'{self.table}.', 't.')}",
        )
        return int(found[0]) if found else 0

    def _update(self, rows: pa.Table, value: str) -> int:
        """Set each column that is not in the key to a value, where the row is there."""
        old = "t.{name}" if self.traits.aliased else f"{self.table}.{{name}}"
        left = "t.{name}" if self.database.backend in ("mysql", "mariadb") else "{name}"
        names = map(self.dialect.quoted, self.others(rows))
        sets = ", ".join(
            f"{left.format(name=name)} = {value.replace('{old}', old).format(name=name)}" for name in names
        )
        return self.execute(
            self.traits.update.format(table=self.table, staged=self._stage(rows), on=self._on(), sets=sets)
        )

    def insert_new(self, rows: pa.Table) -> int:
        names = ", ".join(map(self.dialect.quoted, rows.column_names))
        on = " AND ".join(f"t.{name} = s.{name}" for name in map(self.dialect.quoted, self.key))
        return self.execute(
            f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {self._stage(rows)} s "
            f"WHERE NOT EXISTS (SELECT 1 FROM {self.table} t WHERE {on})"
        )

    def upsert(self, rows: pa.Table) -> None:
        if self.others(rows):
            self._update(rows, "s.{name}")
        self.insert_new(rows)

    def add(self, rows: pa.Table) -> int:
        self._update(rows, "coalesce({old}, 0) + s.{name}")
        self.insert_new(rows)
        return int(rows.num_rows)

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        return write(self.database, self.connection, self.table, schema.names, batches)
