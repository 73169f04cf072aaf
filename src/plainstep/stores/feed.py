"""What a feed offers: raw rows in the order of their positions, and where those positions begin and end."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from msgspec import Struct

from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.errors import Refused
    from plainstep.stores.api import Reading


class Ends(Struct, frozen=True):
    """How far a feed can be read.

    Attributes:
        first, last: the positions of the first and the last row that are safe to read, as texts; None without rows.
        note: what a person should know of them.
        is_whole: whether all that ever was is still there, or all that was merged, going on from a watermark.
    """

    first: str | None
    last: str | None
    note: str = ""
    is_whole: bool = True


class FeedRows(Protocol):
    """What the rows of a feed are made of.

    Attributes:
        place: its name, for messages.
        identity: what it is; another feed, or another order, has another.
        beside: columns that stand beside what rows hold, such as a message's key: they are the row's own only if a layout names them.
    """

    place: str
    identity: str
    beside: tuple[str, ...]

    @property
    def is_typed(self) -> bool:
        """Whether its columns have types of their own; of others, and of fields of documents, values only suggest them."""
        ...

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows: by path, with the type it should have, or None for as it is."""
        ...

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        ...

    def sample(self) -> pa.Table:
        """Some rows, to learn from what they are made of."""
        ...


class Feed(FeedRows, Protocol):
    """Rows in the order of their positions. A position is a text; None stands for before all of them.

    Attributes:
        is_numbered: whether its positions begin with a number or a time, by the type of what they are made of.
    """

    @property
    def is_numbered(self) -> bool:
        """Whether its positions begin with a number or a time."""
        ...

    def ends(self) -> Ends:
        """How far it can be read now."""
        ...

    def opened(self) -> AbstractContextManager[tuple[Ends, Reading | None]]:
        """How far it can be read, and the transaction that says so, so that other tables can be read in it."""
        ...

    def at_or_before(self, position: str) -> str | None:
        """The last position that is not after this one, or None if there is none.

        Raises:
            ConfigError: it cannot be a position of this feed.
        """
        ...

    def before_time(self, moment: datetime) -> str | None:
        """The last position before the first change that was made after a time, or None if there is none.

        Raises:
            ConfigError: nothing tells when changes were made.
        """
        ...

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool | None, datetime | None]:
        """How many rows there are in between (None: not known), whether there is any (likewise), and when the first was made."""
        ...

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between, in order, with their positions as ``plainstep.position``."""
        ...

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark."""
        ...

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark, or None if it can: ``ChangesGone``, where what is left does not tell of every row.

        Args:
            load: the load.
            watermark: where it stands.
            reload: gives the remedy of loading again, told whether all that was merged is still there.
        """
        ...

    def warnings(self) -> list[str]:
        """What a person should know of it."""
        ...

    def label(self, position: str) -> str:
        """A position as people know it."""
        ...

    def told(self, position: str) -> str:
        """Which row of which table or file a position means, for messages."""
        ...


@runtime_checkable
class HasMessages(FeedRows, Protocol):
    """The messages of a broker, or the items of pages."""

    def written(self) -> dict[str, Any]:
        """How they seem to be written, as settings of a layout, such as ``message``; empty: as usual."""
        ...


@runtime_checkable
class RemembersMore(Protocol):
    """A feed whose positions tell more than how far it was read."""

    def reached_from(self, after: str, position: str) -> str:
        """A position, with what must be remembered of one before it."""
        ...

    def rows_at_most(self, after: str | None, upto: str | None) -> int | None:
        """A number than which there are no more rows in between; None where it is not known without reading them."""
        ...


@runtime_checkable
class HasPieces(Protocol):
    """A feed that several machines can read at once."""

    def pieces(self, after: str | None, upto: str | None, most: int) -> list[tuple[str | None, str]]:
        """What lies in between in pieces, in order, each between two positions; at most so many. None where there are no rows."""
        ...


@runtime_checkable
class AskedFeed(Protocol):
    """A feed that a database tells by queries, as somebody wrote them."""

    def verify(self) -> None:
        """Before the first use: see that the queries do what their names say.

        Raises:
            Refused: one does not.
        """
        ...

    def time_of(self, position: str) -> datetime | None:
        """When the change at a position was made, if that is told."""
        ...

    def is_pressing(self, after: str) -> bool:
        """Whether a watermark should move on though nothing came: what is kept will soon begin behind it."""
        ...

    def coarse(self, rows: pa.Table) -> pa.ChunkedArray:
        """What of each row's position a window can end at."""
        ...


@runtime_checkable
class HasMonitors(Protocol):
    """A feed that tells others how far it was merged, if it is asked to: nothing here depends on it."""

    def merged(self, position: str) -> None:
        """All up to a position is merged, and committed."""
        ...


@runtime_checkable
class HasPartitions(FeedRows, Protocol):
    """Rows that can be read one partition at a time.

    Attributes:
        partitioned_by: what tells the partitions, as a layout names it.
        is_ordered: whether they are a ``Feed`` besides; if not, they are in order within each partition only.
    """

    partitioned_by: str
    is_ordered: bool

    def partitions(self) -> list[str]:
        """The partitions that are there now."""
        ...

    def partition(self, name: str) -> Feed:
        """One of them, also one that is not there any more; its rows have the columns of the whole feed."""
        ...
