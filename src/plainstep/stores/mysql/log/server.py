"""What a reader of a binary log needs of its server, whichever it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from plainstep.errors import Refused
from plainstep.stores.mysql.log import events
from plainstep.stores.mysql.log.events import Header

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Packets, Wire

# Bytes of an event's sum.
CHECKSUM = 4
# What a server answers if what it was asked for is not in its log, or not any more.
NOT_THERE = 1236


@dataclass(frozen=True)
class Event:
    """An event.

    Attributes:
        header: what is said of every event.
        data: where it lies, with others.
        start, end: where its body begins and ends there.
    """

    header: Header
    data: bytes
    start: int
    end: int

    @property
    def body(self) -> bytes:
        """What the event says."""
        return self.data[self.start : self.end]

    @property
    def server(self) -> int:
        """The server that wrote it."""
        return int.from_bytes(
            self.data[self.start - events.HEADER.size + 5 : self.start - events.HEADER.size + 9], "little"
        )


class Transaction(Protocol):
    """The beginning of a transaction.

    Attributes:
        flags: what is said of it.
        xid: the name that a transaction manager gave it, where one did.
        name: how it is called.
    """

    @property
    def flags(self) -> int: ...
    @property
    def xid(self) -> bytes: ...
    @property
    def name(self) -> str: ...


class LogState(Protocol):
    """Up to where a log is meant: the transactions that are included.

    Attributes:
        gtids: as the server writes them.
        token: the same, with where that is.
        number: how many there were: it rises with each.
    """

    @property
    def gtids(self) -> str: ...
    @property
    def token(self) -> str: ...
    @property
    def number(self) -> int: ...

    def after(self, one: Any) -> LogState:
        """With a transaction more, which is the next one of its server."""
        ...

    def includes(self, one: Any) -> bool:
        """Whether a transaction is included."""
        ...

    def holds(self, other: Any) -> bool:
        """Whether all that another state includes is included here."""
        ...


class LogServer(Protocol):
    """A server with a binary log.

    Attributes:
        is_mysql: whether it is MySQL, and not MariaDB.
        stops: whether what is not included in a state that is read up to comes after all that is.
    """

    is_mysql: bool
    stops: bool

    def parse(self, text: str) -> Any:
        """A state, as it is written.

        Raises:
            ValueError: it is none.
        """
        ...

    def head(self, connection: Wire) -> Any:
        """Up to where the log is written."""
        ...

    def oldest(self, connection: Wire) -> Any:
        """After which transactions all are still held."""
        ...

    def snapshot_state(self, connection: Wire, concerns: Callable[[Event], bool]) -> Any | None:
        """Where the transaction's snapshot stands in the log; None where that cannot be told, and it should be taken again.

        Args:
            connection: one in a transaction that sees one moment.
            concerns: whether an event may be about the tables that are read.
        """
        ...

    def is_same_log(self, connection: Wire, state: Any, head: Any) -> bool:
        """Whether the server's log, which is written up to ``head``, is the one in which a state was, as far as it tells.

        Where more has come, reading it tells, too: see ``reader.events_in``.
        """
        ...

    def packets(self, connection: Wire, after: Any, upto: Any, place: str) -> Iterator[Packets]:
        """What the server sends of the transactions after one state and up to another.

        Raises:
            Refused: they are not held any more.
        """
        ...

    def transaction_of(self, event: Event) -> Any | None:
        """The transaction that an event begins, or None if it begins none.

        Raises:
            Refused: it is one without a name.
        """
        ...

    def unpacked(self, event: Event) -> Iterator[Event]:
        """An event, or those that are packed in it."""
        ...


def refuse_gone(place: str, told: str) -> Refused:
    """The error for a log that cannot be read from where a load stands."""
    return Refused(
        f"The log of {place} cannot be read from where a load stands: {told}.",
        "Changes in between may be held nowhere.",
        "plainstep reload LOAD compares the whole table and goes on from there.",
    )


def events_of(sent: Iterator[Packets]) -> Iterator[Event]:
    """What is sent as events, without their sums."""
    summed = True
    for found in sent:
        for start, end in zip(found.starts, found.ends, strict=True):
            header = events.header_of(found.data, start + 1)
            begin = start + 1 + events.HEADER.size
            if header.kind == events.FORMAT:  # its last five bytes: how events are summed, and its own sum
                summed = found.data[end - CHECKSUM - 1] == 1
            yield Event(header, found.data, begin, end - CHECKSUM * summed)
