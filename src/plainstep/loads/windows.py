"""Which changes a person or a step means, and whether they are all there."""

from __future__ import annotations

import json
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.points import WORDS, Point, moment_of, parse_point
from plainstep.core.position_labels import shown_as
from plainstep.core.positions import MergedTable, Position, Span, Watermark, Window, continuity_error
from plainstep.display.text import local
from plainstep.errors import ConfigError, NoRows, Refused
from plainstep.settings.renamed import in_new_names
from plainstep.stores.api import ForeignSource
from plainstep.stores.commit_errors import moved

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.records import TableInfo


def another_target(load: Load, watermark: Watermark) -> bool:
    """Whether a load merged into a table of another name when it last stepped."""
    return bool(watermark.tables) and load.into_table not in {one.name for one in watermark.tables}


def taken_over(load: Load, watermark: Watermark) -> str:
    """The load that merges into a load's table since it last stepped, or nothing."""
    return next((one.taken_by for one in watermark.tables if one.name == load.into_table), "")


def _of_another_table(load: Load, watermark: Watermark) -> Refused | None:
    """Why a watermark says nothing of the table that a load names now: another load merges into it, or it merged into another."""
    taken_by = taken_over(load, watermark)
    if taken_by:
        return Refused(
            f"The load {taken_by} merges into {load.config.into} since {load.name} last did.",
            "What came and went in between would be left standing.",
            _anew(load, f"plainstep reload {load.name} compares the whole table and goes on from there."),
        )
    if not another_target(load, watermark):
        return None
    return Refused(
        f"The watermark of {load.name} is that of the table {watermark.tables[0].name}, and the load merges into {load.config.into} now.",
        "What was merged into the one is not in the other.",
        _anew(load, f"plainstep reload {load.name} loads {load.config.into} whole."),
    )


def _anew(load: Load, reload: str) -> str:
    """The command by which a load begins anew: of events, there is nothing to load."""
    if load.config.shape == "events":  # a table as it stands tells nothing of what happened
        return f"plainstep watermark {load.name} --to head goes on from there, and makes no events of what came in between."
    return reload


def refuse_another_table(load: Load, watermark: Watermark, name: str, info: TableInfo | MergedTable | None) -> None:
    """Refuse to go on with a target table that is not the one which a load merged into.

    Args:
        load: the load.
        watermark: its watermark.
        name: the table, which may be one that its shape keeps beside its main one.
        info: the table as it stands, or None if it is gone.

    Raises:
        Refused: it is gone, was made anew, or was emptied.
    """
    known = next((one for one in watermark.tables if one.name == name), None)
    if known is None:
        return
    place = f"{load.into_store.name}.{name}"
    if info is None:
        what = f"The table {place} is gone, into which {load.name} merged up to its watermark."
    elif known.identity and info.identity != known.identity:
        what = f"The table {place} is not the one that {load.name} merged into: it was made anew, put back to an earlier state, or put in its place."
    elif known.rows and not info.rows and load.config.shape not in ("journal", "events"):
        what = f"The table {place} is empty, and {load.name} left rows in it: something else emptied it."
    else:
        return
    why = "Only what changes from here on would be merged, and the rest be missing."
    raise Refused(
        what, why, _anew(load, f"plainstep reload {load.name} compares the whole table and goes on from there.")
    )


def _made_otherwise(load: Load, watermark: Watermark) -> Refused | None:
    """Why what comes does not go with what was merged, if the load's settings changed since it last stepped."""
    if watermark.made_by in ("", load.made_by):
        return None
    was, now = _settings(load, watermark)
    changed = [name for name in {**was, **now} if was.get(name) != now.get(name)]
    if changed == ["layout"] and only_learns(was.get("layout", {}), now.get("layout", {})):
        return None
    if changed == ["on_bad_value"] and "on_bad_value" not in was:  # what is bent now was refused before
        return None
    if not changed:
        return None
    told = (
        f"`{name}` was {json.dumps(was[name], ensure_ascii=False) if name in was else 'not set'}" for name in changed
    )
    repair = f"plainstep reload {load.name} merges what differs; plainstep watermark {load.name} --to X leaves the rows as they are."
    if _other_tables(was, now):
        into = load.config.into
        repair = f"Name another table ('into') or drop {into} and what is beside it, then plainstep reload {load.name}."
    return Refused(
        f"The settings of {load.name} changed since its last step: {', '.join(told)}.",
        "Rows that were merged before were read, chosen or computed with the old settings.",
        _anew(load, repair),
    )


# The settings of a layout that list codes.
CODES = ("insert", "update", "delete", "truncate", "update_was", "update_now")


def only_learns(was: dict[str, Any], now: dict[str, Any]) -> bool:
    """Whether a layout knows further codes now, and reads everything else as before: what it did not know, it refused."""
    same = all(was.get(name) == now.get(name) for name in {**was, **now} if name not in CODES)
    return same and all(code in now.get(name, ()) for name in CODES for code in was.get(name, ()))


