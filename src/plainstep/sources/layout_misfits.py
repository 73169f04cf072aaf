"""Layouts that do not fit the rows of their feed: refused before any row is merged."""

from __future__ import annotations

import difflib
import json
from collections.abc import Collection
from typing import TYPE_CHECKING

from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.paths import lies_in
from plainstep.core.layouts.raw_sql import computed_of
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError
from plainstep.sql.expressions import checked, paths_in

if TYPE_CHECKING:
    from plainstep.core.layouts.layout import Layout
    from plainstep.settings.layout import LayoutConfig


def refuse_unnamed(name: str, said: LayoutConfig, schema: pa.Schema, key: tuple[str, ...]) -> None:
    """Refuse settings of columns that the rows do not have, or that their columns do not take.

    Args:
        name: the load's name.
        said: what is said of its layout.
        schema: the row's own columns.
        key: the columns that tell rows apart.

    Raises:
        ConfigError: an encoding or the key names another one, or digits have no places.
    """
    columns = schema.names
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


def _counts(kind: pa.DataType) -> bool:
    return bool(pa.types.is_decimal(kind) or pa.types.is_integer(kind))


def refuse_absent(name: str, layout: Layout, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
    """Refuse a layout that names fields which the rows do not have.

    Raises:
        ConfigError: it does.
    """
    raw = Raw(sample)
    named = [("operation", layout.operation), ("time", layout.time), ("transaction", layout.transaction),
             ("deleted", layout.deleted), ("sent_columns", "" if "*" in layout.sent_columns else layout.sent_columns),
             *(("pair", path) for path in layout.pair)]  # fmt: skip
    for word, path in named:
        if path and (not raw.has(path) or _is_unseen(raw, path, fields)):
            # What says that a row is gone may be in none of the sample: that is told, as long as it is so.
            if word == "deleted" and raw.has(path) and not difflib.get_close_matches(path, list(fields), 1):
                continue
            raise unknown_field(name, word, path, fields)


def refuse_unsent(name: str, layout: Layout, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
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


def refuse_bad_sql(where: str, sql: str, sample: pa.Table, fields: dict[str, pa.DataType]) -> None:
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


def unseen(said: LayoutConfig, sample: pa.Table) -> str:
    """What to tell of a layout whose deletes none of the sample shows; empty where they show."""
    asked = bool(said.deleted) and not said.each
    if asked and _is_unseen(Raw(sample), said.deleted, fields_of(sample, (said.now, said.was))):
        return f"no row that was looked at has {said.deleted!r}, which says that a row is deleted"
    return ""


def _is_unseen(raw: Raw, path: str, fields: dict[str, pa.DataType]) -> bool:
    """Whether a path leads into documents of which none of the sample has such a field."""
    return bool(raw.within(path) and path not in fields and len(raw))


def unknown_field(name: str, word: str, path: str, fields: dict[str, pa.DataType]) -> ConfigError:
    """The error for a setting that names a field which is not there."""
    near = difflib.get_close_matches(path, list(fields), 1)
    return ConfigError(
        f"The layout of {name} says {word} = {path!r}, and there is no such field.",
        f"Did you mean {near[0]!r}?" if near else f"What there is: {', '.join(fields)}.",
        f"Fix it in [loads.{name}.layout].",
    )
