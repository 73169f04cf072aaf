"""The values of messages that are Avro records, each by the schema that it was written with."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping
from itertools import accumulate
from typing import Any, cast

from plainstep.deferred import fastavro, pa
from plainstep.errors import DataError, need
from plainstep.formats.avro import record_columns, unions_in, with_unions_as_texts
from plainstep.formats.avro_names import whole
from plainstep.formats.framed import TOGETHER, FramedValues, as_rows
from plainstep.formats.values import FRAME, VALUE, Bytes, Wrong


class AvroValues(FramedValues):
    """Avro records, each by the schema that it was written with.

    Args:
        schema: the schema of all of them; None where each names its own, which a registry keeps.
        schemas: tells the schema of a number.
        shown: what they are, for messages.

    Raises:
        StoreError: from ``schemas``, which may ask a server.
    """

    words = "values in Avro"

    def __init__(self, schema: Any, schemas: Callable[[int], Any], shown: str) -> None:
        need("fastavro", "files", f"{shown} are in Avro")
        self.schemas, self.shown = schemas, shown
        self._whole = None if schema is None else _Schema(schema, shown)
        self._known: dict[int, _Schema] = {}

    def columns_of(self, number: int) -> pa.Schema:
        return self._schema(number).columns

    def _schema(self, number: int) -> _Schema:
        if number not in self._known:
            found = self.schemas(number)
            try:
                self._known[number] = _Schema(found, self.shown)
            except DataError:
                raise
            except Exception as error:  # fastavro meets what is not a schema with errors of every kind
                raise DataError(f"The schema {number} is not one of Avro ({type(error).__name__}: {error}).") from error
        return self._known[number]

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        if self._whole is None:
            return super().read(values)
        wrong: Wrong = {}
        return self._by(self._whole, values, 0, 0, wrong), wrong

    def _decoded(self, values: Bytes, start: int, number: int, wrong: Wrong) -> pa.Table:
        return self._by(self._schema(number), values, start, FRAME.size, wrong)

    def _by(self, schema: _Schema, values: Bytes, start: int, skip: int, wrong: Wrong) -> pa.Table:
        """Values by one schema."""
        places = range(0, len(values), TOGETHER)
        return pa.concat_tables(
            [self._some(values[place : place + TOGETHER], start + place, skip, schema, wrong) for place in places]
            or [schema.columns.empty_table()]
        )

    def _some(self, values: Bytes, start: int, skip: int, schema: _Schema, wrong: Wrong) -> pa.Table:
        """Some values: all at once; or one by one, if one of them is not of the schema."""
        there = [row for row, value in enumerate(values) if value is not None and start + row not in wrong]
        records: list[Mapping[str, Any]] = [{}] * len(values)
        bodies = [values[row][skip:] for row in there]  # type: ignore[index]
        try:
            found = schema.records(bodies)
        except Exception:  # fastavro meets damage with errors of every kind
            found = [self._one(body, schema, start + row, wrong) for row, body in zip(there, bodies, strict=True)]
        with_unions_as_texts(found, schema.unions)
        for row, record in zip(there, found, strict=True):
            records[row] = record
        return as_rows(records, schema.columns, start, wrong)

    def _one(self, body: bytes, schema: _Schema, row: int, wrong: Wrong) -> Mapping[str, Any]:
        """A value by its schema; empty if it is not of it, which is told."""
        stream = io.BytesIO(body)
        try:
            record = cast("Mapping[str, Any]", fastavro.schemaless_reader(stream, schema.written, None))
        except Exception as error:  # as above
            wrong[row] = f"it cannot be read by its schema ({type(error).__name__}: {str(error)[:120]})"
            return {}
        left = len(body) - stream.tell()
        if left:
            wrong[row] = f"its last {left:,} bytes are not of its schema"
            return {}
        return record


class _Schema:
    """The schema of some records.

    Args:
        schema: the schema, as Avro writes it.
        shown: what has it, for messages.
    """

    def __init__(self, schema: Any, shown: str) -> None:
        schema = whole(schema)
        # A value that is no record, as keys often are, is one with a field: it is written in the same way.
        if not isinstance(schema, dict) or schema.get("type") != "record":
            schema = {"type": "record", "name": "plainstep_value", "fields": [{"name": VALUE, "type": schema}]}
        self.columns, self.unions = record_columns(schema, shown), unions_in(schema)
        self.written = fastavro.parse_schema(_as_numbers(schema))

    def records(self, bodies: list[bytes]) -> list[Mapping[str, Any]]:
        """All values at once: out of one stream, which is cheaper than one for each.

        Raises:
            Exception: one of them is not of this schema.
        """
        stream = io.BytesIO(b"".join(bodies))
        read, written, tell, found = fastavro.schemaless_reader, self.written, stream.tell, []
        for end in accumulate(map(len, bodies)):
            found.append(read(stream, written, None))
            if tell() != end:
                raise ValueError("a value does not end where its message does")
        return cast("list[Mapping[str, Any]]", found)


# Logical types whose values Arrow takes as the numbers that they are written as: as times, each would first be made an object.
NUMBERS = ("timestamp-micros", "local-timestamp-micros", "time-micros", "date")


def _as_numbers(schema: Any) -> Any:
    """A schema by which such values are read as numbers."""
    if isinstance(schema, list):  # of one of several types, a value becomes text, times as times
        return schema if len(schema) - ("null" in schema) > 1 else [_as_numbers(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    inner = {name: _as_numbers(schema[name]) for name in ("type", "items", "values") if name in schema}
    if "fields" in schema:
        inner["fields"] = [field | {"type": _as_numbers(field["type"])} for field in schema["fields"]]
    found = schema | inner
    return (
        {name: one for name, one in found.items() if name != "logicalType"}
        if found.get("logicalType") in NUMBERS
        else found
    )
