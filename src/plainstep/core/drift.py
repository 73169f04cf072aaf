"""Whether a target table's columns fit the columns that arrive."""

from __future__ import annotations

from collections.abc import Collection

import pyarrow as pa

from plainstep.errors import Refused


def missing_columns(
    load: str, table: str, wanted: pa.Schema, found: pa.Schema, started: bool, dropped: Collection[str] = ()
) -> list[str]:
    """The columns that must be added to a target table so that the load's rows fit.

    Args:
        load, table: names, for messages.
        wanted: the load's columns, as the target would hold them.
        found: the target's columns.
        started: whether the load has merged into this table before. Then columns may have come at the
            source; before that, a table that lacks some is somebody else's.
        dropped: columns that the source once had: the table may have them still.

    Raises:
        Refused: the table has columns of its own, lacks some, or holds others types.
    """
    known = {field.name: field.type for field in found}
    absent = [name for name in wanted.names if name not in known]
    extra = [name for name in found.names if name not in {*wanted.names, *dropped}]
    if extra or (absent and not started):
        what = f"lacks the column {absent[0]!r}" if absent and not started else f"has a column {extra[0]!r} of its own"
        raise Refused(
            f"The table {table} exists, but {what}.",
            f"The load {load} merges whole rows of: {', '.join(wanted.names)}.",
            "Rename or drop that table, change its columns to these, or merge into another one ('into').",
        )
    for field in wanted:
        if field.name in known and not holds(known[field.name], field.type):
            raise Refused(
                f"The column {field.name} of {table} is {known[field.name]}, and {field.type} arrives.",
                "Values would be bent to fit, or not fit at all.",
                f"Change the column's type to fit {field.type}, or merge into another table ('into').",
            )
    return absent


def holds(column: pa.DataType, value: pa.DataType) -> bool:
    """Whether a column can hold every value of a type, or refuses those it cannot."""
    if column == value or (pa.types.is_integer(column) and pa.types.is_integer(value)):
        return True
    if pa.types.is_decimal(column) and pa.types.is_decimal(value):
        room = column.precision - column.scale >= value.precision - value.scale
        return bool(room and column.scale >= value.scale)
    return _text(column) and _text(value)


def _text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))
