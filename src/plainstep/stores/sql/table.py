"""Reading a table or view of a database that SQLAlchemy reaches."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy.engine import Connection

from plainstep.copying import replace
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.sql.literals import insertion, since_epoch, text, updating
from plainstep.stores.declared_types import arrow_type
from plainstep.stores.misfit import Misfit, misfit
from plainstep.stores.sql.catalog import columns_of, keys_of, parts_of, sql_of, tables
from plainstep.stores.sql.dialect import statement
from plainstep.stores.sql.traits import with_order
from plainstep.stores.sql.types import Column, to_arrow

if TYPE_CHECKING:
    from plainstep.stores.dialect import Dialect
    from plainstep.stores.sql.database import SqlDatabase

# Rows that are fetched at a time.
BATCH = 1 << 14
# Keys that are looked up in one query: each is a value or more, and some databases take some two thousand.
KEYS = 200


class SqlTable:
    """A table or view.

    Args:
        database: where it is.
        name: its name, perhaps with a schema before it.
        types: types to use instead of its columns' own, by column.
    """

    typed = True

    def __init__(self, database: SqlDatabase, name: str, types: dict[str, str]) -> None:
        self.database, self.name, self.types = database, name, types
        self.dialect: Dialect = database.dialect
        self.traits = database.traits
        self.place, self.sql = f"{database.name}.{name}", sql_of(database, name)

    @cached_property
    def columns(self) -> dict[str, Column]:
        """Its columns by name.

        Raises:
            Refused: it is not there.
        """
        with self.database.opened() as connection:
            found = columns_of(self.database, connection, self.name)
            if not found:
                known = tables(connection, *parts_of(self.name)[:1])
                raise Refused(
                    f"There is no table {self.name!r} in {self.database.name}.",
                    "",
                    f"Its tables: {', '.join(known[:20]) or 'none'}.",
                )
            self._keys = keys_of(self.database, connection, self.name)
        return {
            one.name: replace(one, kind=arrow_type(self.place, one.name, self.types[one.name]))
            if one.name in self.types
            else one
            for one in found
        }

    def schema(self) -> pa.Schema:
        """Its columns."""
        return pa.schema([(column.name, column.kind) for column in self.columns.values()])

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        return self._keys[0] if self.columns and self._keys else ()

    def never_null(self) -> frozenset[str]:
        """The columns that are declared so."""
        return frozenset(column.name for column in self.columns.values() if column.not_null)

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        name, kind = self.dialect.quoted(column), self.columns[column].kind
        if pa.types.is_binary(kind):
            return f"'0x' || {self.traits.bytes_text.format(name)}"
        if pa.types.is_timestamp(kind):
            return self.traits.time_text.format(name)
        return f"CAST({name} AS {self.traits.text})"

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as text, as SQL."""
        kind = self.columns[column].kind
        if pa.types.is_integer(kind) or pa.types.is_decimal(kind):
            try:
                pa.scalar(value).cast(pa.decimal128(38, kind.scale if pa.types.is_decimal(kind) else 0))
            except pa.ArrowInvalid:
                raise ConfigError(f"{value!r} is not a valid {kind}, which {column} of {self.place} is.") from None
            return value
        if pa.types.is_binary(kind):
            return self.traits.bytes.format(text(value.removeprefix("0x")))
        if pa.types.is_timestamp(kind):
            return (self.traits.zoned_time if kind.tz else self.traits.time).format(text(value))
        return self.dialect.string(value)

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, as SQL."""
        return f"BINARY {value}" if self.database.backend in ("mysql", "mariadb") else value

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back."""
        stored = {name: value for name, value in row.items() if not self.columns[name].computed}
        return insertion(
            self.sql, stored, self.traits.bytes.format("'{}'"), "", self.dialect.quote, self.dialect.backslashes
        )

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of a row."""
        stored = {name: value for name, value in values.items() if not self.columns[name].computed}
        return updating(
            self.sql, key, stored, self.traits.bytes.format("'{}'"), self.dialect.quote, self.dialect.backslashes
        )

    def later(self, column: str, moment: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        kind = self.columns[column].kind
        if pa.types.is_integer(kind):
            return since_epoch(self.dialect.quoted(column), moment.timestamp())
        told = (
            moment.isoformat(sep=" ") if getattr(kind, "tz", None) else moment.replace(tzinfo=None).isoformat(sep=" ")
        )
        return f"{self.dialect.quoted(column)} > {self.literal(column, told)}"

    @contextmanager
    def reading(self) -> Iterator[SqlReading]:
        """Read it, in one transaction."""
        self.columns  # noqa: B018 (known before: not looked up while it is read)
        with self.database.transaction(self.traits.reading) as connection:
            yield SqlReading(self, connection)


class SqlReading:
    """A table that is being read."""

    def __init__(self, table: SqlTable, connection: Connection) -> None:
        self.table, self.connection, self.database = table, connection, table.database

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, tail, ())

    def _select(
        self, columns: Sequence[str], texts: dict[str, str], tail: str, parameters: Sequence[Any]
    ) -> Iterator[pa.RecordBatch]:
        quoted, known = self.table.dialect.quoted, self.table.columns
        wanted = [
            known[name] if not pa.types.is_null(known[name].kind) else replace(known[name], kind=pa.string())
            for name in columns
        ]
        wanted += [Column(name, "text", pa.string()) for name in texts]
        selected = [quoted(name) for name in columns] + [f"{value} AS {quoted(name)}" for name, value in texts.items()]
        sql = f"SELECT {', '.join(selected)} FROM {self.table.sql} {tail}"
        yield from batches(self.connection, self.database, sql, parameters, wanted, self.table.place)

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        return self.database.first(self.connection, sql)

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        quoted = self.table.dialect.quoted
        for batch in keys.to_batches(KEYS):
            rows = batch.to_pylist()
            if not rows:
                continue
            names = list(rows[0])
            if len(names) == 1:
                which = f"{quoted(names[0])} IN ({', '.join('?' * len(rows))})"
            else:
                one = " AND ".join(f"{quoted(name)} = ?" for name in names)
                which = " OR ".join([f"({one})"] * len(rows))
            tail = f"WHERE ({which})" + (f" AND {quoted(where_null)} IS NULL" if where_null else "")
            yield from self._select(columns, {}, tail, [value for row in rows for value in row.values()])

    def beside(self, table: SqlTable) -> SqlReading:
        """Another table of the same store, in the same transaction."""
        table.columns  # noqa: B018 (known before: not looked up while it is read)
        return SqlReading(table, self.connection)

    def unsettled(self, column: str) -> str:
        """Wait for those who have written and have not ended: theirs may be earlier changes.

        Raises:
            Refused: one stays open, or the database does not show them.
        """
        timed = pa.types.is_temporal(self.table.columns[column].kind)
        if not self.database.wait_for_open(every=timed):
            raise Refused(
                f"Whether a transaction that has written to {self.table.place} is still open is not known.",
                "Its changes may lie before others that are there already, and would be missed.",
                "Give the load an overlap, as long as a transaction may take.",
            )
        return ""


def batches(
    connection: Connection,
    database: SqlDatabase,
    sql: str,
    parameters: Sequence[Any],
    columns: Sequence[Column],
    place: str,
) -> Iterator[pa.RecordBatch]:
    """The rows of a query of ours, in batches.

    Raises:
        DataError: a value has no equivalent in Arrow.
    """
    sql = with_order(sql) if database.backend == "mssql" else sql
    clause, values = statement(sql, parameters)
    result = connection.execute(clause, values, execution_options={"stream_results": True, "max_row_buffer": BATCH})
    try:
        while rows := result.fetchmany(BATCH):
            arrays = []
            for column, found in zip(columns, zip(*rows, strict=True), strict=True):
                try:
                    arrays.append(to_arrow(found, column.kind))
                except Misfit as wrong:
                    raise misfit(place, column.name, column.declared, found[wrong.index]) from None
            yield pa.record_batch(arrays, names=[column.name for column in columns])
    finally:
        result.close()
