"""One plain step: read the changes in a window, collapse them, merge them, move the watermark, in one commit."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, suppress
from datetime import UTC, datetime
from functools import partial
from itertools import chain, islice
from typing import TYPE_CHECKING

from msgspec import Struct

from plainstep.copying import replace
from plainstep.core.changes.ops import NOW, Op
from plainstep.core.positions import Position, Span, Watermark, Window
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import deferred, pa
from plainstep.errors import DataError, PlainStepError, Refused, WatermarkMoved
from plainstep.loads.commit import acknowledge, commit_of, entry_of, quarantining
from plainstep.loads.load import reused
from plainstep.loads.outcome import StepOutcome, stepped
from plainstep.loads.readiness import refuse_foreign_rows, refuse_guesses, refuse_misfits, refuse_unready_idle
from plainstep.loads.rounds import kept
from plainstep.loads.windows import (
    ahead,
    label,
    refuse_unless_continuous,
    span_of,
)
from plainstep.progress import counted
from plainstep.stores.api import DivisibleSource, PatientSource
from plainstep.stores.capabilities import with_source
from plainstep.stores.commit_errors import moved
from plainstep.stores.records import Commit, LedgerEntry, LeftOut, Part
from plainstep.stores.retry import let_go, retried

if TYPE_CHECKING:
    from plainstep.core import diff
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.shapes.base import Shape, StepContext, TargetReader
    from plainstep.loads import planning, reading, states
    from plainstep.loads.delivery import deliver as delivery
    from plainstep.loads.load import Load
    from plainstep.loads.reading import WindowRead
    from plainstep.loads.states import LoadState
    from plainstep.stores.api import Source
else:  # a step that finds nothing to do needs none of them
    [delivery], [diff] = deferred("plainstep.loads.delivery", "deliver"), deferred("plainstep.core", "diff")
    planning, reading, states = deferred("plainstep.loads", "planning", "reading", "states")

# Two steps that race agree after one of them has won; more turns than this mean something else is wrong.
TRIES = 5


def step(load: Load) -> StepOutcome:
    """One step of a load. Errors are told in the outcome."""
    [outcome] = step_together([load])
    return outcome


def step_together(loads: Sequence[Load]) -> list[StepOutcome]:
    """One step of each of some loads, to one moment of their source and in one commit of their target.

    Errors are told in the outcomes: what fails or is refused for one of them is not made for any.
    """
    with reused(loads):
        return _stepped_together(loads)


def _stepped_together(loads: Sequence[Load]) -> list[StepOutcome]:
    began = time.perf_counter()
    into = loads[0].into_store
    for load in loads:
        load.renew()
    try:
        for load in loads:
            if load.engine:
                load.engine.refuse_unable(load)
        outcomes = retried(lambda: _until_settled(loads), into.wait)
        for load, outcome in zip(loads, outcomes, strict=True):
            if load.config.deliver:
                _deliver(load, outcome)
    except PlainStepError as error:
        let_go(error)
        refused = isinstance(error, Refused | DataError)
        error.load = loads[0].name
        outcomes = [StepOutcome(load.name, "refused" if refused else "failed", error=error) for load in loads]
        if refused:
            for load in loads:
                _write_down(load, error)
    for outcome in outcomes:
        outcome.seconds = time.perf_counter() - began
    return outcomes


def _deliver(load: Load, outcome: StepOutcome) -> None:
    """Send events that are committed. What cannot be sent waits: the step is made anyway."""
    try:
        done = outcome.delivery = delivery.deliver(load)
    except PlainStepError as error:
        outcome.warnings.append(" ".join(part for part in ("no event was sent:", error.what, error.next) if part))
        return
    if done.problem:
        told = f"events wait to be sent: {done.waiting:,}; quarantined: {done.quarantined:,}. The last one failed: {done.problem}"
        outcome.warnings.append(told)


def _write_down(load: Load, refusal: PlainStepError) -> None:
    """Tell the ledger of a step that was refused; of a load that has begun, for another may have no ledger yet."""
    with suppress(PlainStepError):  # what refused the step is told in any case
        watermark = load.target.watermark(load.name)
        if watermark:
            there = Span(watermark.identity, watermark.position, watermark.position, watermark.at, watermark.token)
            note = " ".join(part for part in (refusal.what, refusal.why) if part)
            entry = entry_of(load, "refused", there, watermark, note)
            entry.at = datetime.now(UTC)
            load.target.record_refusal(entry)


def _until_settled(loads: Sequence[Load]) -> list[StepOutcome]:
    """Step, and if another step was quicker, go on from where it left the watermarks."""
    for _ in range(TRIES - 1):
        try:
            return _once(loads)
        except WatermarkMoved:
            continue
    return _once(loads)


class _Plan(Struct):
    """What a step of one load will write.

    Attributes:
        state: the load's state; its span ends where the load will stand.
        parts: what is done to its tables.
        entry: the ledger row.
        began: when the step began, by ``time.perf_counter``.
        left_out: tells what the reading left out, once all of it is read.
        more: whether changes are left for the next step.
    """

    state: LoadState
    parts: list[Part]
    entry: LedgerEntry
    began: float
    left_out: Callable[[], LeftOut] = LeftOut
    more: bool = False

    @property
    def commit(self) -> Commit:
        """Everything that is written."""
        return commit_of(self.state, self.parts, self.state.span, self.entry, self.began, self.left_out)


class _Idle(Struct):
    """A load that has nothing to do.

    Attributes:
        load: the load.
        watermark: where it stands.
        seen: up to where there is nothing for it, if that is known.
    """

    load: Load
    watermark: Watermark
    seen: Position | None


def _once(loads: Sequence[Load]) -> list[StepOutcome]:
    source, into = loads[0].from_store, loads[0].into_store
    loads[0].target.finish()
    with ExitStack() as stack:
        stack.enter_context(loads[0].sources.together(loads))
        if len(loads) > 1 and _needs_moment(loads):
            stack.enter_context(
                with_source(source, loads[0].config.changes).moment([load.from_table for load in loads])
            )
        heads: dict[tuple[str, str], Span] = {}
        found = [_planned(load, stack, heads) for load in loads]
        plans = [one for one in found if isinstance(one, _Plan)]
        if source.url == into.url and into.exclusive:
            for plan in plans:  # while it is read, it cannot be written
                for part in plan.parts:
                    for edits in part.rounds:
                        edits.append = list(edits.append)
            stack.close()
        if plans:
            loads[0].target.commit(*(plan.commit for plan in plans))
    # Not while the source is being read: that may keep its file from being written.
    return [_done(one) if isinstance(one, _Plan) else _nothing(one) for one in found]


def _needs_moment(loads: Sequence[Load]) -> bool:
    """Whether loads stand at one moment only if their tables are read at one.

    The log's places are the same for all tables: there, only loads that begin must have one snapshot.
    """
    how = loads[0].config.changes
    return how == "capture" or (how == "log" and any(load.target.watermark(load.name) is None for load in loads))


def _done(plan: _Plan) -> StepOutcome:
    load = plan.state.load
    acknowledge(load, plan.state.span)
    return replace(stepped(load, plan.entry), more=plan.more)


def _planned(load: Load, stack: ExitStack, heads: dict[tuple[str, str], Span]) -> _Plan | _Idle:
    """What a step of a load will write, or that there is nothing to do.

    Args:
        load: the load.
        stack: keeps open what is still to be read while it is written.
        heads: how far the loads before it go, by their source: those of one source, and all in one log, go equally far.
    """
    began = time.perf_counter()
    watermark = load.target.watermark(load.name)
    if watermark is None:
        return _first(states.LoadState(load, None, _as_far_as_the_others(load, None, heads)), began, stack)
    try:
        with load.from_store.kept_open():
            return _next(load, watermark, _as_far_as_the_others(load, watermark, heads), began)
    except (Refused, DataError):
        if (
            load.target.watermark(load.name) != watermark
        ):  # another step was quicker, and it is its rows that were found
            raise moved(load.name) from None
        raise


def _as_far_as_the_others(load: Load, watermark: Watermark | None, heads: dict[tuple[str, str], Span]) -> Span:
    """How far a load goes: as far as those before it."""
    span = span_of(load, watermark)
    whose = ("", "") if load.config.changes == "log" else (load.from_table, span.identity)
    first = heads.setdefault(whose, span)
    return replace(span, head=first.head, head_at=first.head_at, token=first.token)


def _next(load: Load, watermark: Watermark, span: Span, began: float) -> _Plan | _Idle:
    """What a step of a load that has begun will write."""
    refuse_unless_continuous(load, watermark, span)
    window = ahead(watermark, span)
    waiting = load.source.waiting(window)
    if waiting.any is False:
        refuse_unready_idle(load, watermark)
        return _Idle(load, watermark, span.end)
    refuse_guesses(load)
    window, span, more = _at_most(load, window, span, waiting.count)
    # Whether its tables fit is judged by the commit, in the transaction that writes them.
    state = states.LoadState(load, watermark, span)
    read = _window(state, window, waiting.count)
    read = replace(read, found=replace(read.found, net=reading.drop_applied(state, read.net)))
    if load.source.overlaps and span.token == watermark.token and not len(read.net) and not read.net.truncated:
        return _Idle(load, watermark, None)
    if waiting.any is None and not read.net.read and _may_stay(load.source, window):
        return _Idle(load, watermark, None)
    return replace(_merged(state, read, began, waiting.since), more=more)


def _may_stay(source: Source, window: Window) -> bool:
    """Whether a watermark can stay where it is, before a window that turned out to hold nothing."""
    return isinstance(source, PatientSource) and source.may_stay(window)


def _window(state: LoadState, window: Window, count: int | None) -> WindowRead:
    """What a window holds, read here or by the load's engine."""
    engine = state.load.engine
    return engine.read_window(state, window) if engine else reading.read_window(state, window, count)


