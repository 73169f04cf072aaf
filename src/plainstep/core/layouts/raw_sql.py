"""SQL over the fields of rows as a feed sends them, before anything is made of them."""

from __future__ import annotations

from typing import Any

from plainstep.core.arrays import Bools, flat
from plainstep.core.layouts.paths import nested
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import pa, pc
from plainstep.sql.expressions import computed, paths_in

# Rows for each different text of a column, from which on an expression over it is computed once for each text.
OFTEN = 16


def fields_named(raw: Raw, sql: str, where: str) -> list[str]:
    """The fields that an expression names, by path, as far as rows may have them."""
    return [*_named(raw, sql, where).values()]


def computed_of(raw: Raw, sql: str, where: str) -> pa.Array:
    """What an expression gives for each row; values in JSON documents are texts there.

    Raises:
        DataError: a value cannot be computed.
    """
    columns = {path: raw.column(name) for path, name in _named(raw, sql, where).items()}
    coded = _few(columns)
    if coded is None:
        return _computed(columns, len(raw), sql, where)
    [path] = columns
    nulls = coded.indices.null_count
    each = pa.concat_arrays([coded.dictionary, pa.nulls(1, coded.dictionary.type)]) if nulls else coded.dictionary
    found = _computed({path: each}, len(each), sql, where)
    return found.take(coded.indices.fill_null(len(each) - 1) if nulls else coded.indices)


def _few(columns: dict[tuple[str, ...], pa.Array]) -> pa.DictionaryArray | None:
    """The one column that is named, if it holds few texts over and over: what becomes of each is computed once then."""
    [column] = columns.values() if len(columns) == 1 else [None]
    if column is None or not pa.types.is_string(column.type):
        return None
    coded = column.dictionary_encode()
    return coded if len(coded.dictionary) * OFTEN <= len(coded) else None


def _computed(columns: dict[tuple[str, ...], pa.Array], count: int, sql: str, where: str) -> pa.Array:
    tree = nested(columns)
    rows = pa.table({name: _column(one) for name, one in tree.items()} or {"plainstep none": pa.nulls(count)})
    return flat(computed(rows, {where: sql})[where])


def without_skipped(rows: pa.Table, sql: str) -> pa.Table:
    """Rows without those for which a condition holds."""
    if not sql or not rows.num_rows:
        return rows
    skipped: Bools = pc.fill_null(computed_of(Raw(rows), f"({sql})::BOOLEAN", "skip"), False).to_numpy(
        zero_copy_only=False
    )
    return rows.filter(pa.array(~skipped)) if skipped.any() else rows


def _named(raw: Raw, sql: str, where: str) -> dict[tuple[str, ...], str]:
    """The same, with the parts by which the expression names them: a column may have dots in its own name."""
    found = (_field(raw, path) for path in paths_in(sql, where))
    return {parts: ".".join(parts) for parts in found if parts}


def _field(raw: Raw, path: tuple[str, ...]) -> tuple[str, ...]:
    """The longest beginning of a path that is a field of the rows: what comes after it is taken of its value."""
    for length in range(len(path), 0, -1):
        field = ".".join(path[:length])
        if raw.has(field):
            name = field if raw.within(field) else raw.column_of(field)
            return next(path[:count] for count in range(1, length + 1) if ".".join(path[:count]) == name)
    return ()


def _column(one: Any) -> pa.Array:
    """A column; a struct of columns where fields of it are named."""
    if not isinstance(one, dict):
        return one
    return pa.StructArray.from_arrays([_column(inner) for inner in one.values()], list(one))
