"""What texts seem to hold: whole numbers, numbers, yes and no, dates, times, or just text."""

from __future__ import annotations

from functools import cache

from plainstep.core.casting import fitted
from plainstep.deferred import pa, pc

# A number with zeros before it is a code that looks like one.
WHOLE = r"^[+-]?(0|[1-9]\d{0,17})$"
NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"
LEADING_ZERO = r"^[+-]?0\d"
DAY = r"^\d{4}-\d\d-\d\d$"
TIME = r"^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d{1,6})?)?$"
ZONED = r"^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d{1,6})?)?(Z|[+-]\d\d(:?\d\d)?)$"


@cache
def tried_types() -> list[tuple[str, pa.DataType]]:
    """The types that texts are tried for, each with the pattern that all must have."""
    return [
        (WHOLE, pa.int64()),
        (NUMBER, pa.float64()),
        (r"^(true|false)$", pa.bool_()),
        (DAY, pa.date32()),
        (TIME, pa.timestamp("us")),
        (ZONED, pa.timestamp("us", "UTC")),
    ]


def typed(rows: pa.Table) -> pa.Table:
    """Columns of texts in the types that all of their values seem to have."""
    columns = {}
    for name in rows.column_names:
        column = rows[name].combine_chunks()
        kind = kind_of(column)
        columns[name] = pa.nulls(len(column)) if pa.types.is_null(kind) else fitted(column, kind)[0]
    return pa.table(columns)


def kind_of(column: pa.Array) -> pa.DataType:
    """The type that all texts of a column seem to have."""
    there = column.drop_null()
    if not len(there):
        return pa.null()
    for pattern, kind in tried_types():
        if pc.all(pc.match_substring_regex(there, pattern)).as_py():
            if pa.types.is_floating(kind) and pc.any(pc.match_substring_regex(there, LEADING_ZERO)).as_py():
                return pa.string()
            return kind
    return pa.string()