def _at_most(load: Load, window: Window, span: Span, count: int | None) -> tuple[Window, Span, bool]:
    """The part of a window that a step takes, the span that ends there, and whether there is more.

    Raises:
        Refused: the load takes so many changes at most, and its source cannot be cut.
    """
    most, source = load.config.at_most, load.source
    if most is None or (count is not None and count <= most):
        return window, span, False
    if not isinstance(source, DivisibleSource):
        raise Refused(
            f"{load.config.source} cannot be read in parts of {most:,} changes.",
            f"With changes = {load.config.changes!r} there, nothing tells where a part may end.",
            f"Leave 'at_most' out of the load {load.name}.",
        )
    end = source.cut(window, most)
    if end is None:
        return window, span, False
    part = Window.between(Position(window.after, window.after_token), end)
    return part, replace(span, head=end.number, head_at=end.at, token=end.token), True


def _nothing(idle: _Idle) -> StepOutcome:
    load, watermark = idle.load, idle.watermark
    if idle.seen is not None:
        load.source.acknowledge(watermark.reached, idle.seen)
    here = label(load, watermark.reached)
    return StepOutcome(load.name, "nothing", None, here, here, warnings=load.source.warnings())


def _first(state: LoadState, began: float, stack: ExitStack) -> _Plan:
    """The first step: everything as it stands, every change since the beginning, or nothing yet."""
    load, span = state.load, state.span
    first = load.config.first
    try:
        refuse_misfits(state)
    except Refused:
        if load.target.watermark(load.name) is not None:
            raise moved(load.name) from None
        raise
    load.source.reserve()
    if first == "snapshot":
        return _spread_snapshot(state, began) if load.engine else _snapshot(load, began, stack)
    if first == "start":
        window, span, more = _at_most(load, Window.between(Position(span.start), span.end), span, None)
        state = replace(state, span=span)
        return replace(_merged(state, _window(state, window, None), began), more=more)
    entry = entry_of(load, "begin", span, None, note="only changes after this are merged")
    return _Plan(
        state, planning.parts_of(state, [[Edits()] for _ in state.shape.tables()], started=False), entry, began
    )


