"""The steps that were made, out of the ledgers of their targets."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plainstep.load import Load
    from plainstep.stores.records import LedgerEntry


def ledger(loads: list[Load], limit: int | None = None) -> list[LedgerEntry]:
    """The newest steps of some loads, oldest first."""
    entries = [entry for load in loads for entry in load.target.ledger(load.name, limit)]
    entries.sort(key=lambda entry: (entry.at or datetime.min.replace(tzinfo=UTC), entry.load, entry.step))
    return entries[-limit:] if limit is not None else entries
