"""PostgreSQL's types and Arrow's: which holds which, and how values cross as text.

Values leave the server as text, in CSV: of everything tried it is the form that Arrow reads fastest, and the only one
in which a number of any size, an interval or an array arrives whole. Types that Arrow has no like of (uuid, interval,
json, arrays, ranges, enums and others) stay text; the column's own type goes with its field, so that another
PostgreSQL holds them as what they are.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from plainstep.core.changes.ops import NOW, WAS
from plainstep.deferred import pa, pc
from plainstep.errors import DataError
from plainstep.stores.declared_types import DECLARE_IT
from plainstep.stores.misfit import converted
from plainstep.stores.misfit import misfit as unfitting

# Under this name a field's metadata tells the type that its column has in PostgreSQL.
NATIVE = b"postgresql"


@cache
def plain_types() -> dict[str, pa.DataType]:
    """Arrow's types for PostgreSQL's."""
    return {
        "smallint": pa.int16(),
        "integer": pa.int32(),
        "bigint": pa.int64(),
        "real": pa.float32(),
        "double precision": pa.float64(),
        "boolean": pa.bool_(),
        "date": pa.date32(),
        "time without time zone": pa.time64("us"),
        "timestamp without time zone": pa.timestamp("us"),
        "timestamp with time zone": pa.timestamp("us", "UTC"),
        "bytea": pa.binary(),
        "oid": pa.int64(),
    }


SHORT = {
    "int2": "smallint",
    "int4": "integer",
    "int": "integer",
    "int8": "bigint",
    "float4": "real",
    "float8": "double precision",
    "float": "double precision",
    "bool": "boolean",
    "time": "time without time zone",
    "timestamp": "timestamp without time zone",
    "timestamptz": "timestamp with time zone",
    "decimal": "numeric",
}
DECLARATIONS = {
    "int8": "smallint",
    "int16": "smallint",
    "int32": "integer",
    "int64": "bigint",
    "float": "real",
    "double": "double precision",
    "bool": "boolean",
    "date32[day]": "date",
    "time64[us]": "time without time zone",
    "timestamp[us]": "timestamp without time zone",
    "timestamp[us, tz=UTC]": "timestamp with time zone",
    "string": "text",
    "large_string": "text",
    "binary": "bytea",
    "large_binary": "bytea",
}
DECIMAL = re.compile(r"numeric\((\d+),(-?\d+)\)$")
PRECISION = re.compile(r"\(\d\)")
# What Arrow's widest decimal that reads and writes text holds.
DIGITS = 38


@dataclass(frozen=True)
class Column:
    """A column as it is in PostgreSQL, and as it is in Arrow.

    Attributes:
        name: its name.
        declared: its type, a domain's replaced by what it is made of; ``text`` for an enum.
        kind: its Arrow type.
        native: its type as this database names it; what a domain is made of, and text where to read a value would run functions
            that somebody made.
        made: whether somebody made the type, and perhaps casts of it.
        oid: the number of its type, where that is one of the server's own or an enum; 0 of any other, and where a load reads it as
            another type.
    """

    name: str
    declared: str
    kind: pa.DataType
    native: str = "text"
    made: bool = False
    oid: int = 0

    @property
    def field(self) -> pa.Field:
        """The Arrow field, which remembers the PostgreSQL type."""
        return pa.field(self.name, self.kind, metadata={NATIVE: self.declared.encode()})


def arrow_type(declared: str) -> pa.DataType:
    """The Arrow type for a PostgreSQL type; text for what Arrow has no like of."""
    found = plain_types().get(without_precision(declared))
    if found is not None:
        return found
    decimal = DECIMAL.match(declared)
    if decimal and int(decimal[1]) <= DIGITS and 0 <= int(decimal[2]) <= int(decimal[1]):
        return pa.decimal128(int(decimal[1]), int(decimal[2]))
    return pa.string()


def without_precision(declared: str) -> str:
    """A type of times without how many digits its seconds have: Arrow's has six, which holds them all."""
    return PRECISION.sub("", declared) if declared.startswith("time") else declared


def spelled(declared: str) -> str:
    """A type as a person writes it, as the server spells it."""
    plain = " ".join(declared.lower().split()).replace(", ", ",").replace(" (", "(")
    name, bracket, rest = plain.partition("(")
    plain = SHORT.get(name, name) + bracket + rest
    return plain[:-1] + ",0)" if re.fullmatch(r"numeric\(\d+\)", plain) else plain


def declaration(field: pa.Field) -> str:
    """The type under which a column is made: its own, if it comes from PostgreSQL.

    Raises:
        DataError: PostgreSQL has nothing to hold it.
    """
    native = (field.metadata or {}).get(NATIVE)
    if native:
        return str(native.decode())
    if pa.types.is_decimal(field.type):
        return f"numeric({field.type.precision},{field.type.scale})"
    if str(field.type) not in DECLARATIONS:
        raise DataError(
            f"PostgreSQL has no type for {field.type}.",
            "",
            DECLARE_IT,
        )
    return DECLARATIONS[str(field.type)]


def from_text(values: Sequence[str | None] | pa.Array, kind: pa.DataType) -> pa.Array:
    """Values as PostgreSQL writes them, as an Arrow array.

    Raises:
        Misfit: a value does not fit, such as ``infinity`` for a time.
    """
    found = values if isinstance(values, pa.Array) else pa.array(values, pa.string())
    return converted(found, lambda some: _cast(some, kind))


def _cast(found: pa.Array, kind: pa.DataType) -> pa.Array:
    if pa.types.is_string(kind):
        return found
    if pa.types.is_boolean(kind):
        return pc.if_else(found.is_valid(), pc.is_in(found, value_set=pa.array(["t", "true"])), None)
    if pa.types.is_binary(kind):
        return pa.array([None if text is None else unhexed(text) for text in found.to_pylist()], kind)
    if pa.types.is_time(kind):  # Arrow reads a time of day only as part of a timestamp
        return pc.binary_join_element_wise("1970-01-01", found, " ").cast(pa.timestamp("us")).cast(kind)
    return found.cast(kind)


def unhexed(text: str) -> bytes:
    """Bytes as the server writes them: ``\\x`` and hexadecimal digits."""
    return bytes.fromhex(text[2:])


def misfit(table: str, column: Column, value: Any) -> DataError:
    """The error for a value that Arrow's type cannot hold."""
    return unfitting(table, column.name.removeprefix(WAS).removeprefix(NOW), column.declared, value)
