"""A load's shape: what its window asks of its target tables."""

from __future__ import annotations

import json
from contextlib import nullcontext
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING, Any, cast

from plainstep.core import schema_drift as drift
from plainstep.core.shapes.base import StepContext
from plainstep.core.shapes.events import Events, Rule
from plainstep.core.shapes.history import History
from plainstep.core.shapes.journal import Journal
from plainstep.core.shapes.measures import Measure
from plainstep.core.shapes.mirror import Mirror, added_by
from plainstep.core.shapes.rollup import Rollup
from plainstep.deferred import pa
from plainstep.errors import ConfigError
from plainstep.loads.keys import key_of
from plainstep.loads.target_rows import TargetRows, beside
from plainstep.loads.windows import refuse_another_table
from plainstep.sql.literals import quoted
from plainstep.stores.records import FileForm, Part, TableInfo

if TYPE_CHECKING:
    from plainstep.core.positions import Mark
    from plainstep.core.schema_drift import Fit
    from plainstep.core.shapes.base import Shape, TargetTable, WindowChanges
    from plainstep.core.shapes.edits import Edits
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry


def shape_of(load: Load) -> Shape:
    """A load's shape, over the columns that its source has now.

    Raises:
        ConfigError: a setting of it makes no sense over these columns.
    """
    schema = load.target.fits(load.source.schema())
    shape = SHAPES[load.config.shape](load, schema, key_of(load, schema))
    shape.tables()
    return shape


