"""Reading what our own capture recorded, in the order in which it was made."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from plainstep.core.changes.batch import concat
from plainstep.core.changes.chains import in_chain, replaced
from plainstep.core.changes.ops import WAS
from plainstep.core.changes.repeats import Repeats
from plainstep.core.positions import Position, Window
from plainstep.deferred import pa
from plainstep.stores.rows_by_key import matching
from plainstep.stores.spool import Spool

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.chain_links import Standing
    from plainstep.stores.api import RecordedSource


def in_order(batches: Iterable[Changes], key: tuple[str, ...], unit: str, standing: Standing) -> Iterator[Changes]:
    """Changes as they were recorded, each row's in the order of its chain; see ``plainstep.core.changes.chains``.

    All of them are read before the first is given: a change may belong before others that were recorded long before it.

    Args:
        batches: with both images.
        key: the columns that tell rows apart.
        unit: the column that tells transactions apart.
        standing: gives the rows of some keys, as they stand after these changes.

    Raises:
        Refused: the changes of a row do not follow on each other in any order.
    """
    repeats, spool = Repeats(key, unit), Spool()
    for changes in batches:
        repeats.add(changes)
        spool.add(changes)
    keys = repeats.keys
    found = in_chain(concat(part.among(keys) for part in spool()), key, unit, standing) if keys is not None else None
    for changes in spool():
        yield changes if found is None else replaced(changes, found)


def rows_after(source: RecordedSource, window: Window, keys: pa.Table) -> pa.Table:
    """The rows of some keys as they stood at the end of a window: as the first change after it found them, else as they are.

    Args:
        source: the captured table's changes, as they were recorded.
        window: the window.
        keys: the keys.
    """

    schema = source.schema()
    # The table first: what changes while it is read is told by the changes after it.
    rows = matching(source.table(), schema, keys.cast(pa.schema([schema.field(name) for name in keys.column_names])))
    rest = Window.between(Position(window.upto, window.upto_token), source.end())
    later = concat(part.among(keys) for part in source.recorded(rest))
    names = keys.column_names
    told: dict[tuple[object, ...], dict[str, object] | None] = {}
    known = {tuple(row[name] for name in names) for row in keys.to_pylist()}
    for change in later.table.to_pylist():
        for side in ("was.", "now."):
            key = tuple(change.get(side + name) for name in names)
            if key in known and key not in told:
                is_old = side == WAS
                told[key] = {field.name: change[WAS + field.name] for field in schema} if is_old else None
    kept = [row for row in rows.to_pylist() if tuple(row[name] for name in names) not in told]
    found = [*kept, *(row for row in told.values() if row is not None)]
    return pa.Table.from_pylist(found, flat_schema(schema))


def flat_schema(schema: pa.Schema) -> pa.Schema:
    """Columns without what is known of them elsewhere."""
    return pa.schema([(field.name, field.type) for field in schema])
