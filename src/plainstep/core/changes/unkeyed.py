"""Changes of a table whose rows have no key: each stands for a row of its own."""

from __future__ import annotations

from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, ROW, WAS, Op
from plainstep.deferred import pa, pc


def each_a_row(changes: Changes) -> Changes:
    """The changes, each with its number as the key of its row; a truncate has none."""
    ops, seq = changes.table["op"], changes.table["seq"]
    table = changes.table
    for side, without in ((WAS, (Op.INSERT, Op.PUT, Op.TRUNCATE)), (NOW, (Op.DELETE, Op.TRUNCATE))):
        none = pc.is_in(ops, value_set=pa.array(without, pa.int8()))
        table = table.append_column(side + ROW, pc.if_else(none, pa.scalar(None, pa.int64()), seq))
    return Changes(table)
