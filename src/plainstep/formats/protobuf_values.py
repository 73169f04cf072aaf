"""The values of messages that are Protobuf, each by the schema that it was written with.

After the number of its schema, a value says which message of that it is: how many numbers follow, and the place of the message among
those of the file, then among those within it, and so on, each as a zigzag varint; a zero alone is the first.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any

from plainstep.deferred import deferred, pa
from plainstep.errors import DataError, need
from plainstep.formats.columns import unified
from plainstep.formats.framed import TOGETHER, FramedValues, as_rows
from plainstep.formats.protobuf_columns import Columns
from plainstep.formats.values import FRAME, Bytes, Wrong

if TYPE_CHECKING:
    from google.protobuf import descriptor_pb2, descriptor_pool, message_factory
    from google.protobuf.descriptor import Descriptor
else:
    descriptor_pb2, descriptor_pool, message_factory = deferred(
        "google.protobuf", "descriptor_pb2", "descriptor_pool", "message_factory"
    )

# A file of a schema: the name by which others import it, and its FileDescriptorProto.
File = tuple[str, bytes]
Path = tuple[int, ...]
FIRST: Path = (0,)
# Files that any schema may import, since they come with the library.
BUILT_IN = "google/protobuf/"
# Messages within messages, of which a value may name one.
DEEPEST = 16


class ProtobufValues(FramedValues):
    """Protobuf messages, each by the schema that it was written with.

    Args:
        files: tells the files of the schema of a number, the schema itself last.
        shown: what they are, for messages.

    Raises:
        StoreError: from ``files``, which may ask a server.
    """

    words = "values in Protobuf"

    def __init__(self, files: Callable[[int], Sequence[File]], shown: str) -> None:
        need("google.protobuf", "protobuf", f"{shown} are in Protobuf")
        self.files, self.shown = files, shown
        self._known: dict[int, _Schema] = {}
        self._paths: set[Path] = set()

    def columns_of(self, number: int) -> pa.Schema:
        """The columns of those messages of a schema of which values were read before, by any schema."""
        schema = self._schema(number)
        return unified([schema.message(path).columns.schema for path in self._paths if schema.has(path)])

    def _schema(self, number: int) -> _Schema:
        if number not in self._known:
            self._known[number] = _Schema(self.files(number), f"the schema {number}", self.shown)
        return self._known[number]

    def _decoded(self, values: Bytes, start: int, number: int, wrong: Wrong) -> pa.Table:
        schema = self._schema(number)
        read: list[tuple[_Message | None, Mapping[str, Any]]] = [(None, {})] * len(values)
        for row, value in enumerate(values):
            if value is not None and start + row not in wrong:
                try:
                    path, at = message_path(value, FRAME.size)
                    message = schema.message(path)
                    self._paths.add(path)
                    read[row] = message, message.read(value[at:])
                except DataError as error:
                    wrong[start + row] = error.what.rstrip(".")
        kinds = {id(message): message for message, _ in read if message is not None} or {0: schema.message(FIRST)}
        columns = unified([message.columns.schema for message in kinds.values()])
        places = range(0, len(read), TOGETHER)
        return pa.concat_tables(
            [
                as_rows([record for _, record in read[place : place + TOGETHER]], columns, start + place, wrong)
                for place in places
            ]
            or [columns.empty_table()]
        )


def message_path(value: bytes, at: int) -> tuple[Path, int]:
    """Which message of its file a value is, and where it begins.

    Raises:
        DataError: it does not say.
    """
    count, at = _number(value, at)
    if count == 0:
        return FIRST, at
    if not 0 < count <= DEEPEST:
        raise DataError(f"it names a message {count} deep in others.")
    found = []
    for _ in range(count):
        one, at = _number(value, at)
        found.append(one)
    return tuple(found), at


def _number(value: bytes, at: int) -> tuple[int, int]:
    """A zigzag varint, and where it ends."""
    found = shift = 0
    while at < len(value) and shift < 35:
        byte = value[at]
        at += 1
        found |= (byte & 0x7F) << shift
        if byte < 0x80:
            return (found >> 1) ^ -(found & 1), at
        shift += 7
    raise DataError("it does not say which message of its schema it is.")


class _Message:
    """A message of a schema."""

    def __init__(self, descriptor: Descriptor, shown: str) -> None:
        self._made, self.columns = message_factory.GetMessageClass(descriptor), Columns(descriptor, shown)

    def read(self, body: bytes) -> Mapping[str, Any]:
        """A message as a record.

        Raises:
            DataError: it cannot be read, or has fields that its schema does not: then it was written with another one.
        """
        try:
            found = self._made.FromString(body)
            size = found.ByteSize()
            found.DiscardUnknownFields()
            record: Mapping[str, Any] = self.columns.record(found)
        except Exception as error:  # the library meets damage with errors of several kinds
            raise DataError(f"it cannot be read by its schema ({type(error).__name__}: {str(error)[:120]}).") from error
        if found.ByteSize() != size:
            raise DataError("it has fields that its schema does not have.")
        return record


class _Schema:
    """A schema, which is a file with its imports.

    Raises:
        DataError: it imports what is not there, or is not a schema.
    """

    def __init__(self, files: Sequence[File], what: str, shown: str) -> None:
        self._pool, self._what, self._shown = descriptor_pool.DescriptorPool(), what, shown
        self._messages: dict[Path, _Message] = {}
        try:
            parsed = [_parsed(*file) for file in files]
            names = {one.name for one in parsed}
            for one in parsed:
                for imported in one.dependency:
                    if imported.startswith(BUILT_IN) and imported not in names:
                        self._add_built_in(imported)
                        names.add(imported)
            for one in parsed:
                self._pool.Add(one)
            self._file = self._pool.FindFileByName(parsed[-1].name)
        except Exception as error:  # as above
            raise DataError(f"{what} cannot be read as one of Protobuf ({type(error).__name__}: {error}).") from error

    def _add_built_in(self, name: str) -> None:
        module = import_module(name.removesuffix(".proto").replace("/", ".") + "_pb2")
        for imported in module.DESCRIPTOR.dependencies:
            self._add_built_in(imported.name)
        self._pool.AddSerializedFile(module.DESCRIPTOR.serialized_pb)

    def message(self, path: Path) -> _Message:
        """The message of a path.

        Raises:
            DataError: there is none.
        """
        if path not in self._messages:
            found = self._descriptor(path)
            if found is None:
                raise DataError(f"{self._what} has no message {'.'.join(map(str, path))}.")
            self._messages[path] = _Message(found, self._shown)
        return self._messages[path]

    def has(self, path: Path) -> bool:
        """Whether it has a message of a path."""
        return self._descriptor(path) is not None

    def _descriptor(self, path: Path) -> Descriptor | None:
        names, found = list(self._file.message_types_by_name.values()), None
        for place in path:
            if not 0 <= place < len(names):
                return None
            found = names[place]
            names = list(found.nested_types)
        return found


def _parsed(name: str, data: bytes) -> descriptor_pb2.FileDescriptorProto:
    found = descriptor_pb2.FileDescriptorProto.FromString(data)
    found.name = name
    return found
