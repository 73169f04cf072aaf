"""A feed as a source: its rows, read by a layout, as the changes of one table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.core.places import as_time, number
from plainstep.core.positions import Mark, Place, Span, Waiting, Window
from plainstep.errors import ConfigError, DataError, Refused
from plainstep.feeds.whole import whole_rows
from plainstep.stores.base import Snapshot

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.changes import Changes
    from plainstep.core.layout import Layout
    from plainstep.feeds.base import Ends, Feed
    from plainstep.stores.base import Table


class FeedSource:
    """The changes of one table, as something else wrote them.

    Args:
        feed: where its rows come from.
        layout: how they are read.
        rows: the table itself, if it can be read.
        rereads: whether windows begin before the mark, so that they hold changes that are merged already.
        tells_deletes: whether deletes show at all.
        whole_deletes: whether deletes carry the whole row.
    """

    own_capture = False

    def __init__(
        self,
        feed: Feed,
        layout: Layout,
        rows: Table | None = None,
        rereads: bool = False,
        tells_deletes: bool = True,
        whole_deletes: bool = True,
    ) -> None:
        self.feed, self.layout, self.rows, self.rereads = feed, layout, rows, rereads
        self.tells_deletes = tells_deletes
        self.reversible = layout.tells_old and whole_deletes and not rereads

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self.layout.key

    def warnings(self) -> list[str]:
        """What the feed cannot tell."""
        blind = "rows that were deleted stay: {0} does not tell (plainstep check finds them, reload removes them)"
        return [] if self.tells_deletes else [blind.format(self.feed.place)]

    def dropped(self) -> tuple[str, ...]:
        """Not known."""
        return ()

    def schema(self) -> pa.Schema:
        """The row's own columns."""
        return self.layout.schema

    def span(self) -> Span:
        """How far the feed can be read now."""
        return self._span(self.feed.ends())

    def _span(self, ends: Ends) -> Span:
        oldest = min(number(ends.first) - 1, 0) if ends.first is not None else 0
        last = ends.last or ""
        return Span(self.feed.identity, oldest, number(last) if last else 0, as_time(last), last, start=oldest)

    def time_of(self, place: Place) -> datetime | None:
        """When the change at a place was made, where the place itself says so."""
        return as_time(place.token) or place.at

    def why_not(self, mark: Mark, span: Span) -> Refused | None:
        """Why a load cannot go on from its mark, or None if it can."""
        reload = f"plainstep reload {mark.load} compares the whole table and goes on from there."
        if mark.identity != span.identity:
            return Refused(
                f"{mark.load} was reading {mark.identity}; now its layout says {span.identity}.",
                "Positions of the one say nothing about the other.",
                reload,
            )
        if self.rereads or not mark.token or not span.token:
            return None
        if self.feed.at_or_before(mark.token) is None:
            return Refused(
                f"The mark of {mark.load} is at {mark.token}, and all that {self.feed.place} holds is newer.",
                "Changes in between may have been removed before they were merged.",
                f"{reload} If nothing was lost: plainstep mark {mark.load} --to start.",
            )
        if span.token != mark.token and self.feed.at_or_before(mark.token) == span.token:
            return Refused(
                f"The mark of {mark.load} is at {mark.token}, ahead of the last change of {self.feed.place}, {span.token}.",
                "The source was restored to an earlier state, or its changes were cleared.",
                reload,
            )
        return None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        if window.after_token and window.after_token == window.upto_token and not self.rereads:
            return Waiting(0, False)
        count, some, since = self.feed.count(window.after_token or None, window.upto_token or None)
        # Rows that are read again may hold changes that came late: only reading them tells.
        return Waiting(count, some or (None if self.rereads else False), since)

    def shown(self, place: Place) -> str:
        """A place as people know it: the feed's own position."""
        return place.token or "start"

    def placed(self, said: str) -> Place:
        """The last place that is not after a position, as a person wrote it.

        Raises:
            ConfigError: it is no position of this feed.
        """
        found = self.feed.at_or_before(said)
        if found is None:
            return Place(0)
        note = "" if found == said else f"there is no change at {said}: {found} is taken instead"
        return Place(number(found), found, note=note)

    def locate(self, point: int | datetime) -> Place:
        """The place that a position stands for, or the last one before changes that were made after a time."""
        if isinstance(point, int):
            return self.placed(str(point))
        found = self.feed.before_time(point)
        return Place(0) if found is None else Place(number(found), found)

    def read(self, window: Window) -> Iterator[Changes]:
        """The changes of a window, in batches.

        Raises:
            DataError: a row contradicts the layout.
        """
        yield from self._changes(self.feed.read(window.after_token or None, window.upto_token or None))

    def _changes(self, batches: Iterator[pa.Table]) -> Iterator[Changes]:
        import numpy as np
        import pyarrow as pa

        from plainstep.core.changes import Changes

        yield Changes(self._table(self._nothing()).append_column("seq", pa.array([], pa.int64())))
        seq = 0
        for table in self._interpreted(batches):
            count = table.num_rows
            if count:
                numbers = pa.array(np.arange(seq + 1, seq + 1 + count))
                yield Changes(self._table(table).append_column("seq", numbers))
                seq += count

    def _nothing(self) -> pa.Table:
        import pyarrow as pa

        from plainstep.core.layout import interpret
        from plainstep.core.raw import PLACE

        schema = self.feed.columns()
        return interpret(self.layout, schema.append(pa.field(PLACE, pa.string())).empty_table(), True).table

    def _table(self, table: pa.Table) -> pa.Table:
        """What is made of an interpreted batch: where values are to be looked up, they are."""
        if not self.layout.key_only:
            return table
        from plainstep.feeds.lookup import looked_up

        assert self.rows is not None
        return looked_up(table, self.layout, self.rows)

    def _interpreted(self, batches: Iterator[pa.Table]) -> Iterator[pa.Table]:
        """Batch by batch; rows that need what follows them wait for it."""
        import pyarrow as pa

        from plainstep.core.layout import interpret

        kept: pa.Table | None = None
        for batch in batches:
            rows = batch if kept is None else pa.concat_tables([kept, batch], promote_options="default")
            found = interpret(self.layout, rows, False)
            self._refuse(rows, found.bad)
            kept = rows.slice(found.unread) if found.unread < rows.num_rows else None
            yield found.table
        if kept is not None:
            found = interpret(self.layout, kept, True)
            self._refuse(kept, found.bad)
            yield found.table

    def _refuse(self, rows: pa.Table, bad: dict[int, str]) -> None:
        from plainstep.core.raw import PLACE

        if not bad:
            return
        row = min(bad)
        place = rows[PLACE][row].as_py()
        shown = {name: value for name, value in rows.slice(row, 1).to_pylist()[0].items() if name != PLACE}
        raise DataError(
            f"{self.feed.told(place)}: {bad[row]}.",
            f"The row: {shown}",
            'Mend the layout (plainstep look shows what it makes of the rows), or the row; or set bad = "aside".',
        )

    def reserve(self) -> None:
        """Nothing to do: what is kept is not ours to keep."""

    def settled(self, mark: Place, upto: Place) -> None:
        """Nothing to do: what is kept is not ours to forget."""

    def trim(self, places: Sequence[Place]) -> int:
        """Always refused: something else wrote these changes."""
        raise Refused(f"{self.feed.place} is not Plain Step's to trim: something else fills it.")

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, or all its changes collapsed, with the place that stands at."""
        with self.feed.opened() as (ends, reading):
            span = self._span(ends)
            if self.rows is None:
                yield Snapshot(span, self.schema(), self._replayed(span))
            else:
                yield Snapshot(span, self.schema(), whole_rows(self.rows, self.layout.key, self.schema(), reading))

    def _replayed(self, span: Span) -> Iterator[pa.RecordBatch]:
        from plainstep.core.collapse import Collapser
        from plainstep.core.words import NOW, Op

        collapser = Collapser(self.layout.key)
        for changes in self.read(Window.between(Place(span.oldest), span.end)):
            collapser.add(changes)
        net = collapser.result()
        if net.partial and not net.whole:
            raise Refused(
                f"{self.feed.place} sends parts of rows, and some rows were never sent whole.",
                "What they hold besides is not known.",
                "Name the table with 'rows' in the load, if it can be read.",
            )
        rows = net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(self.schema().names)
        yield from rows.cast(self.schema()).to_batches()


def refuse_key(what: str) -> ConfigError:
    """The error for a feed whose key is not known."""
    return ConfigError(
        f"The load {what} names no key, and nothing else tells it.",
        "Without a key, the changes of one row cannot be told from those of another.",
        'Name its columns: key = ["..."] in the load.',
    )