# The settings that were kept with watermarks before all that matter were.
FIRST_KEPT = ("shape", "where", "columns", "derive", "by", "measures")


def _settings(load: Load, watermark: Watermark) -> tuple[dict[str, Any], dict[str, Any]]:
    """The settings that made a target, and those that are to."""
    was, now = in_new_names(json.loads(watermark.made_by)), json.loads(load.made_by)
    if "changes" not in was:
        now = {name: value for name, value in now.items() if name in FIRST_KEPT}
    return was, now


def _other_tables(was: dict[str, Any], now: dict[str, Any]) -> bool:
    """Whether a target has other tables by other settings: those of another shape, or of groups with other columns."""
    return was.get("shape") != now.get("shape") or list(was.get("by", ())) != list(now.get("by", ()))


def refuse_another_shape(load: Load, watermark: Watermark) -> None:
    """Refuse to load into tables that were made for another shape, or for other groups.

    Raises:
        Refused: they were, and are still there.
    """
    refusal = None if another_target(load, watermark) else _made_otherwise(load, watermark)
    if refusal and _other_tables(*_settings(load, watermark)) and load.target.table(load.into_table, ()) is not None:
        raise refusal


def refuse_unless_continuous(load: Load, watermark: Watermark, span: Span) -> None:
    """Refuse to go on from a watermark whose source is no longer the same, or has forgotten changes.

    Raises:
        Refused: going on would lose something.
        WatermarkMoved: the watermark has moved since it was read.
    """
    refusal = _of_another_table(load, watermark) or _made_otherwise(load, watermark)
    if refusal:
        with suppress(NoRows):
            load.source.schema()  # what is wrong with the settings themselves is told first
        raise refusal
    if isinstance(load.source, ForeignSource):
        refusal = load.source.continuity_error(watermark, span)
    else:
        made_at = load.source.time_of(watermark.reached) if watermark.position <= span.head else None
        refusal = continuity_error(watermark, span, made_at)
    if refusal and load.target.watermark(load.name) != watermark:
        raise moved(load.name)
    if refusal:
        raise Refused(refusal.what, refusal.why, _anew(load, refusal.next))


def span_of(load: Load, watermark: Watermark | None) -> Span:
    """How far the source can be read now, going on from a watermark if there is one."""
    if watermark is not None and isinstance(load.source, ForeignSource):
        return load.source.span_after(watermark)
    return load.source.span()


def label(load: Load, position: Position) -> int | str:
    """A position as people know it: a number, or what a feed calls it."""
    if not isinstance(load.source, ForeignSource):
        return position.number
    return shown_as(load.source.label(position))


def ends(load: Load, window: Window) -> tuple[int | str, int | str]:
    """Both ends of a window, as people know them."""
    return (
        label(load, Position(window.after, window.after_token)),
        label(load, Position(window.upto, window.upto_token)),
    )


def times(load: Load, window: Window) -> tuple[datetime | None, datetime | None]:
    """When the changes at both ends of a window were made, where that is known."""
    after, upto = (Position(window.after, window.after_token), Position(window.upto, window.upto_token))
    return load.source.time_of(after), load.source.time_of(upto)


def ahead(watermark: Watermark, span: Span) -> Window:
    """The changes after a watermark. Where the newest row of a table is gone, its head lies behind the watermark: then none."""
    return Window.between(watermark.reached, span.end if span.head >= watermark.position else watermark.reached)


def resolve(load: Load, span: Span, said: Point) -> Position:
    """The position that a person means; see ``plainstep.core.points``.

    Raises:
        ConfigError: it is not a position, or lies beyond the head.
    """
    if isinstance(load.source, ForeignSource) and moment_of(said) is None and said not in WORDS:
        return load.source.parse(str(said))
    point = parse_point(said)
    if isinstance(point, datetime):
        if span.since and point < span.since:
            raise Refused(
                f"Capture of {load.config.source} began at {local(span.since)}, after {said}.",
                "What was there, and what changed before, was not recorded.",
                "Give a later time; start stands for the oldest change that is held.",
            )
        return load.source.locate(point)
    if point == "start":
        return Position(span.oldest)
    if point == "head":
        return span.end
    assert isinstance(point, int)
    if point > span.head:
        raise ConfigError(
            f"The position {point} is beyond the head of {load.config.source}, which is at {span.head}.",
            "There are no changes there yet.",
            "Give a smaller position, a time, or head.",
        )
    return load.source.locate(point)


def moved_by_hand(load: Load) -> bool:
    """Whether the watermark was moved by hand before this step: then what it finds at the target may well be otherwise."""
    steps = load.target.ledger(load.name, 1)
    return bool(steps) and steps[-1].kind == "watermark"
