"""Positions in a binary log: the newest transaction of each domain, as MariaDB writes them: ``0-17-24,1-18-5``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plainstep.stores.mysql.log.events import Transaction

# A domain, the server that wrote, and the number of the transaction within the domain.
ONE = re.compile(r"(\d+)-(\d+)-(\d+)")


@dataclass(frozen=True)
class State:
    """Up to where a log is meant.

    Attributes:
        newest: by domain, the server and the number of the newest transaction.
        file, offset: where it stands in the log of the server that told it; empty and 0 where that is not known.
        server: that server, by what it calls itself.
    """

    newest: Mapping[int, tuple[int, int]] = field(default_factory=dict)
    file: str = ""
    offset: int = 0
    server: str = ""

    @staticmethod
    def parse(text: str) -> State:
        """A state as it is written, with or without its place in the log.

        Raises:
            ValueError: it is none.
        """
        gtids, _, place = text.partition(" ")
        found: dict[int, tuple[int, int]] = {}
        for one in filter(None, gtids.split(",")):
            match = ONE.fullmatch(one.strip())
            if match is None:
                raise ValueError(text)
            domain, server, number = map(int, match.groups())
            found[domain] = server, number
        place, _, told_by = place.partition(" ")
        name, _, offset = place.rpartition(":")
        return State(found, name, int(offset) if name else 0, told_by)

    @property
    def gtids(self) -> str:
        """The same without its place."""
        return ",".join(f"{domain}-{server}-{number}" for domain, (server, number) in sorted(self.newest.items()))

    @property
    def token(self) -> str:
        """All of it, as one text."""
        return f"{self.gtids} {self.file}:{self.offset} {self.server}" if self.file else self.gtids

    @property
    def number(self) -> int:
        """How many transactions there were: it rises with each, whatever its domain."""
        return sum(number for _, number in self.newest.values())

    def after(self, one: Transaction) -> State:
        """Up to a later transaction."""
        return State({**self.newest, one.domain: (one.server, one.number)})

    def includes(self, one: Transaction) -> bool:
        """Whether a transaction is included."""
        return one.number <= self.newest.get(one.domain, (0, 0))[1]

    def holds(self, other: State) -> bool:
        """Whether all that another state includes is included here."""
        return all(
            domain in self.newest and self.newest[domain][1] >= number for domain, (_, number) in other.newest.items()
        )


def known(written: str, state: State) -> bool:
    """Whether a server wrote the transactions that a state names.

    Args:
        written: for each domain and server, the newest transaction, as ``@@gtid_binlog_state`` tells it.
        state: the state.
    """
    newest = {(int(domain), int(server)): int(number) for domain, server, number in ONE.findall(written)}
    return all(newest.get((domain, server), -1) >= number for domain, (server, number) in state.newest.items())
