"""Sending events out of their outbox, after they were committed: at least once, and in order for each key."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from plainstep.display.text import many
from plainstep.loads.delivery import outbox
from plainstep.loads.delivery.senders import UNREACHED, CutOff, Send, Unreached, sender

if TYPE_CHECKING:
    from plainstep.loads.load import Load

# Seconds of sending before the delivery status of events is recorded; after a crash, these may be sent again.
BETWEEN_NOTES = 1.0
# The longest rest between two tries, in seconds.
LONGEST_REST = 3600.0


@dataclass
class Delivery:
    """What became of a load's events.

    Attributes:
        sent: how many were sent.
        waiting: how many are left to be sent.
        quarantined: how many could not be sent, and were quarantined; those of earlier times among them.
        problem: what went wrong last, or empty.
    """

    sent: int = 0
    waiting: int = 0
    quarantined: int = 0
    problem: str = ""

    @property
    def summary(self) -> str:
        """What became of the events, in words."""
        told = f"{many(self.sent, 'event')} sent"
        told += f", {self.waiting:,} waiting" if self.waiting else ""
        return told + (f", {self.quarantined:,} quarantined" if self.quarantined else "")


def deliver(load: Load) -> Delivery:
    """Send the events of a load that wait and whose time has come.

    Raises:
        PlainStepError: the outbox cannot be read or written, or the receiver's address is none.
    """
    with closing(sender(load)) as send:
        turn = _Turn(load, send)
        all(turn.sends(rows) for rows in outbox.waiting(load))  # until nothing is left, or nobody is there
    turn.done.waiting, turn.done.quarantined = outbox.counts(load)
    return turn.done


def send_again(load: Load) -> tuple[int, Delivery]:
    """Let the events that were quarantined wait again, end every rest, and send them; how many were quarantined."""
    return outbox.wake(load), deliver(load)


@dataclass
class _Turn:
    """One pass over what waits, oldest first.

    Attributes:
        load: the load.
        send: the way to its receiver.
        resting: the subjects of which nothing is sent now: an earlier event rests, and they keep their order.
        done: the delivery status of the events.
    """

    load: Load
    send: Send
    resting: set[str] = field(default_factory=set)
    done: Delivery = field(default_factory=Delivery)

    def sends(self, rows: list[dict[str, Any]]) -> bool:
        """Send some events and record their delivery status; say whether the receiver is there for more."""
        now = datetime.now(UTC)
        if any(row["try_again_at"] > now and (row["problem"] or "").startswith(UNREACHED) for row in rows):
            return False
        told: list[dict[str, Any]] = []
        noted = time.monotonic()
        try:
            for row, problem in self.send(self._due(rows, now)):
                self._answered(row, problem)
                told.append(row)
                if time.monotonic() - noted > BETWEEN_NOTES:
                    outbox.note(self.load, told)
                    told, noted = [], time.monotonic()
        except (Unreached, CutOff) as error:
            self._failed(error.row, str(error), isinstance(error, CutOff))
            told.append(error.row)
            return False
        finally:
            outbox.note(self.load, told)
        return True

    def _due(self, rows: list[dict[str, Any]], now: datetime) -> Iterator[dict[str, Any]]:
        """Those whose time has come. One whose key has an earlier one that rests must wait for it."""
        for row in rows:
            if row["try_again_at"] > now:
                self.resting.add(row["subject"])
            elif row["subject"] not in self.resting:
                yield row

    def _answered(self, row: dict[str, Any], problem: str) -> None:
        if problem:
            self._failed(row, problem, True)
        else:
            self.done.sent += 1
            row.update(state="sent", sent_at=datetime.now(UTC), problem=None)

    def _failed(self, row: dict[str, Any], problem: str, blamed: bool) -> None:
        """Note that an event was not sent. It rests twice as long after every failure, and then is quarantined.

        A receiver that is not there is not the event's fault: that alone never quarantines it, and rests stay short.
        """
        limit = self.load.config.tries
        self.done.problem = problem
        self.resting.add(row["subject"])
        tries = row["tries"] + 1 if blamed else max(row["tries"], min(row["tries"] + 1, limit // 2))
        row.update(tries=tries, problem=problem)
        if blamed and tries >= limit:
            row.update(state="quarantined")
        rest = min(2.0 ** min(max(tries - 1, 0), 30), LONGEST_REST)
        row.update(try_again_at=datetime.now(UTC) + timedelta(seconds=rest))
