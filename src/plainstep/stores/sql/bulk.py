"""Many rows into a table at once, in the quickest way that a driver has."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import count
from typing import TYPE_CHECKING, Any

from sqlalchemy.engine import Connection

from plainstep.deferred import pa
from plainstep.stores.sql.dialect import statement
from plainstep.stores.sql.types import to_driver

if TYPE_CHECKING:
    from plainstep.stores.sql.database import SqlDatabase

# Rows that are sent at a time.
AT_ONCE = 1 << 14
_names = count()


def write(
    database: SqlDatabase, connection: Connection, into: str, columns: Sequence[str], parts: Iterator[pa.RecordBatch]
) -> int:
    """Add rows to a table; return how many.

    Args:
        database, connection: where.
        into: the table's name, as SQL writes it.
        columns: the columns' names.
        parts: the rows.
    """
    names = ", ".join(map(database.dialect.quoted, columns))
    send = _WAYS.get(connection.dialect.driver, _one_statement)
    total = 0
    for part in parts:
        for start in range(0, part.num_rows, AT_ONCE):
            rows = part.slice(start, AT_ONCE)
            send(connection, into, names, rows, database.backend == "sqlite")
            total += rows.num_rows
    return total


def _one_statement(connection: Connection, into: str, names: str, rows: pa.RecordBatch, as_texts: bool) -> None:
    """By one statement and many values: drivers send them together, where they can."""
    columns = [to_driver(column, as_texts) for column in rows.columns]
    clause, _ = statement(
        f"INSERT INTO {into} ({names}) VALUES ({', '.join('?' * len(columns))})", [None] * len(columns)
    )
    keys = [f"p{place}" for place in range(len(columns))]
    connection.execute(clause, [dict(zip(keys, row, strict=True)) for row in zip(*columns, strict=True)])


def _copied(connection: Connection, into: str, names: str, rows: pa.RecordBatch, as_texts: bool) -> None:
    """By COPY, as psycopg has it."""
    raw: Any = connection.connection.driver_connection
    columns = [column.to_pylist() for column in rows.columns]
    with raw.cursor() as cursor, cursor.copy(f"COPY {into} ({names}) FROM STDIN") as copy:
        for row in zip(*columns, strict=True):
            copy.write_row(row)


def _scanned(connection: Connection, into: str, names: str, rows: pa.RecordBatch, as_texts: bool) -> None:
    """As an Arrow table that DuckDB reads where it is."""
    raw: Any = connection.connection.driver_connection
    name = f"plainstep_sent_{next(_names)}"
    raw.register(name, pa.Table.from_batches([rows]))
    try:
        connection.exec_driver_sql(f"INSERT INTO {into} ({names}) SELECT * FROM {name}")
    finally:
        raw.unregister(name)


_WAYS: dict[str, Callable[[Connection, str, str, pa.RecordBatch, bool], None]] = {
    "psycopg": _copied,
    "duckdb_engine": _scanned,
}
