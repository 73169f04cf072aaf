"""Changes and net changes as plain rows, ready to be shown."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from plainstep.core.changes import name_lists, words
from plainstep.core.net import differing
from plainstep.core.words import NOW, WAS, Op
from plainstep.inspect import SHOWN_DIFFERENCES

if TYPE_CHECKING:
    from plainstep.core.net import NetChanges
    from plainstep.inspect import CheckResult, LookResult


def finite(value: Any) -> Any:
    """A number that is none, as text: JSON has no word for it."""
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    return value


def image(row: dict[str, Any], side: str, columns: list[str]) -> dict[str, Any]:
    """One side of a change as a row."""
    return {name: finite(row[side + name]) for name in columns if side + name in row}


def position(row: dict[str, Any]) -> int | str:
    """Where a change lies, as people know it."""
    place = row.get("place")
    if place is None:
        place = row["seq"]
    return int(place) if str(place).isdigit() else str(place)


def _sent(row: dict[str, Any], key: tuple[str, ...], columns: list[str]) -> list[str]:
    """The columns that a change carries: its key always."""
    given = row.get("given")
    return columns if given is None else [name for name in columns if name in given or name in key]


def changes(found: LookResult) -> list[dict[str, Any]]:
    """Changes: position, operation, time, key, both images, and the columns that an update changed.

    Where old values are not told, every column that came may have changed.
    """
    table = found.changes.table
    columns = found.changes.columns
    updates = found.changes.op() == Op.UPDATE
    masks = {
        name: differing(found.changes.image(WAS, name), found.changes.image(NOW, name)) & updates
        if WAS + name in table.column_names
        else updates
        for name in columns
    }
    for name in found.key:  # where a feed tells no old key, it did not change
        if name in masks:
            masks[name] &= found.changes.image(WAS, name).is_valid().to_numpy(zero_copy_only=False)
    table = table.set_column(table.schema.get_field_index("op"), "op", words(table["op"]))
    table = table.append_column("changed", name_lists(masks, len(found.changes)))
    rows = []
    for row in table.to_pylist():
        was = None if row["op"] == "insert" else image(row, WAS, columns)
        now = None if row["op"] == "delete" else image(row, NOW, _sent(row, found.key, columns))
        if row["op"] == "truncate":
            was = now = None
        row["changed"] = [name for name in row["changed"] if name in (now or ())]
        row["position"] = position(row)
        rows.append(row | {"was": was, "now": now, "key": {name: (now or was or {}).get(name) for name in found.key}})
    return rows


def nets(net: NetChanges, limit: int | None) -> list[dict[str, Any]]:
    """Net changes: operation, key, both images whole, the columns changed, and how many changes went in."""
    # A row that moved to another key leaves the old one (delete) before it comes to the new one (insert).
    table = net.to_arrow().sort_by([("last_seq", "ascending"), ("op", "ascending")])
    rows = []
    for row in table.slice(0, limit).to_pylist() if limit is not None else table.to_pylist():
        key = {name: finite(row[name]) for name in net.key}
        was = None if row["op"] in ("insert", "put") else key | image(row, WAS, net.others)
        now = None if row["op"] == "delete" else key | image(row, NOW, net.others)
        rows.append(
            {
                "op": row["op"],
                "key": key,
                "was": _ordered(was, net.columns),
                "now": _ordered(now, net.columns),
                "changed": row["changed"],
                "count": row["count"],
            }
        )
    return rows


def _ordered(row: dict[str, Any] | None, columns: tuple[str, ...]) -> dict[str, Any] | None:
    return None if row is None else {name: row[name] for name in columns if name in row}


def differences(found: CheckResult) -> list[dict[str, Any]]:
    """The first differing keys, with the row at the target and at the source."""
    said = {"insert": "missing", "delete": "extra", "update": "different"}
    return [
        {
            "key": row["key"],
            "what": said[row["op"]],
            "target": row["was"],
            "source": row["now"],
            "columns": row["changed"],
        }
        for row in nets(found.differences, SHOWN_DIFFERENCES)
    ]