def _snapshot(load: Load, began: float, stack: ExitStack) -> _Plan:
    snapshot = stack.enter_context(load.source.snapshot())
    span = snapshot.span
    state = states.LoadState(load, None, span)
    shape = state.shape
    rows = counted(snapshot.batches, f"{load.name}: rows", snapshot.total)
    info = state.held.found("")
    if info is not None and info.rows and load.target.watermark(load.name) is not None:
        raise moved(load.name)
    refuse_foreign_rows(load, info)
    entry = entry_of(load, "snapshot", span, None)
    keyed = diff.with_keys(rows, shape.key, load.config.source)
    stack.callback(keyed.close)  # whatever fails, what it was reading is let go of
    edits = shape.first(_begun(keyed), planning.moment_of(entry, span.head_at))
    parts = planning.parts_of(state, [[one] for one in edits], started=False)
    return _Plan(state, parts, entry, began, quarantining(load, entry, snapshot.left_out))


def _spread_snapshot(state: LoadState, began: float) -> _Plan:
    """A first load that the load's engine reads and writes."""
    load, shape, info = state.load, state.shape, state.held.found("")
    assert load.engine is not None
    if info is not None and info.rows and load.target.watermark(load.name) is not None:
        raise moved(load.name)
    refuse_foreign_rows(load, info)
    read = load.engine.read_whole(state)
    entry = entry_of(load, "snapshot", state.span, None)
    edits = partial(_first_of, shape, planning.moment_of(entry, state.span.head_at))
    rounds = (
        read.found.by_key(lambda part, held: edits([part.net], held), state.held)
        if shape.by_key
        else iter([edits(read.found.net, state.held)])
    )
    parts = planning.parts_of(state, kept(rounds, sure=True), started=False)
    left_out = quarantining(load, entry, lambda: read.left_out)()
    return _Plan(state, parts, entry, began, lambda: left_out)


def _first_of(shape: Shape, now: StepContext, found: Iterable[NetChanges], held: TargetReader) -> list[Edits]:
    """What a first load asks of each table, of some of the rows or of all."""
    rows = (net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(shape.schema.names) for net in found)
    return shape.first((batch for some in rows for batch in some.cast(shape.schema).to_batches()), now)


def _begun(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """The batches, the first of them read already: what is wrong with it shows before the target is opened."""
    first = list(islice(batches, 1))
    return chain(first, batches)


def _merged(state: LoadState, read: WindowRead, began: float, since: datetime | None = None) -> _Plan:
    load, span, net = state.load, state.span, read.net
    entry = entry_of(load, "changes", span, state.watermark)
    if since is not None:
        entry.lag_seconds = max((datetime.now(UTC) - since).total_seconds(), 0.0)
    entry.changes, entry.contradictions = net.read, net.contradictions
    counts = net.counts
    entry.inserts, entry.updates = counts["insert"], counts["update"] + counts.get("put", 0)
    entry.deletes = counts["delete"]
    left_out = quarantining(load, entry, lambda: read.left_out)()  # refuses before the target is touched
    parts = planning.window_parts(state, read.found, planning.moment_of(entry, span.head_at))
    return _Plan(state, parts, entry, began, lambda: left_out)
