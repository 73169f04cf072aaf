"""A feed as a source: its rows, read by a layout, as the changes of one table."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.changes.cutting import Cut
from plainstep.core.layouts.rows import POSITION, Raw
from plainstep.core.position_labels import as_time, number
from plainstep.core.positions import Position, Span, Waiting, Watermark, Window
from plainstep.deferred import pa, pc
from plainstep.errors import ChangesGone, ConfigError, NoRows, Refused
from plainstep.properties import cached_property
from plainstep.sources.feed_reading import FeedReading
from plainstep.sources.full_table import whole_rows
from plainstep.sources.partitioned import PartitionedFeed, in_one_partition
from plainstep.sources.replay import Replay
from plainstep.sources.shared_reading import SharedFeed, runs_of
from plainstep.stores.feed import AskedFeed, HasMonitors, HasPieces, RemembersMore
from plainstep.stores.records import Batches, Snapshot

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.stores.api import Table
    from plainstep.stores.feed import Ends, Feed


@dataclass(frozen=True)
class Bound:
    """How the rows of a feed are read, by what some of them are made of.

    Attributes:
        layout: how they are read.
        wanted: what is read of them, by path, with the type it should have; None where the feed knows.
        timed: whether something else than a column tells when changes were made.
        note: what a person should know of how they are read.
    """

    layout: Layout
    wanted: dict[str, pa.DataType | None] | None = None
    timed: bool = False
    note: str = ""


class FeedSource:
    """The changes of one table, as something else wrote them.

    A feed may be empty: files are taken away when they are merged, a stream forgets. What its rows are made of is looked up when
    it is needed, so that it does not have to be known to see that nothing is waiting.

    Args:
        feed: where its rows come from.
        outline: how they are read, as far as no row has to be looked at for that.
        bind: looks at some.
        rows: the table itself, if it can be read.
        overlaps: whether windows begin before the watermark, so that they hold changes that are merged already.
        tells_deletes: whether deletes show at all.
        whole_deletes: whether deletes carry the whole row.
        lenient: whether rows that contradict the layout are quarantined.
        is_ordered_by_rows: whether positions stand in its rows: then even its end is not known without looking at some.

    Attributes:
        shared: the feed as other loads read it at the same time, while they do.
    """

    is_managed = False

    def __init__(
        self,
        feed: Feed,
        outline: Layout,
        bind: Callable[[], Bound],
        rows: Table | None = None,
        overlaps: bool = False,
        tells_deletes: bool = True,
        whole_deletes: bool = True,
        lenient: bool = False,
        is_ordered_by_rows: bool = False,
    ) -> None:
        self.feed, self.outline, self._bind, self.rows, self.overlaps = feed, outline, bind, rows, overlaps
        self.shared: SharedFeed | None = None
        self._ends: Ends | None = None  # as they were last found, going on from a watermark
        self.tells_deletes, self.lenient = tells_deletes, lenient
        self.has_before_images = outline.tells_old and whole_deletes and not overlaps
        self.has_exact_operations = (
            outline.tells_operations and not outline.deleted and not outline.key_only and not overlaps
        )
        if is_ordered_by_rows:
            self._bound_if_it_has_rows()

    @cached_property
    def bound(self) -> Bound:
        """How its rows are read.

        Raises:
            NoRows: there are none to look at.
        """
        found = self._bind()
        if found.wanted is not None:
            self.feed.want(found.wanted)
        return found

    def _bound_if_it_has_rows(self) -> Bound | None:
        with suppress(NoRows):
            return self.bound
        return None

    @property
    def layout(self) -> Layout:
        """How its rows are read, with their columns."""
        return self.bound.layout

    @property
    def wanted(self) -> dict[str, pa.DataType | None]:
        """What is read of its rows, by path, with the type it should have."""
        return self.bound.wanted or {}

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self.outline.key

    def warnings(self) -> list[str]:
        """What is not read, and why."""
        bound = self._bound_if_it_has_rows()
        return self.feed.warnings() + ([f"{self.feed.place}: {bound.note}"] if bound and bound.note else [])

    def limitations(self) -> list[str]:
        """What the feed cannot tell."""
        layout, bound = self.outline, self._bound_if_it_has_rows()
        is_whole = self.rows is not None or (self._ends or self.feed.ends()).is_whole
        known = {
            "deletes (plainstep check finds rows that are gone, plainstep reload removes them)": self.tells_deletes,
            "what rows were before": layout.tells_old,
            "what came and went in between": layout.tells_operations and not layout.key_only,
            "when changes were made": bool(layout.time) or bound is None or bound.timed,
            "rows of which only messages or files told that are gone "
            "(check counts them as extra, unless 'rows' names the table)": is_whole,
        }
        return [what for what, told in known.items() if not told]

    def schema(self) -> pa.Schema:
        """The row's own columns."""
        return self.layout.schema

    def span(self) -> Span:
        """How far the feed can be read now."""
        return self._span(self.feed.ends())

    def span_after(self, watermark: Watermark) -> Span:
        """How far the feed can be read now, going on from a watermark."""
        if watermark.identity != self.feed.identity:  # its positions mean nothing here, which is refused
            return self.span()
        self._ends = self.feed.ends_after(watermark.token)
        span = self._span(self._ends)
        # The feed says that this is not before the watermark; of texts that are not numbers, no number tells it.
        return replace(span, head=max(span.head, watermark.position))

    def _span(self, ends: Ends) -> Span:
        oldest = min(self._number(self.feed.label(ends.first)) - 1, 0) if ends.first is not None else 0
        end = self._position(ends.last)
        return Span(self.feed.identity, oldest, end.number, self.time_of(end), end.token, start=oldest)

    def _number(self, shown: str) -> int:
        """A position as a number; of texts that only look like some, none is: others between them may not."""
        return number(shown) if self.feed.is_numbered else 0

    def _position(self, position: str | None) -> Position:
        if position is None:
            return Position(0)
        shown = self.feed.label(position)
        at = None if shown.isdigit() else as_time(shown)  # digits would be a date, written without its dashes
        return Position(self._number(shown), position, at)

    def time_of(self, position: Position) -> datetime | None:
        """When the change at a position was made, where the position itself says so, or the feed."""
        if position.at is None and position.token and isinstance(self.feed, AskedFeed):
            return self.feed.time_of(position.token)
        return position.at

    def continuity_error(self, watermark: Watermark, span: Span) -> Refused | None:
        """Why a load cannot go on from its watermark, or None if it can."""
        if watermark.identity != span.identity:
            return Refused(
                f"{watermark.load} was reading {watermark.identity}; now its layout says {span.identity}.",
                "Positions in one mean nothing in the other.",
                self._reload(watermark.load, is_whole=True),
            )
        return self._refusal(watermark) if watermark.token and span.token else None

    def _refusal(self, watermark: Watermark) -> Refused | None:
        return self.feed.refusal(watermark.load, watermark.token, partial(self._reload, watermark.load))

    def _reload(self, load: str, is_whole: bool) -> str:
        """The remedy of loading again. What is not told any more can be taken for deleted only by whoever says so."""
        if self.rows is not None:
            return f"plainstep reload {load} compares the whole table and goes on from there."
        if is_whole:
            return f"plainstep reload {load} reads all of it again, in order."
        return f"plainstep reload {load} --yes takes what is left for all there is."

    def is_incomplete(self, watermark: Watermark, deletes: int = 0) -> bool:
        """Whether some of what was merged is gone here, so that what is left does not tell of every row.

        Of what another feed told, or the same in another order, only rows that are not told here are a sign.
        """
        if self.rows is not None:
            return False
        if watermark.identity != self.feed.identity or not watermark.token:
            return deletes > 0 or not self.feed.ends().is_whole
        return isinstance(self._refusal(watermark), ChangesGone) or not self.feed.ends_after(watermark.token).is_whole

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        if window.after_token and window.after_token == window.upto_token and not self.overlaps:
            return Waiting(0, False)
        after, upto = window.after_token or None, window.upto_token or None
        feed = self.feed
        found = feed.waiting(after, upto) if isinstance(feed, PartitionedFeed) else Waiting(*feed.count(after, upto))
        # Rows that are read again may hold changes that came late: only reading them tells.
        reads_again = self.overlaps and found.any is False and self._bound_if_it_has_rows()
        return replace(found, any=None) if reads_again else found

    def may_stay(self, window: Window) -> bool:
        """Whether a watermark can stay where it is when a window held nothing."""
        feed = self.feed
        return isinstance(feed, AskedFeed) and bool(window.after_token) and not feed.is_pressing(window.after_token)

    def label(self, position: Position) -> str:
        """A position as people know it: the feed's own position."""
        return self.feed.label(position.token) if position.token else "start"

    def parse(self, said: str) -> Position:
        """The last position that is not after a position, as a person wrote it.

        Raises:
            ConfigError: it is not a position of this feed.
        """
        position = self._position(self.feed.at_or_before(said))
        found = self.label(position)
        return (
            position
            if found == said
            else replace(position, note=f"there is no change at {said}: {found} is taken instead")
        )

    def locate(self, point: int | datetime) -> Position:
        """The position that a number stands for, or the last one before changes that were made after a time."""
        if isinstance(point, int):
            return self.parse(str(point))
        try:
            return self._position(self.feed.before_time(point))
        except NotImplementedError:
            return self._read_until(point)

    def _read_until(self, moment: datetime) -> Position:
        """The last position before changes that were made after a time, found by reading them."""
        if not self.outline.time:
            raise ConfigError(
                f"It is not known when the changes of {self.feed.place} were made.",
                "",
                "Name a column with 'time' in the layout, or give a position.",
            )
        last = None
        for changes in self.read(Window.between(Position(0), self.span().end)):
            late = pc.index(pc.greater(changes.table["at"], moment), True).as_py()
            places = changes.table["position"]
            if late > 0 or (late < 0 and len(changes)):
                last = str(places[late - 1 if late > 0 else len(changes) - 1])
            if late >= 0:
                break
        return self._position(None if last is None else self.feed.at_or_before(last))

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a row contradicts the layout.
        """
        after, upto = window.after_token or None, window.upto_token or None
        runs = self.shared.runs(after, upto) if self.shared else None
        feed = self.shared.feed if self.shared and runs is not None else self.feed
        reading = FeedReading(
            feed, self.layout, self.rows, self.lenient, self.has_exact_operations, self.has_before_images
        )
        changes = reading.changes(runs_of(feed, after, upto) if runs is None else runs)
        if isinstance(feed, PartitionedFeed):
            changes = in_one_partition(changes, self.layout.key, feed)
        return Batches(changes, reading.left_out)

    def is_spread(self) -> bool:
        """Whether its feed can be parted, and holds no partitions whose rows are to be told apart."""
        return isinstance(self.feed, HasPieces)

    def pieces(self, window: Window, most: int) -> list[Any]:
        """A window in pieces, as the feed can be parted. The two rows of an update may lie anywhere: then it is one piece."""
        assert isinstance(self.feed, HasPieces)
        if self.outline.in_pairs:
            return [window]
        found = self.feed.pieces(window.after_token or None, window.upto_token or None, most)
        return [Window(window.after, window.upto, after or "", upto) for after, upto in found] or [window]

    def replays(self) -> bool:
        """Yes: all that it holds is changes."""
        return True

    def pieces_of_all(self, span: Span, most: int) -> list[Any]:
        """All that it holds, in pieces."""
        return self.pieces(Window.between(Position(span.oldest), span.end), most)

    def read_piece(self, piece: Window) -> Batches:
        """The changes of a piece."""
        return self.read(piece)

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: what comes before is read for that, and no more of it than is needed."""
        after, upto = window.after_token or None, window.upto_token or None
        if isinstance(self.feed, PartitionedFeed):
            end = self.feed.cut(after, upto, most, self._cut_of)
        else:
            end = self._cut_of(self.feed, after, upto, most)
        return None if end is None else self._position(end)

    def _cut_of(self, feed: Feed, after: str | None, upto: str | None, most: int) -> str | None:
        known = feed.rows_at_most(after, upto) if isinstance(feed, RemembersMore) else None
        if known is not None and known <= most:
            return None
        cut, transaction = Cut(most), self.layout.transaction
        for rows in feed.read(after, upto):
            places = feed.coarse(rows) if isinstance(feed, AskedFeed) else rows[POSITION]
            if cut.found(places, Raw(rows).texts(transaction) if transaction else None):
                end = feed.at_or_before(str(cut.place))
                return feed.reached_from(after, end) if after and end and isinstance(feed, RemembersMore) else end
        return None

    def reserve(self) -> None:
        """See that queries do what is said of them. What is kept is not ours to keep."""
        if isinstance(self.feed, AskedFeed):
            self.feed.verify()

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Tell whoever wants to know; what is kept is not ours to forget."""
        if isinstance(self.feed, HasMonitors) and watermark.token:
            self.feed.merged(watermark.token)

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Always refused: something else wrote these changes."""
        raise Refused(f"{self.feed.place} is not Plain Step's to trim: something else fills it.")

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, or all its changes collapsed, with the position that stands at."""
        with self.feed.opened() as (ends, reading):
            span = self._span(ends)
            if self.rows is None:
                changes = self.read(Window.between(Position(span.oldest), span.end))
                replay = Replay(self.feed.place, self.layout.key, self.schema(), changes)
                yield Snapshot(span, self.schema(), replay.rows(), replay.left_out)
            else:
                yield Snapshot(span, self.schema(), whole_rows(self.rows, self.layout.key, self.schema(), reading))


def refuse_key(what: str) -> ConfigError:
    """The error for a feed whose key is not known."""
    return ConfigError(
        f"The load {what} names no key, and it is not known otherwise.",
        "Without a key, the changes of one row cannot be told from those of another.",
        'Name its columns: key = ["..."] in the load.',
    )
