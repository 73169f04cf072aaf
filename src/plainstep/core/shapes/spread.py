"""Edits that are made on several machines: what a shape asks of its tables, where each part of a window was collapsed."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from plainstep.core.shapes.edits import Edits

Item = TypeVar("Item")
Result = TypeVar("Result")


class SpreadEdits(Sequence[Edits], ABC):
    """What is asked of one table, round after round. Taken one by one, they are fetched; ``each`` leaves them where they are."""

    @abstractmethod
    def each(self, work: Callable[[Edits], Result]) -> list[Result]:
        """What a function, which can be sent to other machines, makes of each of them there.

        Raises:
            PlainStepError: the first of those that were raised there.
        """

    @abstractmethod
    def every(self, work: Callable[[Item], Result], items: Sequence[Item]) -> list[Result]:
        """What a function makes of each of some items, on the same machines; see ``each``."""


class SpreadRounds(Iterator[list[Edits]], ABC):
    """What each round asks of each table. Taken one by one, they are fetched."""

    @abstractmethod
    def tables(self, sure: bool) -> list[SpreadEdits]:
        """The same by tables.

        Args:
            sure: whether it is known for certain which rows are at the target.
        """
