"""Where a load stands: its mark, what is waiting, and whether its next step can be made."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.core.positions import Mark, Place, Span, Window
from plainstep.errors import MarkMoved, PlainStepError
from plainstep.stores.base import ForeignSource
from plainstep.windows import ahead, shown, span_of, why_not

if TYPE_CHECKING:
    from plainstep.load import Load
    from plainstep.stores.records import LedgerEntry


@dataclass
class LoadStatus:
    """Where a load stands.

    Attributes:
        load, source, into, shape: the load and its ends.
        mark: its mark, or None before the first step.
        merged: the mark's position as people know it.
        head: the newest position that is safe to read, or None if the source cannot tell.
        head_at: when the change at the head was made.
        waiting: how many changes are not merged yet.
        lag_seconds: the age of the oldest of them; 0 if there is none, None if not known.
        health: ``ok``, ``behind``, ``new`` (no step yet) or ``refuses``.
        reason: why, where it is not ok.
        remedy: the command that mends it.
        last_step: the newest ledger row.
        holds_back: bytes of its log that the source's server keeps until this is merged, where it does.
        warnings: what a person should know of the source.
        untold: what its changes cannot tell.
    """

    load: str
    source: str
    into: str
    shape: str
    mark: Mark | None = None
    merged: int | str | None = None
    head: int | str | None = None
    head_at: datetime | None = None
    waiting: int | None = None
    lag_seconds: float | None = None
    health: str = "ok"
    reason: str = ""
    remedy: str = ""
    last_step: LedgerEntry | None = None
    holds_back: int | None = None
    warnings: list[str] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)


def status(load: Load) -> LoadStatus:
    """Where a load stands, and whether its next step can be made."""
    found = LoadStatus(load.name, load.config.source, load.config.into, load.config.shape)
    try:
        found.mark = load.target.mark(load.name)
        found.merged = shown(load, found.mark.place) if found.mark else None
        steps = load.target.ledger(load.name, 1)
        found.last_step = steps[-1] if steps else None
        span = span_of(load, found.mark)
        found.head, found.head_at = shown(load, span.end), span.head_at
        found.holds_back = span.holds_back
        found.warnings = load.source.warnings()
        found.untold = load.source.untold() if isinstance(load.source, ForeignSource) else []
        _judge(load, found, span)
    except MarkMoved:
        return status(load)
    except PlainStepError as error:
        found.health, found.reason, found.remedy = "refuses", error.what, error.next
    return found


def _judge(load: Load, found: LoadStatus, span: Span) -> None:
    mark = found.mark
    if mark is None:
        found.health, found.reason, found.remedy = (
            "new",
            "no step was made yet",
            f"plainstep step {load.name}",
        )
        found.waiting = load.source.waiting(Window.between(Place(span.oldest), span.end)).count
        return
    refusal = why_not(load, mark, span)
    if refusal:
        found.health, found.reason, found.remedy = "refuses", refusal.what, refusal.next
        return
    waiting = load.source.waiting(ahead(mark, span))
    found.waiting, found.lag_seconds = waiting.count, 0.0
    if waiting.any:
        found.health = "behind"
        found.reason = "changes are waiting" if waiting.count is None else f"changes waiting: {waiting.count:,}"
        found.remedy = f"plainstep step {load.name}"
        found.lag_seconds = (datetime.now(UTC) - waiting.since).total_seconds() if waiting.since else None
