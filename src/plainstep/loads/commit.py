"""What a step writes: everything in one commit of the target, and what it refuses to write."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.positions import Span, Watermark
from plainstep.errors import PlainStepError, Refused
from plainstep.loads.windows import label, moved_by_hand
from plainstep.stores.api import LooselyTyped
from plainstep.stores.commit_errors import misread
from plainstep.stores.records import Commit, LedgerEntry, LeftOut, Part

if TYPE_CHECKING:
    from plainstep.core.layouts.plausibility import Doubt
    from plainstep.core.positions import MergedTable
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState

# The steps with which a load begins, or begins anew.
BEGINNING = ("snapshot", "begin", "reload", "watermark")
# So many contradictions of a feed that something else wrote may be chance; beyond, a tenth of its changes.
FEW = 2


def entry_of(load: Load, kind: str, span: Span, watermark: Watermark | None, note: str = "") -> LedgerEntry:
    """A new ledger row for a load that stands at a watermark and goes to the end of a span."""
    entry = LedgerEntry(
        load.name,
        watermark.step + 1 if watermark else 1,
        kind,
        span.identity,
        watermark.position if watermark else None,
        span.head,
        note=note,
    )
    if watermark:
        entry.after_shown = _unless_number(label(load, watermark.reached))
    entry.upto_shown = _unless_number(label(load, span.end))
    return entry


def _unless_number(place: int | str) -> str:
    return "" if isinstance(place, int) else place


def commit_to(
    state: LoadState,
    parts: list[Part],
    span: Span,
    entry: LedgerEntry,
    began: float,
    left_out: Callable[[], LeftOut] = LeftOut,
) -> LedgerEntry:
    """Write everything the step found, in one transaction of the target, and then tell the source."""
    load = state.load
    load.target.commit(commit_of(state, parts, span, entry, began, left_out))
    acknowledge(load, span)
    return entry


def commit_of(
    state: LoadState,
    parts: list[Part],
    span: Span,
    entry: LedgerEntry,
    began: float,
    left_out: Callable[[], LeftOut] = LeftOut,
) -> Commit:
    """Everything the step found, ready to be written.

    Args:
        state: the load's state, as it was read.
        parts: what is done to its tables.
        span: where it will stand.
        entry: the ledger row.
        began: when the step began, by ``time.perf_counter``.
        left_out: tells what the reading left out, once all of it is read.
    """
    load, before = state.load, state.watermark
    columns, gone = _columns(state, bool(parts))
    watermark = Watermark(
        load.name, span.identity, span.head, span.head_at, entry.step, span.token, columns, gone, load.made_by,
        _tables(state, bool(parts)),
    )  # fmt: skip
    entry.at, entry.read_seconds = entry.at or datetime.now(UTC), time.perf_counter() - began
    # A journal and events take nothing away from what another load appended.
    own = load.config.shape not in ("journal", "events") and (entry.kind in BEGINNING or before is None)
    return Commit(parts, before, watermark, entry, _tolerance(load)(entry.changes), left_out, began, own)


def _tables(state: LoadState, merged: bool) -> tuple[MergedTable, ...]:
    """The target's tables as a watermark keeps them. Where nothing is merged, it goes on with the one that stands there."""
    if merged:
        return state.watermark.tables if state.watermark else ()
    there = state.load.target.standing_table(state.load.into_table)
    return (there,) if there else ()


def _columns(state: LoadState, merged: bool) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The columns that a step merges, and those that were merged before and are gone from the source."""
    was = state.watermark or Watermark(state.load.name, "", 0, None, 0)
    columns = tuple(state.schema.names) if merged else was.columns
    return columns, tuple(name for name in (*was.gone, *was.columns) if name not in columns)


def acknowledge(load: Load, span: Span) -> None:
    """Tell the source that everything up to the end of a span is merged."""
    with suppress(PlainStepError):  # what is merged is merged; the next step tells the source again
        load.source.acknowledge(span.end, span.end)


def quarantining(load: Load, entry: LedgerEntry, left_out: Callable[[], LeftOut]) -> Callable[[], LeftOut]:
    """What tells a commit which rows are quarantined, which no longer are, and what the ledger says of it.

    It is asked when all rows are written, because a first load is read while it is written; it raises ``Refused`` where
    most rows would be quarantined, or the rows come of changes that contradict their layout as a whole, or each other.

    Args:
        load: the load.
        entry: the step.
        left_out: tells what its reading left out.
    """
    # The whole table is read anew: what was quarantined is found again, or fits now.
    anew = entry.kind == "reload" and isinstance(load.source, LooselyTyped)
    # (Looked up now: a target does not answer while it is written.)
    tolerated = _tolerance(load) if entry.kind in BEGINNING else None
    forgotten = [row.place for row in load.target.quarantined(load.name)] if anew else []

    def told() -> LeftOut:
        found = left_out()
        if load.config.strict is None:
            refuse_doubt(load, found.doubt)
        if tolerated is not None:
            _refuse_contradictions(load, found, tolerated(found.rows))
        rows = len(found.quarantined)
        if rows > max(entry.changes, found.rows, FEW):
            _refuse_most(load, entry, found)
        notes = [f"rows quarantined: {rows:,}"] if rows else []
        return replace(found, released=[*forgotten, *found.released], notes=[*notes, *found.notes])

    return told


def _refuse_most(load: Load, entry: LedgerEntry, found: LeftOut) -> None:
    first = found.quarantined[0]
    loose = isinstance(load.source, LooselyTyped)
    raise Refused(
        f"Most rows of {load.config.source} would be quarantined: {len(found.quarantined):,}, beside {max(entry.changes, found.rows):,}.",
        f"The first, at {first.place}: {first.reason}. Quarantining most of a table would hide the problem.",
        f"Give the column the type it has under 'types' in [loads.{load.name}]."
        if loose
        else f"plainstep look {load.name} shows what the layout makes of the rows; fix the layout.",
    )


def refuse_doubt(load: Load, doubt: Doubt | None) -> None:
    """Refuse changes that contradict their layout as a whole.

    Raises:
        Refused: there is a doubt.
    """
    if doubt:
        raise misread(load.name, doubt.what, doubt.likely)


def _refuse_contradictions(load: Load, found: LeftOut, most: int | None) -> None:
    """Refuse rows that come of changes of which too many do not fit the one before them."""
    if most is not None and found.contradictions > most:
        told = f"{found.contradictions:,} of the {found.rows:,} changes of {load.config.source}"
        raise misread(load.name, f"{told} contradict the one before them of their row.")


def _tolerance(load: Load) -> Callable[[int], int | None]:
    """How many contradictions of so many changes are merged anyway; None for any number."""
    if load.config.strict is not None:
        most = 0 if load.config.strict else None
        return lambda changes: most
    if isinstance(load.source, LooselyTyped) and load.source.spells_keys:
        return lambda changes: 0  # a row to insert is there already: by another spelling of its key
    if load.source.is_managed or not load.source.has_exact_operations or moved_by_hand(load):
        return lambda changes: None
    return lambda changes: max(changes // 10, FEW)
