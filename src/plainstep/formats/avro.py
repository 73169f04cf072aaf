"""Avro files."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator, Sequence
from functools import cache
from typing import IO, Any

from plainstep.core.json_values import plain
from plainstep.deferred import fastavro, np, pa
from plainstep.errors import DataError, need
from plainstep.formats.avro_blocks import BLOCK, Unpacked, refuse_endless
from plainstep.formats.limits import Bounded, refuse_columns
from plainstep.formats.lines import ROWS, SOME, Kind, Rows, damaged


def read_avro(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    """Records as rows, in batches."""
    need("fastavro", "files", f"{shown} is an Avro file")
    line = 0
    try:
        unpacked = Unpacked(stream, _size(stream), shown)
        reader = fastavro.reader(io.BufferedReader(unpacked, BLOCK))
        schema = record_columns(reader.writer_schema, shown)
        unions = unions_in(reader.writer_schema)
        gathered: list[Any] = []
        at = 0
        for record in reader:
            gathered.append(record)
            if len(gathered) == (SOME if few else ROWS) or unpacked.size - at > BLOCK:
                with_unions_as_texts(gathered, unions)
                yield _avro_rows(gathered, schema, line)
                line, at = line + len(gathered), unpacked.size
                gathered = []
        if gathered:
            with_unions_as_texts(gathered, unions)
            yield _avro_rows(gathered, schema, line)
    except DataError:
        raise
    except (Exception, MemoryError) as error:  # fastavro meets damage with errors of every kind
        raise damaged(shown, f"after record {line}: {type(error).__name__}: {str(error)[:200]}") from error


def _size(stream: Any) -> int:
    """How many bytes a file has, packed as it is."""
    return int(stream.packed if isinstance(stream, Bounded) else stream.size())


def _avro_rows(records: list[Any], schema: pa.Schema, line: int) -> Rows:
    return Rows(pa.Table.from_pylist(records, schema), np.arange(line + 1, line + 1 + len(records)))


Path = tuple[str, ...]


def unions_in(schema: Any) -> list[Path]:
    """Where values are of one of several types, other than null: as columns, they are texts."""
    named: dict[str, Any] = {}

    def found(kind: Any, path: Path, above: tuple[str, ...]) -> Iterator[Path]:
        if isinstance(kind, list):
            others = [one for one in kind if one != "null"]
            if len(others) > 1:
                yield path
                return
            kind = others[0] if others else "null"
        kind = named.get(kind, kind) if isinstance(kind, str) else kind
        if not isinstance(kind, dict):
            return
        if isinstance(kind.get("type"), dict | list):
            yield from found(kind["type"], path, above)
        elif kind.get("type") == "record" and kind["name"] not in above:
            named[kind["name"]] = kind
            for field in kind["fields"]:
                yield from found(field["type"], (*path, field["name"]), (*above, kind["name"]))

    return list(found(schema, (), ()))


def with_unions_as_texts(records: Sequence[Any], paths: list[Path]) -> None:
    """Make what such unions hold texts: texts as they are, all else as JSON."""
    for record in records if paths else ():
        for path in paths:
            inner = record
            for name in path[:-1]:
                inner = inner.get(name) if isinstance(inner, dict) else None
            value = inner.get(path[-1]) if isinstance(inner, dict) else None
            if value is not None and not isinstance(value, str):
                inner[path[-1]] = json.dumps(value, default=plain, ensure_ascii=False)


@cache
def plain_types() -> dict[str, pa.DataType]:
    """Arrow's types for Avro's."""
    return {
        "null": pa.null(), "boolean": pa.bool_(), "int": pa.int32(), "long": pa.int64(), "float": pa.float32(),
        "double": pa.float64(), "bytes": pa.binary(), "string": pa.string(), "enum": pa.string(), "fixed": pa.binary(),
    }  # fmt: skip


@cache
def logical_types() -> dict[str, pa.DataType]:
    """Arrow's types for Avro's logical ones."""
    return {
        "date": pa.date32(), "time-millis": pa.time64("us"), "time-micros": pa.time64("us"),
        "timestamp-millis": pa.timestamp("us", "UTC"), "timestamp-micros": pa.timestamp("us", "UTC"),
        "local-timestamp-millis": pa.timestamp("us"), "local-timestamp-micros": pa.timestamp("us"), "uuid": pa.string(),
    }  # fmt: skip


def record_columns(schema: Any, shown: str) -> pa.Schema:
    """The columns of records, from their Avro schema.

    Raises:
        DataError: it is not a schema of records, or one by which a few bytes are any number of values.
    """
    if not isinstance(schema, dict) or schema.get("type") != "record":
        raise damaged(shown, "its schema is not a record")
    refuse_endless(schema, shown)
    refuse_columns(len(schema["fields"]), shown)
    named: dict[str, pa.DataType] = {}
    return pa.schema([(field["name"], _avro_kind(field["type"], named)) for field in schema["fields"]])


def _avro_kind(kind: Any, named: dict[str, pa.DataType]) -> pa.DataType:
    """The Arrow type for an Avro type; a union of null and one other is that other. Types with names may come again."""
    if isinstance(kind, list):
        others = [_avro_kind(one, named) for one in kind if one != "null"]
        return others[0] if len(others) == 1 else pa.string()
    if isinstance(kind, str):
        return plain_types().get(kind) or named.get(kind, pa.string())
    found = _avro_complex(kind, named)
    if "name" in kind:
        named[kind["name"]] = found
    return found


def _avro_complex(kind: Any, named: dict[str, pa.DataType]) -> pa.DataType:
    if kind.get("logicalType") == "decimal":
        return pa.decimal128(kind["precision"], kind.get("scale", 0))
    if kind.get("logicalType") in logical_types():
        return logical_types()[kind["logicalType"]]
    if kind["type"] == "record":
        return pa.struct([(field["name"], _avro_kind(field["type"], named)) for field in kind["fields"]])
    if kind["type"] == "array":
        return pa.list_(_avro_kind(kind["items"], named))
    if kind["type"] == "map":
        return pa.map_(pa.string(), _avro_kind(kind["values"], named))
    return _avro_kind(kind["type"], named)


def avro_columns(stream: IO[bytes], shown: str) -> pa.Schema:
    """The columns of a file, from its schema."""
    try:
        unpacked = Unpacked(stream, _size(stream), shown)
        return record_columns(fastavro.reader(io.BufferedReader(unpacked)).writer_schema, shown)
    except DataError:
        raise
    except Exception as error:  # fastavro meets damage with errors of every kind
        raise damaged(shown, f"{type(error).__name__}: {str(error)[:200]}") from error
