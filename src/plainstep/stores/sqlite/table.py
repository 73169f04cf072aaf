"""Reading a SQLite table or view as it is."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError
from plainstep.properties import cached_property
from plainstep.sql.literals import insertion, quoted, since_epoch, text, updating
from plainstep.stores.dialect import STANDARD
from plainstep.stores.sqlite import catalog
from plainstep.stores.sqlite.connection import begin, fetched
from plainstep.stores.sqlite.misfits import Misfits
from plainstep.stores.sqlite.types import Column, Untyped, column_of, to_sqlite

if TYPE_CHECKING:
    from typing import Any

    from plainstep.stores.sqlite.database import SqliteDatabase

# Rows fetched at a time: so many that their values are still in the cache when they become columns (measured).
BATCH = 1 << 11
# Batches made of them: what is done with rows afterwards is better done with many at a time.
TOGETHER = 16


class SqliteTable:
    """A table or view of a SQLite file.

    Args:
        store: the file.
        name: its name.
        types: declared types to use instead of its own, by column.
        numbered: whether the number that SQLite gives every row is among its columns, as its key.
    """

    dialect = STANDARD

    typed = False

    def __init__(self, database: SqliteDatabase, name: str, types: dict[str, str], numbered: bool = False) -> None:
        self.database, self.name, self.types, self.numbered = database, name, types, numbered
        self.place, self.sql = f"{database.name}.{name}", quoted(name)

    @cached_property
    def _found(self) -> catalog.Table:
        with self.database.opened() as connection:
            found = catalog.find(connection, self.name, views=True)
            if found is None:
                raise catalog.missing(self.name, connection, self.database.name)
            return found.numbered() if self.numbered else found

    @cached_property
    def columns(self) -> dict[str, Column]:
        """Its columns by name."""

        columns = {}
        for one in self._found.columns:
            try:
                columns[one.name] = column_of(self.place, one.name, one.declared, self.types)
            except DataError:
                columns[one.name] = Column(one.name, self.types.get(one.name, one.declared), pa.null())
        return columns

    @cached_property
    def misfits(self) -> Misfits:
        """What is done with values that do not fit their columns."""
        return Misfits()

    def schema(self) -> pa.Schema:
        """Its columns."""
        return pa.schema([(column.name, column.kind) for column in self.columns.values()])

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        return self._found.key

    def never_null(self) -> frozenset[str]:
        """The columns that are declared so, and a row's own number."""
        return frozenset(column.name for column in self._found.columns if column.not_null)

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        name = quoted(column)
        return f"CASE typeof({name}) WHEN 'blob' THEN '0x' || hex({name}) ELSE CAST({name} AS TEXT) END"

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as text, as SQL."""
        kind = self.columns[column].kind
        if pa.types.is_integer(kind):
            if not value.lstrip("-").isdigit():
                raise ConfigError(
                    f"{value!r} is not a valid {self.columns[column].declared}, which {column} of {self.place} is."
                )
            return value
        if pa.types.is_binary(kind):
            return f"X'{value.removeprefix('0x')}'"
        return text(value)

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, as SQL."""
        return f"{value} COLLATE BINARY"

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back."""
        stored = {name: value for name, value in row.items() if name not in self._found.computed}
        return insertion(self.sql, stored, "X'{}'")

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of a row."""
        return updating(
            self.sql, key, {name: value for name, value in values.items() if name not in self._found.computed}, "X'{}'"
        )

    def later(self, column: str, time: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        if pa.types.is_integer(self.columns[column].kind):
            return since_epoch(quoted(column), time.timestamp())
        return f"julianday({quoted(column)}) > julianday({text(time.isoformat())})"

    @contextmanager
    def reading(self) -> Iterator[SqliteReading]:
        """Read it, in one transaction."""
        self.columns  # noqa: B018 (known before, so that no second connection is opened for them)
        with self.database.opened() as connection:
            begin(connection)
            yield SqliteReading(self, connection)


class SqliteReading:
    """A table of a SQLite file that is being read."""

    def __init__(self, table: SqliteTable, connection: sqlite3.Connection) -> None:
        self.table, self.connection, self.database = table, connection, table.database

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, f"FROM {self.table.sql} {tail}")

    def _select(
        self, columns: Sequence[str], texts: dict[str, str], rest: str, of: str = "", parameters: Sequence[Any] = ()
    ) -> Iterator[pa.RecordBatch]:

        wanted = [self._known(self.table.columns[name]) for name in columns]
        selected = [column.read_sql(of + quoted(column.name)) for column in wanted] + list(texts.values())
        wanted += [Column(name, "TEXT", pa.string()) for name in texts]
        cursor = self.connection.execute(f"SELECT {', '.join(selected)} {rest}", parameters)
        gathered: list[pa.RecordBatch] = []
        for rows in fetched(cursor, BATCH):
            gathered.append(self._batch(wanted, rows))
            if len(gathered) == TOGETHER:
                yield pa.concat_batches(gathered)
                gathered = []
        if gathered:
            yield pa.concat_batches(gathered)

    def _known(self, column: Column) -> Column:
        """A column whose declared type says nothing is read as text: what it means is said by a layout, or not at all."""

        return Untyped(column.name, column.declared, pa.string()) if pa.types.is_null(column.kind) else column

    def _batch(self, columns: list[Column], rows: list[tuple[Any, ...]]) -> pa.RecordBatch:
        names = [column.name for column in columns]

        def whose(index: int) -> str:
            return f"the row {dict(zip(names, rows[index], strict=True))} of {self.table.place}"

        misfits = self.table.misfits
        arrays = [
            misfits.to_arrow(column, values, whose)
            for column, values in zip(columns, zip(*rows, strict=True), strict=True)
        ]
        return pa.record_batch(arrays, names=[column.name for column in columns])

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        row: tuple[Any, ...] | None = self.connection.execute(sql).fetchone()
        return row

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        values = [to_sqlite(keys[name].combine_chunks()) for name in keys.column_names]
        if any(isinstance(value, bytes) for column in values for value in column):
            values = [[value.hex() if isinstance(value, bytes) else value for value in column] for column in values]
        alone = len(values) == 1  # then it need not be taken out of a list, which takes as long as finding the row
        rows = json.dumps(values[0] if alone else list(zip(*values, strict=True)))
        terms = " AND ".join(
            f"t.{quoted(name)} = {self._key_value(name, 'k.value' if alone else f'k.value ->> {place}')}"
            for place, name in enumerate(keys.column_names)
        )
        rest = f"FROM json_each(?) k CROSS JOIN {self.table.sql} t ON {terms}"
        rest += f" WHERE t.{quoted(where_null)} IS NULL" if where_null else ""
        yield from self._select(columns, {}, rest, "t.", [rows])

    def _key_value(self, name: str, value: str) -> str:
        kind = self.table.columns[name].kind
        if pa.types.is_binary(kind):
            return f"unhex({value})"
        return f"CAST({value} AS NUMERIC)" if pa.types.is_decimal(kind) else f"({value})"

    def beside(self, table: SqliteTable) -> SqliteReading:
        """Another table of the same store, in the same transaction."""
        return SqliteReading(table, self.connection)

    def unsettled(self, column: str) -> str:
        """Nothing: SQLite has one writer at a time."""
        return ""
