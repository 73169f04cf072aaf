"""Rows of a table, looked up by key."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.stores.api import Table


def matching(rows: Table, schema: pa.Schema, keys: pa.Table) -> pa.Table:
    """The rows with these keys, in the given columns and types."""
    with rows.reading() as reading:
        batches = [batch.cast(schema) for batch in reading.matching(schema.names, keys)] if keys.num_rows else []
    return pa.Table.from_batches(batches, schema)
