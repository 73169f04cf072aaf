"""Sending messages to a subject that a stream keeps."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Sequence

from plainstep.deferred import nats
from plainstep.stores.nats.connection import Connection
from plainstep.stores.publisher import CONTENT_TYPE, Outgoing


class SubjectPublisher:
    """Sends messages to a subject. The server leaves out one that comes again, by its id.

    Args:
        connection: the way to the server.
        subject: the subject.
    """

    def __init__(self, connection: Connection, subject: str) -> None:
        self.connection, self.subject = connection, subject

    def publish(self, messages: Sequence[Outgoing]) -> list[str]:
        """Send some messages, and wait until a stream has them."""
        client = self.connection.client

        async def sent(one: Outgoing) -> str:
            headers = {"Nats-Msg-Id": one.id, "content-type": CONTENT_TYPE, "subject": one.key}
            try:
                answer = await client.request(self.subject, one.value, timeout=self.connection.wait, headers=headers)
            except nats.errors.NoRespondersError:
                return f"no stream keeps what is sent to {self.subject}"
            return _problem(answer.data, self.subject)

        async def all_sent() -> list[str]:
            return list(await asyncio.gather(*(sent(one) for one in messages)))

        return self.connection.done(all_sent(), self.connection.wait * 2)

    def close(self) -> None:
        """Leave the server."""
        self.connection.close()


def _problem(answer: bytes, subject: str) -> str:
    """What went wrong, by an answer; nothing where a stream says that it has the message. Others may listen on a subject, too."""
    try:
        found = json.loads(answer)
    except ValueError:
        found = None
    if isinstance(found, dict) and found.get("error"):
        return str(found["error"].get("description"))
    kept = isinstance(found, dict) and found.get("stream")
    return "" if kept else f"what answers on {subject} is no stream"
