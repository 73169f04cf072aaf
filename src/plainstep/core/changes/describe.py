"""Changes as people read them: operations as words, positions as they are known, and what each update changed."""

from __future__ import annotations

from plainstep.core.arrays import Bools
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import differing
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.words import name_lists, words
from plainstep.deferred import pa


def changed(changes: Changes, key: tuple[str, ...]) -> dict[str, Bools]:
    """For each column, which updates changed it. Where old values are not told, every column may have changed."""
    updates = changes.op() == Op.UPDATE
    masks = {
        name: differing(changes.image(WAS, name), changes.image(NOW, name)) & updates
        if WAS + name in changes.table.column_names
        else updates
        for name in changes.columns
    }
    for name in key:  # where a feed tells no old key, it did not change
        if name in masks:
            masks[name] &= changes.image(WAS, name).is_valid().to_numpy(zero_copy_only=False)
    return masks


def worded(changes: Changes, key: tuple[str, ...]) -> pa.Table:
    """The changes with words for operations, and ``changed``: the columns that an update changed."""
    table = changes.table.set_column(
        changes.table.schema.get_field_index("op"), "op", words(changes.table["op"]).cast(pa.string())
    )
    return table.append_column("changed", name_lists(changed(changes, key), len(changes)))


def positioned(changes: Changes, key: tuple[str, ...]) -> pa.Table:
    """The same, with ``position`` first: where a feed has positions of its own, these."""
    table = worded(changes, key)
    own = "position" in table.column_names
    columns = {"position": table["position" if own else "seq"], "op": table["op"], "at": table["at"]}
    columns |= {name: table[name] for name in ("txn", "by") if name in table.column_names}
    columns |= {name: table[name] for name in table.column_names if name.startswith((WAS, NOW))}
    return pa.table(columns | {"changed": table["changed"]})
