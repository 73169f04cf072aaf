"""The rows that a query gives, as a table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.properties import cached_property
from plainstep.stores.declared_types import arrow_type

if TYPE_CHECKING:
    from datetime import datetime

    from plainstep.stores.api import Reading
    from plainstep.stores.queries import HasQueries, Queries, Value

# How many keys are looked up in one query: each is a value, and databases take some thousands of them.
KEYS = 200


class QueryTable:
    """What a query gives, to be read as a table is.

    Args:
        store: the database.
        place: the feed's name, for messages.
        query: the query.
        types: types of some of its columns.
    """

    def __init__(self, store: HasQueries, place: str, query: str, types: dict[str, str]) -> None:
        self.database, self.place, self.types = store, f"the rows of {place}", types
        self.dialect, self.typed = store.dialect, store.types_results
        self.sql = f"({query.strip().rstrip(';')}\n) plainstep_rows"  # it may end in a comment

    @cached_property
    def _schema(self) -> pa.Schema:
        # Where results have no types, values tell them; one that is not of the same type later is refused then.
        some = f"SELECT * FROM {self.sql}" + (" WHERE 1 = 0" if self.database.types_results else "")
        with self.database.queries() as queries:
            columns = next(queries.batches(some, {}, {}, natural=True)).schema
        return pa.schema(
            [
                pa.field(one.name, arrow_type(self.place, one.name, self.types[one.name]))
                if one.name in self.types
                else one
                for one in columns
            ]
        )

    def schema(self) -> pa.Schema:
        """Its columns; ``null`` is the type of one that the database gives none."""
        return self._schema

    def key(self) -> tuple[str, ...]:
        """Nothing: a query has no key."""
        return ()

    def never_null(self) -> frozenset[str]:
        """None of its columns is known to hold a value in every row."""
        return frozenset()

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        return f"CAST({self.dialect.quoted(column)} AS {self.dialect.text})"

    def literal(self, column: str, value: str) -> str:
        """Not asked of a query."""
        raise self._is_query()

    def binary(self, value: str) -> str:
        """A text as it is."""
        return value

    def insertion(self, row: dict[str, Any]) -> str:
        """Not asked of a query."""
        raise self._is_query()

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """Not asked of a query."""
        raise self._is_query()

    def later(self, column: str, time: datetime) -> str:
        """Not asked of a query."""
        raise self._is_query()

    def _is_query(self) -> Refused:
        return Refused(
            f"What holds {self.place} is a query, and not a table.",
            "",
            'Name the table instead, where it can be read: rows = "STORE.TABLE" in the load.',
        )

    @contextmanager
    def reading(self) -> Iterator[QueryReading]:
        """Read it, in one transaction."""
        self.schema()
        with self.database.queries() as queries:
            yield QueryReading(self.database, queries, self)


class QueryReading:
    """A transaction in which queries are asked, as what is read in it."""

    def __init__(self, database: HasQueries, queries: Queries, table: QueryTable | None = None) -> None:
        self.database, self.queries, self._table = database, queries, table

    @property
    def table(self) -> QueryTable:
        """What is read."""
        assert self._table is not None
        return self._table

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches."""
        yield from self._select(columns, texts, tail, {})

    def _select(
        self, columns: Sequence[str], texts: dict[str, str], tail: str, values: dict[str, Value]
    ) -> Iterator[pa.RecordBatch]:
        quoted, schema = self.table.dialect.quoted, self.table.schema()
        selected = [quoted(name) for name in columns]
        selected += [f"{value} AS {quoted(name)}" for name, value in texts.items()]
        kinds = {name: schema.field(name).type for name in columns} | dict.fromkeys(texts, pa.string())
        kinds = {name: pa.string() if pa.types.is_null(kind) else kind for name, kind in kinds.items()}
        sql = f"SELECT {', '.join(selected)} FROM {self.table.sql} {tail}"
        wanted = pa.schema([(name, kinds[name]) for name in [*columns, *texts]])
        for batch in self.queries.batches(sql, values, kinds):
            if batch.num_rows:
                yield batch.cast(wanted)

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        return self.queries.first(sql, {})

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these keys."""
        quoted = self.table.dialect.quoted
        for batch in keys.to_batches(KEYS):
            values: dict[str, Value] = {}
            rows = []
            for number, row in enumerate(batch.to_pylist()):
                names = {name: f"k{number}_{place}" for place, name in enumerate(row)}
                values |= {names[name]: value for name, value in row.items()}
                rows.append(" AND ".join(f"{quoted(name)} = :{names[name]}" for name in row))
            if not rows:
                continue
            tail = f"WHERE ({' OR '.join(f'({one})' for one in rows)})"
            tail += f" AND {quoted(where_null)} IS NULL" if where_null else ""
            yield from self._select(columns, {}, tail, values)

    def beside(self, table: Any) -> Reading:
        """A table of the same store, in the same transaction."""
        return (
            QueryReading(self.database, self.queries, table)
            if isinstance(table, QueryTable)
            else self.queries.beside(table)
        )

    def unsettled(self, column: str) -> str:
        """Nothing: what is read stands."""
        return ""
