"""Ways to send events to where a load delivers them."""

from __future__ import annotations

import hashlib
import json
import os
import threading
from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from pathlib import Path
from queue import Empty, Queue
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import unquote, urlsplit

from plainstep.core.shapes.events import cloud_event
from plainstep.deferred import httpx
from plainstep.errors import PlainStepError, StoreError, need
from plainstep.formats.writer import file_name, new_file
from plainstep.loads.delivery.receivers import broker_of
from plainstep.redaction import redacted
from plainstep.stores.publisher import Outgoing

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.publisher import Publisher

# Seconds that a receiver has to answer: each piece of an answer, and all of it.
PATIENCE, DEADLINE = 10.0, 30.0
# Bytes of an answer that are read, and thrown away.
LARGEST_ANSWER = 1 << 16
# Events that are sent to a broker before it is waited for.
TOGETHER = 1_000
# Letters of what a receiver says that are kept.
LONGEST_TOLD = 200
# How what went wrong begins where it is not the event's fault.
UNREACHED = "nothing reaches the receiver"
Row = dict[str, Any]


class NotSent(Exception):
    """Nothing more is sent now.

    Args:
        row: the event that was being sent.
        told: what went wrong.
    """

    def __init__(self, row: Row, told: object) -> None:
        super().__init__(told)
        self.row = row


class Unreached(NotSent):
    """The receiver is not there: no other event would reach it either."""


class CutOff(NotSent):
    """The receiver was there, and did not answer this event: that may be the event's fault."""


class Send(Protocol):
    """A way to send events. One method to implement, and one to let go of what it holds."""

    def __call__(self, rows: Iterable[Row]) -> Iterator[tuple[Row, str]]:
        """Send events in order, each taken when those before it are done; tell of each what went wrong (empty: nothing).

        Raises:
            Unreached, CutOff: nothing more can be sent now.
        """
        ...

    def close(self) -> None:
        """Let go."""
        ...


def sender(load: Load) -> Send:
    """How a load's events are sent.

    Raises:
        StoreError: what it takes is not installed.
    """
    parts = urlsplit(load.deliver)
    if parts.scheme == "file":
        return FileSender(load.name, load.base / unquote(parts.path)[1:])
    if parts.scheme in ("http", "https"):
        return HttpSender(load.deliver)
    store, name = broker_of(load.deliver, f"deliver of {load.name}")
    return BrokerSender(store.publisher(name))


class BrokerSender:
    """Sends events to a broker, many at a time: of one key, one after the other.

    Args:
        publisher: the way to it.
    """

    def __init__(self, publisher: Publisher) -> None:
        self.publisher = publisher

    def __call__(self, rows: Iterable[Row]) -> Iterator[tuple[Row, str]]:
        """Send events, and wait until the broker has them."""
        for some in _without_twins(rows):
            messages = [
                Outgoing(row["id"], row["subject"], json.dumps(cloud_event(row), ensure_ascii=False).encode())
                for row in some
            ]
            try:
                told = self.publisher.publish(messages)
            except StoreError as error:
                raise Unreached(some[0], f"{UNREACHED}: {error.what}") from error
            yield from ((row, _cleaned(problem)) for row, problem in zip(some, told, strict=True))

    def close(self) -> None:
        """Leave the broker."""
        self.publisher.close()


def _without_twins(rows: Iterable[Row]) -> Iterator[list[Row]]:
    """Some rows at a time, of which no two have one key: if the first of them fails, the second must not arrive before it."""
    some: dict[str, Row] = {}
    for row in rows:
        if row["subject"] in some or len(some) == TOGETHER:
            yield [*some.values()]
            some = {}
        some[row["subject"]] = row
    if some:
        yield [*some.values()]


