"""Sending events out of their outbox, after they were committed: at least once, and in order for each key."""

from __future__ import annotations

import json
from collections.abc import Generator, Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.error import HTTPError, URLError
from urllib.parse import unquote, urlsplit
from urllib.request import Request, urlopen

from plainstep.errors import ConfigError, PlainStepError
from plainstep.stores.records import Aside, Commit, LedgerEntry, Part

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.load import Load

# Events that are sent before what became of them is written down; after a crash, these may be sent again.
AT_ONCE = 100
# Seconds that a receiver has to answer.
PATIENCE = 10.0
# The longest rest between two tries, in seconds.
LONGEST_REST = 3600.0


@dataclass
class Delivery:
    """What became of a load's events.

    Attributes:
        sent: how many were sent.
        waiting: how many are left to be sent.
        aside: how many could not be sent, and were set aside; those of earlier times among them.
        problem: what went wrong last, or empty.
    """

    sent: int = 0
    waiting: int = 0
    aside: int = 0
    problem: str = ""


class Unreached(Exception):
    """The receiver is not there: no other event would reach it either."""


def deliver(load: Load) -> Delivery:
    """Send the events of a load that wait and whose time has come.

    Raises:
        PlainStepError: the outbox cannot be read or written, or the receiver's address is none.
    """
    done = Delivery()
    send = sender(load)
    reached = True
    while reached:
        batch = _due(load)
        if not batch:
            break
        reached = _send_all(batch, send, load.config.tries, done)
        _write_down(load, batch)
    done.waiting, done.aside = counts(load)
    return done


def sender(load: Load) -> Send:
    """How a load's events are sent.

    Raises:
        ConfigError: nothing is known for such an address.
    """
    url = load.config.deliver
    scheme = urlsplit(url).scheme
    if scheme in ("http", "https"):
        return HttpSender(url)
    if scheme == "file":
        return FileSender(load.name, load.base / unquote(urlsplit(url).path)[1:])
    raise ConfigError(
        f"deliver of {load.name} is {url!r}, and events cannot be sent there.",
        "",
        "Write http://HOST/PATH, or file:///FOLDER for files of JSON Lines.",
    )


class Send(Protocol):
    """A way to send events. One method to implement."""

    def __call__(self, rows: list[dict[str, Any]]) -> Iterator[str | None]:
        """Send some events in order; tell of each what went wrong (empty: nothing), or None if it was left for later.

        Raises:
            Unreached: nothing can be sent now.
        """
        ...


class HttpSender:
    """Posts each event as structured JSON (the HTTP binding of CloudEvents 1.0).

    Args:
        url: where to.
    """

    def __init__(self, url: str) -> None:
        self.url = url

    def __call__(self, rows: list[dict[str, Any]]) -> Iterator[str | None]:
        """Send one after the other; those of a key that come after one that failed are left."""
        from plainstep.core.shapes.events import cloud_event

        failed: set[str] = set()
        for row in rows:
            if row["subject"] in failed:
                yield None
                continue
            body = json.dumps(cloud_event(row), ensure_ascii=False).encode()
            request = Request(self.url, body, {"Content-Type": "application/cloudevents+json; charset=utf-8"})
            try:
                with urlopen(request, timeout=PATIENCE) as answer:
                    answer.read()
                yield ""
            except HTTPError as error:
                failed.add(row["subject"])
                yield f"the receiver answered {error.code} {error.reason}"
            except (URLError, OSError) as error:
                raise Unreached(f"no answer from the receiver: {getattr(error, 'reason', error)}") from error


class FileSender:
    """Writes some events as one file of JSON Lines, which appears whole or not at all.

    Args:
        name: the load's name.
        folder: where to.
    """

    def __init__(self, name: str, folder: Path) -> None:
        self.name, self.folder = name, folder

    def __call__(self, rows: list[dict[str, Any]]) -> Iterator[str | None]:
        """Write them; the same first event always makes the same file, so that a repeat replaces it."""
        from plainstep.core.shapes.events import cloud_event
        from plainstep.exporting import new_file

        path = self.folder / f"{self.name}-{rows[0]['step_number']:08d}-{rows[0]['position']:015d}.jsonl"
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            with new_file(path) as out:
                out.writelines(json.dumps(cloud_event(row), ensure_ascii=False).encode() + b"\n" for row in rows)
        except (OSError, PlainStepError) as error:
            raise Unreached(str(error)) from error
        yield from ("" for _ in rows)


