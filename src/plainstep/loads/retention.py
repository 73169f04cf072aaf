"""Forgetting captured changes: only what every registered reader has merged, and nobody asked to keep."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from plainstep.core.json_values import ready
from plainstep.core.positions import Window
from plainstep.display.text import many
from plainstep.errors import ConfigError, PlainStepError, Refused
from plainstep.stores.capabilities import HasCapture, Store, with_capture

if TYPE_CHECKING:
    from plainstep.stores.api import Source
    from plainstep.stores.records import CaptureInfo, Reader

# A reader that has not been heard of for so long, while changes wait for it, may never come back.
FALLEN = timedelta(days=7)


@dataclass
class ReaderStanding:
    """A reader of a captured table, and what it keeps from being forgotten.

    Attributes:
        name: the load and its target.
        position: where it stands.
        seen: when it last merged (UTC).
        waiting: how many changes it has yet to read.
        since: when the oldest of these was made (UTC).
        fallen: whether it seems to have fallen away: changes wait, and it has not been heard of for a week.
    """

    name: str
    position: int
    seen: datetime
    waiting: int
    since: datetime | None
    fallen: bool


@dataclass
class Trimmed:
    """What was, or would be, forgotten of one table.

    Attributes:
        store, table: the table.
        held: how many changes were held.
        gone: how many of them go.
        readers: who reads them.
        done: whether it was done, or only looked at.
        reason: why nothing can go, or empty.
    """

    store: str
    table: str
    held: int
    gone: int = 0
    readers: list[ReaderStanding] = field(default_factory=list)
    done: bool = False
    reason: str = ""

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready(
            {
                "store": self.store,
                "table": self.table,
                "held": self.held,
                "gone": self.gone,
                "done": self.done,
                "reason": self.reason,
                "readers": [vars(one) for one in self.readers],
            }
        )


def trim(store: Store, keep: timedelta | None = None, table: str = "", really: bool = False) -> list[Trimmed]:
    """Forget captured changes that every known reader has merged.

    Args:
        store: the source.
        keep: how long changes are kept, whoever has merged them.
        table: only this one; empty for all.
        really: whether to do it, or only to say what would go.

    Raises:
        ConfigError: the table is not captured.
    """
    store = with_capture(store)
    captures = store.captures(table, "capture")
    if table and not captures:
        raise ConfigError(f"{store.name}.{table} is not captured.", "", f"plainstep capture list {store.name}")
    readers = store.readers()
    return [
        _trim(store, one, [r for r in readers if (r.table, r.how) == (one.table, "capture")], keep, really)
        for one in captures
    ]


def _trim(store: HasCapture, info: CaptureInfo, readers: list[Reader], keep: timedelta | None, really: bool) -> Trimmed:
    found = Trimmed(store.name, info.table, info.held)
    if info.problem:
        found.reason = f"{info.problem}: {info.remedy}"
        return found
    source = store.source(info.table, {}, "capture", "")
    found.readers = [_standing(source, reader) for reader in readers]
    if not readers:
        found.reason = "no reader is known yet: a load is registered with its first step"
        return found
    places = [reader.watermark for reader in readers]
    if keep is not None:
        places.append(source.locate(datetime.now(UTC) - keep))
    found.gone, found.done = source.trim(places, really), really
    return found


def refuse_unmerged(store: Store, table: str, how: str) -> None:
    """Refuse to forget the changes of a captured table while some wait.

    Raises:
        Refused: they do, for the readers that it names.
    """
    waiting = _unmerged(store, table, how)
    if waiting:
        names = ", ".join(f"{one.name}: {many(one.waiting, 'change')}" for one in waiting)
        place = f"{store.name}.{table}"
        raise Refused(
            f"Changes of {place} wait to be merged ({names}).",
            "With capture, what was recorded is forgotten.",
            f"plainstep step merges them; plainstep capture off {place} --yes forgets them.",
        )


def _unmerged(store: Store, table: str, how: str) -> list[ReaderStanding]:
    """The readers of a captured table for which changes wait; none where its capture cannot be read any more."""
    try:
        store = with_capture(store, how)
        source = store.source(table, {}, how, "")
        standings = [_standing(source, one) for one in store.readers() if (one.table, one.how) == (table, how)]
    except PlainStepError:
        return []
    return [one for one in standings if one.waiting]


def _standing(source: Source, reader: Reader) -> ReaderStanding:
    end = source.span().end
    ahead = Window.between(reader.watermark, end) if reader.watermark.number <= end.number else None
    waiting = source.waiting(ahead) if ahead else None
    count = (waiting.count or 0) if waiting else 0
    fallen = count > 0 and datetime.now(UTC) - reader.seen > FALLEN
    since = waiting.since if waiting else None
    return ReaderStanding(reader.name, reader.watermark.number, reader.seen, count, since, fallen)
