"""What a partition of a topic is read as where compaction and transactions leave gaps: the client stood for by a narrow one."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from confluent_kafka import KafkaError
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.errors import Refused
from plainstep.stores.kafka.log import PartitionLog
from tests.support import examples


@dataclass
class Message:
    at: int
    failed: KafkaError | None = None

    def error(self) -> KafkaError | None:
        return self.failed

    def offset(self) -> int:
        return self.at

    def value(self) -> bytes:
        return str(self.at).encode()

    def key(self) -> bytes:
        return b"k"

    def timestamp(self) -> tuple[int, int]:
        return 1, self.at

    def headers(self) -> None:
        return None


@dataclass
class Broker:
    """A partition, and the client of it: of its offsets some are messages, others control records, or compacted away.

    Attributes:
        kept: the offsets of messages.
        first, stable: the first that is kept, and where the first transaction is open.
        chunk: messages that are given at a time.
    """

    kept: list[int]
    first: int
    stable: int
    chunk: int = 3
    place: str = "broker"
    wait: float = 0.01
    at: int = 0
    ended: bool = field(default=False)

    @property
    def asking(self) -> Broker:
        return self

    @contextmanager
    def consumer(self) -> Iterator[Broker]:
        yield self

    def get_watermark_offsets(self, _: Any, timeout: float) -> tuple[int, int]:
        return self.first, self.stable

    def assign(self, places: list[Any]) -> None:
        self.at, self.ended = places[0].offset, False

    def poll(self, _: float) -> Message | None:
        if self.at < self.first:
            return Message(self.at, KafkaError(KafkaError._AUTO_OFFSET_RESET))
        found = self.consume(1, 0)
        return found[0] if found else None

    def consume(self, count: int, _: float) -> list[Message]:
        found = [one for one in self.kept if max(self.at, self.first) <= one < self.stable][: min(count, self.chunk)]
        if found:
            self.at = found[-1] + 1
            return [Message(one) for one in found]
        if self.ended:
            return []
        self.ended = True
        return [Message(self.stable, KafkaError(KafkaError._PARTITION_EOF))]


def offsets(log: PartitionLog, start: int, end: int) -> list[int]:
    return [offset for some in log.read(start, end) for offset in some.offsets]


class Partition(unittest.TestCase):
    @settings(max_examples=examples(100), deadline=None)
    @given(st.lists(st.booleans(), max_size=30), st.integers(0, 10), st.integers(0, 6), st.integers(1, 5), st.data())
    def test_gaps_lose_nothing_however_windows_are_cut(
        self, there: list[bool], first: int, open_ones: int, chunk: int, data: st.DataObject
    ) -> None:
        """Messages may be missing anywhere: at the begin, at cuts, before the end; what is not committed is not read."""
        kept = [first + place for place, is_message in enumerate(there) if is_message]
        stable = max(first, first + len(there) - open_ones)
        broker = Broker(kept, first, stable, chunk)
        log = PartitionLog(broker, "readings", 0, "0")  # type: ignore[arg-type]
        bounds = log.bounds()
        self.assertEqual((bounds.first, bounds.end, bounds.is_whole), (first, stable, first == 0))
        read, start = list[int](), first
        while start < bounds.end:
            end = data.draw(st.integers(start + 1, bounds.end))
            read += offsets(log, start, end)
            # What marks the place tells it apart, and what compaction removes later does not.
            mark = log.mark(end - 1, first)
            self.assertFalse(log.disagrees(mark, log.bounds()))
            broker.kept = [one for one in kept if not mark.startswith(f"{one}:")]
            self.assertFalse(log.disagrees(mark, log.bounds()))
            broker.kept = kept
            start = end
        self.assertEqual(read, [one for one in kept if one < stable])
        # The transaction is committed: the next window begins where this one ended.
        broker.stable = first + len(there)
        self.assertEqual(read + offsets(log, start, broker.stable), kept)

    def test_an_end_that_goes_back_is_refused(self) -> None:
        """It was told as the end, and then a transaction was seen to be open before it."""
        log = PartitionLog(Broker([0, 1, 4], 0, 3), "readings", 0, "0")  # type: ignore[arg-type]
        with self.assertRaisesRegex(Refused, "transaction is open"):
            offsets(log, 0, 5)

    def test_messages_that_retention_took_are_refused(self) -> None:
        log = PartitionLog(Broker([5, 6], 5, 7), "readings", 0, "0")  # type: ignore[arg-type]
        with self.assertRaisesRegex(Refused, "does not hold all messages from 2"):
            offsets(log, 2, 7)
        self.assertTrue(log.lacks(2, "", 5))
        self.assertFalse(log.lacks(4, "", 5))
