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
    return [*_named(raw, sql, where).values()]


def computed_of(raw: Raw, sql: str, where: str) -> pa.Array:
    """What an expression gives for each row; values in JSON documents are texts there.

    Raises:
        DataError: a value cannot be computed.
    """
    tree = nested({path: raw.column(name) for path, name in _named(raw, sql, where).items()})
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
