"""The steps that were made, out of the ledgers of their targets."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.json_values import ready

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry

EARLIEST = datetime.min.replace(tzinfo=UTC)


@dataclass
class Totals:
    """What some steps of a load came to.

    Attributes:
        load: the load's name.
        steps: how many steps.
        since, until: when the first and the last of them were made (UTC).
        changes: changes read.
        net: net changes that these came to.
        edits: rows edited at the target.
        contradictions: changes that did not fit what was there.
        seconds, read_seconds: how long they took, and how much of that went before the target was written.
    """

    load: str
    steps: int = 0
    since: datetime | None = None
    until: datetime | None = None
    changes: int = 0
    net: int = 0
    edits: int = 0
    contradictions: int = 0
    seconds: float = 0.0
    read_seconds: float = 0.0

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready(
            {name: round(value, 6) if isinstance(value, float) else value for name, value in vars(self).items()}
        )


def ledger(
    loads: list[Load], limit: int | None = None, kind: str = "", since: datetime | None = None
) -> list[LedgerEntry]:
    """The newest steps of some loads, those that were refused among them, oldest first.

    Args:
        loads: the loads.
        limit: how many; None for all.
        kind: only those of this kind; empty for all.
        since: only those made at or after this time (aware).
    """
    some = limit if not kind and since is None else None  # which are the newest of a kind, only all of them tell
    entries = [
        entry
        for load in loads
        for refused in (False, True)
        for entry in load.target.ledger(load.name, some, refused)
        if kind in ("", entry.kind) and (since is None or (entry.at or EARLIEST) >= since)
    ]
    entries.sort(key=lambda entry: (entry.at or EARLIEST, entry.load, entry.step))
    return entries[-limit:] if limit is not None and limit < len(entries) else entries


def totals(entries: list[LedgerEntry]) -> list[Totals]:
    """What steps came to, load by load."""
    found: dict[str, Totals] = {}
    for entry in entries:
        if entry.kind == "refused":
            continue
        one = found.setdefault(entry.load, Totals(entry.load, since=entry.at))
        one.steps += 1
        one.until = entry.at
        one.changes += entry.changes
        if entry.kind == "changes":
            one.net += entry.inserts + entry.updates + entry.deletes
        one.edits += entry.put + entry.patch + entry.drop + entry.append + entry.add
        one.contradictions += entry.contradictions
        one.seconds += entry.seconds
        one.read_seconds += entry.read_seconds
    return list(found.values())
