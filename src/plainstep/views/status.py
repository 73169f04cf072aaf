"""Where a load stands: its watermark, what is waiting, and whether its next step can be made."""

from __future__ import annotations

from contextlib import ExitStack, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, Literal

from plainstep.core.durations import duration
from plainstep.core.json_values import ready
from plainstep.core.positions import Position, Span, Watermark, Window
from plainstep.display import html
from plainstep.errors import LostConnection, PlainStepError, WatermarkMoved
from plainstep.loads.delivery.outbox import counts
from plainstep.loads.load import stores_of
from plainstep.loads.readiness import refuse_unready
from plainstep.loads.states import LoadState
from plainstep.loads.windows import ahead, label, span_of
from plainstep.stores.api import CapturedTable, ForeignSource
from plainstep.stores.capabilities import with_capture
from plainstep.views.capture_probe import missed

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.records import CaptureInfo, LedgerEntry


Health = Literal["ok", "behind", "new", "at risk", "stopped", "refuses"]


@dataclass
class LoadStatus:
    """Where a load stands.

    Attributes:
        load, source, into, shape: the load and its ends.
        watermark: its watermark, or None before the first step.
        merged: the watermark's position as people know it.
        head: the newest position that is safe to read, or None if the source cannot tell.
        head_at: when the change at the head was made.
        waiting: how many changes are not merged yet.
        waiting_in: the same of each partition, of a feed that is in order within partitions only.
        lag_seconds: the age of the oldest of them; 0 if there is none, None if not known.
        health: ``ok``, ``behind`` (changes are waiting), ``new`` (no step yet), ``at risk`` (changes may be forgotten before
            they are merged), ``stopped`` (the table changes, and its capture does not record it) or ``refuses`` (the next
            step would be).
        reason: why, where it is not ok.
        remedy: the command that fixes it.
        last_step: the newest ledger row.
        holds_back: bytes of its log that the source's server keeps until this is merged, where it does.
        warnings: what a person should know of the source.
        limitations: what its changes cannot tell.
        capture: the capture that it reads, where it is our own.
        unsent: how many events wait to be sent.
        forgotten_in: seconds until ``trim`` may forget the oldest change that is held; None where nothing says.
    """

    load: str
    source: str
    into: str
    shape: str
    watermark: Watermark | None = None
    merged: int | str | None = None
    head: int | str | None = None
    head_at: datetime | None = None
    waiting: int | None = None
    waiting_in: dict[str, int | None] = field(default_factory=dict)
    lag_seconds: float | None = None
    health: Health = "ok"
    reason: str = ""
    remedy: str = ""
    last_step: LedgerEntry | None = None
    holds_back: int | None = None
    warnings: list[str] = field(default_factory=list)
    limitations: list[str] = field(default_factory=list)
    capture: CaptureInfo | None = None
    forgotten_in: float | None = None
    unsent: int = 0

    @property
    def exit_status(self) -> int:
        """What ``plainstep status`` exits with for it: 0 if nobody has to do anything, 3 if changes are at risk, else 4."""
        return {"at risk": 3, "stopped": 4, "refuses": 4}.get(self.health, 0)

    def _repr_html_(self) -> str:
        heads = ["from", "into", "watermark", "head", "waiting", "lag in seconds", "health"]
        cells = (self.source, self.into, self.merged, self.head, self.waiting, self.lag_seconds, self.health)
        return html.table(f"{self.load}: {self.reason or 'all is merged'}", heads, [cells])

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        watermark, held = self.watermark, self.capture
        return ready(
            {
                "load": self.load,
                "from": self.source,
                "into": self.into,
                "shape": self.shape,
                "watermark": {"position": self.merged, "at": watermark.at, "step": watermark.step}
                if watermark
                else None,
                "head": self.head,
                "waiting": self.waiting,
                **({"waiting_in": self.waiting_in} if self.waiting_in else {}),
                "holds_back_bytes": self.holds_back,
                "lag_seconds": self.lag_seconds,
                "health": self.health,
                "reason": self.reason,
                "remedy": self.remedy,
                "warnings": self.warnings,
                "limitations": self.limitations,
                "held": {"changes": held.held, "bytes": held.size, "oldest": held.oldest, "oldest_at": held.oldest_at}
                if held
                else None,
                "forgotten_in_seconds": self.forgotten_in,
                "last_step": self.last_step.to_dict() if self.last_step else None,
            }
        )


# Healths that ask for somebody to do something.
UNHEALTHY = ("at risk", "stopped", "refuses")

Standing = tuple[Watermark, "LedgerEntry"]


def statuses(loads: list[Load]) -> list[LoadStatus]:
    """Where some loads stand. What costs to open is opened once, and each target is asked once."""
    with ExitStack() as stack:
        for store in stores_of(loads):
            with suppress(PlainStepError):  # it is told of each load that needs it
                stack.enter_context(store.kept_open())
        known: dict[int, dict[str, Standing]] = {}
        for load in loads:
            if id(load.into_store) not in known:
                with suppress(PlainStepError):
                    known[id(load.into_store)] = load.target.standing()
        return [status(load, known.get(id(load.into_store), {}).get(load.name)) for load in loads]


