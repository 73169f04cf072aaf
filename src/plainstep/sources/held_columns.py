"""The columns of a load's target table: where rows of a feed only suggest a type, it is these that tell how they are read."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

from plainstep.core import held_types
from plainstep.core.shapes.journal import SIDES
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.sources.layout_binding import ReadAs


def read_as(load: Load) -> ReadAs:
    """Tells in which type a column of a load is read, given the one that rows suggest."""

    @cache
    def held() -> pa.Schema:
        info = load.target.table(load.into_table, ()) if load.config.shape in BEFORE else None
        return info.schema if info else pa.schema([])

    def told(column: str, suggested: pa.DataType) -> pa.DataType:
        name = next((name for name in _names(load, column) if name in held().names), None)
        if name is None:
            return suggested
        kind = held().field(name).type
        if pa.types.is_null(suggested):
            return kind
        [fitted] = load.target.fits(pa.schema([(name, suggested)])).types
        return held_types.read_as(suggested, fitted, kind)

    return told


# What stands before the names of columns, by shape. (A rollup and an outbox have none of the source's columns.)
BEFORE = {"mirror": ("",), "history": ("",), "journal": tuple(SIDES.values())}


def _names(load: Load, column: str) -> list[str]:
    """The columns of the target's table that hold one of the source."""
    columns = load.config.columns
    names = [new for new, old in columns.items() if old == column] if isinstance(columns, dict) else [column]
    return [before + name for before in BEFORE.get(load.config.shape, ()) for name in names]
