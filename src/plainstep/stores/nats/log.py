"""A stream of JetStream as a log."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from plainstep.errors import LostConnection, Refused
from plainstep.stores.nats.connection import Connection
from plainstep.stores.streams.log import Bounds, Messages, refuse_overtaken
from plainstep.stores.streams.numbered import NumberedLog

if TYPE_CHECKING:
    from nats.aio.client import Client
    from nats.aio.msg import Msg
    from nats.aio.subscription import Subscription

# Messages, and bytes, that are asked for at a time: the client drops what it cannot hold, which is far more.
BATCH, FEW, BYTES = 10_000, 1, 1 << 22
# How many times the wait for an answer all of them may take: each part of them is waited for by itself.
ALL_OF_THEM = 12
# Nanoseconds after which the server forgets a reader that does not ask any more.
FORGOTTEN = 30 * 10**9
# What the server says in place of messages: that there are none, or no more; and that a next one has more bytes than were asked for.
NO_MORE, TOO_LARGE = ("404", "408"), "MaxBytes"


class StreamLog(NumberedLog):
    """A stream.

    Args:
        connection: the way to its server.
        store: the store's name, for messages.
        name: the stream's name.
    """

    partition = ""

    def __init__(self, connection: Connection, store: str, name: str) -> None:
        self.connection, self.topic, self.place = connection, name, f"{store}.{name}"

    def _info(self) -> dict[str, Any]:
        info = self.connection.asked(f"STREAM.INFO.{self.topic}")
        if info["config"]["retention"] != "limits":
            raise Refused(
                f"{self.place} keeps messages until somebody has read them (retention: {info['config']['retention']}).",
                "To read them here would take them from others.",
                "Read a stream with retention 'limits' that has the same subjects, or a mirror of it.",
            )
        return info

    def bounds(self) -> Bounds:
        """From the first message that is kept to the last one, as the server tells it now."""
        info = self._info()
        state = info["state"]
        first, end = max(int(state["first_seq"]), 1), int(state["last_seq"]) + 1
        return Bounds(first, end, str(info["created"]), first == 1)

    def read(self, start: int, end: int, few: bool = False) -> Iterator[Messages]:
        """The messages in between. A reader begins silently at the first message that is kept: then this refuses."""
        if start >= end:
            return
        count = 0
        client, reader = self.connection.client, _Reader(self.connection, self.topic, start)
        try:
            reached = start
            while reached < end:
                some = reader.next(client, FEW if few else BATCH)
                if not some:
                    self._refuse_if_cut_short(reached, end)
                    break
                found = _messages(some, end)
                reached = _sequence(some[-1])[0] + 1
                count += len(found)
                if len(found):
                    yield found
        finally:
            reader.close(client)
        refuse_overtaken(self, start, end, count)

    def _refuse_if_cut_short(self, reached: int, end: int) -> None:
        """Where a reader has no more, make sure that there is none: in a cluster, it may be on a server that lags behind."""
        ask = {"seq": reached, "next_by_subj": ">"}
        found = self.connection.asked(f"STREAM.MSG.GET.{self.topic}", ask, missing=True)
        if found and int(found["message"]["seq"]) < end:
            raise LostConnection(
                f"{self.place} sent nothing more after {reached - 1:,}.",
                "Nothing was written.",
                "Run the command again.",
            )

    def first(self) -> int:
        """The number of the first message that is kept."""
        return self.bounds().first

    def mark(self, upto: int, first: int) -> str:
        """When the stream was made."""
        return self.bounds().mark

    def disagrees(self, mark: str, bounds: Bounds) -> bool:
        """Whether it was made at another time."""
        return bounds.mark != mark


class _Reader:
    """A reader of a stream that acknowledges nothing, and that the server forgets."""

    def __init__(self, connection: Connection, stream: str, start: int) -> None:
        self.connection, self.stream, self.seen = connection, stream, 0
        config = {
            "deliver_policy": "by_start_sequence", "opt_start_seq": start, "ack_policy": "none",
            "inactive_threshold": FORGOTTEN, "mem_storage": True, "replay_policy": "instant",
        }  # fmt: skip
        made = connection.asked(f"CONSUMER.CREATE.{stream}", {"stream_name": stream, "config": config})
        self.name = str(made["name"])
        self._inbox = connection.client.new_inbox()
        # What arrives at once is taken at once. (Waiting for each message by itself gives the interpreter away several times for
        # each, and beside many busy threads takes some 20 ms: of a thousand messages, longer than an answer is waited for.)
        self._arrived: deque[Msg] = deque()
        self._news = asyncio.Event()
        self._answers: Subscription = connection.done(connection.client.subscribe(self._inbox, cb=self._take))

    async def _take(self, message: Msg) -> None:
        self._arrived.append(message)
        self._news.set()

    def next(self, client: Client, count: int) -> list[Msg]:
        """The next messages; none at the end."""
        found = self.connection.done(self._fetched(client, count), self.connection.wait * ALL_OF_THEM)
        for message in found:
            sequence = _sequence(message)[1]
            if sequence != self.seen + 1:
                raise LostConnection(
                    f"Messages of {self.stream} were lost on their way.",
                    "Nothing was written.",
                    "Run the command again.",
                )
            self.seen = sequence
        return found

    async def _fetched(self, client: Client, count: int) -> list[Msg]:
        found, told = await self._answered(client, f'{{"batch":{count},"max_bytes":{BYTES},"no_wait":true}}', count)
        if not found and TOO_LARGE in told.replace(" ", ""):  # one message that is larger by itself
            found, told = await self._answered(client, '{"batch":1,"no_wait":true}', 1)
        if told and TOO_LARGE not in told.replace(" ", ""):
            raise LostConnection(f"A reader of {self.stream} was ended: {told}.", "", "Run the command again.")
        return found

    async def _answered(self, client: Client, ask: str, count: int) -> tuple[list[Msg], str]:
        """The messages that are sent for a question, and what is said where it is not that there are no more."""
        await client.publish(f"$JS.API.CONSUMER.MSG.NEXT.{self.stream}.{self.name}", ask.encode(), reply=self._inbox)
        found: list[Msg] = []
        while len(found) < count:
            while not self._arrived:
                self._news.clear()
                await asyncio.wait_for(self._news.wait(), self.connection.wait)
            message = self._arrived.popleft()
            if not message.reply:  # the server's own word: a message could be acknowledged
                said = message.headers or {}
                return found, "" if said.get(
                    "Status"
                ) in NO_MORE else f"{said.get('Status')} {said.get('Description', '')}".strip()
            found.append(message)
        return found, ""

    def close(self, client: Client) -> None:
        """Have the server forget it at once."""
        self.connection.done(self._answers.unsubscribe())
        self.connection.asked(f"CONSUMER.DELETE.{self.stream}.{self.name}")


def _sequence(message: Msg) -> tuple[int, int, int]:
    """A message's number in its stream, its number for its reader, and when it was written, in nanoseconds since 1970.

    They stand in the subject for its acknowledgement; where a server has a domain, three parts more stand in it.
    """
    parts = message.reply.split(".")
    first = 4 if len(parts) < 11 else 6
    return int(parts[first + 1]), int(parts[first + 2]), int(parts[first + 3])


def _messages(some: list[Msg], end: int) -> Messages:
    found = Messages()
    for message in some:
        number, _, time = _sequence(message)
        if number >= end:
            break
        found.offsets.append(number)
        found.values.append(message.data or None)
        found.keys.append(None)
        found.times.append(time // 1000)
        found.topics.append(message.subject)
        if message.headers or found.headers:
            found.headers += [{}] * (len(found) - 1 - len(found.headers))
            found.headers.append({name: value.encode() for name, value in (message.headers or {}).items()})
    return found
