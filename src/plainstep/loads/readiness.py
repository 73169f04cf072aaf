"""Whether the next step of a load can be made: one judgement, for the step itself and for everyone who asks beforehand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import NoRows, Refused
from plainstep.loads.keys import refuse_another_key
from plainstep.loads.windows import ahead, refuse_another_table, refuse_unless_continuous

if TYPE_CHECKING:
    from plainstep.core.positions import Watermark
    from plainstep.loads import planning
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.stores.records import TableInfo
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
