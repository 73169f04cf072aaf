"""Whether capture is writing: rows that changed last must be as their last recorded change left them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.core.changes.batch import concat
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.diff import difference
from plainstep.core.positions import Span, Window
from plainstep.deferred import pa
from plainstep.errors import DataError, Refused
from plainstep.stores.api import LooselyTyped
from plainstep.stores.capabilities import with_source, with_tables
from plainstep.stores.rows_by_key import matching

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.loads.load import Load
    from plainstep.stores.api import Table

# How many of the newest changes are looked at.
PROBED = 20


def missed(load: Load, span: Span) -> str:
    """A row that changed and of which capture recorded nothing, in words; empty if none of those looked at did.

    Triggers may be in place and yet not fire: a client can switch them off for itself. Nothing tells that but the rows.

    Args:
        load: the load.
        span: how far its source can be read.
    """
    if not load.source.is_managed or load.config.changes != "capture":
        return ""
    if not _differing(load, span):
        return ""
    # A row may have changed since its changes were read: then both are read as they stand at one moment.
    with with_source(load.from_store, "capture").moment([load.from_table]):
        return min(_differing(load, load.whole_source.span()), default="")


def _differing(load: Load, span: Span) -> set[str]:
    """The rows that are not as their last recorded change left them."""

    source = load.whole_source
    if not source.key():
        return set()
    start = source.locate(max(span.head - PROBED, span.oldest))
    read = source.read_bent if isinstance(source, LooselyTyped) else source.read
    try:
        changes = concat(read(Window.between(start, span.end)))
    except (Refused, DataError):  # what cannot be read says nothing of whether capture is writing
        return set()
    schema, key = source.schema(), source.key()
    if not len(changes) or (changes.op() == Op.TRUNCATE).any():
        return set()
    sides = [pa.table({name: changes.image(side, name) for name in key}) for side in (WAS, NOW)]
    keys = pa.concat_tables(sides).drop_null().group_by(list(key)).aggregate([])
    there = matching(_table(load), schema, keys)
    found, _ = difference(key, schema, there.to_batches(), _left(changes, schema, key).to_batches())
    return {_named(row, key) for row in found.keys_of(found.rows(*Op)).to_pylist()}


def _left(changes: Changes, schema: pa.Schema, key: tuple[str, ...]) -> pa.Table:
    """The rows as their last change left them; those that it removed are not among them."""
    left: dict[tuple[Any, ...], dict[str, Any]] = {}
    for change in changes.table.to_pylist():
        left.pop(tuple(change[WAS + name] for name in key), None)
        if change["op"] != Op.DELETE:
            left[tuple(change[NOW + name] for name in key)] = {name: change[NOW + name] for name in schema.names}
    return pa.Table.from_pylist(list(left.values()), schema)


def _table(load: Load) -> Table:
    """The table itself, its values read as those of its changes are."""
    if isinstance(load.whole_source, LooselyTyped):
        return load.whole_source.table()
    return with_tables(load.from_store).table(load.from_table, load.config.types)


def _named(row: dict[str, Any], key: tuple[str, ...]) -> str:
    return ", ".join(f"{name} {row[name]}" for name in key)
