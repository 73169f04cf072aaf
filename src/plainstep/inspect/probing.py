"""Whether capture is writing: rows that changed last must be as their last recorded change left them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.positions import Window
from plainstep.netting import key_of, read_net

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.net import NetChanges
    from plainstep.load import Load

# How many of the newest changes are looked at.
PROBED = 20
# While the table is being written, a row may have changed since its changes were read: then both are read again.
TRIES = 3


def missed(load: Load) -> str:
    """A row that changed and of which capture recorded nothing, in words; empty if none of those looked at did.

    Triggers may be in place and yet not fire: a client can switch them off for itself. Nothing tells that but the rows.
    """
    if not load.source.own_capture or load.config.changes != "capture":
        return ""
    found = _differing(load)
    for _ in range(TRIES - 1):
        if not found:
            return ""
        again = _differing(load)
        found = found if found == again else again if again else ""
    return found


def _differing(load: Load) -> str:
    import numpy as np
    import pyarrow as pa

    from plainstep.core.changes import numbers
    from plainstep.core.compare import difference
    from plainstep.core.words import NOW
    from plainstep.feeds.lookup import matching

    span = load.source.span()
    start = load.source.locate(max(span.head - PROBED, span.oldest))
    net = read_net(load, Window.between(start, span.end))
    if not net.state.num_rows or net.truncated:
        return ""
    schema = load.source.schema()
    key = key_of(load, schema)
    keys = net.keys_of(net.every).cast(_only(schema, key))
    there = matching(load.from_store.table(load.from_table, load.config.types), schema, keys)
    standing = pa.array(np.flatnonzero(numbers(net.state["has"])))
    recorded = net.images(NOW, standing).select(schema.names).cast(schema)
    found, _ = difference(key, schema, recorded.to_batches(), there.to_batches())
    return _told(found)


def _only(schema: pa.Schema, names: tuple[str, ...]) -> pa.Schema:
    import pyarrow as pa

    return pa.schema([schema.field(name) for name in names])


def _told(found: NetChanges) -> str:
    if not len(found):
        return ""
    row = found.to_arrow().slice(0, 1).to_pylist()[0]
    return ", ".join(f"{name} {row[name]}" for name in found.key)