def status(load: Load, known: Standing | None = None, again: bool = True) -> LoadStatus:
    """Where a load stands, and whether its next step can be made.

    Args:
        load: the load.
        known: its watermark and its last step, if they were read already.
        again: whether to look once more where a connection was cut.
    """
    load.renew()
    found = LoadStatus(load.name, load.config.source, load.config.into, load.config.shape)
    try:
        if known:
            found.watermark, found.last_step = known
        else:
            found.watermark = load.target.watermark(load.name)
            steps = load.target.ledger(load.name, 1)
            found.last_step = steps[-1] if steps else None
        found.merged = label(load, found.watermark.reached) if found.watermark else None
        span = span_of(load, found.watermark)
        found.head, found.head_at = label(load, span.end), span.head_at
        found.holds_back = span.holds_back
        found.warnings = load.source.warnings()
        found.limitations = load.source.limitations() if isinstance(load.source, ForeignSource) else []
        _assess_health(load, found, span)
        _look_at_capture(load, found, span)
        _look_at_outbox(load, found)
    except WatermarkMoved:
        return status(load)
    except LostConnection as error:
        if again:
            return status(load, again=False)
        found.health, found.reason, found.remedy = "refuses", error.what, error.next
    except PlainStepError as error:
        found.health, found.reason, found.remedy = "refuses", error.what, error.next
    return found


def _assess_health(load: Load, found: LoadStatus, span: Span) -> None:
    watermark = found.watermark
    refuse_unready(LoadState(load, watermark, span))
    if watermark is None:
        found.health, found.reason, found.remedy = (
            "new",
            "no step was made yet",
            f"plainstep step {load.name}",
        )
        found.waiting = load.source.waiting(Window.between(Position(span.oldest), span.end)).count
        return
    waiting = load.source.waiting(ahead(watermark, span))
    found.waiting, found.waiting_in, found.lag_seconds = waiting.count, waiting.by_partition, 0.0
    if waiting.any:
        found.health = "behind"
        found.reason = "changes are waiting" if waiting.count is None else f"changes waiting: {waiting.count:,}"
        found.remedy = f"plainstep step {load.name}"
        found.lag_seconds = (datetime.now(UTC) - waiting.since).total_seconds() if waiting.since else None


def _look_at_capture(load: Load, found: LoadStatus, span: Span) -> None:
    """What is held, whether it is being written, and whether it may be forgotten too early."""
    if not isinstance(load.source, CapturedTable):
        return
    found.capture = load.source.held()
    keep = duration(load.keep) if load.keep else None
    if keep is not None and found.capture.oldest_at:
        found.forgotten_in = (found.capture.oldest_at + keep - datetime.now(UTC)).total_seconds()
    if found.health not in ("ok", "behind"):
        return
    key = missed(load, span)
    if key:
        found.health = "stopped"
        found.reason = f"{load.config.source} changes and its capture does not record it: the row with {key} is not as it was recorded"
        place = load.config.source
        found.remedy = (
            f"Find who writes with triggers switched off; then plainstep capture off {place}, on again, "
            f"and plainstep reload {load.name}"
        )
    elif found.capture.danger:
        found.health, found.reason, found.remedy = "at risk", found.capture.danger, f"plainstep step {load.name}"
    elif found.health == "behind":
        _weigh_risk(load, found, keep)


def _look_at_outbox(load: Load, found: LoadStatus) -> None:
    """Whether events wait to be sent, or were quarantined."""
    if not load.config.deliver or found.health not in ("ok", "behind"):
        return
    found.unsent, quarantined = counts(load)
    if quarantined:
        found.health, found.remedy = (
            "at risk",
            f"plainstep quarantine {load.name}, then plainstep quarantine {load.name} --retry",
        )
        found.reason = f"events that could not be sent were quarantined: {quarantined:,}"
    elif found.unsent:
        found.health, found.reason = "behind", f"events wait to be sent: {found.unsent:,}"
        found.remedy = f"plainstep step {load.name}"


def _weigh_risk(load: Load, found: LoadStatus, keep: timedelta | None) -> None:
    """Whether what waits may be forgotten before it is merged."""
    step = f"plainstep step {load.name}"
    table = found.capture.table if found.capture else ""
    if load.config.changes == "capture" and load.reader not in {
        one.name for one in with_capture(load.from_store).readers(table)
    }:
        found.health, found.remedy = "at risk", step
        found.reason = f"{load.config.source} does not know this load as a reader (it may only be read), so trim may forget what waits"
    elif keep is not None and found.lag_seconds and found.lag_seconds > keep.total_seconds():
        found.health, found.remedy = "at risk", step
        found.reason = f"changes have waited for longer than they are kept ({load.keep})"
