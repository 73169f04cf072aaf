"""The columns of Protobuf messages, and their values as rows, by their descriptors.

A field that says whether it is there (a message, an ``optional`` one, one of a ``oneof``) is null where it is not; of others, which do
not, absence and the default value are one and the same.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import TYPE_CHECKING, Any

from plainstep.deferred import deferred, pa
from plainstep.formats.limits import refuse_columns

if TYPE_CHECKING:
    from google.protobuf import json_format
    from google.protobuf.descriptor import Descriptor, FieldDescriptor
else:
    (json_format,) = deferred("google.protobuf", "json_format")

Convert = Callable[[Any], Any]
Kind = tuple[pa.DataType, Convert]


def _as_it_is(value: Any) -> Any:
    return value


def _micros(value: Any) -> int:
    return int(value.seconds * 1_000_000 + value.nanos // 1_000)


def _json(value: Any) -> str:
    return str(json_format.MessageToJson(value, indent=None, preserving_proto_field_name=True, ensure_ascii=False))


@cache
def _plain() -> dict[int, pa.DataType]:
    """Arrow's types for scalar fields, by the numbers of theirs (descriptor.proto, FieldDescriptorProto.Type)."""
    return {
        1: pa.float64(), 2: pa.float32(), 3: pa.int64(), 4: pa.uint64(), 5: pa.int32(), 6: pa.uint64(), 7: pa.uint32(), 8: pa.bool_(),
        9: pa.string(), 12: pa.binary(), 13: pa.uint32(), 15: pa.int32(), 16: pa.int64(), 17: pa.int32(), 18: pa.int64(),
    }  # fmt: skip


WRAPPERS = {
    f"google.protobuf.{name}Value"
    for name in ("Double", "Float", "Int64", "UInt64", "Int32", "UInt32", "Bool", "String", "Bytes")
}
# Messages of any form: a value of theirs is told as JSON.
OPEN = {f"google.protobuf.{name}" for name in ("Struct", "Value", "ListValue", "Any", "Duration", "FieldMask", "Empty")}


class Columns:
    """The columns of a message.

    Args:
        descriptor: what tells of its fields.
        shown: what holds it, for messages.

    Raises:
        DataError: there are more of them than any table has.
    """

    def __init__(self, descriptor: Descriptor, shown: str) -> None:
        self._shown, self._count = shown, 0
        fields, self.record = self._fields(descriptor, (descriptor.full_name,))
        self.schema = pa.schema(fields)

    def _fields(self, descriptor: Descriptor, above: tuple[str, ...]) -> tuple[list[pa.Field], Convert]:
        """The fields of a message, and what makes one a record."""
        self._count += len(descriptor.fields)
        refuse_columns(self._count, self._shown)
        kinds = {field.name: self._kind(field, above) for field in descriptor.fields}
        presence = {field.name for field in descriptor.fields if field.has_presence}
        always = [(name, convert) for name, (_, convert) in kinds.items() if name not in presence]
        perhaps = [(name, convert) for name, (_, convert) in kinds.items() if name in presence]

        def record(message: Any) -> dict[str, Any]:
            found = {name: convert(getattr(message, name)) for name, convert in always}
            for name, convert in perhaps:
                found[name] = convert(getattr(message, name)) if message.HasField(name) else None
            return found

        return [pa.field(name, kind) for name, (kind, _) in kinds.items()], record

    def _kind(self, field: FieldDescriptor, above: tuple[str, ...]) -> Kind:
        entry = field.message_type
        if entry is not None and entry.GetOptions().map_entry:
            (key, as_key), (value, as_value) = (
                self._single(entry.fields_by_name[one], above) for one in ("key", "value")
            )
            return pa.map_(key, value), lambda found: [(as_key(one), as_value(other)) for one, other in found.items()]
        kind, convert = self._single(field, above)
        if field.is_repeated:
            return pa.list_(kind), lambda found: [convert(one) for one in found]
        return kind, convert

    def _single(self, field: FieldDescriptor, above: tuple[str, ...]) -> Kind:
        if field.enum_type is not None:
            names = {number: one.name for number, one in field.enum_type.values_by_number.items()}
            return pa.string(), lambda value: names.get(value, str(value))
        within = field.message_type
        if within is None:
            return _plain()[field.type], _as_it_is
        if within.full_name == "google.protobuf.Timestamp":
            return pa.timestamp("us", "UTC"), _micros
        if within.full_name in WRAPPERS:
            return _plain()[within.fields[0].type], lambda found: found.value
        if within.full_name in OPEN or within.full_name in above or not within.fields:
            return pa.string(), _json
        fields, record = self._fields(within, (*above, within.full_name))
        return pa.struct(fields), record
