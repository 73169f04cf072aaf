"""Logs whose offsets are numbers, one after the other: what they have in common."""

from __future__ import annotations

from datetime import datetime
from typing import Protocol

from plainstep.stores.streams.log import Bounds, MessageLog, mark_differs, mark_of


class NumberedLog(MessageLog, Protocol):
    """A log whose offsets are shown as numbers, and whose end is told exactly."""

    is_numbered: bool = True

    def label(self, offset: int) -> str:
        """The offset, as a number."""
        return str(offset)

    def parse(self, said: str) -> int:
        """An offset, as a person wrote it."""
        return int(said)

    def holds(self, offset: int) -> bool:
        """No: its end is told exactly."""
        return False

    def lacks(self, upto: int, mark: str, first: int) -> bool:
        """Whether the first message that is kept comes later than the next one."""
        return first > upto + 1

    def from_time(self, moment: datetime) -> int | None:
        """Not asked for: what brokers tell are chunks, and where times do not rise it is the first. Messages are looked at."""
        return None


class MarkedLog(NumberedLog, Protocol):
    """A numbered log of which only its messages tell that it is the same one."""

    def mark(self, upto: int, first: int) -> str:
        """A checksum of the last message there."""
        return mark_of(self, upto, first)

    def disagrees(self, mark: str, bounds: Bounds) -> bool:
        """Whether another message stands there."""
        return mark_differs(self, mark, bounds)
