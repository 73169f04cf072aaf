"""The shape of a load: built from its settings, over the columns that its source has."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, cast

from plainstep.copying import replace
from plainstep.core import schema_drift as drift
from plainstep.deferred import deferred, pa
from plainstep.errors import ConfigError
from plainstep.loads.keys import key_of
from plainstep.sql.expressions import names_in
from plainstep.sql.literals import quoted

if TYPE_CHECKING:
    from plainstep.core.shapes import events, history, journal, measures, mirror, rollup
    from plainstep.core.shapes.base import Shape
    from plainstep.loads.load import Load
    from plainstep.stores.records import TableInfo
else:
    events, history, journal, measures, mirror, rollup = deferred(
        "plainstep.core.shapes", "events", "history", "journal", "measures", "mirror", "rollup"
    )


def shape_of(load: Load, columns: pa.Schema) -> Shape:
    """A load's shape.

    Args:
        load: the load.
        columns: what its source has now.

    Raises:
        ConfigError: a setting of it makes no sense over these columns.
    """
    schema = load.target.fits(columns)
    shape = SHAPES[load.config.shape](load, schema, key_of(load, schema))
    shape.tables()
    return shape


def _mirror(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    config = load.config
    own = load.source.is_managed
    return mirror.Mirror(schema, key, config.deletes, tuple(config.operations), config.stamp, own)


def _history(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    _refuse_unknown(load, "watch", load.config.watch, schema)
    return history.History(schema, key, tuple(load.config.watch) or None, load.config.every_change)


def _journal(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    made = journal.Journal(schema, key, load.config.grain != "net", tuple(load.config.operations))
    _refuse_unknown_partition(load, made.tables()[0].schema.names)
    return made


def _rollup(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    config = load.config
    by = config.by
    if not isinstance(by, dict):
        _refuse_unknown(load, "by", by, schema)
        by = {name: quoted(name) for name in by}
    parsed = tuple(measures.Measure.parsed(name, sql) for name, sql in config.measures.items())
    return rollup.Rollup(schema, key, by, parsed)


def _events(load: Load, schema: pa.Schema, key: tuple[str, ...]) -> Shape:
    rules = tuple(events.Rule(name, when) for name, when in load.config.rules.items())
    return events.Events(schema, key, rules, f"plainstep/{load.config.source}", load.config.grain != "net")


SHAPES = {"mirror": _mirror, "history": _history, "journal": _journal, "rollup": _rollup, "events": _events}


def _refuse_unknown(load: Load, setting: str, names: list[str], schema: pa.Schema) -> None:
    unknown = [name for name in names if name not in schema.names]
    if unknown:
        raise ConfigError(
            f"{setting} of {load.name} names the column {unknown[0]!r}, which its rows do not have.",
            f"Their columns: {', '.join(schema.names)}.",
            f"Fix {setting!r} in [loads.{load.name}].",
        )


def _refuse_unknown_partition(load: Load, columns: list[str]) -> None:
    known = ["load", "date", *columns, *(name.removeprefix("now_") for name in columns if name.startswith("now_"))]
    unknown = [name for name in load.config.partition if name not in known]
    if unknown:
        raise ConfigError(
            f"partition of {load.name} names {unknown[0]!r}, which its journal does not have.",
            f"It may name: {', '.join(known)}.",
            f"Fix 'partition' in [loads.{load.name}].",
        )


def in_held_types(shape: Shape, info: TableInfo | None) -> Shape:
    """A shape that holds the source's columns in the types of its table, where these hold more: a source may narrow."""

    names = {field.name: shape.names_of(field.name)[-1:] for field in shape.schema}
    there = {*info.schema.names} if info else set()
    if info is None or not all(name and name[0] in there for name in names.values()):
        return shape
    found = pa.schema([info.schema.field(name).with_name(field) for field, [name] in names.items()])
    return replace(cast("Any", shape), schema=drift.as_held(shape.schema, found))


def refuse_bad_sql(load: Load) -> None:
    """Refuse expressions in a load's settings that are not SQL, as far as that shows without its columns.

    Raises:
        ConfigError: one is not.
    """
    config, place = load.config, f"[loads.{load.name}]"
    if config.where:
        names_in(config.where, f"{place} where")
    by = config.by if isinstance(config.by, dict) else {}
    for setting, expressions in (("derive", config.derive), ("by", by), ("rules", config.rules)):
        for name, sql in expressions.items():
            if sql:
                names_in(sql, f"{place} {setting}.{name}")
    for name, sql in config.measures.items():
        measures.Measure.parsed(name, sql)
