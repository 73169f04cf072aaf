"""Values that do not fit the type of their column: which one it is, and what is told of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from plainstep.deferred import pa
from plainstep.errors import DataError


class Misfit(ValueError):
    """Some value does not fit; ``index`` says which."""

    def __init__(self, index: int) -> None:
        super().__init__(index)
        self.index = index


def converted(values: Sequence[Any] | pa.Array, convert: Callable[[Any], pa.Array]) -> pa.Array:
    """Values as what they are wanted as, all at once.

    Raises:
        Misfit: one of them does not fit.
    """
    try:
        return convert(values)
    except (pa.ArrowException, ValueError, OverflowError):
        pass
    for index in range(len(values)):
        try:
            convert(values[index : index + 1])
        except (pa.ArrowException, ValueError, OverflowError):
            raise Misfit(index) from None
    raise Misfit(0)


def misfit(table: str, column: str, declared: str, value: Any) -> DataError:
    """The error for a value that Arrow's type cannot hold."""
    return DataError(
        f"In {table}, the column {column} ({declared}) holds {value!r}, which has no equivalent in other stores.",
        "Merging it would change it.",
        f'Fix the value, or take the column as text: types = {{ "{column}" = "TEXT" }} in the load.',
    )