def _due(load: Load) -> list[dict[str, Any]]:
    """The next events to be sent. One whose key has an earlier one that rests must wait for it."""
    now = datetime.now(UTC)
    resting: set[str] = set()
    found = []
    with closing(_rows(load, "state = 'waiting' ORDER BY position, id")) as rows:
        for row in rows:
            if row["try_again_at"] > now or row["subject"] in resting:
                resting.add(row["subject"])
            else:
                found.append(row)
            if len(found) == AT_ONCE:
                break
    return found


def _rows(load: Load, condition: str) -> Generator[dict[str, Any]]:
    from plainstep.core.shapes.events import OUTBOX

    if load.target.table(load.into_table, ()) is None:
        return
    with load.into_store.table(load.into_table, {}).reading() as reading:
        for batch in reading.select(OUTBOX.names, {}, f"WHERE {condition}"):
            yield from batch.cast(OUTBOX).to_pylist()


def _send_all(batch: list[dict[str, Any]], send: Send, tries: int, done: Delivery) -> bool:
    """Send events and note in each what became of it; whether the receiver is there."""
    answers = send(batch)
    for row in batch:
        try:
            problem = next(answers)
        except Unreached as error:
            _failed(row, str(error), tries, done)
            return False
        if problem:
            _failed(row, problem, tries, done)
        elif problem is not None:
            done.sent += 1
            row.update(state="sent", sent_at=datetime.now(UTC), problem=None)
    return True


def _failed(row: dict[str, Any], problem: str, tries: int, done: Delivery) -> None:
    """Note that an event was not sent; it rests twice as long after every failure, and then is set aside."""
    done.problem = problem
    row.update(tries=row["tries"] + 1, problem=problem)
    if row["tries"] >= tries:
        row.update(state="aside")
    rest = min(2.0 ** min(row["tries"] - 1, 30), LONGEST_REST)
    row.update(try_again_at=datetime.now(UTC) + timedelta(seconds=rest))


def _write_down(load: Load, rows: list[dict[str, Any]]) -> None:
    """Write into the outbox what became of some events."""
    import pyarrow as pa

    from plainstep.core.shapes.events import OUTBOX

    names = ["id", "state", "tries", "try_again_at", "problem", "sent_at"]
    fields = pa.schema([OUTBOX.field(name) for name in names])
    amend(load, pa.Table.from_pylist([{name: row[name] for name in names} for row in rows], fields))


def amend(load: Load, rows: pa.Table) -> None:
    """Set columns of some rows of an outbox; mark and ledger stay as they are."""
    from plainstep.core.drift import Fit
    from plainstep.core.edits import Edits
    from plainstep.core.shapes.events import OUTBOX

    mark = load.target.mark(load.name)
    if mark is None:
        return
    part = Part(
        load.into_table, load.target.fits(OUTBOX), ("id",), Edits(patch=[rows], whole=False), lambda info: Fit()
    )
    entry = LedgerEntry(load.name, mark.step, "amend", mark.identity, mark.position, mark.position)
    load.target.commit(Commit([part], mark, mark, entry, amends=True))


def counts(load: Load) -> tuple[int, int]:
    """How many events wait, and how many are set aside."""
    if load.target.table(load.into_table, ()) is None:
        return 0, 0
    table = load.into_store.table(load.into_table, {})
    with table.reading() as reading:
        found = reading.first(
            f"SELECT coalesce(sum(CASE state WHEN 'waiting' THEN 1 ELSE 0 END), 0), "
            f"coalesce(sum(CASE state WHEN 'aside' THEN 1 ELSE 0 END), 0) FROM {table.sql}"
        )
    return (int(found[0]), int(found[1])) if found else (0, 0)


def set_aside(load: Load) -> list[Aside]:
    """The events that were set aside, oldest first."""
    rows = _rows(load, "state = 'aside' ORDER BY position, id")
    return [Aside(row["id"], row["problem"], row["data"], row["step_number"]) for row in rows]


def send_again(load: Load) -> tuple[int, Delivery]:
    """Let the events that were set aside wait again, end every rest, and send them; how many were set aside."""
    back = list(_rows(load, "state IN ('aside', 'waiting') ORDER BY position, id"))
    count = sum(row["state"] == "aside" for row in back)
    for row in back:
        row.update(state="waiting", tries=0, try_again_at=datetime.now(UTC))
    if back:
        _write_down(load, back)
    return count, deliver(load)
