"""MariaDB's and MySQL's types and Arrow's: which holds which, and how values cross as text."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache

from plainstep.deferred import pa, pc
from plainstep.errors import DataError
from plainstep.stores.declared_types import DECLARE_IT
from plainstep.stores.misfit import converted
from plainstep.stores.misfit import misfit as unfitting

# Under this name a field's metadata tells the type that its column has in the database.
NATIVE = b"mysql"
SPATIAL = (
    "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection",
)  # fmt: skip


@cache
def plain_types() -> dict[str, pa.DataType]:
    """Arrow's types for the database's, by their names without sizes."""
    return {
        "tinyint": pa.int8(), "tinyint unsigned": pa.int16(), "smallint": pa.int16(), "smallint unsigned": pa.int32(),
        "mediumint": pa.int32(), "mediumint unsigned": pa.int32(), "int": pa.int32(), "int unsigned": pa.int64(),
        "bigint": pa.int64(), "bigint unsigned": pa.decimal128(20, 0), "bit": pa.decimal128(20, 0), "year": pa.int16(),
        "float": pa.float32(), "double": pa.float64(), "date": pa.date32(), "time": pa.time64("us"),
        "datetime": pa.timestamp("us"), "timestamp": pa.timestamp("us", "UTC"),
        "binary": pa.binary(), "varbinary": pa.binary(), "tinyblob": pa.binary(), "blob": pa.binary(),
        "mediumblob": pa.binary(), "longblob": pa.binary(),
    }  # fmt: skip


DECLARATIONS = {
    "int8": "tinyint", "int16": "smallint", "int32": "int", "int64": "bigint", "uint8": "tinyint unsigned",
    "uint16": "smallint unsigned", "uint32": "int unsigned", "uint64": "bigint unsigned", "float": "float", "double": "double",
    "bool": "tinyint(1)", "date32[day]": "date", "time64[us]": "time(6)", "timestamp[us]": "datetime(6)",
    # Not timestamp: that ends in 2038, and begins in 1970.
    "timestamp[us, tz=UTC]": "datetime(6)", "binary": "longblob", "large_binary": "longblob",
}  # fmt: skip
# What Arrow's widest decimal that every store holds.
DIGITS = 38
# Letters of a text in a key: with four bytes each, three such columns fit into the longest key.
KEY_LETTERS, KEY_BYTES = 250, 1000


@dataclass(frozen=True)
class Column:
    """A column as it is in the database, and as it is in Arrow.

    Attributes:
        name: its name.
        declared: its type, as the database names it, in small letters.
        kind: its Arrow type.
        collation: how its texts are compared; empty for what holds none.
        charset: how they are written.
        not_null: whether it holds a value in every row.
        generated: whether the table computes it itself.
    """

    name: str
    declared: str
    kind: pa.DataType
    collation: str = ""
    charset: str = ""
    not_null: bool = False
    generated: bool = False

    @property
    def native(self) -> str:
        """Its type with all that a column of another table needs to hold the same."""
        texts = f" CHARACTER SET {self.charset} COLLATE {self.collation}" if self.charset and self.collation else ""
        return self.declared + texts

    @property
    def field(self) -> pa.Field:
        """The Arrow field, which remembers the column's own type."""
        return pa.field(self.name, self.kind, metadata={NATIVE: self.native.encode()})

    def read_sql(self, name: str) -> str:
        """How to select it, so that no digit is lost; ``name`` is how SQL writes it."""
        base = base_of(self.declared)
        if base in SPATIAL:
            return f"ST_AsText({name})"
        if pa.types.is_string(self.kind) and (base not in plain_types() or plain_types()[base] != pa.binary()):
            return f"CAST({name} AS CHAR)" if base in plain_types() else name
        if base == "float":  # as text, it is cut to six digits
            return f"CAST({name} AS DOUBLE)"
        return f"{name} + 0" if base == "bit" else name


def base_of(declared: str) -> str:
    """A type without its sizes."""
    return re.sub(r"\s*\([^)]*\)|\s+zerofill", "", declared).strip()


def arrow_type(declared: str) -> pa.DataType:
    """The Arrow type for a type of the database's; text for what Arrow has no equivalent of."""
    if declared == "tinyint(1)":  # what BOOLEAN is here
        return pa.bool_()
    base = base_of(declared)
    sized = re.match(r"decimal\((\d+),(\d+)\)", declared)
    if sized:
        digits, scale = int(sized[1]), int(sized[2])
        return pa.decimal128(digits, scale) if digits <= DIGITS else pa.string()
    return plain_types().get(base, pa.string())


def declaration(field: pa.Field, in_key: bool, texts: str) -> str:
    """The type under which a column is made: its own, if it comes from such a database.

    Args:
        field: the column.
        in_key: whether it is part of the key, which has to be short.
        texts: what makes the database compare texts letter by letter.

    Raises:
        DataError: the database has nothing to hold it.
    """
    native = (field.metadata or {}).get(NATIVE)
    if native and not (in_key and re.match(r"\w*(text|blob)", native.decode())):
        return str(native.decode())
    kind = field.type
    if pa.types.is_decimal(kind):
        return f"decimal({kind.precision},{kind.scale})"
    if pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_null(kind):
        return f"varchar({KEY_LETTERS}) {texts}" if in_key else f"longtext {texts}"
    if in_key and (pa.types.is_binary(kind) or pa.types.is_large_binary(kind)):
        return f"varbinary({KEY_BYTES})"
    if str(kind) not in DECLARATIONS:
        raise DataError(f"MariaDB and MySQL have no type for {kind}.", "", DECLARE_IT)
    return DECLARATIONS[str(kind)]


def from_text(values: pa.Array, kind: pa.DataType) -> pa.Array:
    """Values as the server writes them, as an Arrow array.

    Raises:
        Misfit: a value does not fit, such as ``0000-00-00`` for a date.
    """
    return converted(values, lambda some: _cast(some, kind))


def _cast(found: pa.Array, kind: pa.DataType) -> pa.Array:
    if pa.types.is_string(kind):
        return found
    if pa.types.is_boolean(kind):
        numbers = found.cast(pa.int8())
        if not pc.all(pc.is_in(numbers.drop_null(), value_set=pa.array([0, 1], pa.int8())), min_count=0).as_py():
            raise ValueError("neither yes nor no")
        return numbers.cast(kind)
    if pa.types.is_time(kind):  # Arrow reads a time of day only as part of a timestamp
        return pc.binary_join_element_wise("1970-01-01", found, " ").cast(pa.timestamp("us")).cast(kind)
    if pa.types.is_timestamp(kind) and kind.tz:  # the connection's times are in UTC
        return pc.assume_timezone(found.cast(pa.timestamp(kind.unit)), "UTC").cast(kind)
    return found.cast(kind)


def misfit(table: str, column: Column, value: object) -> DataError:
    """The error for a value that Arrow's type cannot hold."""
    return unfitting(table, column.name, column.declared, value)
