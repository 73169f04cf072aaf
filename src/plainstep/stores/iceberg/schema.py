"""The columns of an Iceberg table: as its metadata says them, as its files have them, and as Arrow's."""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import cache
from typing import Any

from plainstep.core.json_values import plain
from plainstep.deferred import deferred, pa
from plainstep.errors import DataError
from plainstep.stores.declared_types import DECLARE_IT

schemas, types = deferred("pyiceberg", "schema", "types")

# What files say of the number of each column.
FIELD_ID = b"PARQUET:field_id"


@cache
def plain_types() -> dict[str, pa.DataType]:
    """Arrow's types for the primitive ones. What is 16 bytes for others is a text here."""
    return {
        "boolean": pa.bool_(), "int": pa.int32(), "long": pa.int64(), "float": pa.float32(), "double": pa.float64(), "date": pa.date32(),
        "time": pa.time64("us"), "timestamp": pa.timestamp("us"), "timestamptz": pa.timestamp("us", "UTC"), "string": pa.string(),
        "uuid": pa.string(), "binary": pa.binary(),
    }  # fmt: skip


@dataclass(frozen=True)
class Column:
    """A column.

    Attributes:
        name: its name.
        number: its number, by which files know it.
        kind: its Arrow type. Nested values are texts of JSON.
        declared: its type, as the table's schema says it.
    """

    name: str
    number: int
    kind: pa.DataType
    declared: Any = field(hash=False, compare=False)

    def of_file(self, values: pa.ChunkedArray, kind: pa.Field) -> pa.ChunkedArray:
        """Its values, as a file has them, in its own type.

        Raises:
            pa.ArrowException: they do not fit it.
        """
        if not self.declared.is_primitive:
            return _texts(values, _logical(self.declared, kind))
        if str(self.declared) == "uuid":
            return _texts(values, lambda value: str(uuid.UUID(bytes=value) if isinstance(value, bytes) else value))
        return values if values.type == self.kind else values.cast(self.kind)

    def repeated(self, value: Any, count: int) -> pa.Array:
        """One value, as often as there are rows."""
        return pa.nulls(count, self.kind) if value is None else pa.repeat(pa.scalar(value, self.kind), count)


def columns_of(schema: Any, place: str) -> list[Column]:
    """The columns of a table.

    Args:
        schema: as the library that reads metadata has it.
        place: the table's name, for messages.

    Raises:
        DataError: one is of a type that is not known.
    """
    return [
        Column(one.name, one.field_id, _kind(one.field_type, f"{place}.{one.name}"), one.field_type)
        for one in schema.fields
    ]


def _kind(declared: Any, place: str) -> pa.DataType:
    if not declared.is_primitive:
        return pa.string()
    name = str(declared)
    if name.startswith("decimal"):
        return pa.decimal128(declared.precision, declared.scale)
    if name.startswith("fixed"):
        return pa.binary()
    if name not in plain_types():
        raise DataError(
            f"{place} is of the type {name}, which has no equivalent in other stores.",
            "",
            "Leave it out: columns = [...].",
        )
    return plain_types()[name]


def _texts(values: pa.ChunkedArray, made: Callable[[Any], Any]) -> pa.ChunkedArray:
    def text(value: Any) -> str | None:
        found = None if value is None else made(value)
        return (
            found if found is None or isinstance(found, str) else json.dumps(found, default=plain, ensure_ascii=False)
        )

    return pa.chunked_array([pa.array([text(value) for value in values.to_pylist()], pa.string())])


def number_of(one: pa.Field) -> int | None:
    """The number that a file gives a column; None where it gives none."""
    found = (one.metadata or {}).get(FIELD_ID)
    return int(found) if found is not None else None


def _logical(declared: Any, there: pa.Field) -> Callable[[Any], Any]:
    """What makes a nested value one with the names that the table has for its members now."""
    kind = there.type
    if declared.is_primitive:
        return lambda value: value
    if declared.is_struct:
        names = {number_of(one) or one.name: one for one in _children(kind)}
        members = [
            (one.name, found.name, _logical(one.field_type, found))
            for one in declared.fields
            if (found := names.get(one.field_id) or names.get(one.name)) is not None
        ]
        return lambda value: None if value is None else {name: made(value[own]) for name, own, made in members}
    if hasattr(declared, "element_type"):
        element = _logical(declared.element_type, kind.value_field)
        return lambda value: None if value is None else [element(one) for one in value]
    inner = _logical(declared.value_type, kind.item_field)
    return lambda value: None if value is None else {str(name): inner(one) for name, one in dict(value).items()}


def _children(kind: pa.DataType) -> Iterable[pa.Field]:
    return [kind.field(place) for place in range(kind.num_fields)]


def held_as(kind: pa.DataType) -> pa.DataType:
    """The type in which values of a type are held in an Iceberg table."""
    if pa.types.is_integer(kind):
        if kind.bit_width == 64 and pa.types.is_unsigned_integer(kind):
            return pa.decimal128(20, 0)
        return pa.int64() if kind.bit_width == 64 or kind == pa.uint32() else pa.int32()
    if pa.types.is_large_string(kind) or pa.types.is_null(kind):
        return pa.string()
    if pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.binary()
    if pa.types.is_time(kind):
        return pa.time64("us")
    if pa.types.is_timestamp(kind):
        return pa.timestamp("us", "UTC" if kind.tz else None)
    return pa.float32() if pa.types.is_float16(kind) else kind


def declared_as(field_: pa.Field) -> Any:
    """A type as the table's schema says it.

    Raises:
        DataError: an Iceberg table has none for it.
    """
    kind = held_as(field_.type)
    if pa.types.is_decimal128(kind):
        return types.DecimalType(kind.precision, kind.scale)
    names = [name for name, one in plain_types().items() if one == kind and name != "uuid"]
    if not names:
        raise DataError(f"An Iceberg table has no type for {kind} (the column {field_.name}).", "", DECLARE_IT)
    return types.IcebergType.handle_primitive_type(names[0], None)


def schema_of(schema: pa.Schema) -> Any:
    """The columns of a new table, as the library that writes metadata has them."""
    fields = [types.NestedField(number, one.name, declared_as(one)) for number, one in enumerate(schema, 1)]
    return schemas.Schema(*fields)
