"""A partition of a topic as a log."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

from plainstep.deferred import kafka
from plainstep.errors import LostConnection, Refused
from plainstep.stores.kafka.connection import Connection
from plainstep.stores.streams.log import Bounds, Messages, refuse_gap
from plainstep.stores.streams.numbered import MarkedLog

if TYPE_CHECKING:
    from confluent_kafka import Consumer, Message

# Messages that are taken from the client at a time.
BATCH, FEW = 10_000, 1
# Seconds that the client is waited for before it is asked whether all is well.
TURN = 1.0


class PartitionLog(MarkedLog):
    """A partition of a topic.

    Args:
        connection: the way to its broker.
        topic: the topic.
        partition: the partition's number.
        name: how it is named among those of its feed.
    """

    def __init__(self, connection: Connection, topic: str, partition: int, name: str) -> None:
        self.connection, self.topic, self.number, self.partition = connection, topic, partition, name
        self.place = f"{connection.place}.{topic}, partition {partition}"

    def bounds(self) -> Bounds:
        """From the first message that is kept to where the first transaction is open, as the broker tells it now.

        A consumer that reads what is committed is told of that end, and not of the last message.
        """
        first, end = self._told()
        return Bounds(first, end, is_whole=first == 0)

    def first(self) -> int:
        """The offset of the first message that is kept."""
        return self._told()[0]

    def _told(self) -> tuple[int, int]:
        try:
            found = self.connection.asking.get_watermark_offsets(self._at(0), timeout=self.connection.wait)
        except kafka.KafkaException as error:
            raise self._failed(error.args[0]) from error
        if found is None:
            raise self.connection.unreached("no answer")
        return found[0], found[1]

    def _at(self, offset: int) -> kafka.TopicPartition:
        return kafka.TopicPartition(self.topic, self.number, offset)

    def read(self, start: int, end: int, few: bool = False) -> Iterator[Messages]:
        """The messages in between. Offsets of which there is none (compaction, ends of transactions) are passed over."""
        if start >= end:
            return
        with self.connection.consumer() as consumer:
            consumer.assign([self._at(start)])
            reached, until = start, self._patience()
            while reached < end:
                before = reached
                some, reached = self._next(consumer, reached, end, FEW if few else BATCH)
                if len(some):
                    yield some
                until = self._patience() if reached > before else until
                if time.monotonic() > until:
                    raise LostConnection(
                        f"{self.place} sends nothing more after {reached - 1:,}.", "", "Run the command again."
                    )

    def _patience(self) -> float:
        """Until when to wait for the next message."""
        return time.monotonic() + 3 * self.connection.wait

    def _next(self, consumer: Consumer, reached: int, end: int, count: int) -> tuple[Messages, int]:
        """The next messages before an end, and the offset up to which they reach."""
        found = Messages()
        first = consumer.poll(TURN)
        rest = consumer.consume(count - 1, 0) if first is not None and count > 1 else []
        if first is None:
            self._told()  # the broker is there, or this says that it is not
            return found, reached
        for message in (first, *rest):
            error = message.error()
            if error is not None:
                if error.code() != kafka.KafkaError._PARTITION_EOF:
                    raise self._failed(error, reached)
                return found, self._ended(message.offset() or 0, end)
            offset = message.offset() or 0
            if offset >= end:
                return found, end
            _add(found, message, offset)
            reached = offset + 1
        return found, reached

    def _ended(self, offset: int, end: int) -> int:
        """The broker has no more: so it is, unless what is committed ends before what was to be read."""
        if offset < end:
            raise Refused(
                f"{self.place} ends at {offset:,} for now, and {end:,} was said to be its end.",
                "A producer's transaction is open, or the partition lost its end. Nothing was merged.",
                "Run the command again when the transaction has ended.",
            )
        return end

    def _failed(self, error: kafka.KafkaError, reached: int = 0) -> Exception:
        code = error.code()
        if code in (kafka.KafkaError._AUTO_OFFSET_RESET, kafka.KafkaError.OFFSET_OUT_OF_RANGE):
            return refuse_gap(self.place, str(reached))
        if code in (
            kafka.KafkaError.UNKNOWN_TOPIC_OR_PART,
            kafka.KafkaError._UNKNOWN_PARTITION,
            kafka.KafkaError._UNKNOWN_TOPIC,
        ):
            return Refused(
                f"There is no {self.place}.",
                "The topic was deleted, or made anew with fewer partitions; what was merged may not go on there.",
                "Check 'from' in the load; plainstep reload LOAD compares all that is there.",
            )
        if code in (kafka.KafkaError._TIMED_OUT, kafka.KafkaError._ALL_BROKERS_DOWN, kafka.KafkaError._TRANSPORT):
            return self.connection.unreached(error.str())
        return LostConnection(f"{self.place}: {error.str()}.", "Nothing was written.", "Run the command again.")

    def merged(self, offset: int) -> None:
        """Tell it as the offset of a consumer group, if the store's URL names one: for monitors, which look there."""
        if self.connection.group:
            with suppress(kafka.KafkaException):  # the watermark lies with the target, and there alone
                self.connection.asking.commit(offsets=[self._at(offset + 1)], asynchronous=False)


def _add(found: Messages, message: Message, offset: int) -> None:
    kind, written = message.timestamp()
    found.offsets.append(offset)
    found.values.append(message.value())
    found.keys.append(message.key())
    found.times.append(written * 1000 if kind else None)
    headers = message.headers()
    if headers or found.headers:
        found.headers += [{}] * (len(found.offsets) - 1 - len(found.headers))
        found.headers.append(dict(headers or ()))  # type: ignore[arg-type]
