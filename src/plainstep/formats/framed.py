"""The values of messages whose schemas a registry keeps: each names its own, by a number in front of it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from itertools import groupby
from typing import Any

from plainstep.deferred import pa
from plainstep.errors import DataError
from plainstep.formats.columns import together
from plainstep.formats.values import FRAME, Bytes, Wrong, framed, no_columns

# Values that are decoded before they become columns: of more, those that are young would be gone through as old ones.
TOGETHER = 1_000


class FramedValues(ABC):
    """Values, each by the schema that it was written with.

    Attributes:
        words: what such values are, for messages.
    """

    words: str

    def read(self, values: Bytes) -> tuple[pa.Table, Wrong]:
        wrong: Wrong = {}
        tables = list(self._by_schema(values, wrong))
        # What a later schema has and an earlier one has not is null in its rows.
        return together(tables) if tables else no_columns(0), wrong

    @abstractmethod
    def columns_of(self, number: int) -> pa.Schema:
        """The columns of values by the schema of a number.

        Raises:
            DataError: there is no such schema, or it cannot be read.
            StoreError: the registry gives no answer.
        """

    @abstractmethod
    def _decoded(self, values: Bytes, start: int, number: int, wrong: Wrong) -> pa.Table:
        """Some values by the schema of a number; what is wrong with them, by their places from ``start`` on.

        Raises:
            DataError: as above.
        """

    def _by_schema(self, values: Bytes, wrong: Wrong) -> Iterator[pa.Table]:
        """Runs of values that were written with one schema; one that has none goes with those before it."""
        heads = [None if value is None else value[: FRAME.size] for value in values]
        told = {head: framed(head) for head in set(heads) if head is not None}
        last = next(
            (number for number in (told.get(head) for head in heads if head is not None) if number is not None), None
        )
        numbers = []
        for row, head in enumerate(heads):
            if head is not None:
                found = told[head]
                if found is None:
                    wrong[row] = f"it names no schema: {self.words} begin with a zero byte and the number of one"
                else:
                    last = found
            numbers.append(last)
        start = 0
        for number, run in groupby(numbers):
            count = len(list(run))
            some = values[start : start + count]
            if number is None:  # nothing but values that are absent or wrong: they have no columns of their own
                yield no_columns(count)
            else:
                yield self._of_number(some, start, number, wrong)
            start += count

    def _of_number(self, values: Bytes, start: int, number: int, wrong: Wrong) -> pa.Table:
        try:
            return self._decoded(values, start, number, wrong)
        except DataError as error:
            for row, value in enumerate(values, start):
                if value is not None:
                    wrong.setdefault(row, f"{error.what.rstrip('.')}")
            return no_columns(len(values))


def as_rows(records: list[Mapping[str, Any]], columns: pa.Schema, start: int, wrong: Wrong) -> pa.Table:
    """Records as rows. One with a value that is none of its column's type is null, and told as wrong."""
    try:
        return pa.Table.from_pylist(records, columns)
    except (pa.ArrowException, TypeError, ValueError, OverflowError):
        for row, record in enumerate(records):
            try:
                pa.Table.from_pylist([record], columns)
            except (pa.ArrowException, TypeError, ValueError, OverflowError) as error:
                wrong.setdefault(start + row, f"it does not fit its columns: {str(error)[:120]}")
                records[row] = {}
        return pa.Table.from_pylist(records, columns)
