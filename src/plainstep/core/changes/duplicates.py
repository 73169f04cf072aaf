"""Changes that were delivered twice: rows that equal an earlier one at their position in everything."""

from __future__ import annotations

from typing import Any

from plainstep.core.arrays import numbers
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, npt, pa


def repeated(table: pa.Table, among: npt.NDArray[np.bool_], key: tuple[str, ...]) -> npt.NDArray[np.bool_]:
    """Which rows equal an earlier one of some rows in everything, and do not follow on the one before them.

    Args:
        table: changes.
        among: the rows that are looked at.
        key: the columns that tell rows apart, if they are known.
    """
    rows = pa.array(np.flatnonzero(among))
    some = table.take(rows)
    for name in some.column_names:  # of nested values there are no groups
        if pa.types.is_nested(some.schema.field(name).type):
            some = some.set_column(some.schema.get_field_index(name), name, pa.array(map(repr, some[name].to_pylist())))
    names = some.column_names
    kept = (
        some.append_column("plainstep.row", rows)
        .group_by(names, use_threads=False)
        .aggregate([("plainstep.row", "min")])
    )
    found = among.copy()
    found[kept["plainstep.row_min"].to_numpy()] = False
    return _not_followed(table, found, among, key) if key and found.any() else found


def _not_followed(
    table: pa.Table, found: npt.NDArray[np.bool_], among: npt.NDArray[np.bool_], key: tuple[str, ...]
) -> npt.NDArray[np.bool_]:
    """Those of the equal rows that are repeats: a change there and back and there again is three changes, not two."""
    both = [
        name[len(NOW) :]
        for name in table.column_names
        if name.startswith(NOW) and WAS + name[len(NOW) :] in table.column_names
    ]
    seq = numbers(table["seq"])[among & ~found]
    alone = len(np.unique(seq)) == len(seq)  # at each position stands one change, and its repeats
    if alone or not set(key) < set(both):  # without old values, nothing tells
        return found
    found = found.copy()
    left: dict[tuple[Any, ...], list[Any] | None] = {}
    emptied = set[int]()
    rows = np.flatnonzero(among)
    for row, change in zip(rows.tolist(), table.take(pa.array(rows)).to_pylist(), strict=True):
        was, now = ([change[side + name] for name in both] for side in (WAS, NOW))
        old_key, new_key = ((change["seq"], *(change[side + name] for name in key)) for side in (WAS, NOW))
        if change["op"] == Op.TRUNCATE:
            found[row] &= all(place[0] != change["seq"] for place in left)
            left = {place: image for place, image in left.items() if place[0] != change["seq"]}
            emptied.add(change["seq"])
            continue
        fresh, gone = change["op"] == Op.INSERT, change["op"] == Op.DELETE
        before = new_key if fresh else old_key
        known = before in left or change["seq"] in emptied
        # (What changes nothing tells the same however often it comes.)
        if found[row] and known and was != now and left.get(before) == (None if fresh else was):
            found[row] = False
        if not found[row]:
            left[old_key] = None
            left[old_key if gone else new_key] = None if gone else now
    return found
