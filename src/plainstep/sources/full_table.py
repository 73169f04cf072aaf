"""All rows of a table, by a key that is known to be unique."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainstep.deferred import pa
from plainstep.errors import Refused

if TYPE_CHECKING:
    from plainstep.stores.api import Reading, Table


def whole_rows(
    table: Table, key: tuple[str, ...], schema: pa.Schema, beside: Reading | None = None
) -> Iterator[pa.RecordBatch]:
    """A table's rows.

    Args:
        table: the table.
        key: the columns that tell its rows apart.
        schema: the columns that are wanted, and their types.
        beside: a transaction in which another table is read. It is used if the table is of the same store.

    Raises:
        Refused: two rows have the same key.
    """
    if beside is not None and beside.database is table.database:
        yield from _rows(beside.beside(table), table, key, schema)
        return
    with table.reading() as reading:
        yield from _rows(reading, table, key, schema)


def _rows(reading: Reading, table: Table, key: tuple[str, ...], schema: pa.Schema) -> Iterator[pa.RecordBatch]:
    if set(key) != set(table.key()):
        names = ", ".join(map(table.dialect.quoted, key))
        doubled = f"SELECT {names} FROM {table.sql} GROUP BY {names} HAVING count(*) > 1 {table.dialect.first(1)}"
        twice = reading.first(doubled)
        if twice:
            shown = ", ".join(f"{name} = {value!r}" for name, value in zip(key, twice, strict=True))
            raise Refused(
                f"Two rows of {table.place} have the key {shown}.",
                "Rows with one key would be taken for one row.",
                "Fix 'key' in the load.",
            )
    for batch in reading.select(schema.names, {}, ""):
        yield batch.cast(schema)
