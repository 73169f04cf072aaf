"""Queries of people's own in a DuckDB file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from plainstep.core.held_types import held_as, is_nested
from plainstep.deferred import duckdb, pa
from plainstep.errors import Refused
from plainstep.sql.literals import quoted
from plainstep.sql.parameters import replaced
from plainstep.stores.duckdb.connection import batches_of
from plainstep.stores.duckdb.table import DuckdbReading, held
from plainstep.stores.queries import Value, refuse_doubled, refused_query

if TYPE_CHECKING:
    from plainstep.stores.duckdb.database import DuckdbDatabase
    from plainstep.stores.duckdb.table import DuckdbTable


@contextmanager
def opened(database: DuckdbDatabase) -> Iterator[DuckdbQueries]:
    """A read-only transaction."""
    if not database.path.exists():
        raise Refused(f"There is no file {database.path}.", "", "Check the store's url in plainstep.toml.")
    with database.opened(read_only=True) as connection:
        connection.execute("SET TimeZone = 'UTC'")
        connection.execute("BEGIN TRANSACTION READ ONLY")
        queries = DuckdbQueries(database, connection)
        try:
            yield queries
        finally:
            queries.close()


class DuckdbQueries:
    """A transaction in which queries are asked."""

    def __init__(self, database: DuckdbDatabase, connection: duckdb.DuckDBPyConnection) -> None:
        self.database, self.connection = database, connection
        self._results: list[pa.RecordBatchReader] = []

    def close(self) -> None:
        """End the transaction; results that were read half block the connection."""
        for result in self._results:
            result.close()
        self.connection.execute("ROLLBACK")

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        with _told(self.database.name):
            rows = self.connection.execute(*_bound(sql, values)).fetchall()
            return rows[0] if rows else None

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        with _told(self.database.name):
            bound, wanted = _bound(sql, values)
            result = self._asked(bound, wanted)
            refuse_doubled(result.schema.names, self.database.name)
            nested = [field.name for field in result.schema if is_nested(field.type)]
            if nested:
                result.close()
                columns = ", ".join(
                    f"CAST(to_json({quoted(name)}) AS VARCHAR) AS {quoted(name)}" if name in nested else quoted(name)
                    for name in result.schema.names
                )
                bound = f"SELECT {columns} FROM ({bound}\n) plainstep_rows"
                result = self._asked(bound, wanted)
            schema = pa.schema([(field.name, held_as(field.type)) for field in result.schema])
            yield pa.RecordBatch.from_pylist([], schema)
            for batch in batches_of(result):
                yield held(batch, schema, self.database.name)

    def _asked(self, bound: str, values: dict[str, Value]) -> pa.RecordBatchReader:
        result: pa.RecordBatchReader = self.connection.sql(bound, params=values).to_arrow_reader(1 << 16)
        self._results.append(result)
        return result

    def beside(self, table: DuckdbTable) -> DuckdbReading:
        return DuckdbReading(table, self.connection)


def _bound(sql: str, values: Mapping[str, Value]) -> tuple[str, dict[str, Value]]:
    """A query as DuckDB takes it, with just the values that it names."""
    named: dict[str, Value] = {}

    def parameter(name: str) -> str:
        named[name] = values[name]
        return f"${name}"

    return replaced(sql.strip().rstrip(";"), parameter), named


@contextmanager
def _told(place: str) -> Iterator[None]:
    """What DuckDB says of a query."""
    try:
        yield
    except duckdb.IOException:
        raise
    except duckdb.Error as error:
        raise refused_query(place, str(error).splitlines()[0]) from error
