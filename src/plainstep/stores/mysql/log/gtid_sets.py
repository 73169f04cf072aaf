"""Positions in MySQL's binary log: which transactions there were, by the servers that made them: ``UUID:1-5:9,UUID:1-3``.

After the documentation of MySQL's replication protocol.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from uuid import UUID

from plainstep.copying import replace
from plainstep.properties import cached_property

# The first and the last of transactions that follow each other.
Interval = tuple[int, int]
INTERVAL = re.compile(r"(\d+)(?:-(\d+))?")


@dataclass(frozen=True)
class SetTransaction:
    """The beginning of a transaction: the server that made it, and its number there.

    Attributes:
        source: the server's UUID.
        number: the number.
        flags: what is said of it: see ``events.PREPARED`` and ``events.COMPLETED``.
        xid: the name that a transaction manager gave it, where one did.
    """

    source: str
    number: int
    flags: int = 0
    xid: bytes = b""

    @property
    def name(self) -> str:
        """How it is called."""
        return f"{self.source}:{self.number}"


@dataclass(frozen=True)
class SetState:
    """Up to where a log is meant: the transactions that are included.

    Attributes:
        sets: for each server that made some, the intervals of their numbers, in order.
        file, made: the file of the log in which that was, and when it was begun, in seconds since 1970; empty and 0 where not known.
        server: the server that told it, by its UUID.
    """

    sets: Mapping[str, tuple[Interval, ...]] = field(default_factory=dict)
    file: str = ""
    made: int = 0
    server: str = ""

    @staticmethod
    def parse(text: str) -> SetState:
        """A state as it is written, with or without its file.

        Raises:
            ValueError: it is none.
        """
        gtids, _, rest = re.sub(r",\s+", ",", text).partition(" ")
        place, _, server = rest.partition(" ")
        file, _, made = place.rpartition("@")
        found: dict[str, tuple[Interval, ...]] = {}
        for one in filter(None, gtids.split(",")):
            source, *parts = one.split(":")
            matches = [INTERVAL.fullmatch(part) for part in parts]
            if not parts or not all(matches):
                raise ValueError(text)
            intervals = sorted((int(one[1]), int(one[2] or one[1])) for one in matches if one)
            found[str(UUID(source))] = tuple(intervals)
        return SetState(found, file, int(made) if file else 0, server)

    @cached_property
    def gtids(self) -> str:
        """The same without its file."""
        return ",".join(f"{source}:{':'.join(map(_written, parts))}" for source, parts in sorted(self.sets.items()))

    @property
    def token(self) -> str:
        """All of it, as one text."""
        return f"{self.gtids} {self.file}@{self.made} {self.server}" if self.file else self.gtids

    @property
    def number(self) -> int:
        """How many transactions there were: it rises with each, whoever made it."""
        return sum(last - first + 1 for parts in self.sets.values() for first, last in parts)

    def after(self, one: SetTransaction) -> SetState:
        """With one transaction more."""
        parts = self.sets.get(one.source, ())
        if parts and parts[-1][1] + 1 == one.number:  # as nearly all do
            joined: tuple[Interval, ...] = (*parts[:-1], (parts[-1][0], one.number))
        else:
            joined = _joined((*parts, (one.number, one.number)))
        return SetState({**self.sets, one.source: joined})

    def includes(self, one: SetTransaction) -> bool:
        """Whether a transaction is included."""
        return any(first <= one.number <= last for first, last in self.sets.get(one.source, ()))

    def holds(self, other: SetState) -> bool:
        """Whether all that another state includes is included here."""
        return all(
            any(first <= begin and end <= last for first, last in self.sets.get(source, ()))
            for source, parts in other.sets.items()
            for begin, end in parts
        )

    def within(self, file: str, made: int, server: str) -> SetState:
        """The same, with the file of a server in which it is."""
        return replace(self, file=file, made=made, server=server)

    @property
    def packed(self) -> bytes:
        """It, as it is sent to a server."""
        found = [struct.pack("<Q", len(self.sets))]
        for source, parts in sorted(self.sets.items()):
            found.append(UUID(source).bytes + struct.pack("<Q", len(parts)))
            found += [struct.pack("<QQ", first, last + 1) for first, last in parts]
        return b"".join(found)


def _written(one: Interval) -> str:
    first, last = one
    return f"{first}-{last}" if last > first else str(first)


def _joined(parts: tuple[Interval, ...]) -> tuple[Interval, ...]:
    """Intervals in order, those that touch as one."""
    found: list[Interval] = []
    for first, last in sorted(parts):
        if found and first <= found[-1][1] + 1:
            found[-1] = found[-1][0], max(found[-1][1], last)
        else:
            found.append((first, last))
    return tuple(found)
