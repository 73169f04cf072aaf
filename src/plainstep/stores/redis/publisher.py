"""Appending messages to a stream."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from plainstep.deferred import redis
from plainstep.stores.publisher import Outgoing
from plainstep.stores.unreachable import no_answer

if TYPE_CHECKING:
    from redis import Redis


class StreamPublisher:
    """Appends messages to a stream, as entries with the fields ``id``, ``subject`` and ``event``.

    Args:
        client: the client.
        store: the store's name, for messages.
        key: the stream's key.
    """

    def __init__(self, client: Redis, store: str, key: str) -> None:
        self.client, self.store, self.key = client, store, key

    def publish(self, messages: Sequence[Outgoing]) -> list[str]:
        """Append some messages, in one transaction."""
        pipe = self.client.pipeline(transaction=True)
        for one in messages:
            pipe.xadd(self.key, {"id": one.id, "subject": one.key, "event": one.value})
        try:
            answers: list[Any] = pipe.execute(raise_on_error=False)
        except (redis.exceptions.ConnectionError, redis.exceptions.TimeoutError) as error:
            raise no_answer(self.store, error) from error
        except redis.exceptions.RedisError as error:
            return [str(error)] * len(messages)
        return [str(answer) if isinstance(answer, Exception) else "" for answer in answers]

    def close(self) -> None:
        """Leave the server."""
        self.client.close()
