"""A fresh snapshot merged as differences, and a watermark moved by hand: what begins a load anew."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from plainstep.core.positions import Span
from plainstep.errors import Refused
from plainstep.loads.commit import commit_to, entry_of, quarantining
from plainstep.loads.difference import differences_of
from plainstep.loads.outcome import StepOutcome, stepped
from plainstep.loads.planning import moment_of, parts_of, refuse_unfit
from plainstep.loads.readiness import incomplete_source, is_incomplete, refuse_foreign_rows, refuse_guesses
from plainstep.loads.states import LoadState
from plainstep.loads.windows import (
    another_target,
    refuse_another_shape,
    resolve,
)
from plainstep.progress import counted
from plainstep.stores.records import LedgerEntry

if TYPE_CHECKING:
    from plainstep.core.points import Point
    from plainstep.core.positions import Watermark
    from plainstep.loads.load import Load
    from plainstep.stores.records import LeftOut


def reload(load: Load, incomplete: bool = False) -> StepOutcome:
    """A fresh snapshot, merged as differences: readers of the target never see it empty.

    Args:
        load: the load.
        incomplete: whether to take what a feed still holds for all there is, where some of what was merged is gone from it.

    Raises:
        PlainStepError: it could not be made; nothing was written.
    """
    began = time.perf_counter()
    watermark = load.target.watermark(load.name)
    if watermark is None:
        raise Refused(
            f"{load.name} has not begun, so there is nothing to load again.",
            "",
            f"plainstep step {load.name}",
        )
    refuse_guesses(load)
    refuse_another_shape(load, watermark)
    if another_target(load, watermark):
        refuse_foreign_rows(load, load.target.table(load.into_table, ()))
    load.source.reserve()
    with load.source.snapshot() as snapshot:
        span = snapshot.span
        entry = entry_of(load, "reload", span, watermark)
        moment = moment_of(entry, span.head_at)
        state = LoadState(load, watermark, span).in_held_types()
        refuse_unfit(state, anew=True)
        rows = counted(snapshot.batches, f"{load.name}: rows", snapshot.total)
        net, rounds = differences_of(state, rows, moment)
    counts = net.counts
    entry.inserts, entry.updates, entry.deletes = counts["insert"], counts["update"], counts["delete"]
    left_out = quarantining(load, entry, snapshot.left_out)
    if not incomplete:
        _refuse_incomplete(state, watermark, counts, left_out())
    parts = parts_of(state, rounds, started=True, anew=True)
    return stepped(load, commit_to(state, parts, span, entry, began, left_out))


def _refuse_incomplete(state: LoadState, watermark: Watermark, counts: dict[str, int], told: LeftOut) -> None:
    """Refuse to change a target's rows to what is left of the changes that were merged into it.

    Args:
        state: the load's state.
        watermark: how far it is merged.
        counts: what differs, by operation.
        told: what is known of all changes that its source has.

    Raises:
        Refused: some of them are gone.
    """
    load, there = state.load, state.held.found("")
    differing = {op: count for op, count in counts.items() if count and op in load.config.merged_operations}
    if not differing or there is None or not there.rows:
        return
    if is_incomplete(load, watermark, told, differing.get("delete", 0)):
        raise incomplete_source(load, sum(differing.values()), f"plainstep reload {load.name} --yes")


def move_watermark(load: Load, to: Point, reason: str = "") -> LedgerEntry:
    """Move a load's watermark without merging anything.

    Raises:
        ConfigError: the position is beyond the source's head, or none.
    """
    began = time.perf_counter()
    span = load.source.span()
    place = resolve(load, span, to)
    watermark = load.target.watermark(load.name)
    there = Span(span.identity, span.oldest, place.number, load.source.time_of(place), place.token)
    entry = entry_of(load, "watermark", there, watermark, note=reason or "moved by hand")
    return commit_to(LoadState(load, watermark, there), [], there, entry, began)
