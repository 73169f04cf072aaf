"""What a store can: it says so by what it has. And what is told of one that lacks what is asked of it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from msgspec import Struct

from plainstep.errors import Refused

if TYPE_CHECKING:
    from datetime import timedelta
    from pathlib import Path

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.api import Source, Table, Target
    from plainstep.stores.feed import Feed, HasPartitions
    from plainstep.stores.publisher import Publisher
    from plainstep.stores.records import CaptureInfo, Reader


class Store(Protocol):
    """A place with a URL. It is made from a name, a URL, the folder that relative paths start from, and a wait.

    Attributes:
        name: its name in plainstep.toml.
        url: its URL, without a password.
        place: what tells it from every other store: a path, or a server and a database.
        wait: how many seconds to wait for a lock, or to come back to a server that was lost.
    """

    name: str
    url: str
    place: str
    wait: float

    def kept_open(self) -> AbstractContextManager[None]:
        """Keep what costs to open open meanwhile, so that many small looks cost little."""
        ...

    def reused(self) -> AbstractContextManager[None]:
        """The same for a command of many loads, as far as that blocks no other work: connections are used again."""
        ...

    def read_once(self) -> AbstractContextManager[None]:
        """Meanwhile, what several loads read of one log is read once."""
        ...

    def lacking(self, what: str) -> Refused:
        """Why it lacks something (``capture``, ``log``, ``tables``, ``feed`` or ``target``), and what to do instead."""
        ...


@runtime_checkable
class HasTables(Store, Protocol):
    """A store whose tables can be read as they are."""

    def table(self, name: str, types: dict[str, str]) -> Table:
        """One of its tables or views. Nothing is opened yet.

        Args:
            name: its name.
            types: what columns hold, where it is not what they are declared as.
        """
        ...

    def tables(self) -> list[str]:
        """The tables that it holds, without Plain Step's own."""
        ...


@runtime_checkable
class HasFeed(Store, Protocol):
    """A store that holds feeds, whose rows are in an order of their own."""

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> Feed | HasPartitions:
        """One of its feeds, or one that is in order within its partitions only. Nothing is opened yet.

        Args:
            name: its name, or a pattern.
            layout: how its rows are read.
            overlap: how far before the watermark to begin, or None.
        """
        ...


@runtime_checkable
class HasSource(Store, Protocol):
    """A store that tells the changes of its tables.

    Attributes:
        methods: the ways in which it does: ``capture`` (recorded by triggers), ``log`` (its own log),
            ``versions`` (those of its tables).
    """

    methods: tuple[str, ...]

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> Source:
        """The changes of one table. Nothing is opened yet.

        Args:
            table: the table's name.
            types: what columns hold, where it is not what they are declared as.
            how: one of its methods.
            reader: who reads, by a name that is the same at every step.
        """
        ...

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """Meanwhile, the spans and snapshots of these tables are of one moment."""
        ...


@runtime_checkable
class HasVersions(HasSource, Protocol):
    """A store whose tables keep their versions, and have no keys of their own."""

    def versioned(self) -> list[str]:
        """The tables that it holds."""
        ...


