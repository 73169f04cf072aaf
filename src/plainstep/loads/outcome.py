"""What a step did."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct, field

from plainstep.core.json_values import ready
from plainstep.deferred import deferred
from plainstep.errors import PlainStepError
from plainstep.stores.records import LedgerEntry

if TYPE_CHECKING:
    from plainstep.display import html
    from plainstep.loads.delivery.deliver import Delivery
    from plainstep.loads.load import Load
else:
    [html] = deferred("plainstep.display", "html")


class StepOutcome(Struct):
    """What one step did.

    Attributes:
        load: the load's name.
        outcome: ``stepped``, ``nothing`` (there was nothing to do), ``failed`` or ``refused``.
        entry: the ledger row, if there is a new one.
        after, upto: the watermark before and after.
        seconds: how long it took.
        error: why it failed or refused.
        warnings: what a person should know nevertheless.
        delivery: the delivery status of its events, where it sends any.
        more: whether it left changes for the next step, as ``at_most`` says.
    """

    load: str
    outcome: Literal["stepped", "nothing", "failed", "refused"]
    entry: LedgerEntry | None = None
    after: int | str | None = None
    upto: int | str | None = None
    seconds: float = 0.0
    error: PlainStepError | None = None
    warnings: list[str] = field(default_factory=list)
    delivery: Delivery | None = None
    more: bool = False

    def _repr_html_(self) -> str:
        told = str(self.error) if self.error else f"{self.changes:,} changes read, {self.seconds:.3f} s"
        counts = {**self.net, **self.edits}
        return html.table(f"{self.load}: {self.outcome}. {told}", counts, [counts.values()])

    @property
    def changes(self) -> int:
        """How many changes were read."""
        return self.entry.changes if self.entry else 0

    @property
    def net(self) -> dict[str, int]:
        """How many net changes there were, by operation."""
        entry = self.entry
        if entry is None:
            return {"insert": 0, "update": 0, "delete": 0}
        return {"insert": entry.inserts, "update": entry.updates, "delete": entry.deletes}

    @property
    def edits(self) -> dict[str, int]:
        """How many rows were edited at the target, by primitive."""
        names = ("put", "patch", "drop", "append", "add")
        return {name: getattr(self.entry, name) if self.entry else 0 for name in names}

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        form: dict[str, Any] = {
            "load": self.load,
            "outcome": self.outcome,
            "after": self.after,
            "upto": self.upto,
            "changes": self.changes,
            "net": self.net,
            "edits": self.edits,
            "seconds": round(self.seconds, 6),
        }
        if self.more:
            form["more"] = True
        if self.entry:
            form["contradictions"] = self.entry.contradictions
        if self.delivery:
            form["events"] = {
                name: getattr(self.delivery, name) for name in ("sent", "waiting", "quarantined", "problem")
            }
        if self.warnings:
            form["warnings"] = self.warnings
        if self.error:
            form["error"] = {"what": self.error.what, "why": self.error.why, "next": self.error.next}
        return ready(form)


def stepped(load: Load, entry: LedgerEntry) -> StepOutcome:
    """The outcome of a step that was made."""
    after, upto = entry.after_shown or entry.after, entry.upto_shown or entry.upto
    return StepOutcome(load.name, "stepped", entry, after, upto, entry.seconds, None, load.source.warnings())
