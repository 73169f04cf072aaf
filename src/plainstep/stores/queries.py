"""What a store offers that can be asked queries of people's own: rows in Arrow, in one transaction that writes nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from plainstep.deferred import pa
from plainstep.errors import DataError, Refused
from plainstep.stores.capabilities import Store

if TYPE_CHECKING:
    from plainstep.stores.api import Reading
    from plainstep.stores.dialect import Dialect

# A value that a query takes: a position, or a time.
Value = int | str | bytes | date | datetime | None


class Queries(Protocol):
    """A read-only transaction in which queries are asked."""

    def first(self, sql: str, values: Mapping[str, Value]) -> tuple[Any, ...] | None:
        """The first row of a query, as Python has its values; None where there is none.

        Args:
            sql: the query, with ``:name`` for each value.
            values: the values; they are bound, and never become part of the query's text.

        Raises:
            DataError: the database refuses the query.
        """
        ...

    def batches(
        self, sql: str, values: Mapping[str, Value], kinds: Mapping[str, pa.DataType], natural: bool = False
    ) -> Iterator[pa.RecordBatch]:
        """The rows of a query, in batches: at least one, which may be empty, so that its columns are known.

        Args:
            sql: the query.
            values: its values.
            kinds: the types of some columns. The others come in their own, or as texts where results have no types.
            natural: where results have no types, take those of the values; ``null`` where they do not agree.

        Raises:
            DataError: the database refuses the query, or a value does not fit its type.
        """
        ...

    def beside(self, table: Any) -> Reading:
        """A table of the same store, in the same transaction."""
        ...


@runtime_checkable
class HasQueries(Store, Protocol):
    """A store that can be asked queries.

    Attributes:
        dialect: how it writes SQL.
        types_results: whether the columns of any query have types of their own.
    """

    dialect: Dialect
    types_results: bool

    def queries(self) -> AbstractContextManager[Queries]:
        """A transaction in which queries are asked, which all see one moment where the store can show one."""
        ...

    def wait_for_open(self, every: bool) -> bool:
        """Wait until transactions have ended that are open now.

        Args:
            every: also those that have not written yet; where positions are the times at which transactions began.

        Returns:
            Whether that could be seen; False where the store cannot tell who writes.

        Raises:
            Refused: one of them stays open.
        """
        ...


@runtime_checkable
class Consuming(HasQueries, Protocol):
    """A store in which what a query takes away and what is merged can be one transaction."""

    def one_transaction(self) -> AbstractContextManager[None]:
        """Meanwhile, ``taking`` reads and a commit of its target are of one transaction, which that commit ends; else it is rolled back."""
        ...

    def taking(self, really: bool) -> AbstractContextManager[Queries]:
        """The same as ``queries``, where a query may take away what it reads.

        Args:
            really: whether it is taken if that one transaction is committed; if not, it is given back at once.
        """
        ...


def with_consuming(store: Store) -> Consuming:
    """A store in which reading may take away what is read.

    Raises:
        Refused: it is not one.
    """
    if not isinstance(store, Consuming):
        raise Refused(
            f"{store.name} cannot be read by queries that consume what they give.",
            "Only what SQLAlchemy reaches can be read and merged into in one transaction.",
            "Write the store's url as SQLAlchemy has it, as in postgresql+psycopg://HOST/DATABASE.",
        )
    return store


def with_queries(store: Store) -> HasQueries:
    """A store that can be asked queries.

    Raises:
        Refused: it cannot.
    """
    if not isinstance(store, HasQueries):
        raise store.lacking("queries")
    return store


def refused_query(place: str, error: object) -> DataError:
    """The error for a query that a database does not take."""
    told = " ".join(str(error).split())
    return DataError(
        f"{place} does not take a query: {told[:300]}", "", "Fix it in the layout's 'query', or in the database."
    )


def refuse_doubled(names: list[str], place: str) -> None:
    """Refuse columns of which two have one name.

    Raises:
        Refused: two have.
    """
    doubled = next((name for name in names if names.count(name) > 1), None)
    if doubled is not None:
        raise Refused(
            f"A query of {place} gives two columns of the name {doubled!r}.",
            "Which of them is meant is not known.",
            f'Name them apart in the query: t.{doubled} AS "live.{doubled}".',
        )
