"""Queries of people's own in PostgreSQL: their values bound by the driver, their rows by COPY."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg import sql as composed

from plainstep.deferred import pa
from plainstep.errors import PlainStepError, Refused
from plainstep.sql.parameters import replaced
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.copy import read
from plainstep.stores.postgresql.database import READ_ONLY
from plainstep.stores.postgresql.table import PostgresqlReading
from plainstep.stores.postgresql.types import Column, arrow_type
from plainstep.stores.queries import Value, refuse_doubled, refused_query

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase
    from plainstep.stores.postgresql.table import PostgresqlTable

# Where functions that a query names are looked for, as for anybody else: elsewhere in here, nothing is looked for where people make some.
USUAL_PATH = 'SET LOCAL search_path = "$user", public'
# Types of a result by their numbers: domains as what they are made of, and text for what only this database has.
TYPES = """
WITH RECURSIVE base(place, typid, typmod) AS (
    SELECT o.place, o.typid::oid, o.typmod FROM unnest(%s::bigint[], %s::int[]) WITH ORDINALITY AS o(typid, typmod, place)
  UNION ALL
    SELECT b.place, t.typbasetype, t.typtypmod FROM base b JOIN pg_type t ON t.oid = b.typid WHERE t.typtype = 'd'
)
SELECT CASE WHEN n.nspname = 'pg_catalog' AND t.typtype <> 'c' THEN format_type(b.typid, b.typmod) ELSE 'text' END
FROM base b JOIN pg_type t ON t.oid = b.typid AND t.typtype <> 'd' JOIN pg_namespace n ON n.oid = t.typnamespace ORDER BY b.place
"""
# Transactions of this database that have written and have not ended. (A prepared one has no process.)
WRITERS = """
SELECT DISTINCT x.virtualtransaction, coalesce(x.pid, 0), a.usename, a.xact_start
FROM pg_locks x JOIN pg_locks r ON r.virtualtransaction = x.virtualtransaction LEFT JOIN pg_stat_activity a ON a.pid = x.pid
WHERE x.locktype = 'transactionid' AND x.mode = 'ExclusiveLock' AND x.granted AND r.locktype = 'relation'
  AND r.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND x.pid IS DISTINCT FROM pg_backend_pid()
"""

# All that are open, but for those in which we read ourselves: each holds its own number from its begin on.
OPEN = """
SELECT l.virtualtransaction, coalesce(l.pid, 0), a.usename, a.xact_start
FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.locktype IN ('virtualxid', 'transactionid') AND l.mode = 'ExclusiveLock' AND l.granted
  AND (a.datname = current_database() OR l.pid IS NULL) AND l.pid IS DISTINCT FROM pg_backend_pid()
  AND (l.locktype = 'transactionid' OR l.pid <> ALL (%s))
"""


@contextmanager
def opened(database: PostgresqlDatabase) -> Iterator[PostgresqlQueries]:
    """A read-only transaction that sees one moment."""
    with database.opened() as connection, connection.transaction():
        connection.execute(READ_ONLY)
        connection.execute(USUAL_PATH)
        yield PostgresqlQueries(database, connection)


class PostgresqlQueries:
    """A transaction in which queries are asked."""

    def __init__(self, database: PostgresqlDatabase, connection: Connection) -> None:
        self.database, self.connection = database, connection

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        with _told(self.database.name):
            row: tuple[Any, ...] | None = self.connection.execute(self._bound(sql, values)).fetchone()
            return row

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        bound = self._bound(sql, values)
        with _told(self.database.name):
            columns = self._columns(bound)
            refuse_doubled([column.name for column in columns], self.database.name)
            yield pa.RecordBatch.from_pylist([], pa.schema([(one.name, one.kind) for one in columns]))
            yield from read(self.connection, bound.decode(), columns, self.database.name)

    def beside(self, table: PostgresqlTable) -> PostgresqlReading:
        return PostgresqlReading(table, self.connection)

    def _bound(self, sql: str, values: Mapping[str, Value]) -> bytes:
        """A query with its values, as the driver writes them. (COPY takes no values of its own.)"""

        def literal(name: str) -> str:
            return composed.Literal(values[name]).as_string(self.connection)

        return (replaced(sql.strip().rstrip(";"), literal) + "\n").encode()  # it may end in a comment

    def _columns(self, bound: bytes) -> list[Column]:
        """The columns of a query, which is not run for that."""
        prepared = self.connection.pgconn.prepare(b"", bound)
        if prepared.error_message:
            raise refused_query(self.database.name, prepared.error_message.decode(errors="replace"))
        told = self.connection.pgconn.describe_prepared(b"")
        numbers = [(told.ftype(place), told.fmod(place)) for place in range(told.nfields)]
        names = [(told.fname(place) or b"").decode() for place in range(told.nfields)]
        declared = self.connection.execute(TYPES, [[one for one, _ in numbers], [size for _, size in numbers]])
        return [Column(name, kind, arrow_type(kind)) for name, (kind,) in zip(names, declared.fetchall(), strict=True)]


@contextmanager
def _told(place: str) -> Iterator[None]:
    """What the server says of a query."""
    try:
        yield
    except PlainStepError:
        raise
    except (psycopg.ProgrammingError, psycopg.DataError, psycopg.errors.RaiseException) as error:
        raise refused_query(place, error.diag.message_primary or error) from error
    except psycopg.errors.ReadOnlySqlTransaction as error:
        raise refused_query(place, f"{error.diag.message_primary}; it may only read") from error


def wait_for_open(database: PostgresqlDatabase, every: bool) -> bool:
    """Wait until transactions have ended that are open now.

    Args:
        database: where.
        every: also those that have not written yet.

    Raises:
        Refused: one of them stays open.
    """
    with database.opened() as connection:
        asked: tuple[Any, ...] = (OPEN, [database.connections.pids()]) if every else (WRITERS,)
        waited_for = {row[0] for row in connection.execute(*asked).fetchall()}
        until = time.monotonic() + database.wait
        while waited_for:
            rows = [row for row in connection.execute(*asked).fetchall() if row[0] in waited_for]
            if not rows:
                break
            if time.monotonic() > until:
                raise _open_writer(database.name, *rows[0][1:])
            time.sleep(0.02)
    return True


def _open_writer(place: str, pid: int, user: str | None, since: Any) -> Refused:
    who = f"process {pid} of {user}" if pid else "a prepared transaction"
    end = f"SELECT pg_terminate_backend({pid})" if pid else "COMMIT PREPARED or ROLLBACK PREPARED it"
    return Refused(
        f"A transaction in {place} is still open: {who}, since {since}.",
        "Its changes may lie at or below the position that the query 'head' gives, and would be missed.",
        f"Let it end, or end it: {end}; or, if positions rise as transactions commit, say in_commit_order = true in the layout's query.",
    )
