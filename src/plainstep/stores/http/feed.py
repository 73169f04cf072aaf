"""Pages over HTTP as a feed.

Where it ends is known only when all pages are read; what is read for that is kept, and not asked for again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.stores.feed import Ends
from plainstep.stores.http.pages import Pages
from plainstep.stores.http.sniff import pages_of
from plainstep.stores.spool import TableSpool
from plainstep.stores.streams.beside import Sampled
from plainstep.stores.streams.feed import MessageFeed
from plainstep.stores.streams.formats import rows_of
from plainstep.stores.streams.log import SAMPLE, Messages

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.api import Reading

# Items that are made into rows at a time.
BATCH = 10_000


@dataclass
class _Read:
    """What was read after a position.

    Attributes:
        end: the position up to which that reaches.
        rows: the items, with their positions.
        ends: how many items lie before each position that was told as an end.
    """

    end: str
    rows: TableSpool = field(default_factory=TableSpool)
    count: int = 0
    ends: dict[str, int] = field(default_factory=dict)


class _Labels:
    """Where items stand: their offsets are numbers within a batch, which stand for positions."""

    is_numbered = False
    partition = ""

    def __init__(self, place: str, labels: list[str]) -> None:
        self.topic, self._labels = place, labels

    def label(self, offset: int) -> str:
        """The position of an item."""
        return self._labels[offset]


class PagesFeed(MessageFeed):
    """The items of pages.

    Args:
        pages: the pages.
        layout: how items are read.
        base: the folder that relative paths start from.
    """

    beside: tuple[str, ...] = ()
    is_numbered = False

    def __init__(self, pages: Pages, layout: LayoutConfig, base: Path) -> None:
        self.pages, self.place = pages, pages.place
        self.identity = f"{pages.path} by {pages.said.cursor or 'page'}"
        self.rows = rows_of(self.place, self.place, layout, self._samples, base, beside=())
        self._known: dict[str, _Read] = {}

    def _read_after(self, position: str) -> _Read:
        """What there is after a position: what is known already, and what has come since."""
        known = self._known.get(position) or _Read(position)
        for page in self.pages.after(known.end):
            if page.items:
                labels = [f"{page.cursor}#{page.taken + number}" for number in range(1, len(page.items) + 1)]
                known.rows.add(pa.table({"item": page.items, "position": labels}))
                known.count += len(page.items)
            known.end = page.end
        known.ends[known.end] = known.count
        self._known[position] = known
        return known

    def _samples(self) -> list[Sampled]:
        some: list[str] = []
        for page in self.pages.after(""):
            some += page.items
            if len(some) >= SAMPLE:
                break
        return [self._sampled(some, [f"#{number + 1}" for number in range(len(some))])]

    def _sampled(self, items: list[str], labels: list[str]) -> Sampled:
        count = len(items)
        messages = Messages([*range(count)], [item.encode() for item in items], [None] * count, [None] * count)
        return Sampled(_Labels(self.place, labels), messages)

    def written(self) -> dict[str, Any]:
        """How its pages seem to be made."""
        found = pages_of(self.pages.first())
        return {"pages": found} if found else {}

    def warnings(self) -> list[str]:
        """Nothing: what is wrong is refused."""
        return []

    def ends(self) -> Ends:
        """How far it can be read now."""
        return self.ends_after("")

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark: as far as it is said, where it does not go on."""
        try:
            found = self._read_after(watermark)
        except Refused:
            if not watermark:
                raise
            return Ends(None, watermark)
        return Ends(None, found.end)

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading | None]]:
        """How far it can be read. A server has no transactions."""
        yield self.ends(), None

    def at_or_before(self, position: str) -> str | None:
        """The position itself: what a cursor means is the server's."""
        found = self._read_after("")
        if position not in found.ends and not any(position in rows["position"].to_pylist() for rows in found.rows()):
            raise ConfigError(
                f"{position!r} is not a position of {self.place} now.", "", "plainstep look shows those that there are."
            )
        return position

    def before_time(self, moment: datetime) -> str | None:
        """Not told without reading everything: see ``FeedSource.locate``."""
        raise NotImplementedError

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """How many items there are in between."""
        known = self._known.get(after or "") or self._read_after(after or "")
        count = known.ends.get(upto or "", known.count)
        return count, count > 0, None

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The items in between, as rows."""
        if upto is None or upto == after:
            return
        known = self._known.get(after or "") or self._read_after(after or "")
        left = known.ends.get(upto)
        for table in known.rows():
            for start in range(0, table.num_rows, BATCH):
                some = table.slice(start, BATCH)
                labels = some["position"].to_pylist()
                if left is None and upto in labels:
                    left = labels.index(upto) + 1
                count = len(labels) if left is None else min(left, len(labels))
                if count:
                    one = self._sampled(some["item"].to_pylist()[:count], labels[:count])
                    yield self.rows.read(one.log, one.messages)
                if left is not None:
                    left -= count
                    if left <= 0:
                        return
        if left is None:
            raise Refused(f"{self.place} has no position {upto} any more.", "", "Run the command again.")

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: its page is gone, or has lost items."""
        if watermark in self._known:
            return None
        try:
            self._read_after(watermark)
        except Refused as error:
            return Refused(error.what, error.why, error.next.replace("LOAD", load))
        return None

    def label(self, position: str) -> str:
        """A position as people know it."""
        return position

    def told(self, position: str) -> str:
        """Which item a position means."""
        return f"{self.place}, {position}"
