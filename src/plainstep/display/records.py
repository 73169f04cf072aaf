"""Changes and net changes as plain rows, ready to be shown."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.core.changes.describe import worded
from plainstep.core.changes.ops import NOW, WAS
from plainstep.core.changes.parts import NetParts
from plainstep.core.json_values import finite
from plainstep.core.position_labels import shown_as
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.net import NetChanges


def image(row: dict[str, Any], side: str, columns: list[str]) -> dict[str, Any]:
    """One side of a change as a row."""
    return {name: finite(row[side + name]) for name in columns if side + name in row}


def position(row: dict[str, Any]) -> int | str:
    """Where a change lies, as people know it."""
    place = row.get("position")
    if place is None:
        place = row["seq"]
    return shown_as(str(place))


def _sent(row: dict[str, Any], key: tuple[str, ...], columns: list[str]) -> list[str]:
    """The columns that a change carries: its key always."""
    given = row.get("given")
    return columns if given is None else [name for name in columns if name in given or name in key]


def changes(found: Changes, key: tuple[str, ...]) -> list[dict[str, Any]]:
    """Changes: position, operation, time, key, both images, and the columns that an update changed.

    Where old values are not told, every column that came may have changed.
    """
    columns = found.columns
    table = worded(found, key)
    rows = []
    for row in table.to_pylist():
        was = None if row["op"] == "insert" else image(row, WAS, columns)
        now = None if row["op"] == "delete" else image(row, NOW, _sent(row, key, columns))
        if row["op"] == "truncate":
            was = now = None
        row["changed"] = [name for name in row["changed"] if name in (now or ())]
        row["position"] = position(row)
        rows.append(row | {"was": was, "now": now, "key": {name: (now or was or {}).get(name) for name in key}})
    return rows


def nets(found: NetParts, limit: int | None, skip: int = 0) -> list[dict[str, Any]]:
    """Net changes: operation, key, both images whole, the columns changed, and how many changes went in."""
    # A row that moved to another key leaves the old one (delete) before it comes to the new one (insert).
    order = [("last_seq", "ascending"), ("op", "ascending")]
    table: pa.Table | None = None
    for net in found:  # of each part, no more is held than may be shown
        some = net.to_arrow().sort_by(order).slice(0, None if limit is None else skip + limit)
        table = some if table is None else pa.concat_tables([table, some], promote_options="default").sort_by(order)
    assert table is not None
    rows = []
    for row in table.slice(skip, limit).to_pylist():
        key = {name: finite(row[name]) for name in net.shown_key}
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
                "at": row["last_at"],
            }
        )
    return rows


def _ordered(row: dict[str, Any] | None, columns: tuple[str, ...]) -> dict[str, Any] | None:
    return None if row is None else {name: row[name] for name in columns if name in row}


# Rows that ``check`` shows of those that differ.
SHOWN_DIFFERENCES = 20


def differences(net: NetChanges) -> list[dict[str, Any]]:
    """The first differing keys, with the row at the target and at the source.

    Args:
        net: what must happen to the target so that it equals the source.
    """
    said = {"insert": "missing", "delete": "extra", "update": "different"}
    return [
        {
            "key": row["key"],
            "what": said[row["op"]],
            "target": row["was"],
            "source": row["now"],
            "columns": row["changed"],
        }
        for row in nets(NetParts.of(net), SHOWN_DIFFERENCES)
    ]


def change(row: dict[str, Any]) -> dict[str, Any]:
    """One change, as ``changes`` gives it, with what everybody tells."""
    return {name: row.get(name) for name in ("position", "op", "at", "txn", "by", "key", "was", "now", "changed")}
