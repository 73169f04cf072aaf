"""Reading a DuckDB table or view as it is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.casting import fitted
from plainstep.core.held_types import held_as, is_nested
from plainstep.deferred import duckdb, pa
from plainstep.errors import DataError, Refused
from plainstep.properties import cached_property
from plainstep.sql.literals import insertion, quoted, since_epoch, text, updating
from plainstep.stores.declared_types import arrow_type
from plainstep.stores.dialect import STANDARD
from plainstep.stores.duckdb.connection import batches_of
from plainstep.stores.duckdb.database import tables
from plainstep.stores.duckdb.types import declaration, plain

if TYPE_CHECKING:
    from plainstep.stores.duckdb.database import DuckdbDatabase

WANTED = "plainstep_wanted"


class DuckdbTable:
    """A table or view of a DuckDB file.

    Args:
        store: the file.
        name: its name.
        types: types to use instead of its columns' own, by column.
    """

    dialect = STANDARD

    typed = True

    def __init__(self, database: DuckdbDatabase, name: str, types: dict[str, str]) -> None:
        self.database, self.name, self.types = database, name, types
        self._nested: set[str] = set()
        self.place, self.sql = f"{database.name}.{name}", quoted(name)

    @cached_property
    def _schema(self) -> pa.Schema:

        if not self.database.path.exists():
            raise Refused(f"There is no file {self.database.path}.", "", "Check the store's url in plainstep.toml.")
        with self.database.opened(read_only=True) as connection:
            try:
                schema = plain(connection.sql(f"SELECT * FROM {self.sql} LIMIT 0").to_arrow_table().schema)
            except duckdb.CatalogException:
                known = tables(connection)
                raise Refused(
                    f"There is no table {self.name!r} in {self.database.name}.",
                    "",
                    f"Its tables: {', '.join(known) or 'none'}.",
                ) from None
        fields = [
            pa.field(field.name, arrow_type(self.place, field.name, self.types[field.name]))
            if field.name in self.types
            else field.with_type(held_as(field.type))
            for field in schema
        ]
        self._nested = {field.name for field in schema if is_nested(field.type)}
        return pa.schema(fields)

    @cached_property
    def _key(self) -> tuple[str, ...]:
        self.schema()  # tells of a table that is not there
        sql = (
            "SELECT constraint_column_names FROM duckdb_constraints() WHERE table_name = ? AND "
            "constraint_type = 'PRIMARY KEY' AND database_name = current_database()"
        )
        with self.database.opened(read_only=True) as connection:
            rows = connection.execute(sql, [self.name]).fetchall()
        return tuple(rows[0][0]) if rows else ()

    def schema(self) -> pa.Schema:
        """Its columns."""
        return self._schema

    def read_sql(self, of: str, name: str) -> str:
        """What reads a column: lists, maps and structs as JSON."""
        column = of + quoted(name)
        return f"CAST(to_json({column}) AS VARCHAR) AS {quoted(name)}" if name in self._nested else column

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        return self._key

    def never_null(self) -> frozenset[str]:
        """The primary key: DuckDB scans a column for nulls at next to no cost."""
        return frozenset(self._key)

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        if pa.types.is_binary(self.schema().field(column).type):
            return f"'0x' || hex({quoted(column)})"
        return f"CAST({quoted(column)} AS VARCHAR)"

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as text, as SQL."""

        kind = self.schema().field(column).type
        if pa.types.is_binary(kind):
            return f"unhex({text(value.removeprefix('0x'))})"
        return f"CAST({text(value)} AS {declaration(kind)})"

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, as SQL."""
        return value

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back."""
        return insertion(self.sql, row, "unhex('{}')")

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of a row."""
        return updating(self.sql, key, values, "unhex('{}')")

    def later(self, column: str, time: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        if pa.types.is_integer(self.schema().field(column).type):
            return since_epoch(quoted(column), time.timestamp())
        return f"{quoted(column)}::TIMESTAMPTZ > {text(time.isoformat())}::TIMESTAMPTZ"

    @contextmanager
    def reading(self) -> Iterator[DuckdbReading]:
        """Read it, in one transaction."""
        with self.database.opened(read_only=True) as connection:
            connection.execute("SET TimeZone = 'UTC'")
            connection.execute("BEGIN")
            reading = DuckdbReading(self, connection)
            try:
                yield reading
            finally:
                reading.give_up()
                with suppress(duckdb.ConnectionException):  # it may be given up after its connection was
                    connection.execute("ROLLBACK")


def held(batch: pa.RecordBatch, schema: pa.Schema, place: str) -> pa.RecordBatch:
    """Rows in the types in which they are held.

    Raises:
        DataError: a value does not fit.
    """
    try:
        return batch.cast(schema)
    except pa.ArrowInvalid:
        for field, column in zip(schema, batch.columns, strict=True):
            _, bad = fitted(column, field.type)
            if len(bad):
                told = column[int(bad[0])]
                raise DataError(
                    f"{field.name} of {place} is {told}, which is not a valid {field.type}.",
                    "Part of it would be lost.",
                    f'Read it as text: types = {{ "{field.name}" = "TEXT" }} in the load.',
                ) from None
        raise


class DuckdbReading:
    """A table of a DuckDB file that is being read."""

    def __init__(self, table: DuckdbTable, connection: duckdb.DuckDBPyConnection) -> None:
        self.table, self.connection, self.database = table, connection, table.database
        self._results: list[pa.RecordBatchReader] = []

    def give_up(self) -> None:
        """Let go of results that were read half: they block the connection."""
        for result in self._results:
            result.close()

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, f"FROM {self.table.sql} {tail}")

    def _select(
        self, columns: Sequence[str], texts: dict[str, str], rest: str, of: str = ""
    ) -> Iterator[pa.RecordBatch]:
        schema = self.table.schema()
        selected = [self.table.read_sql(of, name) for name in columns]
        selected += [f"{value} AS {quoted(name)}" for name, value in texts.items()]
        wanted = pa.schema([schema.field(name) for name in columns] + [(name, pa.string()) for name in texts])
        result = self.connection.sql(f"SELECT {', '.join(selected)} {rest}").to_arrow_reader(1 << 16)
        self._results.append(result)
        for batch in batches_of(result):
            yield held(batch, wanted, self.table.place)

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        rows = self.connection.execute(sql).fetchall()
        return rows[0] if rows else None

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        self.connection.register(WANTED, keys)
        try:
            terms = " AND ".join(f"t.{quoted(name)} = k.{quoted(name)}" for name in keys.column_names)
            rest = f"FROM {self.table.sql} t WHERE EXISTS (SELECT 1 FROM {WANTED} k WHERE {terms})"
            rest += f" AND t.{quoted(where_null)} IS NULL" if where_null else ""
            yield from self._select(columns, {}, rest, "t.")
        finally:
            self.connection.unregister(WANTED)

    def beside(self, table: DuckdbTable) -> DuckdbReading:
        """Another table of the same store, in the same transaction."""
        return DuckdbReading(table, self.connection)

    def unsettled(self, column: str) -> str:
        """Nothing: while the file is read here, no other process writes it."""
        return ""
