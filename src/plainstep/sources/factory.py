"""The source of a load: captured, or made of what something else wrote; and as far as the load takes it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from datetime import timedelta
from typing import TYPE_CHECKING, cast

from plainstep.deferred import deferred
from plainstep.errors import ConfigError
from plainstep.settings.layout import LayoutConfig
from plainstep.stores.api import LooselyTyped, PairedSource
from plainstep.stores.capabilities import HasFeed, with_source, with_tables
from plainstep.stores.feed import HasPartitions
from plainstep.stores.misplaced import refuse_misplaced
from plainstep.stores.queries import with_consuming, with_queries

if TYPE_CHECKING:
    from plainstep.core import position_labels
    from plainstep.core.layouts import layout as layouts
    from plainstep.core.layouts import rows as sent_rows
    from plainstep.loads.load import Load
    from plainstep.sources import (
        consumed_feed,
        diff,
        held_columns,
        layout_binding,
        layout_misfits,
        partitioned,
        projected,
        query_feed,
        query_rows,
        row_columns,
        shared_reading,
        sql_feed,
        sql_partitions,
        validity,
    )
    from plainstep.sources import feed as feeds
    from plainstep.stores.api import Source, Table
    from plainstep.stores.feed import Feed
else:
    (
        consumed_feed,
        diff,
        feeds,
        held_columns,
        layout_binding,
        layout_misfits,
        partitioned,
        projected,
        query_feed,
        query_rows,
        row_columns,
        shared_reading,
        sql_feed,
        sql_partitions,
        validity,
    ) = deferred(
        "plainstep.sources",
        "consumed_feed",
        "diff",
        "feed",
        "held_columns",
        "layout_binding",
        "layout_misfits",
        "partitioned",
        "projected",
        "query_feed",
        "query_rows",
        "row_columns",
        "shared_reading",
        "sql_feed",
        "sql_partitions",
        "validity",
    )
    layouts, sent_rows, position_labels = deferred(
        "plainstep.core", "layouts.layout", "layouts.rows", "position_labels"
    )


class SourceFactory:
    """Opens the sources of loads; see ``plainstep.loads.load.Sources``."""

    def whole(self, load: Load) -> Source:
        """Where the changes of a load are read, whole rows of all columns.

        Raises:
            ConfigError: what is said of it cannot be.
        """
        match load.config.changes:
            case "diff":
                return diff.DiffSource(load)
            case "column":
                return _column(load)
            case "table":
                return _table(load)
            case "query":
                return _query(load)
        return _captured(load)

    def taken(self, load: Load, whole: Source) -> Source:
        """The same as far as the load takes it. A comparison compares what is taken."""
        return projected.scoped(load, whole) if load.narrows and load.config.changes != "diff" else whole

    def together(self, loads: Sequence[Load]) -> AbstractContextManager[None]:
        """While this lasts, what several loads read of one feed is read once.

        Raises:
            ConfigError: what is said of one of them cannot be.
        """
        consuming = next((load for load in loads if _consumes(load)), None)
        if consuming is not None:
            if len(loads) > 1:
                raise ConfigError(
                    f"The load {consuming.name} consumes what it reads, and is of a group.",
                    "Another load of it might read what this one took away.",
                    "Take it out of the group.",
                )
            return with_consuming(consuming.from_store).one_transaction()
        if len(loads) < 2:
            return nullcontext()
        if any(load.config.changes != "table" for load in loads):
            return loads[0].from_store.read_once()
        alike = [load.whole_source for load in loads if _read_as(load) == _read_as(loads[0])]
        return shared_reading.read_once([source for source in alike if isinstance(source, feeds.FeedSource)])


def _consumes(load: Load) -> bool:
    said = load.config.layout
    return bool(said and said.query and said.query.consumes)


def _read_as(load: Load) -> dict[str, object]:
    """What decides how the raw rows of a load are read."""
    said = load.config.layout
    settings = said.as_dict(shared_reading.INTERPRETING) if said else {}
    return settings | {"from": load.config.source, "overlap": load.config.overlap}


def _captured(load: Load) -> Source:
    how = load.config.changes
    source = with_source(load.from_store, how).source(load.from_table, load.config.types, how, load.reader)
    if isinstance(source, PairedSource):
        source.paired_by = tuple(load.config.key)
    if load.config.on_bad_value == "refuse":
        return source
    if not isinstance(source, LooselyTyped):
        raise ConfigError(
            f"on_bad_value does nothing for {load.config.source}.",
            "In its store, a column holds values of its own type only.",
            f"Take it out of [loads.{load.name}].",
        )
    source.on_bad_value = load.config.on_bad_value
    return source


def _rows(load: Load) -> Table | None:
    said = load.config.layout.query if load.config.layout else None
    if said is not None and said.rows:
        return query_rows.QueryTable(with_queries(load.from_store), load.config.source, said.rows, load.config.types)
    if load.rows_store is None:
        return None
    return with_tables(load.rows_store).table(load.rows_table, {})


def _table(load: Load) -> feeds.FeedSource:
    config, said = load.config, load.config.layout
    if said is None:
        raise ConfigError(
            f"The load {load.name} reads a change table, and no layout says how.",
            "",
            f"plainstep init --changes {config.source} proposes one.",
        )
    said = validity.as_changes(said, f"[loads.{load.name}.layout]")
    overlap = position_labels.overlap_of(config.overlap)
    if overlap is not None and said.update_was:
        raise ConfigError(
            f"The load {load.name} has an overlap, and updates that come as two rows.",
            "A window that begins before the watermark would begin between the two.",
            "Leave the overlap out, or update_was with its code in bookkeeping rows.",
        )
    rows, key = _rows_and_key(load, said)
    return _read_by(load, said, _partitioned(load, _feed(load, said, overlap, key), said.partition), rows, key)


def _query(load: Load) -> feeds.FeedSource:
    config, said = load.config, load.config.layout
    assert said is not None
    refuse_misplaced(
        config.source, "read by queries", said, "csv", "message", "pages",
        partition="Its queries are asked for all changes at once.", valid_from="Its queries tell what changed.",
    )  # fmt: skip
    overlap = position_labels.overlap_of(config.overlap)
    rows, key = _rows_and_key(load, said)
    is_declared = rows is not None or bool(config.types)
    assert said.query is not None
    if said.query.consumes:
        feed: query_feed.QueryFeed = consumed_feed.ConsumedFeed(
            with_consuming(load.from_store), config.source, said, is_declared
        )
    else:
        feed = query_feed.QueryFeed(with_queries(load.from_store), config.source, said, overlap, is_declared)
    source = _read_by(load, said, feed, rows, key)
    feed.follow(source.layout)
    return source


def _rows_and_key(load: Load, said: LayoutConfig) -> tuple[Table | None, tuple[str, ...]]:
    """The table itself, if it can be read, and the key.

    Raises:
        ConfigError: one of them is needed and not known.
    """
    rows = _rows(load)
    if said.lookup and rows is None:
        raise ConfigError(
            f"The load {load.name} looks values up, and no table is named to look in.", "", 'Add rows = "STORE.TABLE".'
        )
    key = tuple(load.config.key) or (rows.key() if rows else ())
    if not key:
        raise feeds.refuse_key(load.name)
    return rows, key


def _read_by(load: Load, said: LayoutConfig, feed: Feed, rows: Table | None, key: tuple[str, ...]) -> feeds.FeedSource:
    """A feed as it is read by a layout."""
    config = load.config

    def bound() -> feeds.Bound:
        sample = feed.sample()
        own = layout_binding.without_beside(said, sample, feed.beside)
        columns = rows.schema() if rows else None
        read_as = held_columns.read_as(load)
        layout = layout_binding.bound(load.name, config, own, sample, columns, key, feed.is_typed, read_as)
        timed = not isinstance(said.time, str) or sent_rows.TIME in sample.column_names
        return feeds.Bound(
            layout,
            layout_binding.wanted(layout, sample),
            timed or bool(said.query and said.query.time_of),
            layout_misfits.unseen(own, sample),
        )

    return feeds.FeedSource(
        feed,
        layout_binding.outline(load.name, said, key),
        bound,
        rows,
        position_labels.overlap_of(config.overlap) is not None,
        tells_deletes=bool(said.delete or said.deleted or said.lookup or said.only_new),
        whole_deletes=said.delete_carries == "row",
        lenient=config.on_bad_row == "quarantine",
        is_ordered_by_rows=bool(said.position),
    )


def _partitioned(load: Load, whole: Feed | HasPartitions, by: str) -> Feed:
    """A feed, in its partitions if it is in order within these only."""
    if isinstance(whole, HasPartitions) and not whole.is_ordered:
        return partitioned.of_parts(whole)
    whole = cast("Feed", whole)
    if not by:
        return whole
    if isinstance(whole, sql_feed.SqlFeed):
        return sql_partitions.by_column(whole, by)
    if not isinstance(whole, HasPartitions) or by != whole.partitioned_by:
        ways = f"{whole.partitioned_by!r}" if isinstance(whole, HasPartitions) else "nothing"
        raise ConfigError(
            f"The layout of {load.name} says partition = {by!r}, and {load.config.source} can be taken apart by {ways} only.",
            "Each partition needs a place of its own, to be read from where it was left.",
            f"Fix it in [loads.{load.name}.layout].",
        )
    return partitioned.of_parts(whole)


def _feed(
    load: Load, said: LayoutConfig, overlap: int | timedelta | None, key: tuple[str, ...]
) -> Feed | HasPartitions:
    store = load.from_store
    if isinstance(store, HasFeed):
        if said.valid_from:
            raise ConfigError(
                f"The layout of {load.name} says valid_from, and what it reads is no table.",
                "What ends and what follows it must be seen together.",
                "Read it by a position, or land it in a table.",
            )
        return store.feed(load.from_table, said, overlap)
    refuse_misplaced(load.config.source, "a table", said, "csv", "message", "pages")
    if not said.position:
        raise ConfigError(
            f"The layout of {load.name} names no position.",
            "A table has no order of its own.",
            f'Name the columns that order its rows: position = ["..."] in [loads.{load.name}.layout].',
        )
    tables = with_tables(store)
    table = tables.table(load.from_table, load.config.types)
    if said.valid_from:
        return validity.ValidityFeed(table, said, key, overlap)
    times = None if isinstance(said.time, str) else tables.table(said.time.table, {})
    quarantined = frozenset(row_columns.bookkeeping(said)) - set(load.config.key)
    numbers = tuple(said.hexadecimal)
    return sql_feed.SqlFeed(
        table, tuple(said.position), said.time, times, _old_first(table, said), overlap, quarantined, numbers
    )


def _old_first(table: Table, said: LayoutConfig) -> str:
    """Of two rows of an update at one position, the old one comes first, if a column tells which it is."""
    if not said.update_was or not said.operation or said.pair:
        return ""
    codes = ", ".join(table.dialect.string(str(code)) for code in said.update_now)
    return f"CASE WHEN {table.text(said.operation)} IN ({codes}) THEN 1 ELSE 0 END"


def _column(load: Load) -> feeds.FeedSource:
    config = load.config
    if not config.column:
        raise ConfigError(
            f"The load {load.name} reads by a column that grows, and names no column.", "", 'Add column = ["..."].'
        )
    table = with_tables(load.from_store).table(load.from_table, config.types)
    key = tuple(config.key) or table.key()
    if not key:
        raise feeds.refuse_key(load.name)
    # Rows that have the watermark's own value may have come since: they are always read again.
    overlap = position_labels.overlap_of(config.overlap)
    feed = sql_feed.SqlFeed(table, tuple(config.column), overlap=overlap or 0)
    time = config.column[0] if "time" in str(table.schema().field(config.column[0]).type) else ""
    feed.time = time
    layout = layouts.Layout(key, table.schema(), time=time)
    return feeds.FeedSource(feed, layout, lambda: feeds.Bound(layout), table, overlaps=True, tells_deletes=False)
