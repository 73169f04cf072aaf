"""A database that tells its changes by queries, as a feed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import TYPE_CHECKING, Any

from plainstep.core.layouts.rows import POSITION
from plainstep.core.position_labels import as_time, earlier
from plainstep.core.position_values import PositionKind, kind_of
from plainstep.deferred import pa
from plainstep.errors import ChangesGone, Refused
from plainstep.sources.query_order import QueryOrder
from plainstep.sources.query_rows import QueryReading
from plainstep.sources.query_trial import SAMPLE, QueryTrial, misbehaves
from plainstep.stores.feed import Ends
from plainstep.stores.row_values import text_of

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.queries import HasQueries, Queries, Value

# How often a snapshot is taken anew to find one during which nothing was committed.
TRIES = 3


class QueryFeed:
    """The changes that a database gives for two positions.

    Args:
        store: the database.
        place: the feed's name, for messages.
        said: its layout, with the queries.
        overlap: how far before the watermark to begin, or None.
        is_declared: whether the types of the row's columns are known without looking at rows.
    """

    beside: tuple[str, ...] = ()

    def __init__(
        self, store: HasQueries, place: str, said: LayoutConfig, overlap: int | timedelta | None, is_declared: bool
    ) -> None:
        assert said.query is not None
        self.store, self.place, self.said, self.query = store, place, said, said.query
        self.overlap, self.is_declared = overlap, is_declared
        self.identity = f"{place} by {', '.join(said.position) or 'queries'}"
        self._kinds: dict[str, pa.DataType] = {}
        self._columns: pa.Schema = pa.schema([])
        self._kind: PositionKind | None = None
        self._layout: Layout | None = None

    # What its rows are made of

    def follow(self, layout: Layout) -> None:
        """Know by which columns rows are told apart, which matters where they have no positions of their own."""
        self._layout = layout

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows."""
        self._kinds = {
            name: kinds[name] or self._columns.field(name).type
            for name in self._columns.names
            if kinds.get(name) is not None
        }

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        own = [
            pa.field(field.name, self._kinds[field.name])
            if field.name in self._kinds and not self.store.types_results
            else (field if self.store.types_results else pa.field(field.name, pa.string()))
            for field in self._columns
        ]
        return pa.schema([*own, (POSITION, pa.string())])

    def sample(self) -> pa.Table:
        """Some of its rows; none where its columns tell all that there is to know.

        Raises:
            Refused: an empty window holds rows, or a named column is not there.
        """
        with self.store.queries() as queries:
            oldest, head = self._ends_in(queries)
            batches = list(queries.batches(self.query.read, {"after": head, "upto": head}, {}, natural=True))
            found = pa.Table.from_batches(batches)
            if found.num_rows:
                raise self._misbehaves(
                    f"gives {found.num_rows:,} rows for the empty window after {self._told(head)} and up to it",
                    ":after is excluded: a row at it would be merged twice.",
                    "Write it so that positions are greater than :after, and not greater than :upto.",
                )
            if self._needs_rows(found.schema) and head is not None and oldest is not None:
                rows = queries.batches(self.query.read, {"after": oldest, "upto": head}, {}, natural=True)
                found = first_rows(rows, SAMPLE) or found
        self._columns = found.schema
        QueryOrder.refuse_absent(self.said.position, found.column_names, self.place)
        return found.append_column(POSITION, pa.array([""] * found.num_rows, pa.string()))

    @property
    def is_typed(self) -> bool:
        """Whether results have types of their own."""
        return self.store.types_results

    def _needs_rows(self, schema: pa.Schema) -> bool:
        """Whether only rows tell what they hold: documents, or results without types."""
        named = {*schema.names}
        patterns = (self.said.now, self.said.was, self.said.each, self.said.patch, self.said.operation)
        documents = any("." in one and one not in named and one.split(".")[0] in named for one in patterns)
        return documents or (not self.store.types_results and not self.is_declared)

    # How far it can be read

    @property
    def is_numbered(self) -> bool:
        """Whether its positions are numbers or times."""
        return self._kind is not None and self._kind.numbers

    def ends(self) -> Ends:
        """How far it can be read now."""
        with self.store.queries() as queries:
            oldest, head = self._ends_in(queries)
        if not self._is_settled:
            self._wait_for_open()
        return self._as_ends(oldest, head)

    @property
    def _is_settled(self) -> bool:
        """Whether nothing can come at or below a head that was told, or is read again if it does."""
        return self.query.in_commit_order or bool(self.overlap)

    def _as_ends(self, oldest: Value, head: Value) -> Ends:
        return Ends(
            None if oldest is None else self._told(oldest),
            None if head is None else self._told(head),
            is_whole=oldest is None,
        )

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark."""
        return self.ends()

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, QueryReading]]:
        """How far it can be read, and a transaction that sees at least all up to there.

        The head is told before the snapshot is taken: a function may tell of what was committed after that. Where it is the
        same within, nothing was, and the rows stand at just that position.
        """
        for turn in range(TRIES):
            ends = self.ends()
            with self.store.queries() as queries:
                head = self._position(queries, "head")
                if turn == TRIES - 1 or (None if head is None else self._told(head)) == ends.last:
                    yield ends, QueryReading(self.store, queries)
                    return

    def _ends_in(self, queries: Queries) -> tuple[Value, Value]:
        """The oldest position from which can be read, and the last one."""
        head = self._position(queries, "head")
        return self._position(queries, "oldest"), head

    def _position(self, queries: Queries, name: str, values: Mapping[str, Value] | None = None) -> Value:
        """The position that one of the queries gives, or None.

        Raises:
            Refused: it is not one, or not of the kind of the others.
        """
        row = queries.first(getattr(self.query, name), values or {})
        if row is None or row[0] is None:
            return None
        kind = kind_of(row[0], f"the query {name!r} of {self.place}", bool(self.said.hexadecimal))
        if self._kind is None:
            self._kind = kind
        if kind.name != self._kind.name:
            raise self._misbehaves(
                f"gives {kind.name}, and another query {self._kind.name}",
                "They could not be compared.",
                "Cast them to one type in the queries.",
                name,
            )
        return self._value(self._kind.label(row[0]))

    def _value(self, label: str) -> Value:
        """A position as the database takes it."""
        assert self._kind is not None
        found: Value = self._kind.parsed(label, self.place)
        return found

    def _told(self, value: Any) -> str:
        return self._kind.label(value) if self._kind is not None and value is not None else "nothing"

    def _wait_for_open(self) -> None:
        """Wait for those whose changes may yet come at or below the head.

        Raises:
            Refused: one stays open, or the database does not tell who writes.
        """
        kind = self._kind
        if (kind is not None and kind.is_coarse) or not self.store.wait_for_open(kind is not None and kind.is_time):
            raise Refused(
                f"Whether a change can still come at or below the position that 'head' of {self.place} gives is not known.",
                "Positions may be given before transactions commit, and it cannot be seen here which of them are still open; or, as of dates, several changes share one.",
                "If positions rise as transactions commit, say in_commit_order = true in the layout's query; if not, give the load an overlap.",
            )

    # Reading

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between, in order.

        Raises:
            Refused: the rows are not in order, or not of the window.
        """
        if upto is None:
            return
        begin = self._begin(after)
        with self.store.queries() as queries:
            yield from self._rows_in(queries, begin, upto)

    def _rows_in(self, queries: Queries, begin: str, upto: str) -> Iterator[pa.Table]:
        """The rows of a window, as one transaction sees them."""
        order = QueryOrder(self.place, self.said, self._kind_known(), begin, upto, self._layout)
        values = {"after": self._value(begin), "upto": self._value(upto)}
        for batch in queries.batches(self.query.read, values, self._wanted()):
            if batch.num_rows:
                yield order.positioned(pa.Table.from_batches([batch]))
        order.finish()

    def _kind_known(self) -> PositionKind:
        if self._kind is None:
            with self.store.queries() as queries:
                self._ends_in(queries)
        assert self._kind is not None
        return self._kind

    def _wanted(self) -> dict[str, pa.DataType]:
        """The types that columns are read in."""
        first = self.said.position[:1]
        return self._kinds | {name: self._kind_known().arrow for name in first if name not in self._kinds}

    def _begin(self, after: str | None) -> str:
        """After which position to read.

        Raises:
            Refused: all is to be read, and where it begins is not known.
        """
        self._kind_known()
        if after is not None:
            return earlier(after, self.overlap) if self.overlap else after
        with self.store.queries() as queries:
            oldest = self._position(queries, "oldest")
        if oldest is None:
            raise Refused(
                f"Where the changes of {self.place} begin is not known: its query 'oldest' gives nothing.",
                "To read all of them, a position must be known that lies before the first.",
                "Let 'oldest' give one; or begin with the rows (first = 'snapshot'), or with what comes next (first = 'head').",
            )
        return self._told(oldest)

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool | None, datetime | None]:
        """Nothing is known of a window without reading it, but that one of nothing is empty."""
        return (0, False, None) if upto is None or after == upto else (None, None, None)

    def coarse(self, rows: pa.Table) -> pa.ChunkedArray:
        """What of each row's position a window can end at."""
        return QueryOrder.ends_of(rows[POSITION], len(self.said.position))

    # Positions and times

    def at_or_before(self, position: str) -> str | None:
        """The last position that is not after this one, within those that are held."""
        ends, kind = self.ends(), self._kind
        if kind is None or ends.last is None:
            return None
        found = kind.label(kind.parsed(position, self.place))
        if ends.first is not None and kind.rank(found) < kind.rank(ends.first):
            return None
        return ends.last if kind.rank(found) > kind.rank(ends.last) else found

    def before_time(self, moment: datetime) -> str | None:
        """The last position whose change was made at or before a time."""
        if not self.query.position_at:
            raise NotImplementedError
        with self.store.queries() as queries:
            self._ends_in(queries)
            found = self._position(queries, "position_at", {"time": moment.astimezone(UTC)})
        return None if found is None else self._told(found)

    def time_of(self, position: str) -> datetime | None:
        """When the change at a position was made, where a query tells it."""
        if not self.query.time_of:
            return None
        self._kind_known()
        with self.store.queries() as queries:
            row = queries.first(self.query.time_of, {"position": self._value(position)})
        if row is None or row[0] is None:
            return None
        moment = row[0] if isinstance(row[0], datetime) else as_time(text_of(row[0]) or "")
        if moment is None:
            raise self._misbehaves(f"gives {row[0]!r}, which is not a time", "", "Cast it to one.", "time_of")
        return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment

    # What speaks against going on

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: what it was reached with is gone, or the database went back."""
        with self.store.queries() as queries:
            oldest, head = self._ends_in(queries)
        if head is None or self._kind is None:
            return ChangesGone(
                f"The watermark of {load} is at {watermark}, and 'head' of {self.place} gives nothing any more.",
                "Its changes were cleared, or are not recorded any more.",
                reload(False),
            )
        rank = self._kind.rank
        if rank(self._told(head)) < rank(watermark):
            return ChangesGone(
                f"The watermark of {load} is at {watermark}, ahead of the last position of {self.place}, {self._told(head)}.",
                "The source was restored to an earlier state, or its changes were cleared.",
                reload(False),
            )
        if oldest is not None and rank(self._told(oldest)) > rank(watermark):
            return ChangesGone(
                f"The watermark of {load} is at {watermark}, and {self.place} holds changes after {self._told(oldest)} only.",
                "Changes in between may have been removed before they were merged.",
                f"{reload(False)} Let the database keep its changes for longer than the time between two steps.",
            )
        return None

    def is_pressing(self, after: str) -> bool:
        """Whether a watermark should move on though nothing came: what is kept begins nearer behind it than the head lies before it."""
        with self.store.queries() as queries:
            oldest, head = self._ends_in(queries)
        if oldest is None or head is None or self._kind is None:
            return False
        low, here, high = (_number(self._value(self._told(one))) for one in (oldest, self._value(after), head))
        return here - low < high - here

    def verify(self) -> None:
        """Before the first use: see that the queries do what their names say.

        Raises:
            Refused: one does not.
        """
        with self.store.queries() as queries:
            oldest, head = self._ends_in(queries)
        if head is None or self._kind is None:
            return
        with self.store.queries() as queries:
            again = self._position(queries, "head")
        rank = self._kind.rank
        if again is None or rank(self._told(again)) < rank(self._told(head)):
            raise self._misbehaves(f"went back from {self._told(head)} to {self._told(again)}", "", "", "head")
        if not self._is_settled:
            self._wait_for_open()
        if oldest is None:
            return
        if rank(self._told(oldest)) > rank(self._told(head)):
            raise self._misbehaves(f"gives {self._told(oldest)}, after 'head': {self._told(head)}", "", "", "oldest")
        trial = QueryTrial(self.store.queries, self._rows_in, self.place, len(self.said.position))
        before = self._kind.before(oldest) if self._kind.before else None
        if before is not None:
            trial.refuse_oldest_itself(self._told(before), self._told(oldest))
        trial.refuse_other_rows(self._told(oldest), self._told(head))

    def _misbehaves(self, what: str, why: str, remedy: str, name: str = "read") -> Refused:
        return misbehaves(self.place, name, what, why, remedy)

    def warnings(self) -> list[str]:
        """Nothing."""
        return []

    def label(self, position: str) -> str:
        """A position as people know it."""
        return position

    def told(self, position: str) -> str:
        """Which change a position means."""
        return f"{self.place}, at {position}"


def _number(value: Any) -> Any:
    """A position as something whose distances can be compared."""
    if isinstance(value, bytes):
        return int.from_bytes(value)
    if isinstance(value, str):
        moment = as_time(value)
        return int("".join(one for one in value if one.isalnum()), 16) if moment is None else moment.timestamp()
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
    return value if isinstance(value, int) else value.toordinal()


def first_rows(batches: Iterator[pa.RecordBatch], most: int) -> pa.Table | None:
    """The first rows, of one type for each column."""
    found = [batch for batch in islice(batches, 2) if batch.num_rows]
    return pa.Table.from_batches(found[:1]).slice(0, most) if found else None
