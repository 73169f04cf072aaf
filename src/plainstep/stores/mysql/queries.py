"""Queries of people's own in MariaDB and MySQL."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import pymysql
from pymysql.constants import FIELD_TYPE, FLAG

from plainstep.deferred import pa
from plainstep.errors import DataError
from plainstep.sql.parameters import replaced
from plainstep.stores.mysql.rows import batch_of
from plainstep.stores.mysql.table import MysqlReading
from plainstep.stores.mysql.types import Column, arrow_type
from plainstep.stores.queries import Value, refuse_doubled, refused_query

if TYPE_CHECKING:
    from pymysql.protocol import FieldDescriptorPacket

    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.table import MysqlTable
    from plainstep.stores.mysql.wire import Wire

# The types of a result's columns, as tables declare them.
DECLARED = {
    FIELD_TYPE.TINY: "tinyint", FIELD_TYPE.SHORT: "smallint", FIELD_TYPE.LONG: "int", FIELD_TYPE.INT24: "mediumint",
    FIELD_TYPE.LONGLONG: "bigint", FIELD_TYPE.DOUBLE: "double", FIELD_TYPE.TIMESTAMP: "timestamp", FIELD_TYPE.DATE: "date",
    FIELD_TYPE.NEWDATE: "date", FIELD_TYPE.TIME: "time", FIELD_TYPE.DATETIME: "datetime", FIELD_TYPE.YEAR: "year",
}  # fmt: skip
WHOLE = {FIELD_TYPE.TINY, FIELD_TYPE.SHORT, FIELD_TYPE.LONG, FIELD_TYPE.INT24, FIELD_TYPE.LONGLONG}
# Types whose values are not sent whole, or not as they are: with what sends them so.
CAST = {
    FIELD_TYPE.FLOAT: "CAST({} AS DOUBLE)",
    FIELD_TYPE.BIT: "{} + 0",
    FIELD_TYPE.GEOMETRY: "ST_AsText({})",
}
BINARY = 63  # the charset of bytes


@contextmanager
def opened(database: MysqlDatabase) -> Iterator[MysqlQueries]:
    """A read-only transaction that sees one moment."""
    with database.read_transaction() as connection:
        yield MysqlQueries(database, connection)


class MysqlQueries:
    """A transaction in which queries are asked."""

    def __init__(self, database: MysqlDatabase, connection: Wire) -> None:
        self.database, self.connection = database, connection

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        with _told(self.database.name):
            return self.connection.first(self._bound(sql, values))

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        with _told(self.database.name):
            described = self.connection.ask(self._bound(sql, values))
        wrong = next((one for one in described if one.type_code in CAST), None)
        if wrong is not None:
            self.connection._force_close()
            raise DataError(
                f"A query of {self.database.name} gives {wrong.name}, whose values are not sent as they are.",
                "Some of their digits would be lost, or they would have no meaning elsewhere.",
                f"Write it in the query as {CAST[wrong.type_code].format(wrong.name)} AS {wrong.name}.",
            )
        columns = [_column(one) for one in described]
        refuse_doubled([column.name for column in columns], self.database.name)
        yield pa.RecordBatch.from_pylist([], pa.schema([(one.name, one.kind) for one in columns]))
        for packets in self.connection.packets():
            yield batch_of(packets, columns, self.database.name)

    def beside(self, table: MysqlTable) -> MysqlReading:
        _ = table.found
        return MysqlReading(table, self.connection)

    def _bound(self, sql: str, values: Mapping[str, Value]) -> str:
        """A query with its values, as the driver writes them: the protocol of texts has no place for them."""

        def literal(name: str) -> str:
            value = values[name]
            return f"x'{value.hex()}'" if isinstance(value, bytes) else str(self.connection.escape(value))

        return replaced(sql.strip().rstrip(";"), literal, backslashes=True)


def _column(told: FieldDescriptorPacket) -> Column:
    """A column of a result."""
    name, kind = told.name, told.type_code
    unsigned = " unsigned" if told.flags & FLAG.UNSIGNED else ""
    if kind in (FIELD_TYPE.DECIMAL, FIELD_TYPE.NEWDECIMAL):
        digits = told.length - bool(told.scale) - (not unsigned)
        declared = f"decimal({digits},{told.scale})"
    elif kind in WHOLE:
        # What BOOLEAN is here; an expression such as "a = 1" is as wide, and a whole number.
        declared = "tinyint(1)" if kind == FIELD_TYPE.TINY and told.length == 1 else DECLARED[kind] + unsigned
    elif kind in DECLARED:
        declared = DECLARED[kind]
    else:
        declared = "blob" if told.charsetnr == BINARY and kind != FIELD_TYPE.JSON else "text"
    return Column(name, declared, arrow_type(declared))


@contextmanager
def _told(place: str) -> Iterator[None]:
    """What the server says of a query."""
    try:
        yield
    except (pymysql.ProgrammingError, pymysql.DataError, pymysql.NotSupportedError) as error:
        raise refused_query(place, error.args[-1]) from error
    except pymysql.OperationalError as error:
        if error.args and error.args[0] in (
            1054,
            1305,
            1370,
            1582,
            1644,
            1792,
        ):  # of the statement, not of the connection
            raise refused_query(place, error.args[-1]) from error
        raise
