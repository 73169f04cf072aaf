"""From what a plainstep.toml says of a layout, and what the feed looks like, to a layout that can be applied."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.changes.ops import Op
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.layout import Layout
from plainstep.core.layouts.patches import SENT, Patches
from plainstep.core.layouts.patches_at_once import asked_at_once
from plainstep.core.layouts.paths import lies_in
from plainstep.core.layouts.raw_sql import fields_named
from plainstep.core.layouts.records import by_record, kind_of
from plainstep.core.layouts.rows import DOCUMENT, LINE, Raw
from plainstep.deferred import pa
from plainstep.errors import ConfigError
from plainstep.sources.layout_codes import codes_of
from plainstep.sources.layout_misfits import refuse_absent, refuse_bad_sql, refuse_unnamed, refuse_unsent, unknown_field
from plainstep.sources.row_columns import column_type, own_columns, standing_once, suggested

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
    from plainstep.settings.load import LoadConfig
    from plainstep.sources.row_columns import ReadAs


def bound(
    name: str,
    config: LoadConfig,
    said: LayoutConfig,
    sample: pa.Table,
    rows: pa.Schema | None,
    key: tuple[str, ...],
    is_typed: bool = True,
    read_as: ReadAs = lambda _, suggested: suggested,
) -> Layout:
    """The layout of a load.

    Args:
        name: the load's name, for messages.
        config: what is said of the load.
        said: what is said of its layout.
        sample: some rows of the feed; their columns are those of all rows.
        rows: the columns of the table itself, if it can be read.
        key: the columns that tell rows apart.
        is_typed: whether the sample's columns have types of their own, and not only those that values suggest.
        read_as: in which type a column is read of which values only suggest one.

    Raises:
        ConfigError: the layout does not fit the feed, or itself.
    """
    is_typed = is_typed and LINE not in sample.column_names
    fields, sample = _records(name, said, sample) if said.each else (fields_of(sample, (said.now, said.was)), sample)
    columns, paths = own_columns(name, said, fields, rows)
    declared = {*fields_of(sample, ())} if is_typed else set[str]()
    kinds = {path: (lambda _, kind: kind) if path in declared else suggested(read_as, sample, path) for path in fields}
    schema = pa.schema(
        [(column, column_type(name, column, config, paths, said, fields, rows, kinds)) for column in columns]
    )
    refuse_unnamed(name, said, schema, key)
    layout = replace(
        outline(name, said, key), schema=schema, paths=paths, once=standing_once(columns, paths, said, fields)
    )
    refuse_absent(name, layout, sample, fields)
    refuse_unsent(name, layout, sample, fields)
    layout = _with_patches(name, said, layout) if said.patch or said.removed else layout
    for sql, where in ((layout.skip, "skip"), (layout.operation_sql, "operation_sql")):
        if sql:
            refuse_bad_sql(f"[loads.{name}.layout], {where}", sql, sample, fields)
    return layout


def outline(name: str, said: LayoutConfig, key: tuple[str, ...]) -> Layout:
    """The layout of a load as far as it is known without a row of the feed: without the row's columns.

    Raises:
        ConfigError: the layout does not fit itself.
    """
    return Layout(
        key, pa.schema([]), {}, said.now, said.was, said.operation, codes_of(name, said),
        said.time if isinstance(said.time, str) else "", said.transaction, said.sent_columns, said.missing_field, said.deleted,
        said.lookup, said.operation_sql, {"insert": int(Op.INSERT), "put": int(Op.PUT)}.get(said.only_new, 0), said.skip,
        dict(said.encodings), said.each, tuple(said.pair),
    )  # fmt: skip


def without_beside(said: LayoutConfig, sample: pa.Table, beside: tuple[str, ...]) -> LayoutConfig:
    """A layout by which what stands beside what rows hold is the row's own only where it is named."""
    paths = [*fields_of(sample.select([name for name in sample.column_names if name in beside]))]
    return replace(said, bookkeeping=[*said.bookkeeping, *paths])


