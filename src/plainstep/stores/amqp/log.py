"""A stream queue of RabbitMQ as a log.

The broker tells no end: the last message that is seen is one. What comes later belongs to the next window.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from plainstep.errors import ConfigError, LostConnection
from plainstep.stores.amqp.connection import Connection
from plainstep.stores.streams.log import Bounds, Messages, refuse_overtaken
from plainstep.stores.streams.numbered import MarkedLog

if TYPE_CHECKING:
    from pika.adapters.blocking_connection import BlockingChannel

# Messages that the broker sends at most before it waits for a word; that are made into a batch; that are acknowledged at a time.
AHEAD, BATCH, FEW, ACKNOWLEDGED = 500, 10_000, 1, 100
# Bytes of a batch.
BYTES = 1 << 24
# Seconds without a message after which the last one that came is taken for the last there is: the chunk it stands in came at once.
QUIET = 0.05
# Seconds after which a queue that says that it is empty is taken at its word: for most of a second it says so with messages in it,
# which a reader is sent within 0.03 s.
EMPTY = 1.0


class QueueLog(MarkedLog):
    """A stream queue.

    Args:
        connection: the way to its broker.
        store: the store's name, for messages.
        name: the queue's name.
    """

    partition = ""

    def __init__(self, connection: Connection, store: str, name: str) -> None:
        self.connection, self.topic, self.place = connection, name, f"{store}.{name}"

    def bounds(self) -> Bounds:
        """From the first message that is kept to the last one that is seen."""
        first = self._first()
        if first is None:
            return Bounds(0, 0)
        last = first
        with self.connection.channel() as channel:
            for message in self._until_quiet(channel, "last", AHEAD):
                last = max(last, _offset(message))
        return Bounds(first, last + 1, is_whole=first == 0)

    def first(self) -> int:
        """The offset of the first message that is kept; 0 where there is none."""
        return self._first() or 0

    def _first(self) -> int | None:
        with self.connection.channel() as channel:
            return next((_offset(message) for message in self._until_quiet(channel, "first", 1)), None)

    def _until_quiet(self, channel: BlockingChannel, start: int | str, ahead: int) -> Iterator[Any]:
        """Messages from a place on, until no more come for a moment; if there are any, it is waited for the first of them."""
        there = channel.queue_declare(self.topic, passive=True).method.message_count
        until = time.monotonic() + (self.connection.wait if there else EMPTY)
        came = False
        for message in self._received(channel, start, ahead):
            if message is not None:
                came = True
                yield message
            elif came or time.monotonic() > until:
                return

    def _received(self, channel: BlockingChannel, start: int | str, ahead: int) -> Iterator[Any]:
        """Messages from a place on, and None whenever none came for a moment.

        Args:
            channel: a channel that is used for nothing else.
            start: the place.
            ahead: how many are wanted, or a few of them. Until they are used, no more come, unless it is many: whoever leaves while some
                come in vain cannot use the connection again.

        Raises:
            ConfigError: the queue is not a stream. What was read of it is still there: nothing was acknowledged.
        """
        channel.basic_qos(prefetch_count=min(ahead, AHEAD))
        arguments = {"x-stream-offset": start}
        every = ACKNOWLEDGED if ahead >= AHEAD else ahead
        count = 0
        for method, properties, body in channel.consume(self.topic, arguments=arguments, inactivity_timeout=QUIET):
            if method is None:
                yield None
                continue
            if "x-stream-offset" not in (properties.headers or {}):
                raise ConfigError(
                    f"{self.place} is not a stream queue.",
                    "Messages of other queues are gone when they are read.",
                    "Declare it with x-queue-type = stream, or bind a stream queue to the same exchange.",
                )
            yield properties, body
            count += 1
            if count % every == 0:
                channel.basic_ack(method.delivery_tag, multiple=True)

    def read(self, start: int, end: int, few: bool = False) -> Iterator[Messages]:
        """The messages in between. The broker begins silently at the first one that is kept: then this refuses."""
        if start >= end:
            return
        count, size, found = 0, 0, Messages()
        with self.connection.channel() as channel:
            reached = start
            until = time.monotonic() + self.connection.wait
            for message in self._received(channel, start, FEW if few else end - start):
                if message is None:
                    if time.monotonic() > until:
                        raise LostConnection(
                            f"{self.place} sent nothing more after {reached - 1:,}.", "", "Run the command again."
                        )
                    continue
                until = time.monotonic() + self.connection.wait
                offset = _offset(message)
                if start <= offset < end:
                    _add(found, message, offset)
                    size += len(message[1])
                reached = offset + 1
                if len(found) == (FEW if few else BATCH) or size > BYTES:
                    count += len(found)
                    yield found
                    size, found = 0, Messages()
                if reached >= end:
                    break
        count += len(found)
        if len(found):
            yield found
        refuse_overtaken(self, start, end, count)

    def holds(self, offset: int) -> bool:
        """Whether it is there after all: the end is what was seen, and the broker may have been slow to send the last chunk."""
        with self.connection.channel() as channel:
            until = time.monotonic() + self.connection.wait
            for message in self._received(channel, offset, 1):
                if message is not None or time.monotonic() > until:
                    return message is not None and _offset(message) == offset
        return False


def _offset(message: Any) -> int:
    return int(message[0].headers["x-stream-offset"])


def _add(found: Messages, message: Any, offset: int) -> None:
    properties, body = message
    found.offsets.append(offset)
    found.values.append(body or None)
    found.keys.append(properties.message_id.encode() if properties.message_id else None)
    found.times.append(properties.timestamp * 1_000_000 if properties.timestamp else None)
    headers = (properties.headers or {}).items()
    found.headers.append({str(name): str(value).encode() for name, value in headers if name != "x-stream-offset"})
