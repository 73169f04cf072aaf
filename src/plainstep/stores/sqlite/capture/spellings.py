"""Keys that are kept as text in several spellings: ``1.5`` and ``1.50``, or two ways to write one time.

SQLite takes them for the keys of two rows. Elsewhere they are one value, and the rows would become one.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import DataError

if TYPE_CHECKING:
    from plainstep.stores.sqlite.types import Column


def has_spellings(column: Column) -> bool:
    """Whether values of a column may be written in several ways."""
    return bool(pa.types.is_decimal(column.kind) or pa.types.is_temporal(column.kind))


class Spellings:
    """Which spelling each key has, of those that a reading comes across.

    Args:
        table: the table's name, for messages.
    """

    def __init__(self, table: str) -> None:
        self.table = table
        self._known: dict[tuple[Any, ...], tuple[Any, ...]] = {}

    def rows(self, values: Sequence[pa.Array], spelled: Sequence[Sequence[Any]]) -> None:
        """Look at some rows of the table.

        Args:
            values: the columns of their keys, as they are merged.
            spelled: the same columns, as they stand in SQLite.

        Raises:
            DataError: two rows have one key.
        """
        for value, text in _pairs(values, spelled):
            self._add(value, text)

    def changes(
        self,
        old: tuple[Sequence[pa.Array], Sequence[Sequence[Any]]],
        new: tuple[Sequence[pa.Array], Sequence[Sequence[Any]]],
    ) -> None:
        """Look at some changes in their order: at their old and their new keys, each as in ``rows``.

        Raises:
            DataError: two rows have one key.
        """
        for (was, was_text), (now, now_text) in zip(_pairs(*old), _pairs(*new), strict=True):
            if None not in was:
                self._add(was, was_text)
                del self._known[was]
            if None not in now:
                self._add(now, now_text)

    def _add(self, value: tuple[Any, ...], text: tuple[Any, ...]) -> None:
        other = self._known.setdefault(value, text)
        if other != text:
            named = " and ".join(
                repr(one[0]) if len(one) == 1 else repr(one) for one in sorted((other, text), key=repr)
            )
            raise DataError(
                f"Two rows of {self.table} have keys that are one value: {named}.",
                "Merged by their key, they would become one row.",
                "Give one of them another key, then plainstep reload LOAD; or copy the table with its key as text "
                "(types) into another one.",
            )


def _pairs(values: Sequence[pa.Array], spelled: Sequence[Sequence[Any]]) -> Any:
    return zip(zip(*(one.to_pylist() for one in values), strict=True), zip(*spelled, strict=True), strict=True)