def _records(name: str, said: LayoutConfig, sample: pa.Table) -> tuple[dict[str, pa.DataType], pa.Table]:
    """What the records of a sample are made of, by path, and the records, each as a row of its own."""
    fields = fields_of(sample, (f"{said.each}.*",))
    if sample.num_rows and said.each not in fields:
        raise unknown_field(name, "each", said.each, fields)
    records, kind = by_record(sample, said.each), kind_of(sample, said.each)
    found = fields_of(records, (said.now, said.was))
    return found | ({said.each: kind} if kind is not None and said.each in found else {}), records


def _with_patches(name: str, said: LayoutConfig, layout: Layout) -> Layout:
    """The same, read out of one document for each row, which is made of whole ones and of patches."""
    if not said.now.endswith(".*") or (said.was and not said.was.endswith(".*")) or said.sent_columns or said.each:
        raise ConfigError(
            f"The layout of {name} has patches, and documents that do not lie at one place.",
            "A patch is made to a document, which must lie below a path.",
            f'Say so in [loads.{name}.layout]: now = "document.*"; without sent_columns and each.',
        )
    if said.missing_field == "unsent":
        raise ConfigError(
            f"The layout of {name} has patches, and missing_field = 'unsent'.",
            "What a patch does not name was not sent; what a whole document lacks is null.",
            f"Take missing_field out of [loads.{name}.layout], or set it to null.",
        )
    lacking = [column for column in layout.key if column not in layout.once]
    if lacking:
        raise ConfigError(
            f"The layout of {name} has patches, and the key {lacking[0]!r} lies in the document.",
            "Patches do not hold it.",
            f'Name where it stands beside the document: columns = {{ {lacking[0]} = "PATH", ... }} in [loads.{name}.layout].',
        )
    inside = tuple(layout.paths.get(column, column) for column in layout.schema.names if column not in layout.once)
    documents = said.now.removesuffix(".*"), said.was.removesuffix(".*")
    patches = Patches(documents[0], said.patch, said.removed, documents[1], inside, bool(said.columns))
    return replace(layout, now=f"{DOCUMENT}.*", sent_columns=SENT, missing_field="null", patches=patches)


def wanted(layout: Layout, sample: pa.Table) -> dict[str, pa.DataType | None]:
    """What a layout reads of a feed's rows: its own columns with their types, and the others as they come."""
    raw = Raw(by_record(sample, layout.each) if layout.each else sample)
    found: dict[str, pa.DataType | None] = {}
    patches = layout.patches
    if patches:
        inside = [path for path in (patches.document, patches.changed, patches.removed, patches.old) if path]
        beside = wanted(replace(layout, patches=None, sent_columns="", now=f"{patches.document}.*"), sample)
        outside = {path: kind for path, kind in beside.items() if not any(lies_in(path, one) for one in inside)}
        at_once = asked_at_once(layout, outside) if LINE in sample.column_names else {}
        return dict.fromkeys(inside, None) | outside | at_once
    for path in (layout.operation, layout.time, layout.transaction, layout.deleted, layout.each, *layout.pair):
        if path:
            found[path] = None
    for sql, where in ((layout.skip, "skip"), (layout.operation_sql, "operation_sql")):
        found |= dict.fromkeys(fields_named(raw, sql, where) if sql else ())
    if layout.sent_columns and "*" not in layout.sent_columns:
        found[layout.sent_columns] = None
    for name in layout.key if layout.key_only else layout.schema.names:
        if "*" in layout.sent_columns and raw.has(layout.path(layout.sent_columns, name)):
            found[layout.path(layout.sent_columns, name)] = None
        for pattern in (layout.now, layout.was):
            paths = [layout.path(one, name) for one in (pattern, "*") if pattern]
            there = next((path for path in paths if raw.has(path)), None)
            if there and there != layout.each:
                found[there] = layout.read_as(name)
    # What records hold is read out of them.
    return {path: kind for path, kind in found.items() if not layout.each or not path.startswith(f"{layout.each}.")}
