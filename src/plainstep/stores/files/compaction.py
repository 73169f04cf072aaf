"""Files that were written anew as one: all their rows were merged before."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from plainstep.stores.files.listing import Seen


def is_compacted(
    rows: int, ends: tuple[str, str], label: str, gone: Iterable[Seen], place: Callable[[str], tuple[Any, ...]]
) -> bool:
    """Whether a file holds what was merged from several others, which are gone.

    That is so if they begin where it begins and end where it ends, and held as many rows. One file that takes the place of one
    other may hold corrected values: that is not taken for the same.

    Args:
        rows: how many rows it holds; 0 if that is not known.
        ends: its first and its last position.
        label: the position up to which all is merged.
        gone: what was seen of the files that are gone.
        place: what positions are compared by.
    """
    first, last = map(place, ends)
    if not rows or last > place(label):
        return False
    parts = [one for one in gone if lies_between(one, ends, place)]
    return (
        len(parts) > 1
        and all(one.rows for one in parts)
        and sum(one.rows for one in parts) == rows
        and min(place(one.first) for one in parts) == first
        and max(place(one.last) for one in parts) == last
    )


def lies_between(one: Seen, ends: tuple[str, str], place: Callable[[str], tuple[Any, ...]]) -> bool:
    """Whether all rows of a file that was merged lie between two positions."""
    return one.done and bool(one.first) and place(ends[0]) <= place(one.first) and place(one.last) <= place(ends[1])
