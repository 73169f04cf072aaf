"""A log of messages, as a broker keeps it: in the order of their offsets, the oldest of them forgotten in time."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol, runtime_checkable

from plainstep.errors import Refused

# Offsets before the end of a log in which its last message is looked for: at the very end may be none, where a transaction ends.
NEAR_END = 16
# Messages that are looked at to learn what they hold: so many first ones, and those of so many last offsets.
SAMPLE = 200


@dataclass(frozen=True)
class Bounds:
    """How far a log can be read.

    Attributes:
        first: the offset of the first message that is kept, or where that would be.
        end: the offset after the last message that may be read.
        mark: what tells the log, as it is up to its end, from another one, where the broker tells both at once: see ``MessageLog``.
        is_whole: whether no message was ever removed at its begin.
    """

    first: int
    end: int
    mark: str = ""
    is_whole: bool = True


@dataclass
class Messages:
    """Some messages, in order.

    Attributes:
        offsets: theirs.
        values: their bytes; None where a message has none.
        keys: those of their keys; None where a message has none.
        times: when they were written, in microseconds since 1970; None where nothing tells.
        headers: their headers, by name; empty where none of them has any.
        topics: what they were sent to, where a log holds what was sent to several places; empty where not.
    """

    offsets: list[int] = field(default_factory=list)
    values: list[bytes | None] = field(default_factory=list)
    keys: list[bytes | None] = field(default_factory=list)
    times: list[int | None] = field(default_factory=list)
    headers: list[dict[str, bytes | None]] = field(default_factory=list)
    topics: list[str] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.offsets)

    def extend(self, others: Messages, count: int) -> None:
        """Take the first of some others."""
        if others.headers or self.headers:  # those that have none are told only beside some that have
            self.headers += [{}] * (len(self) - len(self.headers))
            self.headers += (others.headers or [{}] * len(others))[:count]
        self.offsets += others.offsets[:count]
        self.values += others.values[:count]
        self.keys += others.keys[:count]
        self.times += others.times[:count]
        self.topics += others.topics[:count]


class Labelled(Protocol):
    """Where messages stand, as people are shown it.

    Attributes:
        partition: which partition of a topic it is; empty where there are none.
        topic: the name of the topic, or of the stream.
        is_numbered: whether offsets are shown as whole numbers.
    """

    partition: str
    topic: str
    is_numbered: bool

    def label(self, offset: int) -> str:
        """An offset as the broker shows it."""
        ...


class MessageLog(Labelled, Protocol):
    """One log: a topic's partition, or a stream.

    Attributes:
        place: its name, for messages.
    """

    place: str

    def bounds(self) -> Bounds:
        """How far it can be read now."""
        ...

    def read(self, start: int, end: int, few: bool = False) -> Iterator[Messages]:
        """The messages from one offset on, and before another, in batches; if only a few of the first are wanted, in small ones.

        Raises:
            Refused: some of them are not kept any more.
        """
        ...

    def parse(self, said: str) -> int:
        """An offset, as a person wrote it.

        Raises:
            ValueError: it is none.
        """
        ...

    def first(self) -> int:
        """The offset of the first message that is kept now, or where that would be."""
        ...

    def holds(self, offset: int) -> bool:
        """Whether a message is there that lies beyond the end that was told: never, where a broker tells its end exactly."""
        ...

    def mark(self, upto: int, first: int) -> str:
        """What tells the log, as it is up to an offset, from another one that took its place. No space stands in it."""
        ...

    def disagrees(self, mark: str, bounds: Bounds) -> bool:
        """Whether what stands there now shows that it is not the log whose mark that is."""
        ...

    def lacks(self, upto: int, mark: str, first: int) -> bool:
        """Whether messages after an offset were removed, given the mark that was made there, and where the log begins."""
        ...

    def from_time(self, moment: datetime) -> int | None:
        """The offset of the first message that was written after a time, if the broker tells that; None if it does not."""
        ...


@runtime_checkable
class HasGroup(Protocol):
    """A log to whose broker it can be told how far it is merged."""

    def merged(self, offset: int) -> None:
        """All up to an offset is merged. What comes of telling it is nobody's concern."""
        ...


def some_of(log: MessageLog) -> Messages:
    """Some first and some last messages of a log, to learn from."""
    bounds = log.bounds()
    found = _first_of(log, bounds.first, bounds.end)
    later = max(bounds.end - SAMPLE, found.offsets[-1] + 1 if len(found) else bounds.first)
    for some in log.read(later, bounds.end):
        found.extend(some, len(some))
    return found


def _first_of(log: MessageLog, start: int, end: int) -> Messages:
    found = Messages()
    for some in log.read(start, end):
        found.extend(some, SAMPLE - len(found))
        if len(found) >= SAMPLE:
            break
    return found


def mark_of(log: MessageLog, upto: int, first: int) -> str:
    """A mark that is made of the last message at or before an offset: where it stands, and a checksum of it; empty without one."""
    found = _last(log, max(first, upto - NEAR_END), upto + 1) if first <= upto else None
    return f"{found[0]}:{found[1]:08x}" if found else ""


def mark_differs(log: MessageLog, mark: str, bounds: Bounds) -> bool:
    """Whether another message stands where a mark was made. One that is not kept any more shows nothing."""
    place, _, checksum = mark.partition(":")
    if not checksum or int(place) < bounds.first:
        return False
    if int(place) >= bounds.end and not log.holds(int(place)):
        return True
    found = _last(log, int(place), int(place) + 1)
    return found is not None and f"{found[1]:08x}" != checksum


def _last(log: MessageLog, start: int, end: int) -> tuple[int, int] | None:
    """Where the last of some messages stands, and its checksum."""
    found = None
    for some in log.read(start, end, few=True):
        if len(some):
            told = f"{some.times[-1]}".encode(), some.keys[-1] or b"", some.values[-1] or b""
            found = some.offsets[-1], zlib.crc32(b"\0".join(told))
    return found


def refuse_gap(place: str, start: str) -> Refused:
    """The error for messages that were forgotten before they were read."""
    return Refused(
        f"{place} does not hold all messages from {start} on any more.",
        "Its retention removed them before they were merged.",
        "Run the command again: it says how to go on.",
    )


def refuse_overtaken(log: MessageLog, start: int, end: int, count: int) -> None:
    """After a read, make sure that retention did not remove messages meanwhile that were yet to be read.

    Args:
        log: the log.
        start, end: what was read.
        count: how many messages were found.

    Raises:
        Refused: it may have.
    """
    if count < end - start and log.first() > start:
        raise refuse_gap(log.place, log.label(start))
