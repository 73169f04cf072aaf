"""What people see of a rehearsal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.cli.console import say
from plainstep.display.text import many

if TYPE_CHECKING:
    from plainstep.rehearsal.rehearse import RehearsalResult


def told(found: RehearsalResult) -> None:
    """How it went; where a row came out wrong, the smallest history that does it."""
    say(
        f"{found.table}: {many(found.statements, 'statement')} played in a copy, {found.accepted:,} accepted; "
        f"{many(found.changes, 'change')} captured and merged in {many(found.steps, 'step')}."
    )
    for note in found.notes:
        say(f"Note: {note}.")
    if found.outcome == "right":
        say("Every row came out right.")
        return
    what = "A row came out wrong" if found.outcome == "wrong" else "A step was refused"
    say(f"{what}: {found.reason}")
    say(f"\nThe smallest history found to do it (seed {found.seed}):\n")
    say("\n".join(str(act) for act in found.smallest))
