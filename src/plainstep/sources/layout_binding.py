"""From what a plainstep.toml says of a layout, and what the feed looks like, to a layout that can be applied."""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Callable, Collection
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.changes.ops import Op
from plainstep.core.held_types import held_as
from plainstep.core.layouts.encodings import usual_kind
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.layout import NEW, OLD, ROLES, Layout
from plainstep.core.layouts.patches import SENT, Patches
from plainstep.core.layouts.patches_at_once import asked_at_once
from plainstep.core.layouts.paths import lies_in
from plainstep.core.layouts.raw_sql import computed_of, fields_named
from plainstep.core.layouts.records import by_record, kind_of
from plainstep.core.layouts.rows import DOCUMENT, LINE, Raw
from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError
from plainstep.sql.expressions import checked, paths_in
from plainstep.stores.declared_types import arrow_type

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
from plainstep.settings.load import LoadConfig

# In which type a column is read, given the one that values suggest.
ReadAs = Callable[[str, pa.DataType], pa.DataType]


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
    columns, paths = _columns(name, said, fields, rows)
    declared = {*fields_of(sample, ())} if is_typed else set[str]()
    kinds = {path: (lambda _, kind: kind) if path in declared else _suggested(read_as, sample, path) for path in fields}
    schema = pa.schema([(column, _kind(name, column, config, paths, said, fields, rows, kinds)) for column in columns])
    for column in said.encodings:
        if column not in columns:
            near = difflib.get_close_matches(column, columns, 1)
            raise ConfigError(
                f"The layout of {name} says how the column {column!r} is written, and its rows have none of this name.",
                f"Did you mean {near[0]!r}?" if near else f"Their columns: {', '.join(columns)}.",
                f"Fix 'encodings' in [loads.{name}.layout].",
            )
    for column in columns:
        if said.encodings.get(column) == "decimal_bytes" and not _counts(schema.field(column).type):
            raise ConfigError(
                f"The layout of {name} says that {column} is written as decimal_bytes, and nothing says how many places it has.",
                "The bytes tell the digits alone.",
                f'Say so in the load: types = {{ "{column}" = "DECIMAL(10,2)" }}.',
            )
    for column in key:
        if column not in columns:
            raise ConfigError(
                f"The key of {name} names the column {column!r}, which its rows do not have.",
                f"Their columns: {', '.join(columns) or 'none'}.",
                f"Fix 'key' in [loads.{name}], or 'columns' in its layout.",
            )
    layout = replace(outline(name, said, key), schema=schema, paths=paths, once=_once(columns, paths, said, fields))
    _refuse_absent(name, layout, sample, fields)
    _refuse_unsent(name, layout, sample, fields)
    layout = _with_patches(name, said, layout) if said.patch or said.removed else layout
    for sql, where in ((layout.skip, "skip"), (layout.operation_sql, "operation_sql")):
        if sql:
            _refuse_bad_sql(f"[loads.{name}.layout], {where}", sql, sample, fields)
    return layout


def _suggested(read_as: ReadAs, sample: pa.Table, path: str) -> ReadAs:
    """The same for a field of documents, which counts as text where it has no value in any of them."""

    def told(column: str, suggested: pa.DataType) -> pa.DataType:
        found, without = read_as(column, suggested), read_as(column, pa.null())
        if not pa.types.is_string(found) or pa.types.is_string(without) or pa.types.is_null(without):
            return found
        values = Raw(sample).column(path)
        return without if values.null_count == len(values) else found

    return told