def _mirror(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    config = load.config
    own = load.source.is_managed
    return Mirror(schema, key, config.deletes, tuple(config.operations), config.stamp, own)


def _history(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    _refuse_unknown(load, "watch", load.config.watch, schema)
    return History(schema, key, tuple(load.config.watch) or None, load.config.every_change)


def _journal(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    journal = Journal(schema, key, load.config.grain != "net", tuple(load.config.operations))
    _refuse_unknown_partition(load, journal.tables()[0].schema.names)
    return journal


def _rollup(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    config = load.config
    by = config.by
    if not isinstance(by, dict):
        _refuse_unknown(load, "by", by, schema)
        by = {name: quoted(name) for name in by}
    measures = tuple(Measure.parsed(name, sql) for name, sql in config.measures.items())
    return Rollup(schema, key, by, measures)


def _events(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    rules = tuple(Rule(name, when) for name, when in load.config.rules.items())
    return Events(schema, key, rules, f"plainstep/{load.config.source}", load.config.grain != "net")


SHAPES = {"mirror": _mirror, "history": _history, "journal": _journal, "rollup": _rollup, "events": _events}


def _refuse_unknown(load: Load, setting: str, names: list[str], schema: pa.Schema) -> None:
    unknown = [name for name in names if name not in schema.names]
    if unknown:
        raise ConfigError(
            f"{setting} of {load.name} names the column {unknown[0]!r}, which its rows do not have.",
            f"Their columns: {', '.join(schema.names)}.",
            f"Mend {setting!r} in [loads.{load.name}].",
        )


def _refuse_unknown_partition(load: Load, columns: list[str]) -> None:
    known = ["load", "date", *columns, *(name.removeprefix("now_") for name in columns if name.startswith("now_"))]
    unknown = [name for name in load.config.partition if name not in known]
    if unknown:
        raise ConfigError(
            f"partition of {load.name} names {unknown[0]!r}, which its journal does not have.",
            f"It may name: {', '.join(known)}.",
            f"Mend 'partition' in [loads.{load.name}].",
        )


def in_held_types(shape: Shape, info: TableInfo | None) -> Shape:
    """A shape that holds the source's columns in the types of its table, where these hold more: a source may narrow."""

    names = {field.name: shape.names_of(field.name)[-1:] for field in shape.schema}
    if info is None or not all(name and name[0] in info.schema.names for name in names.values()):
        return shape
    found = pa.schema([info.schema.field(name).with_name(field) for field, [name] in names.items()])
    return replace(cast("Any", shape), schema=drift.as_held(shape.schema, found))


def held_by(load: Load, shape: Shape) -> TargetRows:
    """What a load's target holds."""
    return TargetRows(load, shape.tables())


def moment_of(entry: LedgerEntry, changed_at: datetime | None) -> StepContext:
    """When a step is made that the ledger will tell of."""
    entry.at = entry.at or datetime.now(UTC)
    return StepContext(entry.at, entry.step, entry.upto, changed_at, entry.identity)


def parts_of(
    load: Load, shape: Shape, edits: list[Edits], before: Mark | None, started: bool, anew: bool = False
) -> list[Part]:
    """The edits of a shape's tables, ready to be committed.

    Args:
        load: the load.
        shape: its shape.
        edits: what is asked of each of its tables.
        before: its mark.
        started: whether it merges into tables of its own.
        anew: whether all of its tables were compared.
    """
    return [
        Part(
            beside(load.into_table, table.suffix),
            load.target.fits(table.schema),
            table.key,
            one,
            partial(fit_of, load, shape, table, before, started, rows=one.put, anew=anew),
            FileForm(tuple(load.config.partition), load.config.format),
            counted=not table.suffix,
        )
        for table, one in zip(shape.tables(), edits, strict=True)
    ]


def window_parts(
    load: Load, shape: Shape, found: WindowChanges, now: StepContext, before: Mark | None, sure: bool = True
) -> list[Part]:
    """What a window asks of a load's target tables."""
    held = held_by(load, shape)
    looks = load.config.shape in ("history", "rollup")  # at what is there before anything is written
    with load.into_store.kept_open() if looks else nullcontext():
        if looks:
            for table in shape.tables():
                fit_of(load, shape, table, before, True, held.found(table.suffix))
        edits = shape.edits(found, now, held)
    # Our own capture may begin long after its table did. Of a feed, the beginning is its table's, unless it is told.
    config = load.config
    begun = config.first == "snapshot" or (config.first == "beginning" and not load.source.is_managed)
    for one in edits:
        one.sure = one.sure and sure and begun and load.source.sure
    return parts_of(load, shape, edits, before, started=True)


def fit_of(
    load: Load,
    shape: Shape,
    table: TargetTable,
    before: Mark | None,
    started: bool,
    info: TableInfo | None,
    rows: pa.Table | None = None,
    anew: bool = False,
) -> Fit:
    """What is changed about a target table so that rows fit.

    Args:
        load: the load.
        shape: its shape.
        table: the table.
        before: its mark.
        started: whether it merges into tables of its own.
        info: the table as it stands, or None if it is not there.
        rows: rows that arrive.
        anew: whether all of the table is compared, so that it may be another one than before, with other settings.

    Raises:
        Refused: they do not, or what is needed is not wanted.
    """
    place = beside(load.config.into, table.suffix)
    if before and not anew and not load.into_store.appends_only:
        refuse_another_table(load, before, beside(load.into_table, table.suffix), info)
    unseen = load.into_store.appends_only or load.config.shape == "events"  # no table shows the source's columns
    if before and unseen:
        return drift.of_mark(load.name, place, before.columns, shape.schema.names, before.gone, load.config.drift)
    if info is None:
        return drift.Fit()
    wanted = load.target.fits(table.schema)
    told = {name for column in (before.gone if before else ()) for name in shape.names_of(column)}
    gone = told | {name for column in (before.columns if before else ()) for name in shape.names_of(column)}
    shed = _shed(before, wanted, info) if before and anew else []
    return drift.fit(load.name, place, wanted, info.schema, started, gone, told, load.config.drift, rows, shed)


def _shed(before: Mark, wanted: pa.Schema, info: TableInfo) -> list[str]:
    """The columns that a mirror added beside the source's, by settings that it has no more."""
    was = json.loads(before.made_by or "{}")
    added = added_by(was.get("deletes", ""), bool(was.get("stamp"))) if was.get("shape") == "mirror" else {}
    return [name for name in added if name in info.schema.names and name not in wanted.names]
