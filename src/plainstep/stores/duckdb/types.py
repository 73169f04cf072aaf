"""DuckDB's types and Arrow's."""

from __future__ import annotations

from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.stores.declared_types import DECLARE_IT


def plain(schema: pa.Schema) -> pa.Schema:
    """The schema with times with a zone in UTC, whatever zone this machine is in."""
    fields = []
    for field in schema:
        zoned = pa.types.is_timestamp(field.type) and field.type.tz is not None
        fields.append(pa.field(field.name, pa.timestamp("us", "UTC") if zoned else field.type))
    return pa.schema(fields)


def declaration(kind: pa.DataType) -> str:
    """The DuckDB type that holds an Arrow type.

    Raises:
        Refused: there is none.
    """
    if pa.types.is_decimal(kind):
        if kind.precision > 38:
            raise Refused(
                f"DuckDB holds decimals of 38 digits at most, not {kind}.",
                "",
                DECLARE_IT,
            )
        return f"DECIMAL({kind.precision},{kind.scale})"
    names = {
        "bool": "BOOLEAN",
        "date32[day]": "DATE",
        "time64[us]": "TIME",
        "timestamp[us]": "TIMESTAMP",
        "timestamp[us, tz=UTC]": "TIMESTAMPTZ",
        "int64": "BIGINT",
        "int32": "INTEGER",
        "int16": "SMALLINT",
        "int8": "TINYINT",
        "float": "REAL",
        "double": "DOUBLE",
        "string": "VARCHAR",
        "large_string": "VARCHAR",
        "binary": "BLOB",
        "large_binary": "BLOB",
    }
    if str(kind) not in names:
        raise Refused(
            f"DuckDB has no type for {kind}.",
            "",
            DECLARE_IT,
        )
    return names[str(kind)]
