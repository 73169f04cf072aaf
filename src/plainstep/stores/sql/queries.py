"""Queries of people's own in a database that SQLAlchemy reaches. What their results hold is not told, and is said by the load."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from plainstep.deferred import pa
from plainstep.errors import PlainStepError
from plainstep.stores.queries import Value, refuse_doubled, refused_query
from plainstep.stores.row_values import batches_of
from plainstep.stores.sql.dialect import asked
from plainstep.stores.sql.table import BATCH, SqlReading
from plainstep.stores.sql.types import to_arrow, to_driver

if TYPE_CHECKING:
    from plainstep.stores.sql.database import SqlDatabase
    from plainstep.stores.sql.table import SqlTable


@contextmanager
def opened(database: SqlDatabase) -> Iterator[SqlQueries]:
    """A transaction that only reads, and sees one moment where the database shows one."""
    with database.transaction(database.known.reading) as connection:
        yield SqlQueries(database, connection)


@contextmanager
def taking(database: SqlDatabase, really: bool) -> Iterator[SqlQueries]:
    """The transaction in which what is read is also merged; where there is none now, one that is rolled back.

    Args:
        database: where.
        really: whether what is read stays taken; if not, it is given back.
    """
    if database.joint is not None:
        if not really:
            database.joint.exec_driver_sql("SAVEPOINT plainstep_tried")
        try:
            yield SqlQueries(database, database.joint, streams=False)
        finally:
            if not really:
                database.joint.exec_driver_sql("ROLLBACK TO SAVEPOINT plainstep_tried")
        return
    with database.transaction(database.traits.writing) as connection:
        yield SqlQueries(database, connection, streams=False)


class SqlQueries:
    """A transaction in which queries are asked."""

    def __init__(self, database: SqlDatabase, connection: Connection, streams: bool = True) -> None:
        self.database, self.connection = database, connection
        # A cursor takes no statement that changes anything.
        self._how: dict[str, Any] = {"stream_results": streams} | ({"max_row_buffer": BATCH} if streams else {})

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        with self._asked(sql, values) as result:
            row = result.fetchone()
            return tuple(row) if row is not None else None

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        with self._asked(sql, values) as result:
            names = list(result.keys())
            refuse_doubled(names, self.database.name)
            parts = iter(lambda: result.fetchmany(BATCH), [])
            yield from batches_of(parts, names, kinds, natural, to_arrow, self.database.name)

    @contextmanager
    def _asked(self, sql: str, values: Mapping[str, Value]) -> Iterator[sa.CursorResult[Any]]:
        clause = asked(sql, self.database.dialect.backslashes)
        files = self.database.backend == "sqlite"
        bound = {name: to_driver(pa.array([value]), True)[0] if files else value for name, value in values.items()}
        named = {name: value for name, value in bound.items() if name in clause._bindparams}
        try:
            result = self.connection.execute(clause, named, execution_options=self._how)
        except PlainStepError:
            raise
        except (
            sa.exc.ProgrammingError,
            sa.exc.DataError,
            sa.exc.NotSupportedError,
            sa.exc.InternalError,
            sa.exc.OperationalError,
        ) as error:
            if error.connection_invalidated:
                raise
            raise refused_query(self.database.name, error.orig) from error
        try:
            yield result
        finally:
            result.close()

    def beside(self, table: SqlTable) -> SqlReading:
        table.columns  # noqa: B018 (known before: not looked up while it is read)
        return SqlReading(table, self.connection)
