"""Several loads of one feed that step together: its rows are read once, and interpreted by each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Protocol

from plainstep.core.layouts.rows import WRONG
from plainstep.errors import NoRows
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
    """A feed that several loads read: what is read of a window for the first of them is kept for the others.

    Args:
        feed: the feed.
        wanted: what all of them want.
        own: what the load wants whose feed this is.
    """

    def __init__(self, feed: Feed, wanted: dict[str, pa.DataType | None], own: dict[str, pa.DataType | None]) -> None:
        self.feed, self._own = feed, own
        self._kept: dict[tuple[str | None, str | None], list[TableSpool]] = {}
        self._fits = True
        feed.want(wanted)

    def runs(self, after: str | None, upto: str | None) -> Iterator[Iterator[pa.Table]] | None:
        """The rows in between, as ``runs_of`` gives them; None where each load has to read them by itself.

        That is so where a row is not as one of them wants it: for another one, which does not look there, nothing is wrong with it.
        """
        if self._fits and (after, upto) not in self._kept:
            self._kept[after, upto] = []
            self._read(after, upto)
        return (spool() for spool in self._kept[after, upto]) if self._fits else None

    def _read(self, after: str | None, upto: str | None) -> None:
        for run in runs_of(self.feed, after, upto):
            spool = TableSpool()
            self._kept[after, upto].append(spool)
            for rows in run:
                if WRONG in rows.column_names and rows[WRONG].null_count < rows.num_rows:
                    self._fits = False
                    self.close()
                    return
                spool.add(rows)

    def close(self) -> None:
        """Forget what was kept, and have the feed give what its own load wants."""
        for spools in self._kept.values():
            for spool in spools:
                spool.close()
        self._kept = {}
        self.feed.want(self._own)


class Sharing(Protocol):
    """A source that may read what was read for others: see ``plainstep.sources.feed.FeedSource``."""

    feed: Feed
    shared: SharedFeed | None

    @property
    def wanted(self) -> dict[str, pa.DataType | None]:
        """What is read of its rows, by path, with the type it should have."""
        ...


def _have_rows(sources: Sequence[Sharing]) -> bool:
    """Whether there is anything to read: of an empty feed, it is not known what is wanted."""
    with suppress(NoRows):
        return all(source.wanted is not None for source in sources)
    return False


@contextmanager
def read_once(sources: Sequence[Sharing]) -> Iterator[None]:
    """While this lasts, what is read for one of these is kept for those that want it, too.

    Args:
        sources: sources whose rows come from one feed, and are read alike.
    """
    wanted: dict[str, pa.DataType | None] = {}
    alike = []
    for source in sources if _have_rows(sources) else ():
        if all(wanted.get(path, kind) == kind for path, kind in source.wanted.items()):
            wanted |= source.wanted
            alike.append(source)
    if len(alike) < 2:
        yield
        return
    shared = SharedFeed(alike[0].feed, wanted, alike[0].wanted)
    for source in alike:
        source.shared = shared
    try:
        yield
    finally:
        for source in alike:
            source.shared = None
        shared.close()
