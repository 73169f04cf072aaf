"""The columns of a Delta table: as its log says them, as its files have them, and as Arrow's."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from typing import Any

from plainstep.core.json_values import plain
from plainstep.deferred import pa, pc
from plainstep.errors import DataError
from plainstep.stores.declared_types import DECLARE_IT
from plainstep.stores.delta.log import Action

MODE = "delta.columnMapping.mode"
# What the properties begin with by which a table asks more of its writers; that of deletion vectors; and that of one whose rows stay.
ASKS, VECTORS, APPENDS = "delta.enable", "delta.enableDeletionVectors", "delta.appendOnly"
PHYSICAL, NUMBER = "delta.columnMapping.physicalName", "delta.columnMapping.id"


@cache
def plain_types() -> dict[str, pa.DataType]:
    """Arrow's types for the primitive ones."""
    return {
        "string": pa.string(), "long": pa.int64(), "integer": pa.int32(), "short": pa.int16(), "byte": pa.int8(),
        "float": pa.float32(), "double": pa.float64(), "boolean": pa.bool_(), "binary": pa.binary(), "date": pa.date32(),
        "timestamp": pa.timestamp("us", "UTC"), "timestamp_ntz": pa.timestamp("us"),
    }  # fmt: skip


@dataclass(frozen=True)
class Column:
    """A column.

    Attributes:
        name: its name.
        physical, number: its name in files, and its number there; 0 where columns have none.
        kind: its Arrow type. Nested values are texts of JSON.
        declared: its type, as the log says it.
    """

    name: str
    physical: str
    number: int
    kind: pa.DataType
    declared: Any = field(hash=False, compare=False)

    def of_file(self, values: pa.ChunkedArray) -> pa.ChunkedArray:
        """Its values, as a file has them, in its own type.

        Raises:
            pa.ArrowException: they do not fit it.
        """
        if not isinstance(self.declared, str):
            return pa.chunked_array([_documents(values, self.declared)], pa.string())
        if (
            pa.types.is_timestamp(values.type)
            and values.type.tz is None
            and pa.types.is_timestamp(self.kind)
            and self.kind.tz
        ):
            values = pc.assume_timezone(values.cast(pa.timestamp("us")), "UTC")
        return values if values.type == self.kind else values.cast(self.kind)

    def of_partition(self, text: str | None, count: int) -> pa.Array:
        """Its value in a partition, as often as there are rows.

        Raises:
            pa.ArrowException: it is not one of its type.
        """
        if text is None or text == "":
            return pa.nulls(count, self.kind)
        if pa.types.is_timestamp(self.kind):
            moment = pa.scalar(re.sub(r"Z$|[+-]00:?00$", "", text)).cast(pa.timestamp("us"))
            value = pc.assume_timezone(moment, "UTC") if self.kind.tz else moment
        elif pa.types.is_binary(self.kind):
            value = pa.scalar(text.encode("latin-1"), pa.binary())
        else:
            value = pa.scalar(text).cast(self.kind)
        return pa.repeat(value, count)


def columns_of(metadata: Action, place: str) -> list[Column]:
    """The columns of a table.

    Raises:
        DataError: one is of a type that is not known.
    """
    is_mapped = _configuration(metadata).get(MODE, "none") != "none"
    found = []
    for one in json.loads(metadata["schemaString"])["fields"]:
        said = one.get("metadata") or {}
        physical = said.get(PHYSICAL, one["name"]) if is_mapped else one["name"]
        number = int(said.get(NUMBER, 0)) if is_mapped else 0
        kind = _kind(one["type"], f"{place}.{one['name']}")
        found.append(Column(one["name"], physical, number, kind, one["type"]))
    return found


def _configuration(metadata: Action) -> dict[str, str]:
    return dict(metadata.get("configuration") or {})


def by_number(metadata: Action) -> bool:
    """Whether columns are found in files by their numbers."""
    return _configuration(metadata).get(MODE) == "id"


def is_on(metadata: Action, name: str) -> bool:
    """Whether a property of a table is turned on."""
    return _configuration(metadata).get(name, "").lower() == "true"


def _kind(declared: Any, place: str) -> pa.DataType:
    if not isinstance(declared, str):
        return pa.string()
    sized = re.fullmatch(r"decimal\((\d+),\s*(\d+)\)", declared)
    if sized:
        return pa.decimal128(int(sized[1]), int(sized[2]))
    if declared not in plain_types():
        raise DataError(
            f"{place} is of the type {declared}, which has no equivalent in other stores.",
            "",
            "Leave it out: columns = [...].",
        )
    return plain_types()[declared]


def _documents(values: pa.ChunkedArray, declared: Any) -> pa.Array:
    """Nested values as JSON, their members by the names that the table has for them."""
    made = _logical(declared)
    found = [
        None if one is None else json.dumps(made(one), default=plain, ensure_ascii=False) for one in values.to_pylist()
    ]
    return pa.array(found, pa.string())


def _logical(declared: Any) -> Callable[[Any], Any]:
    """What makes a value with names as files have them one with those of the table."""
    if isinstance(declared, str):
        return lambda value: value
    if declared["type"] == "struct":
        members = [
            (one["name"], (one.get("metadata") or {}).get(PHYSICAL, one["name"]), _logical(one["type"]))
            for one in declared["fields"]
        ]
        return lambda value: (
            None
            if value is None
            else {name: made(value.get(physical, value.get(name))) for name, physical, made in members}
        )
    if declared["type"] == "array":
        element = _logical(declared["elementType"])
        return lambda value: None if value is None else [element(one) for one in value]
    inner = _logical(declared["valueType"])
    return lambda value: None if value is None else {str(name): inner(one) for name, one in dict(value).items()}


def held_as(kind: pa.DataType) -> pa.DataType:
    """The type in which values of a type are held in a Delta table."""
    if pa.types.is_unsigned_integer(kind):
        wider = {8: pa.int16(), 16: pa.int32(), 32: pa.int64(), 64: pa.decimal128(20, 0)}
        return wider[kind.bit_width]
    if pa.types.is_large_string(kind) or pa.types.is_null(kind) or pa.types.is_time(kind):
        return pa.string()
    if pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return pa.binary()
    if pa.types.is_timestamp(kind):
        return pa.timestamp("us", "UTC" if kind.tz else None)
    return kind


def declared_as(field_: pa.Field) -> str:
    """A type as the log says it.

    Raises:
        DataError: a Delta table has none for it.
    """
    kind = held_as(field_.type)
    if pa.types.is_decimal(kind):
        return f"decimal({kind.precision},{kind.scale})"
    names = [name for name, one in plain_types().items() if one == kind]
    if not names:
        raise DataError(f"A Delta table has no type for {kind} (the column {field_.name}).", "", DECLARE_IT)
    return names[0]


def schema_text(schema: pa.Schema) -> str:
    """The columns of a table, as its log says them."""
    fields = [{"name": one.name, "type": declared_as(one), "nullable": True, "metadata": {}} for one in schema]
    return json.dumps({"type": "struct", "fields": fields}, ensure_ascii=False)
