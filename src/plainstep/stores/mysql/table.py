"""Reading a table or view of MariaDB or MySQL as it is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import ConfigError
from plainstep.properties import cached_property
from plainstep.sql.literals import insertion, since_epoch, updating
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.dialect import DIALECT
from plainstep.stores.mysql.open_transactions import wait_for_writers
from plainstep.stores.mysql.rows import read
from plainstep.stores.mysql.types import Column, base_of

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire

quoted, text = DIALECT.quoted, DIALECT.string
BLOB = "x'{}'"
OLDEST = "SELECT min(t.trx_started) FROM information_schema.innodb_trx t WHERE t.trx_is_read_only = 0"
# Keys that are looked up in one query.
KEYS = 5_000


class MysqlTable:
    """A table or view.

    Args:
        database: where it is.
        name: its name.
        types: types to use instead of its columns' own, by column.
    """

    dialect = DIALECT

    typed = True

    def __init__(self, database: MysqlDatabase, name: str, types: dict[str, str]) -> None:
        self.database, self.name, self.types = database, name, types
        self.place, self.sql = f"{database.name}.{name}", quoted(name)

    @cached_property
    def found(self) -> catalog.Found:
        """What the catalogue tells of it."""
        with self.database.opened() as connection:
            return catalog.existing(connection, self.name, self.database.name)

    @cached_property
    def columns(self) -> dict[str, Column]:
        """Its columns by name."""
        known = {name: declared for name, declared in self.types.items() if name in self.found.names}
        return {column.name: column for column in catalog.typed(self.found.columns, known, self.place)}

    def schema(self) -> pa.Schema:
        """Its columns."""
        return pa.schema([column.field for column in self.columns.values()])

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        return self.found.primary

    def never_null(self) -> frozenset[str]:
        """The columns that are declared so."""
        return frozenset(column.name for column in self.found.columns if column.not_null)

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        name = quoted(column)
        if column in self.columns and pa.types.is_binary(self.columns[column].kind):
            return f"concat('0x', hex({name}))"
        return f"CAST({self.columns[column].read_sql(name) if column in self.columns else name} AS CHAR)"

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as text, as SQL."""
        found = self.columns[column]
        if pa.types.is_binary(found.kind):
            return f"x'{value.removeprefix('0x')}'"
        if pa.types.is_integer(found.kind) or (pa.types.is_decimal(found.kind) and not found.kind.scale):
            if not value.lstrip("-").isdigit():
                raise ConfigError(f"{value!r} is not a valid {found.declared}, which {column} of {self.place} is.")
            return value
        base = base_of(found.declared)
        if base in ("datetime", "timestamp", "date", "time"):
            size = found.declared[len(base) :]
            plain = value.replace("T", " ").removesuffix("Z").removesuffix("+00:00")
            return f"CAST({text(plain)} AS {'datetime' if base == 'timestamp' else base}{size})"
        return text(value)

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, as SQL."""
        return f"CAST({value} AS BINARY)"

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back."""
        return insertion(self.sql, self._stored(row), BLOB, quote=DIALECT.quote, backslashes=True)

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of a row."""
        return updating(self.sql, key, self._stored(values), BLOB, quote=DIALECT.quote, backslashes=True)

    def _stored(self, row: dict[str, Any]) -> dict[str, Any]:
        return {
            name: value for name, value in row.items() if name not in self.columns or not self.columns[name].generated
        }

    def later(self, column: str, moment: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        if pa.types.is_integer(self.columns[column].kind):
            return since_epoch(quoted(column), moment.timestamp())
        plain = moment.astimezone(UTC).replace(tzinfo=None).isoformat(" ")
        return f"{quoted(column)} > CAST({text(plain)} AS datetime(6))"

    @contextmanager
    def reading(self) -> Iterator[MysqlReading]:
        """Read it, in one transaction."""
        _ = self.found  # known from here on: not looked up while the table is being read
        with self.database.read_transaction() as connection:
            yield MysqlReading(self, connection)


class MysqlReading:
    """A table that is being read."""

    def __init__(self, table: MysqlTable, connection: Wire) -> None:
        self.table, self.connection, self.database = table, connection, table.database
        self._waited = False

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, tail)

    def _select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        wanted = [self.table.columns[name] for name in columns]
        selected = [column.read_sql(quoted(column.name)) for column in wanted]
        selected += texts.values()
        wanted += [Column(name, "text", pa.string()) for name in texts]
        sql = f"SELECT {', '.join(selected) or '1'} FROM {self.table.sql} {tail}"
        yield from read(self.connection, sql, wanted, self.table.place)

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        return self.connection.first(sql)

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        names = keys.column_names
        for batch in keys.to_batches(KEYS):  # not by a temporary table: to make one is to write
            told = [
                ", ".join(self.table.literal(name, _key_text(row[name])) for name in names) for row in batch.to_pylist()
            ]
            if not told:
                continue
            one = len(names) == 1
            values = ", ".join(told if one else (f"({row})" for row in told))
            listed = ", ".join(map(quoted, names))
            tail = f"WHERE {listed if one else f'({listed})'} IN ({values})"
            tail += f" AND {quoted(where_null)} IS NULL" if where_null else ""
            yield from self._select(columns, {}, tail)

    def beside(self, table: MysqlTable) -> MysqlReading:
        """Another table of the same store, in the same transaction."""
        _ = table.found
        return MysqlReading(table, self.connection)

    def unsettled(self, column: str) -> str:
        """Wait for those who have written and have not ended: theirs may be earlier changes.

        A number is given when the row is written, so that who is not writing now will write later numbers. A time may be that of
        a transaction's begin: changes since the oldest open one began are left.

        Raises:
            Refused: a transaction that wrote stays open, or it may not be seen.
        """
        if not self._waited:  # once: what this transaction sees was settled before, whichever part of it is asked about
            wait_for_writers(self.database.opened, self.database.wait, self.table.place)
            self._waited = True
        if base_of(self.table.columns[column].declared) not in ("datetime", "timestamp"):
            return ""
        with self.database.opened() as connection:
            row = connection.first(OLDEST)
        # The server tells it in its own zone, which is ours here: the session's.
        return f"{quoted(column)} < CAST({text(str(row[0]))} AS datetime)" if row and row[0] else ""


def _key_text(value: object) -> str:
    """A value of a key, as ``MysqlTable.literal`` takes it."""
    if isinstance(value, bytes):
        return value.hex()
    return str(int(value)) if isinstance(value, bool) else str(value)
