"""Several loads of one feed that step together: its rows are read once, and interpreted by each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Protocol

from plainstep.sources.partitioned import PartitionedFeed
from plainstep.stores.spool import TableSpool

if TYPE_CHECKING:
    from plainstep.deferred import pa
    from plainstep.stores.feed import Feed

# What of a layout is said of rows that are read already: where it differs, they are read alike all the same.
INTERPRETING = {
    "skip", "operation_sql", "insert", "put", "update", "delete", "truncate", "update_was", "update_now",
    "columns", "bookkeeping", "guessed",
}  # fmt: skip


def runs_of(feed: Feed, after: str | None, upto: str | None) -> Iterator[Iterator[pa.Table]]:
    """The rows in between, in order, in batches: those of each partition by themselves."""
    if isinstance(feed, PartitionedFeed):
        yield from feed.runs(after, upto)
    else:
        yield feed.read(after, upto)


class SharedFeed:
    """A feed that several loads read: the first one's reading of a window is kept for the others.

    Args:
        feed: the feed, which gives what all of them want.
    """

    def __init__(self, feed: Feed) -> None:
        self.feed = feed
        self._kept: dict[tuple[str | None, str | None], list[TableSpool]] = {}

    def runs(self, after: str | None, upto: str | None) -> Iterator[Iterator[pa.Table]]:
        """The rows in between, as ``runs_of`` gives them."""
        known = self._kept.get((after, upto))
        if known is not None:
            yield from (spool() for spool in known)
            return
        spools = []
        for run in runs_of(self.feed, after, upto):
            spool = TableSpool()
            yield _kept(run, spool)
            spools.append(spool)
        self._kept[after, upto] = spools  # only now: what was read half is not kept

    def close(self) -> None:
        """Forget what was kept."""
        for spools in self._kept.values():
            for spool in spools:
                spool.close()


def _kept(run: Iterator[pa.Table], spool: TableSpool) -> Iterator[pa.Table]:
    for rows in run:
        spool.add(rows)
        yield rows
    spool.done()


class Sharing(Protocol):
    """A source that may read what was read for others: see ``plainstep.sources.feed.FeedSource``."""

    feed: Feed
    wanted: dict[str, pa.DataType | None]
    shared: SharedFeed | None


@contextmanager
def read_once(sources: Sequence[Sharing]) -> Iterator[None]:
    """While this lasts, what is read for one of these is kept for those that want it, too.

    Args:
        sources: sources whose rows come from one feed, and are read alike.
    """
    wanted: dict[str, pa.DataType | None] = {}
    alike = []
    for source in sources:
        if all(wanted.get(path, kind) == kind for path, kind in source.wanted.items()):
            wanted |= source.wanted
            alike.append(source)
    if len(alike) < 2:
        yield
        return
    shared = SharedFeed(alike[0].feed)
    shared.feed.want(wanted)
    for source in alike:
        source.shared = shared
    try:
        yield
    finally:
        for source in alike:
            source.shared = None
        shared.close()
        shared.feed.want(alike[0].wanted)
