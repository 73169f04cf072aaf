"""Sending messages to a broker."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

# The media type of what is sent: an event as a JSON document (CloudEvents 1.0, structured mode).
CONTENT_TYPE = "application/cloudevents+json; charset=utf-8"


@dataclass(frozen=True)
class Outgoing:
    """A message to be sent.

    Attributes:
        id: tells it from every other one; a message that is sent again has the same.
        key: what it is about: messages of one key stay in order.
        value: what it says.
    """

    id: str
    key: str
    value: bytes


class Publisher(Protocol):
    """A way to send messages to one topic, subject, stream or exchange."""

    def publish(self, messages: Sequence[Outgoing]) -> list[str]:
        """Send some messages, of which no two have one key; say of each what went wrong, or nothing once the broker has it.

        Raises:
            StoreError: the broker is not there. Some of them may have arrived.
        """
        ...

    def close(self) -> None:
        """Let go."""
        ...
