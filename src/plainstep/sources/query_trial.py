"""Before a database is read by queries: whether they do what their names say."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any

from plainstep.core.casting import as_dicts
from plainstep.core.layouts.rows import POSITION
from plainstep.deferred import pa
from plainstep.errors import DataError, Refused
from plainstep.sources.query_order import QueryOrder

if TYPE_CHECKING:
    from plainstep.stores.queries import Queries

# How many rows are looked at to learn what they hold, and to see that a window read twice is the same.
SAMPLE = 1000


class QueryTrial:
    """Tries the query for changes.

    Args:
        opened: opens a transaction in which queries are asked.
        rows: the rows after a position and up to another, with their positions, as such a transaction sees them.
        place: the feed's name, for messages.
        columns: how many columns its positions have; 0 where rows have none of their own.
    """

    def __init__(
        self,
        opened: Callable[[], AbstractContextManager[Queries]],
        rows: Callable[[Queries, str, str], Iterator[pa.Table]],
        place: str,
        columns: int,
    ) -> None:
        self.opened, self.rows, self.place, self.columns = opened, rows, place, columns

    def refuse_oldest_itself(self, before: str, oldest: str) -> None:
        """Refuse an 'oldest' at which a change stands: it would be passed over, for ``:after`` is excluded.

        Raises:
            Refused: one does.
        """
        try:
            with self.opened() as queries:
                found = any(rows.num_rows for rows in self.rows(queries, before, oldest))
        except (DataError, Refused):  # what lies before it cannot be asked for, as it should be
            return
        if found:
            raise misbehaves(
                self.place,
                "oldest",
                f"gives {oldest}, and a change stands just there",
                "Reading begins after that position, so that this change would be passed over.",
                "Let it give the position before the first change that is held.",
            )

    def refuse_other_rows(self, after: str, upto: str) -> None:
        """Refuse a query that gives other rows each time, or rows beyond a window.

        Raises:
            Refused: it does.
        """
        with self.opened() as queries:
            found = self._first_rows(queries, after, upto)
        if len(found) >= SAMPLE:
            if not self.columns:  # no smaller window can be named
                return
            upto = QueryOrder.first_of(found[-1][POSITION], self.columns)
        with self.opened() as queries:  # in one: where rows are joined as they are now, others come and go
            once, again = (self._all(queries, after, upto) for _ in range(2))
            if once and self.columns:  # a query that passes over :upto gives rows beyond it
                self._all(queries, after, QueryOrder.first_of(once[0][POSITION], self.columns))
        if once != again:
            raise misbehaves(
                self.place,
                "read",
                f"gives other rows when the window after {after} and up to {upto} is read again",
                "What is merged from a window must not depend on when it is read.",
                "Add an ORDER BY that leaves no choice; and read changes, not rows as they are now.",
            )

    def _all(self, queries: Queries, after: str, upto: str) -> list[dict[str, Any]]:
        return [row for rows in self.rows(queries, after, upto) for row in as_dicts(rows)]

    def _first_rows(self, queries: Queries, after: str, upto: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = []
        for rows in self.rows(queries, after, upto):
            found += as_dicts(rows.slice(0, SAMPLE - len(found)))
            if len(found) >= SAMPLE:
                break
        return found


def misbehaves(place: str, name: str, what: str, why: str, remedy: str) -> Refused:
    """The error for a query that does not do what its name says."""
    return Refused(f"The query {name!r} of {place} {what}.", why, remedy)
