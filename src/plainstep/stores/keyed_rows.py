"""Rows of a target table, looked up by key: by SQL, or where a target knows none, by reading the whole table."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainstep.deferred import deferred, pa, pc

if TYPE_CHECKING:
    from plainstep.core.shapes import apply
    from plainstep.stores.api import Table, Target
else:
    [apply] = deferred("plainstep.core.shapes", "apply")

# Up to so many groups are asked for their first values one by one; of more, all their values are read at once.
ONE_BY_ONE = 200


class SqlRows:
    """Rows that are looked up by SQL.

    Args:
        table: the table.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        table.schema()  # known from here on: not looked up while the table is being read

    def matching(self, schema: pa.Schema, keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these values of some columns; see ``plainstep.stores.api.KeyedRows``."""
        with self.table.reading() as reading:
            for batch in reading.matching(schema.names, keys, where_null):
                yield batch.cast(schema)

    def first_values(
        self, schema: pa.Schema, groups: pa.Table, value: str, count: int, largest: bool
    ) -> Iterator[pa.RecordBatch]:
        """For each group, its first values in order; see ``plainstep.stores.api.KeyedRows``."""
        if groups.num_rows > ONE_BY_ONE or not _ordered_alike(groups.schema, schema.field(value).type):
            yield from self.matching(schema, groups)
            return
        dialect = self.table.dialect
        quoted = dialect.quoted
        with self.table.reading() as reading:
            for row in groups.to_pylist():
                of = " AND ".join(
                    f"{quoted(name)} = {self.table.literal(name, str(found))}" for name, found in row.items()
                )
                order = f"{quoted(value)} {'DESC' if largest else 'ASC'}"
                tail = f"WHERE {of} ORDER BY {order} {dialect.first(count)}"
                for batch in reading.select(schema.names, {}, tail):
                    yield batch.cast(schema)


class ScannedRows:
    """Rows that are found by reading the whole table.

    Args:
        target: the target.
        name: the table's name.
    """

    def __init__(self, target: Target, name: str) -> None:
        self.target, self.name = target, name

    def matching(self, schema: pa.Schema, keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these values of some columns; see ``plainstep.stores.api.KeyedRows``."""
        info = self.target.table(self.name, ())
        assert info is not None
        names = dict.fromkeys([*schema.names, *keys.column_names, *filter(None, [where_null])])
        for batch in self.target.rows(self.name, pa.schema([info.schema.field(name) for name in names])):
            rows = pa.Table.from_batches([batch])
            rows = rows.filter(pc.is_null(rows[where_null])) if where_null else rows
            yield from rows.filter(pa.array(apply.found_in(rows, keys))).select(schema.names).cast(schema).to_batches()

    def first_values(
        self, schema: pa.Schema, groups: pa.Table, value: str, count: int, largest: bool
    ) -> Iterator[pa.RecordBatch]:
        """All values of each group; see ``plainstep.stores.api.KeyedRows``."""
        return self.matching(schema, groups)


def _ordered_alike(group: pa.Schema, value: pa.DataType) -> bool:
    """Whether every store writes such groups, and orders such values, in the same way."""
    known = all(pa.types.is_integer(field.type) or pa.types.is_string(field.type) for field in group)
    return known and (pa.types.is_integer(value) or pa.types.is_floating(value) or pa.types.is_date(value))
