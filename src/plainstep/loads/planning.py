"""What a window asks of a load's target tables, and whether these can take it."""

from __future__ import annotations

import json
from contextlib import nullcontext
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING

from plainstep.core import schema_drift as drift
from plainstep.core.shapes.base import StepContext
from plainstep.core.shapes.mirror import added_by
from plainstep.deferred import pa
from plainstep.loads.rounds import kept
from plainstep.loads.target_rows import beside
from plainstep.loads.windows import refuse_another_table
from plainstep.stores.records import FileForm, Part, TableInfo

if TYPE_CHECKING:
    from collections.abc import Sequence

    from plainstep.core.positions import Watermark
    from plainstep.core.schema_drift import Fit
    from plainstep.core.shapes.base import TargetTable, WindowParts
    from plainstep.core.shapes.edits import Edits
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.stores.records import LedgerEntry


def moment_of(entry: LedgerEntry, changed_at: datetime | None) -> StepContext:
    """When a step is made that the ledger will tell of."""
    entry.at = entry.at or datetime.now(UTC)
    return StepContext(entry.at, entry.step, entry.upto, changed_at, entry.identity)


def parts_of(state: LoadState, rounds: Sequence[Sequence[Edits]], started: bool, anew: bool = False) -> list[Part]:
    """The edits of a shape's tables, ready to be committed.

    Args:
        state: the load's state.
        rounds: what is asked of each of its tables, round after round.
        started: whether it merges into tables of its own.
        anew: whether all of its tables were compared.
    """
    load = state.load
    return [
        Part(
            beside(load.into_table, table.suffix),
            load.target.fits(table.schema),
            table.key,
            some,
            partial(fit_of, state, table, started, rounds=some, anew=anew),
            FileForm(tuple(load.config.partition), load.config.format, load.config.partition_zone),
            counted=not table.suffix,
        )
        for table, some in zip(state.shape.tables(), rounds, strict=True)
    ]


def window_parts(state: LoadState, found: WindowParts, now: StepContext, strict: bool = True) -> list[Part]:
    """What a window asks of a load's target tables."""
    load, shape, held = state.load, state.shape, state.held
    looks = load.config.shape in ("history", "rollup")  # at what is there before anything is written
    with load.into_store.kept_open() if looks else nullcontext():
        if looks:
            refuse_unfit(state)
        rounds = kept(shape.rounds(found, now, held), strict and _is_sure(load))
    return parts_of(state, rounds, started=True)


def _is_sure(load: Load) -> bool:
    """Whether a load's source says for certain which rows are at the target.

    Our own capture may begin long after its table did. Of a feed, the beginning is its table's, unless it is told.
    """
    first = load.config.first
    begun = first == "snapshot" or (first == "start" and not load.source.is_managed)
    return begun and load.source.has_exact_operations


def refuse_unfit(state: LoadState, anew: bool = False) -> None:
    """Refuse tables that do not fit before their rows are read as what arrives: of a text, it would be said that it is not a number.

    Args:
        state: the load's state.
        anew: whether all of its tables are compared.
    """
    for table in state.shape.tables():
        fit_of(state, table, True, state.held.found(table.suffix), anew=anew)


def fit_of(
    state: LoadState,
    table: TargetTable,
    started: bool,
    info: TableInfo | None,
    rounds: Sequence[Edits] = (),
    anew: bool = False,
) -> Fit:
    """What is changed about a target table so that rows fit.

    Args:
        state: the load's state.
        table: the table.
        started: whether it merges into tables of its own.
        info: the table as it stands, or None if it is not there.
        rounds: what is asked of it.
        anew: whether all of the table is compared, so that it may be another one than before, with other settings.

    Raises:
        Refused: they do not, or what is needed is not wanted.
    """
    load, shape, before = state.load, state.shape, state.watermark
    place = beside(load.config.into, table.suffix)
    if before and not anew and not load.into_store.appends_only:
        refuse_another_table(load, before, beside(load.into_table, table.suffix), info)
    unseen = load.into_store.appends_only or load.config.shape == "events"  # no table shows the source's columns
    if before and unseen:
        return drift.of_watermark(load.name, place, before.columns, shape.schema.names, before.gone, load.config.drift)
    if info is None:
        return drift.Fit()
    wanted = load.target.fits(table.schema)
    told = {name for column in (before.gone if before else ()) for name in shape.names_of(column)}
    merged = merged_columns(state)
    gone = told | merged
    shed = _shed(before, wanted, info) if before and anew else []
    rows = (edits.put for edits in rounds if edits.put is not None)
    refilled = [name for name in wanted.names if name not in table.key] if before and _is_copy(load) else []
    return drift.fit(
        load.name,
        place,
        wanted,
        info.schema,
        started,
        gone,
        told,
        load.config.drift,
        rows,
        shed,
        refilled,
        set() if anew else merged,
    )


def merged_columns(state: LoadState) -> set[str]:
    """The columns that the target's table had when the load last merged into it."""
    before = state.watermark
    return {name for column in (before.columns if before else ()) for name in state.shape.names_of(column)}


def _is_copy(load: Load) -> bool:
    """Whether the source is a table that has all that the target's table holds: of rows that went, it has nothing."""
    config, has_rows = load.config, load.source.is_managed or bool(load.config.rows)
    return has_rows and config.shape == "mirror" and config.deletes == "drop" and "update" in config.operations


def _shed(before: Watermark, wanted: pa.Schema, info: TableInfo) -> list[str]:
    """The columns that a mirror added beside the source's, by settings that it has no more."""
    was = json.loads(before.made_by or "{}")
    added = added_by(was.get("deletes", ""), bool(was.get("stamp"))) if was.get("shape") == "mirror" else {}
    return [name for name in added if name in info.schema.names and name not in wanted.names]