class HttpSender:
    """Posts each event as structured JSON (the HTTP binding of CloudEvents 1.0), on a connection that stays open.

    Args:
        url: where to.
    """

    def __init__(self, url: str) -> None:
        need("httpx", "http", "Events go out over HTTP")
        self.url = url
        self._http = httpx
        self._client = httpx.Client(timeout=PATIENCE)

    def _post(self, body: bytes, headers: dict[str, str]) -> str:
        """Post one event; what went wrong, or nothing. Of what is answered, only the status counts: the rest is not unpacked."""
        with self._client.stream("POST", self.url, content=body, headers=headers) as answer:
            told = f"the receiver answered {answer.status_code} {answer.reason_phrase}".rstrip()
            if int(answer.headers.get("content-length") or LARGEST_ANSWER) < LARGEST_ANSWER:
                for _ in answer.iter_raw():  # then the connection can be used again
                    pass
            return "" if answer.is_success else told

    def __call__(self, rows: Iterable[Row]) -> Iterator[tuple[Row, str]]:
        """Post one after the other. Any answer but a 2xx status is a failure; a redirection is not followed."""
        headers = {"Content-Type": "application/cloudevents+json; charset=utf-8"}
        for row in rows:
            body = json.dumps(cloud_event(row), ensure_ascii=False).encode()
            try:
                told = within(DEADLINE, lambda: self._post(body, headers))  # noqa: B023 (it is done when this goes on)
            except TimeoutError as error:
                self._client = self._http.Client(timeout=PATIENCE)  # the other one is still busy
                raise CutOff(row, f"the receiver gave no whole answer within {DEADLINE:g} seconds") from error
            except (self._http.ConnectError, self._http.ConnectTimeout, self._http.ProxyError) as error:
                raise Unreached(row, _cleaned(f"{UNREACHED}: {error}")) from error
            except (self._http.HTTPError, self._http.InvalidURL) as error:
                raise CutOff(row, _cleaned(f"the receiver gave no answer: {error or type(error).__name__}")) from error
            yield row, _cleaned(told)

    def close(self) -> None:
        """Close the connection."""
        self._client.close()


def within(seconds: float, work: Callable[[], str]) -> str:
    """Do something that may never end, in a thread that is left behind if it does not.

    Raises:
        TimeoutError: it did not.
    """
    done: Queue[str | BaseException] = Queue()

    def run() -> None:
        try:
            done.put(work())
        except BaseException as error:
            done.put(error)

    threading.Thread(target=run, daemon=True).start()
    try:
        found = done.get(timeout=seconds)
    except Empty:
        raise TimeoutError from None
    if isinstance(found, BaseException):
        raise found
    return found


def _cleaned(told: str) -> str:
    """What others say, in one line of reasonable length, without passwords."""
    return redacted("".join(letter if letter.isprintable() else " " for letter in told))[:LONGEST_TOLD]


class FileSender:
    """Writes some events as one file of JSON Lines, which appears whole or not at all.

    Args:
        name: the load's name.
        folder: where to.
    """

    def __init__(self, name: str, folder: Path) -> None:
        self.name, self.folder = name, folder

    def __call__(self, rows: Iterable[Row]) -> Iterator[tuple[Row, str]]:
        """Write a file for each step that made some of them; its name says which, so that only a repeat replaces it."""
        for _, some in groupby(rows, lambda row: row["step_number"]):
            every = list(some)
            try:
                self._write(every)
            except (OSError, PlainStepError) as error:
                raise Unreached(every[0], f"{UNREACHED}: {error}") from error
            yield from ((row, "") for row in every)

    def _write(self, rows: list[Row]) -> None:
        first, which = rows[0], hashlib.sha256("\n".join(row["id"] for row in rows).encode()).hexdigest()[:12]
        self.folder.mkdir(parents=True, exist_ok=True)
        name = f"{file_name(self.name)}-{first['step_number']:08d}-{first['change_number']:012d}-{which}.jsonl"
        with new_file(self.folder / name) as out:
            out.writelines(json.dumps(cloud_event(row), ensure_ascii=False).encode() + b"\n" for row in rows)
            out.flush()
            os.fsync(out.fileno())

    def close(self) -> None:
        """Nothing stays open."""
