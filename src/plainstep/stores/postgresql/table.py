"""Reading a PostgreSQL table or view as it is."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.sql.literals import insertion, quoted, since_epoch, text, updating
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.copy import read
from plainstep.stores.postgresql.dialect import DIALECT
from plainstep.stores.postgresql.types import Column

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

# Who has written to a table and has not ended yet. (A prepared transaction has no process.)
WRITERS = """
SELECT l.virtualtransaction, coalesce(l.pid, 0), a.usename, a.xact_start
FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.relation = %s::regclass AND l.mode = 'RowExclusiveLock' AND l.granted AND l.pid IS DISTINCT FROM pg_backend_pid()
"""


class PostgresqlTable:
    """A table or view of a PostgreSQL database.

    Args:
        store: the database.
        name: its name.
        types: types to use instead of its columns' own, by column.
    """

    dialect = DIALECT

    typed = True

    def __init__(self, database: PostgresqlDatabase, name: str, types: dict[str, str]) -> None:
        self.database, self.name, self.types = database, name, types
        self.place, self.sql = f"{database.name}.{name}", catalog.sql_of(catalog.parts_of(name))

    @cached_property
    def _found(self) -> catalog.Table:
        with self.database.opened() as connection:
            found = catalog.find(connection, self.name)
            if found is None:
                raise catalog.missing(connection, self.name, self.database.name)
            catalog.refuse_hidden_rows(connection, found, self.place)
            if found.kind == "v" and trust.is_superuser(connection):
                trust.refuse_foreign_code(connection, [found.sql])
            return found

    @cached_property
    def columns(self) -> dict[str, Column]:
        """Its columns by name."""
        known = {name: declared for name, declared in self.types.items() if name in self._found.names}
        return {column.name: column for column in catalog.typed(self._found.columns, known, self.place)}

    def schema(self) -> pa.Schema:
        """Its columns."""
        return pa.schema([column.field for column in self.columns.values()])

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        return self._found.primary

    def never_null(self) -> frozenset[str]:
        """The columns that are declared so."""
        return self._found.not_null

    def text(self, column: str) -> str:
        """A column's value as text, as SQL. (Somebody may have made a cast of a type to text; its output is the server's.)"""
        name = quoted(column)
        made = column in self.columns and self.columns[column].made
        return f"CASE WHEN {name} IS DISTINCT FROM NULL THEN format('%s', {name}) END" if made else f"{name}::text"

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as text, as SQL."""
        if self.columns[column].declared in ("bigint", "integer", "smallint") and not value.lstrip("-").isdigit():
            raise ConfigError(
                f"{value!r} is not a valid {self.columns[column].declared}, which {column} of {self.place} is."
            )
        return f"{text(value)}::{self.columns[column].native}"

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, as SQL."""
        return f'{value} COLLATE "C"'

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back."""
        stored = {name: value for name, value in row.items() if name not in self._found.generated}
        return insertion(self.sql, stored, "'\\x{}'", "OVERRIDING SYSTEM VALUE ")

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of a row."""
        return updating(
            self.sql,
            key,
            {name: value for name, value in values.items() if name not in self._found.generated},
            "'\\x{}'",
        )

    def later(self, column: str, moment: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        if pa.types.is_integer(self.columns[column].kind):
            return since_epoch(quoted(column), moment.timestamp())
        return f"{quoted(column)}::timestamptz > {text(moment.isoformat())}::timestamptz"

    @contextmanager
    def reading(self) -> Iterator[PostgresqlReading]:
        """Read it, in one transaction."""
        with self.database.opened() as connection, connection.transaction():
            connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            self.database.as_of_the_moment(connection)
            connection.execute("SET LOCAL TimeZone = 'UTC'")
            yield PostgresqlReading(self, connection)


# Keys that are looked up in one query.
KEYS = 5_000


def _key_value(value: object) -> str:
    """A value of a key that JSON has no word for, as the server reads it."""
    return "\\x" + value.hex() if isinstance(value, bytes) else str(value)


class PostgresqlReading:
    """A table of a PostgreSQL database that is being read."""

    def __init__(self, table: PostgresqlTable, connection: Connection) -> None:
        self.table, self.connection, self.database = table, connection, table.database
        self._waited = False

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, f"FROM {self.table.sql} {tail}")

    def _select(
        self, columns: Sequence[str], texts: dict[str, str], rest: str, of: str = ""
    ) -> Iterator[pa.RecordBatch]:

        wanted = [self.table.columns[name] for name in columns] + [Column(name, "text", pa.string()) for name in texts]
        selected = [of + quoted(name) for name in columns]
        selected += [f"{value} AS {quoted(name)}" for name, value in texts.items()]
        yield from read(self.connection, f"SELECT {', '.join(selected)} {rest}", wanted, self.table.place)

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        row: tuple[Any, ...] | None = self.connection.execute(sql).fetchone()
        return row

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        declared = ", ".join(f"{quoted(name)} {self.table.columns[name].native}" for name in keys.column_names)
        terms = " AND ".join(f"t.{quoted(name)} = k.{quoted(name)}" for name in keys.column_names)
        for batch in keys.to_batches(KEYS):  # not by a temporary table: to make one is to write
            wanted = text(json.dumps(batch.to_pylist(), default=_key_value))
            tail = f"FROM {self.table.sql} t JOIN json_to_recordset({wanted}::json) AS k({declared}) ON {terms}"
            tail += f" WHERE t.{quoted(where_null)} IS NULL" if where_null else ""
            yield from self._select(columns, {}, tail, "t.")

    def beside(self, table: PostgresqlTable) -> PostgresqlReading:
        """Another table of the same store, in the same transaction."""
        return PostgresqlReading(table, self.connection)

    def unsettled(self, column: str) -> str:
        """Wait for those who have written to the table and have not ended: theirs may be earlier changes.

        A number is drawn by a sequence when the row is written, so that who is not writing now will write later
        numbers. A time may be that of a transaction's begin: changes since the oldest open one began are left.

        Raises:
            Refused: a transaction that wrote to the table stays open.
        """
        if not self._waited:  # once: what this transaction sees was settled before, whichever part of it is asked about
            self._wait_for_writers()
            self._waited = True
        if not self.table.columns[column].declared.startswith("timestamp"):
            return ""
        row = self.first(
            "SELECT min(xact_start)::text FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = "
            "current_database() AND backend_type = 'client backend'"
        )
        return f"{quoted(column)} < {text(row[0])}::timestamptz" if row and row[0] else ""

    def _wait_for_writers(self) -> None:
        with self.table.database.opened() as connection:  # outside of the snapshot
            waited_for = {row[0] for row in connection.execute(WRITERS, [self.table.sql]).fetchall()}
            until = time.monotonic() + self.table.database.wait
            while waited_for:
                rows = [row for row in connection.execute(WRITERS, [self.table.sql]).fetchall() if row[0] in waited_for]
                if not rows:
                    return
                if time.monotonic() > until:
                    raise self._open_writer(*rows[0][1:])
                time.sleep(0.02)  # most transactions take milliseconds; a query of the locks takes one

    def _open_writer(self, pid: int, user: str | None, since: Any) -> Refused:
        who = f"process {pid} of {user}" if pid else "a prepared transaction"
        return Refused(
            f"A transaction that has written to {self.table.place} is still open: {who}, since {since}.",
            "Its changes may lie before others that are there already, and would be missed.",
            f"Let it end, or end it: SELECT pg_terminate_backend({pid}); or give the layout an overlap."
            if pid
            else "COMMIT PREPARED or ROLLBACK PREPARED it, or give the layout an overlap.",
        )
