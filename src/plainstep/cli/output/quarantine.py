"""What people see of rows that were quarantined."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.cli import console as text
from plainstep.cli.console import say
from plainstep.display import text as wording

if TYPE_CHECKING:
    from plainstep.loads.quarantine import Retried
    from plainstep.stores.records import LedgerEntry, QuarantinedRow


def rows(rows: list[tuple[str, QuarantinedRow]]) -> None:
    """Rows that were quarantined, and why."""
    from rich.text import Text

    if not rows:
        say("No rows are quarantined.")
        return
    table = text.new_table(["load", "place>", "step>", "why", "row"])
    for load, row in rows:
        table.add_row(
            text.text(load),
            text.text(row.place),
            str(row.step),
            text.text(row.reason),
            Text(wording.printable(row.row)),
        )
    text.show(table)
    say("Fix the layout or the rows (or, of events, the receiver), then plainstep quarantine LOAD --retry.")


def retried(found: list[Retried]) -> None:
    """What happened to rows that were quarantined, a line each load."""
    for one in found:
        if one.delivery:
            sent = f"{one.load}: {wording.many(one.merged, 'event')} sent again; {one.delivery.summary}."
            say(sent)
            continue
        done = f"; {_merged(one.entry)} merged" if one.entry else ""
        left = f"; still quarantined: {one.left:,}" if one.left else ""
        gone = f"; no longer in the feed: {one.gone:,}" if one.gone else ""
        say(f"{one.load}: {wording.many(one.merged, 'row')} released{done}{left}{gone}.")


def _merged(entry: LedgerEntry) -> str:
    return wording.counts({"insert": entry.inserts, "update": entry.updates, "delete": entry.deletes})
