"""How results show themselves in a notebook: as plain HTML tables, every value escaped."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape
from typing import TYPE_CHECKING, Any

from plainstep.display.text import shown, what_changed

if TYPE_CHECKING:
    from plainstep.loads.check import CheckResult
    from plainstep.loads.step import StepOutcome
    from plainstep.views.changes import LookResult
    from plainstep.views.net import NetResult
    from plainstep.views.status import LoadStatus

# Rows that are shown; the rest is counted.
SHOWN = 20


def table(caption: str, heads: Iterable[str], rows: Iterable[Iterable[Any]]) -> str:
    """An HTML table."""
    head = "".join(f"<th style='text-align:left'>{escape(one)}</th>" for one in heads)
    body = "".join(
        "<tr>" + "".join(f"<td style='text-align:left'>{escape(shown(cell))}</td>" for cell in row) + "</tr>"
        for row in rows
    )
    return f"<p>{escape(caption)}</p><table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def look(found: LookResult) -> str:
    """Changes."""
    from plainstep.core.changes.batch import Changes
    from plainstep.display.records import changes

    rows = changes(Changes(found.changes.table.slice(0, SHOWN)), found.key)
    caption = f"{found.load}: {found.total:,} changes after {found.after} up to {found.upto}"
    cells = [
        (row["position"], row["at"], row["op"], *row["key"].values(), what_changed(row, found.key)) for row in rows
    ]
    return table(caption, ["position", "time", "op", *found.key, "what changed"], cells)


def net(found: NetResult) -> str:
    """Net changes."""
    from plainstep.display.records import nets

    caption = f"{found.load}: {found.net.read:,} changes after {found.after} up to {found.upto} come to {len(found):,}"
    cells = [
        (row["op"], *row["key"].values(), row["count"], what_changed(row, found.net.key))
        for row in nets(found.net, SHOWN)
    ]
    return table(caption, ["op", *found.net.key, "changes", "what changed"], cells)


def step(found: StepOutcome) -> str:
    """What a step did."""
    told = str(found.error) if found.error else f"{found.changes:,} changes read, {found.seconds:.3f} s"
    counts = [*found.net.items(), *found.edits.items()]
    return table(f"{found.load}: {found.outcome}. {told}", [name for name, _ in counts], [[n for _, n in counts]])


def status(found: LoadStatus) -> str:
    """Where a load stands."""
    heads = ["from", "into", "mark", "head", "waiting", "lag in seconds", "health"]
    cells = (found.source, found.into, found.merged, found.head, found.waiting, found.lag_seconds, found.health)
    return table(f"{found.load}: {found.reason or 'all is merged'}", heads, [cells])


def check(found: CheckResult) -> str:
    """Target against source."""
    from plainstep.display.records import differences

    caption = f"{found.load}: {'equal' if found.ok else 'DIFFERENT'}, {found.source_rows:,} rows at the source and {found.target_rows:,} at the target, as of {found.position}"
    cells = [(row["what"], *row["key"].values(), str(row["target"]), str(row["source"])) for row in differences(found)]
    return table(caption, ["what", *found.differences.key, "target", "source"], cells)
