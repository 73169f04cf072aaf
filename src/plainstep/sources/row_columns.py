"""Which columns of a feed's rows are the row's own, where their values lie, and of which types they are."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from plainstep.core.held_types import held_as
from plainstep.core.layouts.encodings import usual_kind
from plainstep.core.layouts.paths import lies_in
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError
from plainstep.sql.expressions import paths_in
from plainstep.stores.declared_types import arrow_type

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
    from plainstep.settings.load import LoadConfig

# In which type a column is read, given the one that values suggest.
ReadAs = Callable[[str, pa.DataType], pa.DataType]


def own_columns(
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


def _of_another_side(path: str, said: LayoutConfig, pattern: str) -> bool:
    """Whether a path belongs to another, narrower pattern."""
    others = [
        other for other in (said.now, said.was, said.sent_columns) if "*" in other and other not in ("*", pattern)
    ]
    return any(matched(other, path) is not None or other.startswith(f"{path}.") for other in others)


def matched(pattern: str, path: str) -> str | None:
    """What stands in a path where a pattern has its ``*``, or None if it does not fit."""
    before, _, after = pattern.partition("*")
    fits = path.startswith(before) and path.endswith(after) and len(path) > len(before) + len(after)
    return path[len(before) : len(path) - len(after)] if fits else None


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


def standing_once(
    columns: list[str], paths: dict[str, str], said: LayoutConfig, fields: dict[str, pa.DataType]
) -> frozenset[str]:
    """The columns that stand once for both sides, outside where old and new values lie."""
    patterns = [pattern for pattern in (said.now, said.was) if pattern]

    def below(column: str) -> bool:
        places = [pattern.replace("*", paths.get(column, column)) for pattern in patterns]
        return any(lies_in(path, place) for place in places for path in fields)

    return frozenset(column for column in columns if paths.get(column, column) in fields and not below(column))


def column_type(
    name: str,
    column: str,
    config: LoadConfig,
    paths: dict[str, str],
    said: LayoutConfig,
    fields: dict[str, pa.DataType],
    rows: pa.Schema | None,
    read_as: dict[str, ReadAs],
) -> pa.DataType:
    """The type of one of the row's own columns: as it is said, as the table has it, or as the feed's fields are.

    Raises:
        ConfigError: it is nowhere.
        DataError: nothing says what it holds.
    """
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


def suggested(read_as: ReadAs, sample: pa.Table, path: str) -> ReadAs:
    """The same for a field of documents, which counts as text where it has no value in any of them."""

    def told(column: str, suggested: pa.DataType) -> pa.DataType:
        found, without = read_as(column, suggested), read_as(column, pa.null())
        if not pa.types.is_string(found) or pa.types.is_string(without) or pa.types.is_null(without):
            return found
        values = Raw(sample).column(path)
        return without if values.null_count == len(values) else found

    return told
