"""A feed that is emptied by reading it, in a transaction that is committed: read and merged in one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from plainstep.core.layouts.rows import POSITION
from plainstep.core.position_labels import as_time
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.sources.query_feed import QueryFeed, first_rows
from plainstep.sources.query_order import QueryOrder
from plainstep.sources.query_rows import QueryReading
from plainstep.sources.query_trial import SAMPLE
from plainstep.stores.feed import Ends
from plainstep.stores.spool import TableSpool

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.queries import Consuming


class ConsumedFeed(QueryFeed):
    """What is left to be consumed. It has no positions: a watermark tells when something was taken last.

    Args:
        store: the database.
        place: the feed's name, for messages.
        said: its layout, with the query.
        is_declared: whether the types of the row's columns are known without looking at rows.
    """

    def __init__(self, store: Consuming, place: str, said: LayoutConfig, is_declared: bool) -> None:
        super().__init__(store, place, said, None, is_declared)
        self.taking = store.taking
        self.identity = f"{place}, consumed"
        self._taken: dict[str, TableSpool] = {}

    @property
    def is_numbered(self) -> bool:
        """Its positions are times."""
        return True

    def sample(self) -> pa.Table:
        """Some of its rows, which stay where they are: they are read in a transaction that is rolled back."""
        with self.taking(False) as queries:
            rows = queries.batches(self.query.read, {}, {}, natural=True)
            first = next(rows)
            found = first_rows(rows, SAMPLE) if not first.num_rows else pa.Table.from_batches([first]).slice(0, SAMPLE)
            found = pa.Table.from_batches([first]) if found is None else found
        self._columns = found.schema
        QueryOrder.refuse_absent(self.said.position, found.column_names, self.place)
        return found.append_column(POSITION, pa.array([""] * found.num_rows, pa.string()))

    def ends(self) -> Ends:
        """The next taking, which is now."""
        return Ends(None, datetime.now(UTC).isoformat(timespec="microseconds"))

    def ends_after(self, watermark: str) -> Ends:
        """The next taking, which is later than the one before, whatever the clock says."""
        later = datetime.fromisoformat(watermark) + timedelta(microseconds=1)
        return Ends(None, max(datetime.now(UTC), later).isoformat(timespec="microseconds"), is_whole=False)

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, QueryReading]]:
        """The next taking, and its transaction. What is there to be taken is in the rows already, which are read after it."""
        ends = self.ends()
        for _ in self.read(None, ends.last):
            pass
        with self.taking(True) as queries:
            yield ends, QueryReading(self.store, queries)

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """What there is to be taken, once: asked again, the same is given again."""
        if upto is None:
            return
        if upto not in self._taken:
            self._taken[upto] = self._take(upto)
        yield from self._taken[upto]()

    def _take(self, upto: str) -> TableSpool:
        taken, order = TableSpool(), QueryOrder(self.place, self.said, None, "", upto, self._layout)
        with self.taking(True) as queries:
            for batch in queries.batches(self.query.read, {}, self._kinds):
                if batch.num_rows:
                    taken.add(order.positioned(pa.Table.from_batches([batch])))
        order.finish()
        return taken

    def verify(self) -> None:
        """Nothing to see beforehand: to look would be to take."""

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Nothing: what was taken is merged."""
        return None

    def is_pressing(self, after: str) -> bool:
        """Never: what is not taken stays."""
        return False

    def time_of(self, position: str) -> datetime | None:
        """Not known."""
        return None

    def at_or_before(self, position: str) -> str | None:
        """A time of a taking."""
        moment = as_time(position)
        if moment is None:
            raise ConfigError(
                f"{position!r} is not a position of {self.place}.",
                "What is consumed has none but the times at which it was taken.",
            )
        return moment.astimezone(UTC).isoformat(timespec="microseconds")
