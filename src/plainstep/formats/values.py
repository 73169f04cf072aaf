"""The values of messages: bytes as columns, one row for each message, with what is wrong with those that cannot be read.

Messages whose schema a registry keeps begin with a zero byte and the four bytes of the schema's number.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Protocol

from plainstep.core.layouts.rows import LINE
from plainstep.deferred import pa, pacsv

Bytes = Sequence[bytes | None]
# What is wrong with messages, by their places.
Wrong = dict[int, str]
# The bytes before a value whose schema a registry keeps: a zero, and its number.
FRAME = struct.Struct(">bI")
# The column of rows that have none of their own.
NOTHING = "plainstep.nothing"
# The column of values that are no records.
VALUE = "value"


class Values(Protocol):
    """A way to read the values of messages."""

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        """Values as rows, nulls where there is none; and what is wrong with those that cannot be read, which are null, too."""
        ...


def framed(value: bytes) -> int | None:
    """The number of the schema that a value names, or None where it names none."""
    return FRAME.unpack_from(value)[1] if len(value) >= FRAME.size and value[0] == 0 else None


class JsonValues:
    """JSON documents, which are read by whoever knows which of their fields are wanted. A schema's number is skipped."""

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        bare = [value[FRAME.size :] if value and value[0] == 0 else value for value in values]
        texts, wrong = texts_of(bare)
        return pa.table({LINE: texts}), wrong


class TextValues:
    """Texts, as a column.

    Args:
        name: the column's name.
    """

    def __init__(self, name: str = VALUE) -> None:
        self.name = name

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        texts, wrong = texts_of(values)
        return pa.table({self.name: texts}), wrong


def texts_of(values: Bytes) -> tuple[pa.Array, Wrong]:
    """Bytes as texts."""
    whole = pa.array(values, pa.binary())
    try:
        return whole.cast(pa.string()), {}
    except pa.ArrowInvalid:
        wrong = {row: "it is not text in UTF-8" for row, value in enumerate(values) if not _is_text(value)}
        return pa.array([None if row in wrong else value for row, value in enumerate(values)], pa.binary()).cast(
            pa.string()
        ), wrong


def _is_text(value: bytes | None) -> bool:
    try:
        return value is None or value.decode() is not None
    except UnicodeDecodeError:
        return False


class CsvValues:
    """Lines of CSV, as columns of texts.

    Args:
        names: the columns.
        separator: what stands between values.
        nulls: the words that stand for null where they are not in quotes.
    """

    def __init__(self, names: Sequence[str], separator: str, nulls: Sequence[str]) -> None:
        self.names, self.separator, self.nulls = list(names), separator, list(nulls)

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        plain = self._at_once(values)
        if plain is not None:
            return plain, {}
        _, wrong = texts_of(values)
        parts = []
        for row, value in enumerate(values):
            try:
                parts.append(self._line(None if row in wrong else value))
            except pa.ArrowInvalid as error:
                wrong[row] = f"it is not one line of {len(self.names)} values: {str(error)[:120]}"
                parts.append(self._line(None))
        return pa.concat_tables(parts) if parts else self._line(None).slice(0, 0), wrong

    def _at_once(self, values: Bytes) -> pa.Table | None:
        """All lines at once, where each is plainly a line of its own: none is absent, and none has a quote or a line end within."""
        lines = [value.rstrip(b"\r\n") if value else b"" for value in values]
        if not all(lines) or any(b'"' in line or b"\n" in line or b"\r" in line for line in lines):
            return None
        try:
            found = self._parsed(b"\n".join(lines))
        except pa.ArrowInvalid:
            return None
        return found if found.num_rows == len(lines) else None

    def _line(self, value: bytes | None) -> pa.Table:
        if value is None:
            return pa.table([pa.nulls(1, pa.string()) for _ in self.names], self.names)
        found = self._parsed(value.rstrip(b"\r\n"))
        if found.num_rows != 1:
            raise pa.ArrowInvalid(f"{found.num_rows} lines")
        return found

    def _parsed(self, lines: bytes) -> pa.Table:
        return pacsv.read_csv(
            pa.BufferReader(lines + b"\n"),
            pacsv.ReadOptions(column_names=self.names, use_threads=False),
            pacsv.ParseOptions(delimiter=self.separator, newlines_in_values=True),
            pacsv.ConvertOptions(
                column_types=dict.fromkeys(self.names, pa.string()),
                null_values=self.nulls,
                strings_can_be_null=True,
                quoted_strings_can_be_null=False,
            ),
        )


def no_columns(count: int) -> pa.Table:
    """Rows without columns of their own."""
    return pa.table({NOTHING: pa.nulls(count)})
