"""Connections to RabbitMQ: one for each reading."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from plainstep.deferred import pika
from plainstep.errors import ConfigError, LostConnection, StoreError, need
from plainstep.redaction import shown_url
from plainstep.stores.unreachable import no_answer

if TYPE_CHECKING:
    from pika.adapters.blocking_connection import BlockingChannel


# What a broker answers where there is no such queue, and where a queue is none of the kind that was asked for.
NOT_FOUND, PRECONDITION = 404, 406


class Connection:
    """A way to a broker.

    Args:
        place: the store's name, for messages.
        url: the broker's URL.
        wait: how many seconds to wait for an answer.
    """

    def __init__(self, place: str, url: str, wait: float) -> None:
        self.place, self.url, self.wait = place, url, max(wait, 1.0)

    @contextmanager
    def channel(self) -> Iterator[BlockingChannel]:
        """A channel, on a connection of its own, which is closed in the end.

        Raises:
            StoreError: the broker gives no answer, or refuses what is asked.
        """
        need("pika", "amqp", f"{self.place} is a store of RabbitMQ")
        try:
            made = pika.BlockingConnection(self._parameters())
        except (pika.exceptions.ProbableAuthenticationError, pika.exceptions.ProbableAccessDeniedError) as error:
            told = f"{self.place} ({shown_url(self.url)}) refuses the user or the password."
            raise StoreError(told, "", "Check both in its URL.") from error
        except (pika.exceptions.AMQPError, OSError) as error:
            raise no_answer(f"{self.place} ({shown_url(self.url)})", error) from error
        try:
            yield made.channel()
        except pika.exceptions.ChannelClosedByBroker as error:
            kind = ConfigError if error.reply_code in (NOT_FOUND, PRECONDITION) else StoreError
            raise kind(
                f"{self.place} answers: {error.reply_text}.",
                "Only stream queues are read: messages of others are gone when they are read.",
                "Check 'from' in the load: STORE.QUEUE; or bind a stream queue (x-queue-type) to the same exchange.",
            ) from error
        except (pika.exceptions.AMQPError, OSError) as error:
            raise LostConnection(
                f"The connection to {self.place} was cut ({type(error).__name__}).",
                "Nothing was written.",
                "Run the command again.",
            ) from error
        finally:
            # To close, the client gives back what it was sent ahead, which a stream does not take: the broker then ends it.
            with suppress(pika.exceptions.AMQPError):
                made.close()

    def _parameters(self) -> pika.URLParameters:
        found = pika.URLParameters(self.url)
        found.socket_timeout = found.stack_timeout = found.blocked_connection_timeout = self.wait
        return found
