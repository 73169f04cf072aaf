"""The life of one row: all its changes, under whichever key it went."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from plainstep.core.changes.batch import Changes, concat
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa, pc


def life(batches: Callable[[], Iterable[Changes]], key: pa.Table) -> Changes:
    """The changes of one row, oldest first.

    A row may have had another key before, or have another one since: then all are read again, for these keys too.

    Args:
        batches: reads the changes.
        key: its key, one row.
    """
    keys = key
    while True:
        found = _after_it_began(concat([batch.among(keys) for batch in batches()]))
        wider = _keys(found, keys)
        if wider.num_rows == keys.num_rows:
            return found
        keys = wider


def _keys(found: Changes, keys: pa.Table) -> pa.Table:
    """The keys, and those that their rows went to or came from."""
    names = keys.column_names
    moves = found.table.filter(pa.array(found.op() == Op.UPDATE))
    sides = [keys]
    for side in (WAS, NOW):
        if all(side + name in moves.column_names for name in names):
            told = pa.table({name: moves[side + name] for name in names}).cast(keys.schema)
            sides.append(told.filter(pc.is_valid(told[names[0]])))
    return pa.concat_tables(sides).group_by(names).aggregate([]).select(names)


def _after_it_began(found: Changes) -> Changes:
    """Without truncates before the row's first change that is held."""
    own = np.flatnonzero(found.op() != Op.TRUNCATE)
    return Changes(found.table.slice(int(own[0]) if len(own) else 0))
