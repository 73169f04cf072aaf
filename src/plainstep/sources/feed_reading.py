"""One reading of a feed: raw rows become changes; what contradicts the layout is quarantined, and what is doubtful, noted."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from itertools import chain
from typing import TYPE_CHECKING

from plainstep.core.casting import as_dicts, as_text
from plainstep.core.changes.batch import Changes, concat, in_lots
from plainstep.core.changes.ops import Op
from plainstep.core.layouts.interpret import interpret
from plainstep.core.layouts.plausibility import doubt, nothing_but_truncates
from plainstep.core.layouts.records import prepared
from plainstep.core.layouts.rows import LINE, POSITION, as_sent
from plainstep.deferred import np, pa, pc
from plainstep.display.text import shown
from plainstep.errors import BadRow
from plainstep.sources.lookup import looked_up
from plainstep.stores.records import LeftOut, QuarantinedRow

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.core.layouts.plausibility import Doubt
    from plainstep.stores.api import Table
    from plainstep.stores.feed import Feed


class FeedReading:
    """One reading of a feed.

    Args:
        feed: where its rows come from.
        layout: how they are read.
        rows: the table itself, if it can be read.
        lenient: whether rows that contradict the layout are quarantined.
        judged: whether operations and images are to be told apart from what another layout would make of the rows.
        has_before_images: whether changes carry whole old rows.

    Attributes:
        quarantined: the rows that were quarantined so far.
        doubt: what spoke against the layout so far, if anything did.
    """

    def __init__(
        self, feed: Feed, layout: Layout, rows: Table | None, lenient: bool, judged: bool, has_before_images: bool
    ) -> None:
        self.feed, self.layout, self.rows, self.lenient = feed, layout, rows, lenient
        self.judged, self.has_before_images = judged, has_before_images
        self.quarantined: list[QuarantinedRow] = []
        self.doubt: Doubt | None = None

    def left_out(self) -> LeftOut:
        """The rows that were quarantined, and what spoke against the layout."""
        return LeftOut(self.quarantined, doubt=self.doubt)

    def changes(self, runs: Iterable[Iterator[pa.Table]]) -> Iterator[Changes]:
        """What the layout makes of raw rows, batch by batch; at least one batch, which may be empty.

        Args:
            runs: the rows, in batches: those of each partition by themselves.

        Raises:
            BadRow: a row contradicts the layout.
        """
        yield Changes(self._table(self._nothing()).append_column("seq", pa.array([], pa.int64())))
        seq = truncates = 0
        last: Changes | None = None
        for table in chain.from_iterable(map(self._interpreted, runs)):
            count = table.num_rows
            if count:
                numbers = pa.array(np.arange(seq + 1, seq + 1 + count))
                changes = Changes(self._table(table).append_column("seq", numbers))
                if self.judged and self.doubt is None:
                    joined = changes if last is None else concat([last, changes])
                    self.doubt = doubt(joined, self.layout.key, self.has_before_images)
                    last = _at_the_end(changes)
                yield changes
                seq += count
                truncates += int((changes.op() == Op.TRUNCATE).sum())
        if self.judged and self.doubt is None:
            self.doubt = nothing_but_truncates(seq, truncates)

    def _nothing(self) -> pa.Table:
        nothing = prepared(self.feed.columns().empty_table(), self.layout)
        return interpret(self.layout, nothing, True).table

    def _table(self, table: pa.Table) -> pa.Table:
        """What is made of an interpreted batch: where values are to be looked up, they are."""
        if not self.layout.key_only:
            return table

        assert self.rows is not None
        return looked_up(table, self.layout, self.rows)

    def _interpreted(self, batches: Iterator[pa.Table]) -> Iterator[pa.Table]:
        """Batch by batch; rows that need what follows them wait for it."""
        kept: pa.Table | None = None
        for whole in in_lots(batches):
            batch = prepared(whole, self.layout)
            rows = batch if kept is None else _stacked(kept, batch)
            found = interpret(self.layout, rows, False)
            self._refuse(rows, found.bad)
            kept = rows.slice(found.unread) if found.unread < rows.num_rows else None
            yield found.table
        if kept is not None:
            found = interpret(self.layout, kept, True)
            self._refuse(kept, found.bad)
            yield found.table

    def _refuse(self, rows: pa.Table, bad: dict[int, str]) -> None:
        if not bad:
            return
        if self.lenient:
            self.quarantined += [_quarantined(rows, row, why) for row, why in sorted(bad.items())]
            return
        row = min(bad)
        place = str(rows[POSITION][row])
        values = as_sent(as_dicts(rows.slice(row, 1))[0])
        told = "; ".join(f"{name} {shown(value)}" for name, value in values.items() if name != LINE or len(values) == 1)
        raise BadRow(
            f"{self.feed.told(place)}: {bad[row]}.",
            f"The row: {told}.",
            'Fix the layout (plainstep look shows what it makes of the rows), or the row; or set on_bad_row = "quarantine".',
        )


def _at_the_end(changes: Changes) -> Changes:
    """The changes at the last position of a batch: the next one may begin there."""

    places = changes.table["position"]
    return Changes(changes.table.filter(pc.equal(places, places[len(changes) - 1])))


def _quarantined(rows: pa.Table, row: int, why: str) -> QuarantinedRow:
    [values] = as_dicts(rows.slice(row, 1))
    told = json.dumps(as_sent(values), default=str, ensure_ascii=False)
    return QuarantinedRow(str(values[POSITION]), why, told)


def _stacked(upper: pa.Table, lower: pa.Table) -> pa.Table:
    """Two batches as one. A column that is of another type in one of them, for a value that did not fit, is text in both."""

    for name in upper.column_names:
        if upper[name].type != lower[name].type:
            upper, lower = (
                part.set_column(part.schema.get_field_index(name), name, as_text(part[name].combine_chunks()))
                for part in (upper, lower)
            )
    return pa.concat_tables([upper, lower])
