"""What a step writes: everything in one commit of the target, and what it refuses to write."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.core.positions import Mark, Span
from plainstep.errors import PlainStepError, Refused
from plainstep.loads.reading import left_out, moved_by_hand
from plainstep.loads.windows import shown
from plainstep.stores.api import LooselyTyped
from plainstep.stores.records import Commit, LedgerEntry, LeftOut, Part

if TYPE_CHECKING:
    from plainstep.loads.load import Load

# So many contradictions of a feed that something else wrote may be chance; beyond, a tenth of its changes.
FEW = 2


def entry_of(load: Load, kind: str, span: Span, mark: Mark | None, note: str = "") -> LedgerEntry:
    """A new ledger row for a load that stands at a mark and goes to the end of a span."""
    entry = LedgerEntry(
        load.name,
        mark.step + 1 if mark else 1,
        kind,
        span.identity,
        mark.position if mark else None,
        span.head,
        note=note,
    )
    if mark:
        entry.after_shown = _unless_number(shown(load, mark.place))
    entry.upto_shown = _unless_number(shown(load, span.end))
    return entry


def _unless_number(place: int | str) -> str:
    return "" if isinstance(place, int) else place


def commit_to(
    load: Load,
    parts: list[Part],
    before: Mark | None,
    span: Span,
    entry: LedgerEntry,
    began: float,
    back: Sequence[str] = (),
) -> LedgerEntry:
    """Write everything the step found, in one transaction of the target, and then tell the source."""
    load.target.commit(commit_of(load, parts, before, span, entry, began, back))
    acknowledge(load, span)
    return entry


def commit_of(
    load: Load,
    parts: list[Part],
    before: Mark | None,
    span: Span,
    entry: LedgerEntry,
    began: float,
    back: Sequence[str] = (),
) -> Commit:
    """Everything the step found, ready to be written.

    Raises:
        Refused: most rows of a feed contradict its layout.
    """
    columns, gone = _columns(load, before, bool(parts))
    mark = Mark(
        load.name, span.identity, span.head, span.head_at, entry.step, span.token, columns, gone, load.made_by,
        before.tables if before and parts else (),
    )  # fmt: skip
    entry.at, entry.read_seconds = entry.at or datetime.now(UTC), time.perf_counter() - began
    found = _Reading(load, entry)
    if not parts or back:
        return Commit(parts, before, mark, entry, _tolerated(load, entry), lambda: LeftOut(back=back), began)
    if entry.kind == "changes":
        found.left_out()  # refuses before the target is touched, where everything is read by now
    return Commit(parts, before, mark, entry, _tolerated(load, entry), found.left_out, began)


def _columns(load: Load, before: Mark | None, merged: bool) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The columns that a step merges, and those that were merged before and are gone from the source."""
    was = before or Mark(load.name, "", 0, None, 0)
    columns = tuple(load.source.schema().names) if merged else was.columns
    return columns, tuple(name for name in (*was.gone, *was.columns) if name not in columns)


def acknowledge(load: Load, span: Span) -> None:
    """Tell the source that everything up to the end of a span is merged."""
    with suppress(PlainStepError):  # what is merged is merged; the next step tells the source again
        load.source.acknowledge(span.end, span.end)


class _Reading:
    """What a step's reading leaves out, as it is known so far.

    Args:
        load: the load.
        entry: the step.
    """

    def __init__(self, load: Load, entry: LedgerEntry) -> None:
        self.load, self.entry = load, entry
        # The whole table is read anew: what was set aside is found again, or fits now.
        anew = entry.kind == "reload" and isinstance(load.source, LooselyTyped)
        self.forgotten = [row.place for row in load.target.aside(load.name)] if anew else []

    def left_out(self) -> LeftOut:
        """What is set aside, what no longer is, and what the ledger says of it.

        Raises:
            Refused: it is most of what was read.
        """
        found = left_out(self.load)
        rows = len(found.aside)
        if rows > max(self.entry.changes, found.rows, FEW):
            self._refuse_most(found)
        notes = [f"rows set aside: {rows:,}"] if rows else []
        return LeftOut(found.aside, [*self.forgotten, *found.back], [*notes, *found.notes])

    def _refuse_most(self, found: LeftOut) -> None:
        load, first = self.load, found.aside[0]
        loose = isinstance(load.source, LooselyTyped)
        raise Refused(
            f"Most rows of {load.config.source} would be set aside: {len(found.aside):,}, beside {max(self.entry.changes, found.rows):,}.",
            f"The first, at {first.place}: {first.reason}. To set them all aside would be to lose sight of them.",
            f"Give the column the type it has under 'types' in [loads.{load.name}]."
            if loose
            else f"plainstep look {load.name} shows what the layout makes of the rows; mend the layout.",
        )


def _tolerated(load: Load, entry: LedgerEntry) -> int | None:
    """How many contradictions are merged all the same; None for any number."""
    if load.config.strict is None:
        if isinstance(load.source, LooselyTyped) and load.source.spells_keys:
            return 0  # a row to insert is there already: by another spelling of its key
        trusted = load.source.is_managed or not load.source.sure or moved_by_hand(load)
        return None if trusted else max(entry.changes // 10, FEW)
    return 0 if load.config.strict else None
