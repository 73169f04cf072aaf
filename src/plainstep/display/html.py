"""How results show themselves in a notebook: as plain HTML tables, every value escaped."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.batch import Changes
from plainstep.display import records
from plainstep.display.text import row_told, shown, what_changed

if TYPE_CHECKING:
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.changes.parts import NetParts

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


def changes(caption: str, found: Changes, key: tuple[str, ...]) -> str:
    """Changes, the first of them."""
    rows = records.changes(Changes(found.table.slice(0, SHOWN)), key)
    cells = [(row["position"], row["at"], row["op"], *row["key"].values(), what_changed(row, key)) for row in rows]
    return table(caption, ["position", "time", "op", *key, "what changed"], cells)


def nets(caption: str, found: NetParts) -> str:
    """Net changes, the first of them."""
    key = found.first.shown_key
    cells = [
        (row["op"], *row["key"].values(), row["count"], what_changed(row, key)) for row in records.nets(found, SHOWN)
    ]
    return table(caption, ["op", *key, "changes", "what changed"], cells)


def differences(caption: str, net: NetChanges) -> str:
    """Target against source."""
    cells = [
        (row["what"], *row["key"].values(), row_told(row["target"]), row_told(row["source"]))
        for row in records.differences(net)
    ]
    return table(caption, ["what", *net.key, "target", "source"], cells)
