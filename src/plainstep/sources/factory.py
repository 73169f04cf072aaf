"""The source of a load: captured, or made of what something else wrote; and as far as the load takes it."""

from __future__ import annotations

from contextlib import nullcontext
from datetime import timedelta
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError
from plainstep.settings.layout import LayoutConfig
from plainstep.stores.api import LooselyTyped
from plainstep.stores.capabilities import HasFeed, HasPartitions, HasTables, with_source, with_tables

if TYPE_CHECKING:
    from plainstep.core import position_labels
    from plainstep.core.layouts import layout as layouts
    from plainstep.loads.load import Load
    from plainstep.sources import diff, layout_binding, partitioned, projected, sql_feed, sql_partitions, validity
    from plainstep.sources import feed as feeds
    from plainstep.stores.api import Source, Table
    from plainstep.stores.feed import Feed
else:
    diff, feeds, layout_binding, partitioned, projected, sql_feed, sql_partitions, validity = deferred(
        "plainstep.sources",
        "diff",
        "feed",
        "layout_binding",
        "partitioned",
        "projected",
        "sql_feed",
        "sql_partitions",
        "validity",
    )
    layouts, position_labels = deferred("plainstep.core", "layouts.layout", "position_labels")


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
        return _captured(load)

    def taken(self, load: Load, whole: Source) -> Source:
        """The same as far as the load takes it. A comparison compares what is taken."""
        return projected.scoped(load, whole) if load.narrows and load.config.changes != "diff" else whole


def _captured(load: Load) -> Source:
    how = load.config.changes
    source = with_source(load.from_store, how).source(load.from_table, load.config.types, how, load.reader)
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
    if said.valid_from or said.valid_to:
        return _periods(load)
    if said.overlapping != "refuse":
        raise ConfigError(
            f"The layout of {load.name} says overlapping, and names no valid_from.",
            "",
            f"Take it out of [loads.{load.name}.layout].",
        )
    overlap = position_labels.overlap_of(config.overlap)
    if overlap is not None and said.update_was:
        raise ConfigError(
            f"The load {load.name} has an overlap, and updates that come as two rows.",
            "A window that begins before the watermark would begin between the two.",
            "Leave the overlap out, or update_was with its code in bookkeeping rows.",
        )
    rows = _rows(load)
    if said.lookup and rows is None:
        raise ConfigError(
            f"The load {load.name} looks values up, and no table is named to look in.", "", 'Add rows = "STORE.TABLE".'
        )
    feed = _partitioned(load, said, overlap) if said.partition else _feed(load, said, overlap)
    key = tuple(config.key) or (rows.key() if rows else ())
    if not key:
        raise feeds.refuse_key(load.name)
    sample = feed.sample()
    layout = layout_binding.bound(load.name, config, said, sample, rows.schema() if rows else None, key)
    feed.want(layout_binding.wanted(layout, sample))
    tells_deletes = bool(said.delete or said.deleted or said.lookup or said.only_new)
    whole = said.delete_carries == "row"
    return feeds.FeedSource(
        feed,
        layout,
        rows,
        overlap is not None,
        tells_deletes,
        whole,
        config.on_bad_row == "quarantine",
        not isinstance(said.time, str),
    )


def _periods(load: Load) -> feeds.FeedSource:
    """A table whose rows are valid for a while."""
    config = load.config
    assert config.layout is not None
    said = validity.as_changes(config.layout)
    if not isinstance(load.from_store, HasTables):
        raise ConfigError(
            f"The layout of {load.name} says valid_from, and what it reads is no table.",
            "What ends and what follows it must be seen together.",
            "Read it by a position, or land it in a table.",
        )
    table = load.from_store.table(load.from_table, config.types)
    key = tuple(config.key)
    if not key:
        raise feeds.refuse_key(load.name)
    overlap = position_labels.overlap_of(config.overlap)
    newest = config.layout.overlapping == "newest"
    feed = validity.ValidityFeed(table, config.layout.valid_from, config.layout.valid_to, key, overlap, newest)
    sample = feed.sample()
    layout = layout_binding.bound(load.name, config, said, sample, None, key)
    feed.want(layout_binding.wanted(layout, sample))
    lenient = config.on_bad_row == "quarantine"
    return feeds.FeedSource(feed, layout, None, overlap is not None, lenient=lenient, timed=bool(feed.time))


def _partitioned(load: Load, said: LayoutConfig, overlap: int | timedelta | None) -> Feed:
    """The feed of a store that is in order within its partitions only."""
    whole, store = _feed(load, said, overlap), load.from_store
    if isinstance(whole, sql_feed.SqlFeed):
        return sql_partitions.by_column(whole, said.partition, lambda only: _sql_feed(load, said, overlap, only))
    if not isinstance(store, HasPartitions) or said.partition != store.partitioned_by:
        by = f"{store.partitioned_by!r}" if isinstance(store, HasPartitions) else "nothing"
        raise ConfigError(
            f"The layout of {load.name} says partition = {said.partition!r}, and {load.config.source} can be taken apart by {by} only.",
            "Each partition needs a place of its own, to be read from where it was left.",
            f"Fix it in [loads.{load.name}.layout].",
        )
    return partitioned.PartitionedFeed(
        whole,
        lambda: store.partitions(load.from_table, said),
        lambda name: store.feed(load.from_table, said, overlap, name),
        lambda feeds, at: nullcontext(
            ({name: feed.ends_after(at.get(name, "")) for name, feed in feeds.items()}, None)
        ),
        said.partition,
    )


def _feed(load: Load, said: LayoutConfig, overlap: int | timedelta | None) -> Feed:
    store = load.from_store
    if isinstance(store, HasFeed):
        return store.feed(load.from_table, said, overlap)
    if said.csv is not None:
        raise ConfigError(
            f"The layout of {load.name} says how CSV is written, and what it reads is no file.",
            "",
            f"Take csv out of [loads.{load.name}.layout].",
        )
    return _sql_feed(load, said, overlap)


def _sql_feed(load: Load, said: LayoutConfig, overlap: int | timedelta | None, only: str = "") -> sql_feed.SqlFeed:
    """A table as a feed; or the rows of it for which a condition holds."""
    if not said.position:
        raise ConfigError(
            f"The layout of {load.name} names no position.",
            "A table has no order of its own.",
            f'Name the columns that order its rows: position = ["..."] in [loads.{load.name}.layout].',
        )
    tables = with_tables(load.from_store)
    table = tables.table(load.from_table, load.config.types)
    times = None if isinstance(said.time, str) else tables.table(said.time.table, {})
    quarantined = frozenset(layout_binding.bookkeeping(said)) - set(load.config.key)
    return sql_feed.SqlFeed(
        table,
        tuple(said.position),
        said.time,
        times,
        _old_first(table, said),
        overlap,
        quarantined,
        only,
        tuple(said.hexadecimal),
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
    return feeds.FeedSource(
        feed, layouts.Layout(key, table.schema(), time=time), table, overlaps=True, tells_deletes=False
    )
