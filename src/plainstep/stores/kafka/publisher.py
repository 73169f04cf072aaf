"""Sending messages to a topic."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from plainstep.deferred import kafka
from plainstep.stores.kafka.connection import Connection
from plainstep.stores.publisher import CONTENT_TYPE, Outgoing

# What says that no broker is there, and not that a message is at fault.
NOBODY = ("_MSG_TIMED_OUT", "_ALL_BROKERS_DOWN", "_TRANSPORT", "_TIMED_OUT", "_RESOLVE")


class TopicPublisher:
    """A producer that keeps the order of each key, and does not write a message twice by itself.

    Args:
        connection: the way to the brokers.
        topic: the topic.
    """

    def __init__(self, connection: Connection, topic: str) -> None:
        self.connection, self.topic = connection, topic
        self._producer = connection.producer()

    def publish(self, messages: Sequence[Outgoing]) -> list[str]:
        """Send some messages, and wait until the broker has them."""
        told: list[Any] = ["it was not sent"] * len(messages)

        def note(place: int) -> Any:
            return lambda error, _: told.__setitem__(place, error)

        headers = [("content-type", CONTENT_TYPE.encode())]
        for place, one in enumerate(messages):
            try:
                self._producer.produce(
                    self.topic,
                    one.value,
                    one.key.encode(),
                    headers=[*headers, ("id", one.id.encode())],
                    on_delivery=note(place),
                )
            except kafka.KafkaException as error:
                told[place] = error.args[0]
        self._producer.flush(self.connection.wait + 1.0)
        codes = {getattr(kafka.KafkaError, name) for name in NOBODY}
        if any(isinstance(error, kafka.KafkaError) and error.code() in codes for error in told):
            raise self.connection.unreached("no answer in time")
        return [error.str() if isinstance(error, kafka.KafkaError) else error or "" for error in told]

    def close(self) -> None:
        """Nothing is left to be sent."""
        self._producer.purge()
