"""The columns of a load's target table: where rows of a feed only suggest a type, it is these that tell how they are read."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

from plainstep.core import held_types
from plainstep.core.shapes.history import History
from plainstep.core.shapes.journal import Journal
from plainstep.core.shapes.measures import Measure
from plainstep.core.shapes.mirror import Mirror
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.sources.row_columns import ReadAs


def read_as(load: Load) -> ReadAs:
    """Tells in which type a column of a load is read, given the one that rows suggest."""

    @cache
    def held() -> pa.Schema:
        info = load.target.table(load.into_table, ()) if load.config.shape != "events" else None
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


# Under which names tables hold a column of the source, by shape: those of the others hold none.
HELD = {"mirror": Mirror.names_of, "history": History.names_of, "journal": Journal.names_of}
# Measures that are of the type of what they measure.
ALIKE = ("sum", "min", "max")


def _names(load: Load, column: str) -> list[str]:
    """The columns of the target's table that are of the type of one of the source's."""
    config = load.config
    taken = (
        [new for new, old in config.columns.items() if old == column] if isinstance(config.columns, dict) else [column]
    )
    if config.shape == "rollup":
        measures = [Measure.parsed(name, sql) for name, sql in config.measures.items()]
        of = {one.name: one.of for one in measures if one.kind in ALIKE}
        of |= config.by if isinstance(config.by, dict) else {name: name for name in config.by}
        return [name for name, sql in of.items() if sql.strip('" ') in taken]
    names_of = HELD.get(config.shape)
    return [held for name in taken for held in names_of(name)] if names_of else []