@runtime_checkable
class HasCapture(HasSource, Protocol):
    """A store whose changes are told only of tables for which that was turned on."""

    def capture_on(
        self, table: str, key: tuple[str, ...] | None, how: str, despite_row_security: bool
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on, by some columns, by the primary key, or (None) without a key.

        Returns:
            What is captured, and whether it was off before.
        """
        ...

    def capture_off(self, table: str, how: str) -> CaptureInfo:
        """Turn capture off and forget its changes."""
        ...

    def capture_refresh(self, table: str, how: str) -> tuple[CaptureInfo, str]:
        """Bring capture up to the table's columns; say what was done."""
        ...

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """What is captured in this store; of one table, or in one way, where these are named."""
        ...

    def readers(self, table: str = "") -> list[Reader]:
        """Who reads its captured tables, or one of them, as far as they are registered."""
        ...

    def forget(self, reader: str) -> int:
        """Remove a reader; return for how many tables it was registered."""
        ...


@runtime_checkable
class HasTarget(Store, Protocol):
    """A store that can be merged into.

    Attributes:
        exclusive: whether it cannot be written while it is being read.
        appends_only: whether rows can only be added to it.
    """

    exclusive: bool
    appends_only: bool

    def target(self) -> Target:
        """The store as a place to merge into."""
        ...


@runtime_checkable
class KeepsVersions(Store, Protocol):
    """A store in which what its tables held before is still there, until somebody removes it."""

    def forgetting(self, table: str) -> str:
        """What removes the earlier versions of a table, as advice."""
        ...


@runtime_checkable
class HasPublisher(Store, Protocol):
    """A broker to which messages can be sent."""

    def publisher(self, name: str) -> Publisher:
        """A way to send messages to one of its topics, subjects, streams or exchanges. Nothing is opened yet."""
        ...


class ScratchTable(Struct, frozen=True):
    """A table of a copy, and what statements on it can be made of. All names and values are as SQL writes them.

    Attributes:
        name: its name.
        key: its key columns.
        pools: for each column that can be written, values to draw from.
        upserts: forms of statements that insert a row or change the one that is there, with ``{table}``, ``{columns}``,
            ``{values}``, ``{key}`` and ``{sets}``.
    """

    name: str
    key: tuple[str, ...]
    pools: dict[str, list[str]]
    upserts: tuple[str, ...] = ()


class Scratch(Protocol):
    """A copy in which anything can be tried.

    Attributes:
        url: its URL.
    """

    url: str

    def play(self, statements: Sequence[str], kept: bool) -> int:
        """Run statements in one transaction, and roll it back if it is not to be kept. What is refused is let pass.

        Returns:
            How many statements were accepted.
        """
        ...


class ScratchTemplate(Protocol):
    """What copies are made of.

    Attributes:
        table: the table's name in them.
        tables: the table itself, then those that hang together with it.
        notes: what they leave out.
    """

    table: str
    tables: Sequence[ScratchTable]
    notes: Sequence[str]

    def fresh(self) -> AbstractContextManager[Scratch]:
        """A new copy, which goes when the block ends."""
        ...


@runtime_checkable
class HasScratch(Store, Protocol):
    """A store that can copy its schema, to try things out."""

    def scratch(self, table: str, folder: Path, rows: int) -> AbstractContextManager[ScratchTemplate]:
        """A copy of its schema, with so many rows of each table, to make further copies of; it goes when the block ends.

        Args:
            table: the table that is tried out.
            folder: a folder for files.
            rows: how many rows of each table.
        """
        ...


def place_for(what: str) -> str:
    """What a store is no place for that only tells changes, in words."""
    return {
        "tables": "a table of its own",
        "log": "changes = 'log'",
        "versions": "changes = 'versions'",
        "target": "tables to merge into",
        "scratch": "copies to try things out",
    }.get(what, what)


@runtime_checkable
class TakesSpreadEdits(Protocol):
    """A store into whose tables several machines can write what one commit then names."""

    def takes_spread_edits(self) -> bool:
        """Whether that is so."""
        ...


class BaseStore:
    """What a store is that has nothing to keep open, and nothing to say of what it lacks."""

    name: str

    def kept_open(self) -> AbstractContextManager[None]:
        """Nothing to do: nothing here costs much to open."""
        return nullcontext()

    def reused(self) -> AbstractContextManager[None]:
        """Nothing to do: there are no connections here, or they are always used again."""
        return nullcontext()

    def read_once(self) -> AbstractContextManager[None]:
        """Nothing to do: each load reads what is its own."""
        return nullcontext()

    def lacking(self, what: str) -> Refused:
        """What it lacks, without advice."""
        told = {
            "capture": "cannot record changes by triggers",
            "log": "keeps no log of changes that could be read",
            "versions": "keeps no versions of its tables that could be read",
            "tables": "has no tables that could be read",
            "feed": "holds no feed of changes",
            "target": "cannot be merged into",
            "scratch": "cannot be copied to try things out",
            "queries": "cannot be asked queries: it is not a SQL database",
        }
        return Refused(f"{self.name} {told.get(what, f'cannot do {what}')}.", "", "")


def with_tables(store: Store) -> HasTables:
    """A store that has tables.

    Raises:
        Refused: it has none.
    """
    if not isinstance(store, HasTables):
        raise store.lacking("tables")
    return store


def with_source(store: Store, how: str) -> HasSource:
    """A store that tells changes in a way.

    Raises:
        Refused: it does not.
    """
    if not isinstance(store, HasSource) or how not in store.methods:
        raise store.lacking(how)
    return store


def with_capture(store: Store, how: str = "capture") -> HasCapture:
    """A store in which capture is turned on and off, in a way.

    Raises:
        Refused: it does not.
    """
    if not isinstance(store, HasCapture) or how not in store.methods:
        raise store.lacking(how)
    return store


def with_target(store: Store) -> HasTarget:
    """A store that can be merged into.

    Raises:
        Refused: it cannot.
    """
    if not isinstance(store, HasTarget):
        raise store.lacking("target")
    return store


def with_scratch(store: Store) -> HasScratch:
    """A store whose schema can be copied.

    Raises:
        Refused: it cannot.
    """
    if not isinstance(store, HasScratch):
        raise store.lacking("scratch")
    return store


def captures_of(store: Store) -> list[CaptureInfo]:
    """What is captured in a store; nothing where it records no changes."""
    return store.captures() if isinstance(store, HasCapture) else []
