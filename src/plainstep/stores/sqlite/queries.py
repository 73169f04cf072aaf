"""Queries of people's own in an SQLite file, whose results have no types but those that are asked for."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.stores.queries import Value, refuse_doubled, refused_query
from plainstep.stores.row_values import batches_of
from plainstep.stores.sqlite.connection import begin, fetched, meanwhile
from plainstep.stores.sqlite.table import SqliteReading
from plainstep.stores.sqlite.types import to_arrow

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase
    from plainstep.stores.sqlite.table import SqliteTable

BATCH = 1 << 14


@contextmanager
def opened(database: SqliteDatabase) -> Iterator[SqliteQueries]:
    """A transaction in which nothing can be written."""
    with database.opened() as connection, meanwhile(connection, query_only="ON"):
        begin(connection)
        yield SqliteQueries(database, connection)


class SqliteQueries:
    """A transaction in which queries are asked."""

    def __init__(self, database: SqliteDatabase, connection: sqlite3.Connection) -> None:
        self.database, self.connection = database, connection

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        row: tuple[Any, ...] | None = self._asked(sql, values).fetchone()
        return row

    def _asked(self, sql: str, values: Mapping[str, Value]) -> sqlite3.Cursor:
        bound = {name: str(value) if isinstance(value, date | datetime) else value for name, value in values.items()}
        try:
            return self.connection.execute(sql, bound)
        except (sqlite3.ProgrammingError, sqlite3.OperationalError) as error:
            if getattr(error, "sqlite_errorcode", 0) & 0xFF not in (0, sqlite3.SQLITE_ERROR, sqlite3.SQLITE_READONLY):
                raise
            raise refused_query(self.database.name, error) from error

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        cursor = self._asked(sql, values)
        names = [one[0] for one in cursor.description or ()]
        refuse_doubled(names, self.database.name)
        yield from batches_of(fetched(cursor, BATCH), names, kinds, natural, to_arrow, self.database.name)

    def beside(self, table: SqliteTable) -> SqliteReading:
        return SqliteReading(table, self.connection)