def outline(name: str, said: LayoutConfig, key: tuple[str, ...]) -> Layout:
    """The layout of a load as far as it is known without a row of the feed: without the row's columns.

    Raises:
        ConfigError: the layout does not fit itself.
    """
    return Layout(
        key, pa.schema([]), {}, said.now, said.was, said.operation, _codes(name, said),
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
        raise _unknown(name, "each", said.each, fields)
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


def _counts(kind: pa.DataType) -> bool:
    return bool(pa.types.is_decimal(kind) or pa.types.is_integer(kind))


def _refuse_bad_sql(where: str, sql: str, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
    """Refuse SQL that is none over these fields, before any row is read."""
    raw = Raw(sample)
    for path in paths_in(sql, where) if sample.num_rows else []:
        told = ".".join(path)
        inside = raw.has(path[0]) and raw.within(told)
        near = difflib.get_close_matches(told, list(fields), 1)
        # A document may have a field that none of the sample has yet, such as those of a heartbeat.
        if (
            told in fields
            or (inside and (_known(told, {*fields} - {*sample.column_names}) or not near))
            or (raw.has(path[0]) and not inside)
        ):
            continue
        raise ConfigError(
            f"{where} = {sql!r} names {told!r}, which is not a field of the feed.",
            f"Did you mean {near[0]!r}?" if near else f"What there is: {', '.join(fields)}.",
            "Write text in single quotes: 'tree'.",
        )
    checked(sql, [path[0] for path in paths_in(sql, where)], where)
    try:
        computed_of(Raw(sample.slice(0, 1)), sql, where)
    except DataError as error:
        raise ConfigError(
            f"{where} = {sql!r}: {error.what.partition(': ')[2]}",
            "Values of SQLite and of documents are texts here.",
            "Convert them: CAST(x AS INTEGER).",
        ) from None


def _known(told: str, fields: Collection[str]) -> bool:
    """Whether a path leads to a field of documents, or into one, or is above one."""
    return any(lies_in(told, one) or lies_in(one, told) for one in fields)


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


def matched(pattern: str, path: str) -> str | None:
    """What stands in a path where a pattern has its ``*``, or None if it does not fit."""
    before, _, after = pattern.partition("*")
    fits = path.startswith(before) and path.endswith(after) and len(path) > len(before) + len(after)
    return path[len(before) : len(path) - len(after)] if fits else None


def _columns(
    name: str, said: LayoutConfig, fields: dict[str, pa.DataType], rows: pa.Schema | None
) -> tuple[list[str], dict[str, str]]:
    """The row's own columns, and the paths of those whose value lies elsewhere than under their name."""
    if isinstance(said.columns, dict):
        return list(said.columns), dict(said.columns)
    if said.columns:
        return list(said.columns), {}
    if rows is not None:
        return rows.names, {}
    found = _matching(said, fields)
    if not found:
        raise ConfigError(
            f"No column of {name}'s feed fits now = {said.now!r}.",
            f"Its columns: {', '.join(fields)}.",
            f"Fix 'now' in [loads.{name}.layout], or list the row's 'columns'.",
        )
    return list(found), {column: path for column, path in found.items() if column != path}


def _once(
    columns: list[str], paths: dict[str, str], said: LayoutConfig, fields: dict[str, pa.DataType]
) -> frozenset[str]:
    """The columns that stand once for both sides, outside where old and new values lie."""
    patterns = [pattern for pattern in (said.now, said.was) if pattern]

    def below(column: str) -> bool:
        places = [pattern.replace("*", paths.get(column, column)) for pattern in patterns]
        return any(lies_in(path, place) for place in places for path in fields)

    return frozenset(column for column in columns if paths.get(column, column) in fields and not below(column))


def _matching(said: LayoutConfig, fields: dict[str, pa.DataType]) -> dict[str, str]:
    """The columns that lie under the layout's patterns, by name, with their paths below the ``*``."""
    found: dict[str, str] = {}
    aside = bookkeeping(said)
    patterns = [pattern for pattern in (said.now, said.was) if pattern]
    for pattern in patterns:
        for path in fields:
            inner = matched(pattern, path)
            if inner is not None and path not in aside and not _of_another_side(path, said, pattern):
                inner = next((whole for whole in said.encodings if inner.startswith(f"{whole}.")), inner)
                found.setdefault(re.sub(r"\W", "_", inner) if "." in inner else inner, inner)
    if "*" not in patterns:  # what stands once for both sides, such as the key
        judged = aside | _named_by(said.skip, "skip")
        once = [path for path in fields if path not in judged and "." not in path]
        found |= {path: path for path in once if path not in found and not _of_another_side(path, said, "*")}
    return found


def bookkeeping(said: LayoutConfig) -> set[str]:
    """The columns that a layout names as not the row's own."""
    time = said.time if isinstance(said.time, str) else ""
    return {
        *said.position,
        said.operation,
        said.transaction,
        time,
        said.deleted,
        said.sent_columns,
        *said.bookkeeping,
        *_named_by(said.operation_sql, "operation_sql"),
    } - {""}


def _named_by(sql: str, where: str) -> set[str]:
    """The fields that SQL over a feed's fields names."""
    return {".".join(path) for path in paths_in(sql, where)} if sql else set()


def _of_another_side(path: str, said: LayoutConfig, pattern: str) -> bool:
    """Whether a path belongs to another, narrower pattern."""
    others = [
        other for other in (said.now, said.was, said.sent_columns) if "*" in other and other not in ("*", pattern)
    ]
    return any(matched(other, path) is not None or other.startswith(f"{path}.") for other in others)


def _kind(
    name: str,
    column: str,
    config: LoadConfig,
    paths: dict[str, str],
    said: LayoutConfig,
    fields: dict[str, pa.DataType],
    rows: pa.Schema | None,
    read_as: dict[str, ReadAs],
) -> pa.DataType:
    if column in config.types:
        return arrow_type(name, column, config.types[column])
    if rows is not None and column in rows.names and not pa.types.is_null(rows.field(column).type):
        return rows.field(column).type
    usual = usual_kind(said.encodings[column]) if column in said.encodings else None
    if usual is not None:
        return usual
    inner = paths.get(column, column)
    places = [pattern.replace("*", inner) for pattern in (said.now, said.was, "*") if pattern]
    if said.encodings.get(column) == "tagged":  # of the type that values have within their objects
        places += [path for path in fields for place in places if path.startswith(f"{place}.")]
    there = [path for path in places if path in fields]
    for path in sorted(there, key=lambda path: bool(pa.types.is_null(fields[path]))):
        kind = read_as[path](column, held_as(fields[path]))
        if not pa.types.is_null(kind):
            return kind
    if there:
        raise DataError(
            f"Nothing says what the column {column!r} of {name} holds.",
            "Without a type, its values cannot be merged.",
            f'Say so in the load: types = {{ "{column}" = "TEXT" }} (or INTEGER, REAL, DECIMAL(10,2), DATE, ...); or name its table: rows.',
        )
    raise ConfigError(
        f"The layout of {name} names the column {column!r}, which is not at {' or '.join(places)}.",
        f"What there is: {', '.join(fields)}.",
        f"Fix 'columns' or 'now' in [loads.{name}.layout], or give its type: types = {{ \"{column}\" = \"TEXT\" }}.",
    )


def _codes(name: str, said: LayoutConfig) -> dict[str, int]:
    """What each code means, by its text."""
    listed = [(getattr(said, word), role) for word, role in ROLES.items()]
    listed += [(said.put, int(Op.PUT)), (said.update_was, OLD), (said.update_now, NEW)]
    codes: dict[str, int] = {}
    for values, role in listed:
        for value in values:
            text = str(value).lower() if isinstance(value, bool) else str(value)
            if codes.get(text, role) != role:
                raise ConfigError(f"The layout of {name} gives the code {text!r} two meanings.")
            codes[text] = role
    ways = [word for word in ("operation", "operation_sql", "only_new") if getattr(said, word)]
    if len(ways) > 1:
        raise ConfigError(
            f"The layout of {name} has both {ways[0]} and {ways[1]}.", "", f"One is enough: [loads.{name}.layout]."
        )
    if said.only_new and not said.was:
        raise ConfigError(
            f"The layout of {name} has only_new, and no 'was'.",
            "Which images a row has tells the operation.",
            "Say where old values lie: was.",
        )
    if bool(codes) != bool(said.operation or said.operation_sql):
        what = "codes but no 'operation'" if codes else f"'{ways[0]}' but no codes"
        raise ConfigError(
            f"The layout of {name} has {what}.", "", f"Both are needed, or neither: [loads.{name}.layout]."
        )
    if said.pair and not said.update_was:
        raise ConfigError(
            f"The layout of {name} says what pairs the rows of an update, and has no codes of such rows.",
            "",
            f"Add update_was and update_now, or take pair out of [loads.{name}.layout].",
        )
    if said.partition and said.truncate:
        raise ConfigError(
            f"The layout of {name} has a partition, and codes of truncates.",
            "A truncate ends the rows of all partitions, and which of their changes came before it is not known.",
            f"Take truncate out of [loads.{name}.layout]; such rows are then refused.",
        )
    if bool(said.update_was) != bool(said.update_now):
        raise ConfigError(f"The layout of {name} needs both update_was and update_now, or neither.")
    return codes


def _refuse_absent(name: str, layout: Layout, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
    raw = Raw(sample)
    named = [("operation", layout.operation), ("time", layout.time), ("transaction", layout.transaction),
             ("deleted", layout.deleted), ("sent_columns", "" if "*" in layout.sent_columns else layout.sent_columns),
             *(("pair", path) for path in layout.pair)]  # fmt: skip
    for word, path in named:
        if path and (not raw.has(path) or _is_unseen(raw, path, fields)):
            # What says that a row is gone may be in none of the sample: that is told, as long as it is so.
            if word == "deleted" and raw.has(path) and not difflib.get_close_matches(path, list(fields), 1):
                continue
            raise _unknown(name, word, path, fields)


def _refuse_unsent(name: str, layout: Layout, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
    """Refuse columns that the feed does not carry: they would be null in every row that changes."""
    if layout.key_only or layout.sent_columns or layout.each or not fields:
        return
    raw = Raw(sample)
    patterns = [pattern for pattern in (layout.now, layout.was, "*") if pattern]
    for column in layout.schema.names:
        places = [layout.path(pattern, column) for pattern in patterns]
        if any(place in fields or raw.has(place) or raw.within(place) for place in places):
            continue
        carried = [other for other in layout.schema.names if any(layout.path(one, other) in fields for one in patterns)]
        raise ConfigError(
            f"The rows of {name} have the column {column!r}, which its feed does not carry.",
            "It would become null in every row that changes.",
            f"Name those that it carries: columns = {json.dumps(carried, ensure_ascii=False)} in [loads.{name}.layout]; "
            "or lookup = true, to look all values up.",
        )


def _is_unseen(raw: Raw, path: str, fields: dict[str, pa.DataType]) -> bool:
    """Whether a path leads into documents of which none of the sample has such a field."""
    return bool(raw.within(path) and path not in fields and len(raw))


def unseen(said: LayoutConfig, sample: pa.Table) -> str:
    """What to tell of a layout whose deletes none of the sample shows; empty where they show."""
    asked = bool(said.deleted) and not said.each
    if asked and _is_unseen(Raw(sample), said.deleted, fields_of(sample, (said.now, said.was))):
        return f"no row that was looked at has {said.deleted!r}, which says that a row is deleted"
    return ""


def _unknown(name: str, word: str, path: str, fields: dict[str, pa.DataType]) -> ConfigError:
    near = difflib.get_close_matches(path, list(fields), 1)
    return ConfigError(
        f"The layout of {name} says {word} = {path!r}, and there is no such field.",
        f"Did you mean {near[0]!r}?" if near else f"What there is: {', '.join(fields)}.",
        f"Fix it in [loads.{name}.layout].",
    )
