"""Whether the next step of a load can be made: one judgement, for the step itself and for everyone who asks beforehand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.display.text import many
from plainstep.errors import NoRows, Refused
from plainstep.loads.keys import refuse_another_key
from plainstep.loads.windows import ahead, refuse_another_table, refuse_unless_continuous
from plainstep.stores.api import ReplayedSource

if TYPE_CHECKING:
    from plainstep.core.positions import Watermark
    from plainstep.loads import planning
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.stores.records import LeftOut, TableInfo
else:
    [planning] = deferred("plainstep.loads", "planning")


def refuse_unready(state: LoadState) -> None:
    """Refuse what the next step of a load would, as far as that shows before any change is read.

    Raises:
        PlainStepError: why it cannot be made.
        WatermarkMoved: the watermark has moved since it was read.
    """
    load, watermark = state.load, state.watermark
    if watermark is not None:
        refuse_unless_continuous(load, watermark, state.span)
    try:
        refuse_misfits(state)
    except NoRows:
        if watermark is None or load.source.waiting(ahead(watermark, state.span)).any is not False:
            raise
        refuse_unready_idle(load, watermark)


def refuse_misfits(state: LoadState) -> None:
    """The same for a load that is known to go on from its watermark.

    Raises:
        PlainStepError: why its next step cannot be made.
    """
    load, watermark, span = state.load, state.watermark, state.span
    if watermark is None and load.config.first == "start" and span.oldest > span.start:
        raise Refused(
            f"The first changes of {load.config.source} were trimmed, and {load.name} has not begun.",
            "first = 'start' would leave them out.",
            f"Set first = 'snapshot' in the load {load.name}.",
        )
    refuse_guesses(load)
    refuse_untold(state)
    started = watermark is not None or load.config.first == "start"
    with load.into_store.kept_open():
        for table in state.shape.tables():
            info = state.held.found(table.suffix)
            if watermark is None and (
                load.config.first == "snapshot" or (table.suffix and load.config.first == "start")
            ):
                refuse_foreign_rows(load, info, table.suffix)
            planning.fit_of(state, table, started, None if load.into_store.appends_only else info)


def refuse_unready_idle(load: Load, watermark: Watermark) -> None:
    """The same for a load that goes on from its watermark with nothing to read, as far as that can be told without its columns.

    It must cost little.

    Raises:
        PlainStepError: why its next step cannot be made.
    """
    refuse_guesses(load)
    refuse_another_key(load)
    for one in watermark.tables:
        refuse_another_table(load, watermark, one.name, load.target.standing_table(one.name))


def refuse_untold(state: LoadState) -> None:
    """Refuse a shape that needs old values where nothing tells them. A journal writes what there is.

    Raises:
        Refused: it does, and nothing does.
    """
    load = state.load
    if load.source.has_before_images or load.config.shape == "journal" or load.old_values is not None:
        return
    if state.shape.old_values:
        raise Refused(
            f"{load.config.source} has no before images, and {load.name} ({load.config.shape}) needs them.",
            "What a row was before it changed is not known.",
            'Have the source send them (PostgreSQL\'s log: REPLICA IDENTITY FULL); or, for a rollup, old_values = "LOAD".',
        )


def refuse_guesses(load: Load) -> None:
    """Refuse to merge what is read by a layout of which a part was guessed, and nobody has looked at it.

    Raises:
        Refused: some names stand in ``guessed``.
    """
    guessed = load.config.layout.guessed if load.config.layout else []
    if guessed:
        raise Refused(
            f"The layout of {load.name} was guessed in part: {', '.join(guessed)}.",
            "Read by a wrong layout, a deleted row may look like one that is there.",
            f"plainstep look {load.name} shows what it makes of the changes: if that is right, remove the names from "
            f"'guessed' in [loads.{load.name}.layout].",
        )


def is_incomplete(load: Load, watermark: Watermark, told: LeftOut | None = None, deletes: int = 0) -> bool:
    """Whether a load's source does not tell any more of every row that was merged.

    Args:
        load: the load.
        watermark: how far it is merged.
        told: what is known of all its changes, where they were read: a change table may be pruned, and shows it only by rows of which
            the first change is an update.
        deletes: how many rows of the target it does not tell.
    """
    if not isinstance(load.source, ReplayedSource):
        return False
    is_pruned = bool(told and told.older and deletes) and load.source.has_exact_operations
    return is_pruned or load.source.is_incomplete(watermark, deletes)


def incomplete_source(load: Load, differing: int, command: str) -> Refused:
    """Why what is left of a load's changes is not taken for all there is.

    Args:
        load: the load.
        differing: how many rows would be merged.
        command: the command that merges them anyway.
    """
    return Refused(
        f"{load.config.source} does not tell any more of every row that {load.name} merged: "
        f"what is left of it differs in {many(differing, 'row')}.",
        "Changes are gone (files, messages or rows): what only those told of would be dropped, and newer values replaced by older ones.",
        f"Bring them back, or name the table itself with 'rows'. {command} takes what is left for all there is.",
    )


def refuse_foreign_rows(load: Load, info: TableInfo | None, suffix: str = "") -> None:
    """Refuse to begin with a table that holds rows already: the target's own, or one that its shape keeps beside it.

    Raises:
        Refused: it does.
    """
    if info is not None and info.rows:
        raise Refused(
            f"{load.config.into}{suffix} already holds rows, and {load.name} has never merged into it.",
            "Rows that are not at the source would be left standing.",
            f"Empty it: its rows are what {load.config.into} was made of before."
            if suffix
            else f"Empty the table; or keep its rows with plainstep watermark {load.name} --to head, then plainstep check.",
        )
