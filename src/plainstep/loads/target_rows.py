"""What a load's target holds, looked up for its shape."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from copy import copy
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.parts import EVERY
from plainstep.core.changes.ranks import Range, ranks
from plainstep.core.changes.ranks import within as inside
from plainstep.core.diff import known, widened
from plainstep.core.schema_drift import as_held
from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.stores.dialect import STANDARD

if TYPE_CHECKING:
    from plainstep.core.shapes.base import TargetTable
    from plainstep.loads.load import Load
    from plainstep.stores.api import KeyedRows
    from plainstep.stores.records import TableInfo


class TargetRows:
    """The rows of a load's target tables, as they are before a step.

    Args:
        load: the load.
        tables: the tables that its shape keeps.
        key: the key of the source's rows, in the source's types: by these, they have their ranks.
    """

    def __init__(self, load: Load, tables: list[TargetTable], key: Sequence[pa.Field] = ()) -> None:
        self.load, self.key = load, key
        self.tables = {table.suffix: table for table in tables}
        self.ranks = EVERY
        self._known: dict[str, TableInfo | None] = {}
        self._read: dict[str, KeyedRows] = {}

    def __getstate__(self) -> dict[str, Any]:
        """Another process looks for itself."""
        return self.__dict__ | {"_known": {}, "_read": {}}

    def rows(self, suffix: str, columns: Sequence[str], keys: pa.Table | None = None, where_null: str = "") -> pa.Table:
        """Rows of one of the tables; see ``plainstep.core.shapes.base.TargetReader``."""
        whole = self.schema(suffix)
        schema = pa.schema([whole.field(name) for name in columns])
        if keys is None:
            return pa.Table.from_batches(self.stream(suffix, schema, where_null), schema)
        found = self.found(suffix)
        if found is None or not keys.num_rows:
            return schema.empty_table()
        there = {*found.schema.names}
        wanted = pa.schema([field for field in schema if field.name in there])
        asked = keys.cast(pa.schema([self.tables[suffix].schema.field(name) for name in keys.column_names]))
        batches = self._by_key(suffix).matching(wanted, asked, where_null)
        return _widened(pa.Table.from_batches(batches, wanted), schema)

    def within(self, which: Range) -> TargetRows:
        """The same, where all rows are asked for: of those whose keys' ranks are in a range."""
        found = copy(self)
        found.ranks = which
        return found

    def schema(self, suffix: str) -> pa.Schema:
        """The columns of one of the tables, in its shape's types, or the target's where these hold more."""
        found = self.found(suffix)
        schema = self.tables[suffix].schema
        return schema if found is None else as_held(schema, found.schema)

    def stream(self, suffix: str, schema: pa.Schema, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """All rows of one of the tables, in these columns and types; null in columns that it does not have yet."""

        mine, info = self.tables[suffix], self.found(suffix)
        if info is None:
            return
        fields = {field.name: field for field in schema}
        ranked = [] if self.ranks == EVERY else self.key
        for field in ranked:
            fields.setdefault(field.name, mine.schema.field(field.name))
        if where_null:
            fields.setdefault(where_null, mine.schema.field(where_null))
            if where_null not in info.schema.names:  # it is added by the commit that this is read for: null in all rows
                where_null = ""
        asked = known(pa.schema(list(fields.values())), info.schema)
        there = {*asked.names}
        names = [name for name in schema.names if name in there]
        for batch in self.load.target.rows(beside(self.load.into_table, suffix), asked):
            some = batch.filter(pc.is_null(batch.column(where_null))) if where_null else batch
            if ranked:
                found = ranks([some.column(field.name).cast(_plain(field.type)) for field in ranked])
                some = some.filter(pa.array(inside(found, self.ranks)))
            yield widened(some.select(names), schema)

    def first_values(self, suffix: str, group: pa.Table, value: str, count: int, largest: bool) -> pa.Table:
        """For each group, its first values in order; see ``plainstep.core.shapes.base.TargetReader``."""
        names = [*group.column_names, value]
        schema = pa.schema([self.tables[suffix].schema.field(name) for name in names])
        if self.found(suffix) is None:
            return schema.empty_table()
        batches = self._by_key(suffix).first_values(schema, group, value, count, largest)
        return pa.Table.from_batches(batches, schema)

    def found(self, suffix: str) -> TableInfo | None:
        """One of the tables as it is at the target, or None if it is not there yet."""
        if suffix not in self._known:
            name = beside(self.load.into_table, suffix)
            info = self.load.target.table(name, self.tables[suffix].key)
            self._refuse_former(suffix, info)
            self._known[suffix] = info
        return self._known[suffix]

    def _refuse_former(self, suffix: str, info: TableInfo | None) -> None:
        """Refuse a table of an earlier release, whose columns had other names: whoever reads it is to know.

        Raises:
            Refused: it is one.
        """
        there = set(info.schema.names) if info else set[str]()
        for now, former in self.tables[suffix].former.items():
            if former in there and now not in there:
                name, quoted = beside(self.load.into_table, suffix), STANDARD.quoted
                raise Refused(
                    f"{beside(self.load.config.into, suffix)} has the column {former}, which is called {now} now.",
                    "An earlier release of Plain Step made the table; whoever reads it has to know the new name.",
                    f"ALTER TABLE {name} RENAME COLUMN {quoted(former)} TO {quoted(now)}, in {self.load.into_store.name}.",
                )

    def _by_key(self, suffix: str) -> KeyedRows:
        """The rows of one of the tables, to be looked up."""
        if suffix not in self._read:
            self._read[suffix] = self.load.target.by_key(beside(self.load.into_table, suffix))
        return self._read[suffix]


def beside(table: str, suffix: str) -> str:
    """The name of a table that a shape keeps beside its main one."""
    return f"{table[:-1]}{suffix}{table[-1]}" if table.endswith('"') else table + suffix


def _plain(kind: pa.DataType) -> pa.DataType:
    """The type of the values of a column, which may be in a dictionary."""
    return kind.value_type if pa.types.is_dictionary(kind) else kind


def _widened(rows: pa.Table, schema: pa.Schema) -> pa.Table:

    if rows.schema.names == schema.names:
        return rows
    return pa.Table.from_batches([widened(batch, schema) for batch in rows.to_batches()], schema)
