"""A table whose rows are in order within the values of a column only, as a partitioned feed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from plainstep.errors import ConfigError, Refused
from plainstep.sources.partitioned import PartitionedFeed

if TYPE_CHECKING:
    from plainstep.sources.sql_feed import SqlFeed
    from plainstep.stores.api import Reading
    from plainstep.stores.feed import Ends


def by_column(whole: SqlFeed, column: str) -> PartitionedFeed:
    """A table in the partitions that a column tells.

    Args:
        whole: the table as one feed.
        column: the column.

    Raises:
        ConfigError: there is no such column.
    """
    table = whole.table
    names = table.schema().names
    if column not in names:
        raise ConfigError(
            f"The layout says partition = {column!r}, which {whole.place} does not have.",
            f"Its columns: {', '.join(names)}.",
            "Fix 'partition' in the layout.",
        )
    quoted, text = table.dialect.quoted(column), table.text(column)

    def named(reading: Reading) -> list[str]:
        """The partitions that are there; a row that belongs to none is refused."""
        if column not in table.never_null() and reading.first(
            f"SELECT 1 FROM {table.sql} WHERE {quoted} IS NULL {table.dialect.first(1)}"
        ):
            raise Refused(
                f"A row of {whole.place} is in no partition: {column} is null.",
                "Its place in the order is not known, so it would never be read.",
                "Give it one, or choose another column for 'partition'.",
            )
        return [
            name
            for rows in reading.select([], {"name": text}, f"GROUP BY {quoted}")
            for name in rows["name"].to_pylist()
        ]

    def there() -> list[str]:
        with table.reading() as reading:
            return named(reading)

    def feed(name: str) -> SqlFeed:
        return whole.part(f"{quoted} = {table.literal(column, name)}", f"{column} {name}")

    @contextmanager
    def opened(feeds: Mapping[str, Any], tokens: Mapping[str, str]) -> Iterator[tuple[dict[str, Ends], Reading | None]]:
        with table.reading() as reading:
            whole.check(reading)
            # Those that are there now, for one that has come since the others were listed has its rows in this transaction.
            known: dict[str, Any] = {name: feeds.get(name) or feed(name) for name in {*feeds, *named(reading)}}
            yield {name: one.ends_in(reading, tokens.get(name, "")) for name, one in known.items()}, reading

    return PartitionedFeed(whole, there, feed, opened, column)
