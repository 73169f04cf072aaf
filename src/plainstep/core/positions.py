"""Positions, windows, and the ways people name them."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from plainstep.errors import ConfigError, Refused


@dataclass(frozen=True)
class Position:
    """A position, with what a source needs to find it again.

    Attributes:
        number: what people see, rising along the changes.
        token: what else says exactly which changes lie at or before this position, in the source's own words; empty
            where the number says it all. (Where transactions commit in another order than they write, no number
            does: see ``plainstep.stores.postgresql.capture``.)
        at: when the last change up to here was made, if known (UTC).
        note: how well the position was found, where there is something to say.
    """

    number: int
    token: str = ""
    at: datetime | None = None
    note: str = ""


@dataclass(frozen=True)
class Window:
    """The changes after one position and up to another: ``(after, upto]``.

    Attributes:
        after, upto: the two positions.
        after_token, upto_token: their tokens; see ``Position``.
        note: what a person should know of how well the source could find them.
    """

    after: int
    upto: int
    after_token: str = ""
    upto_token: str = ""
    note: str = ""

    @staticmethod
    def between(after: Position, upto: Position) -> Window:
        """The changes after one position and up to another."""
        return Window(after.number, upto.number, after.token, upto.token, after.note or upto.note)

    def __post_init__(self) -> None:
        if self.upto < self.after:
            raise ConfigError(
                f"The window ends ({self.upto}) before it begins ({self.after}).",
                "A window is the changes after one position and up to another.",
                "Give --after the earlier of the two, and --upto the later.",
            )


@dataclass(frozen=True)
class Span:
    """How far a source can be read.

    Attributes:
        identity: who the source is; a capture that was rebuilt has another.
        oldest: every change after this position is still held (and what stands at it, to be known by).
        head: the newest position that is safe to read up to.
        head_at: when the change at the head was made, if known (UTC).
        token: the head's token; see ``Position``.
        start: where its changes began; ``oldest`` moves on from there as changes are forgotten.
        holds_back: bytes of its log that the server keeps for this source alone, where it does.
        since: when its changes began to be recorded, if known (UTC); of what was before, nothing tells.
    """

    identity: str
    oldest: int
    head: int
    head_at: datetime | None = None
    token: str = ""
    start: int = 0
    holds_back: int | None = None
    since: datetime | None = None

    @property
    def end(self) -> Position:
        """The head, as a position."""
        return Position(self.head, self.token, self.head_at)


@dataclass(frozen=True)
class Waiting:
    """How much a window holds.

    Attributes:
        count: how many changes, or None if counting them would mean to read them all.
        any: whether there are any; None if only reading them all would tell.
        since: when the oldest of them was made, if known (UTC).
        by_partition: of a feed in partitions, how many changes of each, None where that is not known.
    """

    count: int | None
    any: bool | None
    since: datetime | None = None
    by_partition: dict[str, int | None] = field(default_factory=dict)


@dataclass(frozen=True)
class MergedTable:
    """A target table, as a step left it.

    Attributes:
        name: its name.
        identity: what tells it from another table of that name; empty where nothing does.
        rows: whether it held any row.
        taken_by: the load that merges into it since, or empty.
    """

    name: str
    identity: str = ""
    rows: bool = False
    taken_by: str = ""


@dataclass(frozen=True)
class Watermark:
    """The position up to which a load has been merged. Kept with the target.

    Attributes:
        load: the load's name.
        identity: the source's identity when the watermark was set.
        position: everything at or below it is merged.
        at: when the change at the position was made, if known (UTC).
        step: the number of the step that set the watermark, rising by one.
        token: the position's token; see ``Position``.
        columns: the columns that the load merged in that step.
        gone: columns that it merged before, and that its source has no more.
        made_by: the settings that say what the load makes of its source; see ``plainstep.loads.load.Load.made_by``.
        tables: the tables that were merged into; none where that is not known.
    """

    load: str
    identity: str
    position: int
    at: datetime | None
    step: int
    token: str = ""
    columns: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    made_by: str = ""
    tables: tuple[MergedTable, ...] = ()

    @property
    def reached(self) -> Position:
        """Where the load stands."""
        return Position(self.position, self.token, self.at)


def continuity_error(watermark: Watermark, span: Span, made_at: datetime | None) -> Refused | None:
    """Why a load cannot go on from its watermark, or None if it can.

    Args:
        watermark: where the load stands.
        span: what the source holds now.
        made_at: when the change at the watermark's position was made, as the source has it now; None if it does not
            hold that change. A source that keeps times holds the change at every watermark.
    """
    reload = f"plainstep reload {watermark.load} compares the whole table and goes on from there."
    if watermark.identity != span.identity:
        return Refused(
            f"The capture that {watermark.load} was reading is not the one that is there now: it was rebuilt.",
            "Changes made in between were recorded by neither.",
            reload,
        )
    if watermark.position > span.head:
        return Refused(
            f"The watermark of {watermark.load} is at {watermark.position}, ahead of the source's head at {span.head}.",
            "The source was restored to an earlier state, or its changes were cleared.",
            reload,
        )
    if watermark.position < span.oldest:
        return Refused(
            f"The watermark of {watermark.load} is at {watermark.position}, but changes are only held after {span.oldest}.",
            "Those in between were trimmed or cleared before they were merged.",
            reload,
        )
    if watermark.at and made_at is None:
        return Refused(
            f"The change at {watermark.position}, up to which {watermark.load} is merged, is gone.",
            "The source's changes were cleared, so that some may never have been merged.",
            reload,
        )
    if watermark.at and watermark.at != made_at:
        return Refused(
            f"The change at {watermark.position} is not the one that {watermark.load} merged: it has another time.",
            "The source was restored to an earlier state and has changed differently since.",
            reload,
        )
    return None
