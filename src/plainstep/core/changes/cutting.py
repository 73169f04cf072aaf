"""Where many rows or changes, in order, can be parted: between two positions, and never amid a transaction."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TypeVar

from plainstep.core.arrays import Bools, flat
from plainstep.deferred import np, pa, pc

Item = TypeVar("Item")


class Cut:
    """Looks for the place at which so many are reached, batch by batch.

    Args:
        most: how many are to come before it. Where more stand at one position, or belong to one transaction, more do.

    Attributes:
        place: the position of the last one before it; None as long as it is not found.
    """

    def __init__(self, most: int) -> None:
        self._left = most
        self.place: str | None = None
        self._last: list[pa.Array] = []

    def found(self, positions: pa.ChunkedArray, transactions: pa.ChunkedArray | None = None) -> bool:
        """Look at the next ones.

        Args:
            positions: where each stands.
            transactions: to which transaction each belongs, where that is known. Those of one stand together.

        Returns:
            Whether the place is found, so that nothing more need be read.
        """
        taken, count = self._left, len(positions)
        self._left = max(taken - count, 0)
        if taken > count or not count:
            return False
        columns = [_plain(one) for one in (positions, transactions) if one is not None]
        rest = [column.slice(max(taken - 1, 0)) for column in columns]
        if not taken:
            rest = [pa.concat_arrays([last, column]) for last, column in zip(self._last, rest, strict=True)]
        parted = np.logical_and.reduce([_differ(column) for column in rest])
        if parted.any():
            self.place = str(rest[0][int(np.argmax(parted))])
            return True
        self._last = [column.slice(len(column) - 1) for column in rest]
        return False


def _plain(column: pa.ChunkedArray) -> pa.Array:
    found = flat(column)
    return found.cast(found.type.value_type) if pa.types.is_dictionary(found.type) else found


def _differ(column: pa.Array) -> Bools:
    """Which values are others than the ones before them; what is of no transaction stands by itself."""
    differs: Bools = np.asarray(pc.fill_null(pc.not_equal(column.slice(1), column.slice(0, len(column) - 1)), True))
    return differs


def spread(items: Sequence[Item], most: int) -> list[Sequence[Item]]:
    """Items that follow each other, in at most so many parts of nearly equal numbers; none is empty, but the only one of nothing."""
    parts = max(1, min(len(items), most))
    ends = [len(items) * part // parts for part in range(parts + 1)]
    return [items[start:end] for start, end in pairwise(ends)]
