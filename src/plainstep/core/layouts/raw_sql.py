"""SQL over the fields of rows as a feed sends them, before anything is made of them."""

from __future__ import annotations

from typing import Any

from plainstep.core.arrays import Bools, flat
from plainstep.core.layouts.paths import nested
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import pa, pc
from plainstep.sql.expressions import computed, paths_in


def fields_named(raw: Raw, sql: str, where: str) -> list[str]:
    """The fields that an expression names, by path, as far as rows may have them."""
    found = (_field(raw, path) for path in paths_in(sql, where))
    return [path for path in found if path]


def computed_of(raw: Raw, sql: str, where: str) -> pa.Array:
    """What an expression gives for each row; values in JSON documents are texts there.

    Raises:
        DataError: a value cannot be computed.
    """
    whole = {*raw.rows.column_names}
    fields = {(name,) if name in whole else tuple(name.split(".")): name for name in fields_named(raw, sql, where)}
    tree = nested({path: raw.column(name) for path, name in fields.items()})
    rows = pa.table({name: _column(one) for name, one in tree.items()} or {"plainstep none": pa.nulls(len(raw))})
    return flat(computed(rows, {where: sql})[where])


def without_skipped(rows: pa.Table, sql: str) -> pa.Table:
    """Rows without those for which a condition holds."""
    if not sql or not rows.num_rows:
        return rows
    skipped: Bools = pc.fill_null(computed_of(Raw(rows), f"({sql})::BOOLEAN", "skip"), False).to_numpy(
        zero_copy_only=False
    )
    return rows.filter(pa.array(~skipped)) if skipped.any() else rows


def _field(raw: Raw, path: tuple[str, ...]) -> str:
    """The longest beginning of a path that is a field of the rows: what comes after it is taken of its value."""
    for length in range(len(path), 0, -1):
        field = ".".join(path[:length])
        if raw.has(field):
            return field if field in raw.rows.column_names or raw.within(field) or length == 1 else path[0]
    return ""


def _column(one: Any) -> pa.Array:
    """A column; a struct of columns where fields of it are named."""
    if not isinstance(one, dict):
        return one
    return pa.StructArray.from_arrays([_column(inner) for inner in one.values()], list(one))
