"""Merging into SQLite: rows, watermark and ledger row in one transaction."""

from __future__ import annotations

import sqlite3
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from plainstep.core.arrays import flat
from plainstep.core.positions import MergedTable
from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.sql.literals import literal, quoted
from plainstep.stores import ledger as books
from plainstep.stores.api import KeyedRows
from plainstep.stores.keyed_rows import SqlRows
from plainstep.stores.merge import IndexedMerge, run
from plainstep.stores.misfit import Misfit
from plainstep.stores.records import Commit, LedgerEntry, TableInfo
from plainstep.stores.sql_target import SqlTarget
from plainstep.stores.sqlite import catalog
from plainstep.stores.sqlite.connection import fetched, rows_if_there
from plainstep.stores.sqlite.table import SqliteTable
from plainstep.stores.sqlite.types import Column, arrow_type, declaration, to_arrow, to_sqlite

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase

# Rows fetched at a time: so many that their values are still in the cache when they become columns (measured).
BATCH = 1 << 11

# From so many rows on, it is worth looking for columns that hold one value throughout.
WORTH_WRITING = 4


class SqliteTarget(SqlTarget):
    """A SQLite file to merge into. Made when it is not there."""

    def __init__(self, database: SqliteDatabase) -> None:
        super().__init__()
        self.database = database

    def asked(self, sql: Callable[[books.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of the tables of watermarks and of steps; none where they are not there yet."""
        with self._reading() as connection:
            if connection is None:
                return []
            kept = self.found.books(lambda: kept_version(connection))
            query = sql(kept)
            [wanted, *_] = (name for name in kept.tables if f"FROM {name}" in query)
            return rows_if_there(connection, wanted, query, parameters) or []

    @contextmanager
    def _reading(self) -> Iterator[sqlite3.Connection | None]:
        """A connection, or None where there is no file or no table yet."""
        if not self.database.path.exists():
            yield None
            return
        with self.database.opened() as connection:
            yield connection

    def _rows(self, table: str, sql: str, parameters: Sequence[Any]) -> list[Any]:
        with self._reading() as connection:
            return (rows_if_there(connection, table, sql, parameters) or []) if connection else []

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        with self.database.opened("rwc") as connection:
            connection.execute(books.EMBEDDED.insert_refusal, books.entry_values(entry))

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none.

        Raises:
            Refused: nothing makes the key unique in it.
        """
        with self._reading() as connection:
            return table_info(connection, self.database.name, name, key) if connection else None

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        with self._reading() as connection:
            table = catalog.find(connection, name) if connection else None
            if connection is None or table is None:
                return None
            row = connection.execute(f"SELECT 1 FROM {quoted(table.name)} LIMIT 1").fetchone()
            return MergedTable(name, identity_of(connection, table.name), row is not None)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as SQLite would hold it."""

        return pa.schema(
            [(field.name, arrow_type("the target", field.name, declaration(field.type))) for field in schema]
        )

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""

        columns = [Column(field.name, str(field.type), field.type) for field in schema]
        selected = ", ".join(column.read_sql(quoted(column.name)) for column in columns)
        with self._reading() as connection:
            if connection is None:
                return
            cursor = connection.execute(f"SELECT {selected} FROM {quoted(name)}")
            for rows in fetched(cursor, BATCH):
                arrays = []
                for column, values in zip(columns, zip(*rows, strict=True), strict=True):
                    try:
                        arrays.append(to_arrow(values, column.kind))
                    except Misfit as misfit:
                        raise Refused(
                            f"The column {column.name} of {self.database.name}.{name} holds {values[misfit.index]!r}, "
                            f"which is not a valid {column.kind}.",
                            "Something other than this load wrote it.",
                            "Fix the value and run the command again.",
                        ) from None
                yield pa.record_batch(arrays, schema=schema)

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return SqlRows(SqliteTable(self.database, name, {}))

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
        """
        with self.database.opened("rwc") as connection:
            # The write lock at once: a transaction that begins by reading cannot be sure to get it later, and would fail then.
            connection.execute("BEGIN IMMEDIATE")
            try:
                run([_Merge(connection, self.database.name, commit, self.found) for commit in commits])
                connection.execute("COMMIT")
            except BaseException:
                if connection.in_transaction:
                    connection.execute("ROLLBACK")
                raise


def kept_version(connection: sqlite3.Connection) -> int | None:
    """The format of the tables of watermarks and of steps, or None if they are not there yet."""
    kept = books.EMBEDDED
    sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name IN (?, ?)"
    there = {name for (name,) in connection.execute(sql, books.telling(kept))}
    return books.version_of(kept, there, lambda query: connection.execute(query).fetchone())


# An index that is named for this stands for a table's identity: it goes with the table, also under another name, and
# holds no row, so that nothing is slower for it. (SQLite itself tells tables apart by their names alone.)
IDENTITY = "plainstep_identity_"


def identity_of(connection: sqlite3.Connection, table: str) -> str:
    """What tells a table from another one of its name, or empty."""
    rows = connection.execute(
        "SELECT name FROM sqlite_schema WHERE type = 'index' AND lower(tbl_name) = lower(?) AND substr(name, 1, ?) = ?",
        [table, len(IDENTITY), IDENTITY],
    )
    return min((name.removeprefix(IDENTITY) for (name,) in rows), default="")


def table_info(connection: sqlite3.Connection, place: str, name: str, key: tuple[str, ...]) -> TableInfo | None:
    """A table as it stands, or None if there is none.

    Raises:
        Refused: nothing makes the key unique in it.
    """

    table = catalog.find(connection, name)
    if table is None:
        return None
    known = key and set(key) <= set(table.names)
    if known and not any(unique.complete and set(unique.columns) == set(key) for unique in table.uniques):
        columns = ", ".join(quoted(column) for column in key)
        raise Refused(
            f"Nothing makes {', '.join(key)} unique in {place}.{table.name}.",
            "Rows are merged by key: two rows with one key would stay two.",
            f"CREATE UNIQUE INDEX {quoted(table.name + '_key')} ON {quoted(table.name)} ({columns});",
        )
    kinds = [(column.name, arrow_type(table.name, column.name, column.declared)) for column in table.columns]
    rows = connection.execute(f"SELECT 1 FROM {quoted(table.name)} LIMIT 1").fetchone()
    return TableInfo(pa.schema(kinds), rows is not None, identity_of(connection, table.name))


class _Merge(IndexedMerge):
    """The five primitives, in SQLite's words."""

    def __init__(self, connection: sqlite3.Connection, place: str, commit: Commit, kept: books.FoundBooks) -> None:
        super().__init__(commit, kept)
        self.connection, self.place = connection, place

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        return self.connection.execute(sql, parameters).rowcount

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.connection.execute(sql, parameters).fetchone() is not None

    def table_info(self) -> TableInfo | None:
        return table_info(self.connection, self.place, self.part.table, self.part.key)

    def kept_version(self) -> int | None:
        return kept_version(self.connection)

    def stamp(self) -> str:
        identity = uuid.uuid4().hex
        first = quoted(self.part.schema.names[0])
        self.execute(f"CREATE INDEX {quoted(IDENTITY + identity)} ON {self.table} ({first}) WHERE 0")
        return identity

    def declaration(self, field: pa.Field) -> str:
        return declaration(field.type)

    def table_constraints(self) -> list[str]:
        return [f"PRIMARY KEY ({', '.join(quoted(name) for name in self.key)})"]

    def widen(self, column: str, declared: str) -> None:
        """Declare a column anew. A column holds whatever is put there, but is read as what it is declared to be.

        Raises:
            Refused: it cannot be, because a key, an index or something else needs it as it is.
        """
        table = catalog.find(self.connection, self.part.table)
        if table is None or table.declared(column).upper() == declared.upper():
            return
        new = column + "_wider"
        try:
            self.execute(f"ALTER TABLE {self.table} ADD COLUMN {quoted(new)} {declared}")
            self.execute(f"UPDATE {self.table} SET {quoted(new)} = {quoted(column)}")
            self.execute(f"ALTER TABLE {self.table} DROP COLUMN {quoted(column)}")
            self.execute(f"ALTER TABLE {self.table} RENAME COLUMN {quoted(new)} TO {quoted(column)}")
        except sqlite3.OperationalError as error:
            raise Refused(
                f"The column {column} of {self.place}.{self.part.table} is {table.declared(column)}, and {declared} arrives.",
                f"SQLite can change a column's type only by dropping the column, and says: {error}.",
                "Recreate the table with the wider column by hand, or merge into another one ('into').",
            ) from error

    def _many(self, sql: Callable[[list[str]], str], rows: pa.Table) -> int:
        """Run a statement for every row; return how many rows it touched.

        Args:
            sql: makes the statement, given how it writes each column's value.
            rows: the rows.
        """
        if not rows.num_rows:
            return 0
        written = _written(rows)
        values = _values(rows.select([name for name in rows.column_names if name not in written]))
        statement = sql([written.get(name, "?") for name in rows.column_names])
        return self.connection.executemany(statement, values).rowcount

    def _sorted(self, rows: pa.Table) -> pa.Table:
        """In key order, rows lie near each other in the file: that halves the time."""
        return rows.sort_by([(name, "ascending") for name in self.key])

    def drop(self, keys: pa.Table) -> int:
        keys = self._sorted(keys)
        return self._many(
            lambda values: f"DELETE FROM {self.table} WHERE {_pairs(keys.column_names, values, ' AND ')}", keys
        )

    def update(self, rows: pa.Table) -> int:
        others = self.others(rows)
        if not others:
            return self.insert_new(rows)
        count = len(others)
        return self._many(
            lambda values: (
                f"UPDATE {self.table} SET {_pairs(others, values[:count], ', ')} WHERE {_pairs(self.key, values[count:], ' AND ')}"
            ),
            self._sorted(rows).select([*others, *self.key]),
        )

    def insert_new(self, rows: pa.Table) -> int:
        return self._insert(self._sorted(rows), [])

    def upsert(self, rows: pa.Table) -> None:
        sets = [f"{name} = excluded.{name}" for name in map(quoted, self.others(rows))]
        self._insert(self._sorted(rows), sets)

    def _insert(self, rows: pa.Table, on_conflict: list[str] | None = None) -> int:
        names = ", ".join(quoted(name) for name in rows.column_names)
        end = ""
        if on_conflict is not None:
            action = f"UPDATE SET {', '.join(on_conflict)}" if on_conflict else "NOTHING"
            end = f" ON CONFLICT ({', '.join(quoted(name) for name in self.key)}) DO {action}"
        return self._many(lambda values: f"INSERT INTO {self.table} ({names}) VALUES ({', '.join(values)}){end}", rows)

    def add(self, rows: pa.Table) -> int:
        others = [quoted(name) for name in self.others(rows)]
        return self._insert(
            self._sorted(rows), [f"{name} = coalesce({self.table}.{name}, 0) + excluded.{name}" for name in others]
        )

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        return sum(self._insert(pa.Table.from_batches([batch])) for batch in batches)


def _values(table: pa.Table) -> list[tuple[Any, ...]]:
    if not table.num_columns:
        return [()] * table.num_rows
    return list(zip(*(to_sqlite(flat(column)) for column in table.columns), strict=True))


def _written(rows: pa.Table) -> dict[str, str]:
    """The columns that hold one value throughout, as SQL writes it.

    To bind a value for every row is most of what an insertion costs: a journal, of whose columns many hold one value,
    is written in half the time.
    """

    found = {}
    for name in rows.column_names if rows.num_rows >= WORTH_WRITING else ():
        column = flat(rows[name])
        if column.null_count == len(column):
            found[name] = "NULL"
        elif not column.null_count and any(
            is_kind(column.type) for is_kind in (pa.types.is_signed_integer, pa.types.is_string, pa.types.is_temporal)
        ):
            [value] = to_sqlite(column.slice(0, 1))
            plain = isinstance(value, int) or (isinstance(value, str) and len(value) < 100 and "\0" not in value)
            if plain and pc.all(pc.equal(column, column[0])).as_py():
                found[name] = literal(value, "")
    return found


def _pairs(names: Sequence[str], values: Sequence[str], between: str) -> str:
    return between.join(f"{quoted(name)} = {value}" for name, value in zip(names, values, strict=True))
