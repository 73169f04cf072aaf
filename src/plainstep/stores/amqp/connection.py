"""Connections to RabbitMQ. One that is free is used again: making one takes as many messages there and back as a small reading."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from plainstep.deferred import pika
from plainstep.errors import ConfigError, LostConnection, StoreError, need
from plainstep.redaction import shown_url
from plainstep.stores.free_connections import FreeConnections
from plainstep.stores.unreachable import NOTICED, no_answer

if TYPE_CHECKING:
    from pika.adapters.blocking_connection import BlockingChannel, BlockingConnection


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
        self._free: FreeConnections[BlockingConnection] = FreeConnections(_works, _close)

    @contextmanager
    def channel(self) -> Iterator[BlockingChannel]:
        """A channel, on a connection that nobody else uses meanwhile.

        Raises:
            StoreError: the broker gives no answer, or refuses what is asked.
        """
        connection = self._free.take() or self._connected()
        channel = None
        try:
            channel = connection.channel()
            yield channel
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
            if channel is not None and _left(channel):
                self._free.give(connection)
            else:
                _close(connection)

    def _connected(self) -> BlockingConnection:
        need("pika", "amqp", f"{self.place} is a store of RabbitMQ")
        try:
            return pika.BlockingConnection(self._parameters())
        except (pika.exceptions.ProbableAuthenticationError, pika.exceptions.ProbableAccessDeniedError) as error:
            told = f"{self.place} ({shown_url(self.url)}) refuses the user or the password."
            raise StoreError(told, "", "Check both in its URL.") from error
        except (pika.exceptions.AMQPError, OSError) as error:
            raise no_answer(f"{self.place} ({shown_url(self.url)})", error) from error

    def _parameters(self) -> pika.URLParameters:
        found = pika.URLParameters(self.url)
        found.socket_timeout = found.stack_timeout = found.blocked_connection_timeout = self.wait
        # Nobody answers the broker's heartbeats while a connection is free, so there are none.
        found.heartbeat, found.tcp_options = 0, NOTICED
        return found


def _left(channel: BlockingChannel) -> bool:
    """Leave a channel; whether its connection can be used again.

    It cannot where messages are left that the broker sent ahead: to leave, the client gives them back, which a stream does not take:
    the broker then ends the connection.
    """
    with suppress(pika.exceptions.AMQPError, OSError):
        if channel.is_open and channel.get_waiting_message_count():
            return False
        if channel.is_open:
            channel.close()
        return bool(channel.connection.is_open)
    return False


def _works(connection: BlockingConnection) -> bool:
    """Whether the broker did not end it meanwhile."""
    with suppress(pika.exceptions.AMQPError, OSError):
        connection.process_data_events(0)
        return bool(connection.is_open)
    return False


def _close(connection: BlockingConnection) -> None:
    with suppress(pika.exceptions.AMQPError, OSError):
        connection.close()
