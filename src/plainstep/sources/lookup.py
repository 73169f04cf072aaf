"""Looking up what a feed does not send: the rows of its keys, as they stand now."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.arrays import flat
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa, pc
from plainstep.stores.rows_by_key import matching

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.stores.api import Table

FOUND = "plainstep.found"


def looked_up(table: pa.Table, layout: Layout, rows: Table) -> pa.Table:
    """Changes that carry keys only, with the rows that the keys have now; a row that is gone is a delete."""
    keys = pa.table(
        {name: pc.coalesce(flat(table[NOW + name]), flat(table[WAS + name])) for name in layout.key}
        if table.num_rows
        else {name: pa.array([], layout.schema.field(name).type) for name in layout.key}
    )
    there = matching(rows, layout.schema, keys.group_by(list(layout.key)).aggregate([]))
    columns = {name: table[name] for name in table.column_names if not name.startswith((NOW, WAS))}
    joined = _joined(keys, there, layout)
    found = joined[FOUND].to_numpy()
    truncates = flat(table["op"]).to_numpy(zero_copy_only=False) == Op.TRUNCATE
    columns["op"] = pa.array(np.where(truncates, Op.TRUNCATE, np.where(found, Op.PUT, Op.DELETE)).astype(np.int8))
    for field in layout.schema:
        columns[NOW + field.name] = joined[field.name]
    for name in layout.key:
        columns[NOW + name] = pc.if_else(pa.array(found), keys[name], None)
        columns[WAS + name] = pc.if_else(pa.array(found), None, keys[name])
    return pa.table(columns)


def _joined(keys: pa.Table, there: pa.Table, layout: Layout) -> pa.Table:
    """For every key, in order, its row, or nulls."""
    numbered = keys.append_column("plainstep.row", pa.array(np.arange(keys.num_rows)))
    known = there.append_column(FOUND, pa.array(np.ones(there.num_rows, dtype=np.bool_)))
    joined = numbered.join(known, list(layout.key), join_type="left outer").sort_by("plainstep.row")
    return joined.set_column(
        joined.schema.get_field_index(FOUND), FOUND, pc.fill_null(joined[FOUND].cast(pa.bool_()), False)
    )
