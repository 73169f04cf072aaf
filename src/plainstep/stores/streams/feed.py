"""A log of messages as a feed. A position is an offset, and what tells the log from another one in its place."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from itertools import chain
from typing import TYPE_CHECKING, Any

from plainstep.deferred import pa
from plainstep.errors import ChangesGone, ConfigError, Refused
from plainstep.stores.feed import Ends
from plainstep.stores.streams.beside import BESIDE
from plainstep.stores.streams.log import HasGroup, refuse_gap

if TYPE_CHECKING:
    from plainstep.stores.api import Reading
    from plainstep.stores.streams.log import Bounds, MessageLog
    from plainstep.stores.streams.rows import MessageRows


class MessageFeed:
    """What is read of messages, wherever they come from.

    Attributes:
        rows: reads them.
    """

    rows: MessageRows
    beside: tuple[str, ...] = BESIDE

    @property
    def is_typed(self) -> bool:
        """Whether what messages hold has types of its own, which what CSV holds has not."""
        return self.rows.is_typed

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows."""
        self.rows.want(kinds)

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        return self.rows.schema

    def sample(self) -> pa.Table:
        """Some rows, to learn from what they are made of."""
        return self.rows.sampled

    def written(self) -> dict[str, Any]:
        """How they seem to be written."""
        return self.rows.written()


class LogFeed(MessageFeed):
    """The messages of one log.

    Args:
        log: the log.
        rows: reads them.
    """

    def __init__(self, log: MessageLog, rows: MessageRows) -> None:
        self.log, self.rows, self.place = log, rows, log.place
        self.identity = f"{log.topic} by offset"

    @property
    def is_numbered(self) -> bool:
        """Whether offsets are shown as numbers."""
        return self.log.is_numbered

    def sample(self) -> pa.Table:
        """Some rows of this log, to learn from what they are made of."""
        return self.rows.sample_of(self.rows.some_of(self.log))

    def warnings(self) -> list[str]:
        """What a person should know of it."""
        return []

    def ends(self) -> Ends:
        """How far it can be read now."""
        return self.ends_after("")

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark."""
        bounds = self.log.bounds()
        first = self.log.label(bounds.first) if bounds.first < bounds.end else None
        if watermark and _offset(self.log, watermark) >= bounds.end - 1:
            return Ends(first, watermark, is_whole=bounds.is_whole)
        # An empty log has an end, too: what comes and is removed before the next step is missed from there on.
        return Ends(first, self._token(bounds.end - 1, bounds), is_whole=bounds.is_whole)

    def _token(self, offset: int, bounds: Bounds) -> str:
        known = bounds.mark if offset == bounds.end - 1 else ""
        mark = known or self.log.mark(offset, bounds.first)
        return f"{self.log.label(offset)} {mark}".rstrip()

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading | None]]:
        """How far it can be read. A log has no transactions of readers."""
        yield self.ends(), None

    def at_or_before(self, position: str) -> str | None:
        """An offset, with what tells the log; None if it lies before all messages."""
        try:
            offset = self.log.parse(position)
        except ValueError:
            raise ConfigError(
                f"{position!r} is not an offset of {self.place}.", f"An offset looks like {self.log.label(17)}."
            ) from None
        bounds = self.log.bounds()
        if offset < bounds.first:
            return None
        return self._token(min(offset, bounds.end - 1), bounds)

    def before_time(self, moment: datetime) -> str | None:
        """The last offset before the first message that was written after a time."""
        bounds = self.log.bounds()
        found = self.log.from_time(moment)
        if found is None:
            found = self._first_after(moment, bounds)
        offset = min(bounds.end if found is None else found, bounds.end) - 1
        return self._token(offset, bounds) if offset >= bounds.first else None

    def _first_after(self, moment: datetime, bounds: Bounds) -> int | None:
        """The same, found by looking at every message.

        Raises:
            NotImplementedError: a message does not tell when it was written.
        """
        limit = round((moment - EPOCH).total_seconds() * 1e6)
        for some in self.log.read(bounds.first, bounds.end):
            for offset, time in zip(some.offsets, some.times, strict=True):
                if time is None:
                    raise NotImplementedError
                if time > limit:
                    return offset
        return None

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """How many offsets there are in between, and when the first message of them was written."""
        first = self.log.first()
        start, end = self._between(after, upto, first)
        start = max(start, first)
        if end <= start:
            return 0, False, None
        return end - start if self.log.is_numbered else None, True, self._since(start, end)

    def _since(self, start: int, end: int) -> datetime | None:
        """When the first of some messages was written."""
        some = next(self.log.read(start, end, few=True), None)
        time = some.times[0] if some and len(some) else None
        return None if time is None else EPOCH + timedelta(microseconds=time)

    def _between(self, after: str | None, upto: str | None, first: int) -> tuple[int, int]:
        start = _offset(self.log, after) + 1 if after else first
        return start, _offset(self.log, upto) + 1 if upto else start

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The messages in between, as rows."""
        start, end = self._between(after, upto, 0 if after else self.log.first())
        if start >= end:
            return
        batches = self.log.read(start, end)
        begun = [some for some in (next(batches, None),) if some]
        # Only now is it sure that what comes first was not removed since it was decided to go on from here.
        if after and self.log.lacks(start - 1, after.partition(" ")[2], self.log.first()):
            raise refuse_gap(self.place, self.log.label(start))
        for some in chain(begun, batches):
            if len(some):
                yield self.rows.read(self.log, some)

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: messages after it are gone, or the log is another one."""
        offset, mark = _offset(self.log, watermark), watermark.partition(" ")[2]
        repair = f"{reload(False)} plainstep watermark {load} --to start goes on with what is left instead."
        bounds = self.log.bounds()
        beyond = offset >= bounds.end and not self.log.holds(offset)
        if beyond or (mark and self.log.disagrees(mark, bounds)):
            return ChangesGone(
                f"{self.place} is not what {load} was reading: it was made anew, or lost its end.",
                f"{load} is merged up to {self.log.label(offset)}, and what stands there now is something else.",
                repair,
            )
        if self.log.lacks(offset, mark, bounds.first):
            return ChangesGone(
                f"{self.place} begins at {self.log.label(bounds.first)}, and {load} is merged up to {self.log.label(offset)}.",
                "The messages in between were removed (retention) before they were merged.",
                repair,
            )
        return None

    def merged(self, position: str) -> None:
        """All up to a position is merged."""
        if isinstance(self.log, HasGroup):
            self.log.merged(_offset(self.log, position))

    def label(self, position: str) -> str:
        """A position as people know it: the offset."""
        return position.partition(" ")[0]

    def told(self, position: str) -> str:
        """Which message a position means."""
        return f"{self.place}, offset {self.label(position)}"


EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def _offset(log: MessageLog, position: str) -> int:
    return log.parse(position.partition(" ")[0])
