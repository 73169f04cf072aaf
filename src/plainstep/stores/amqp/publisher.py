"""Sending messages to an exchange."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING

from plainstep.deferred import pika
from plainstep.errors import Unreachable
from plainstep.stores.amqp.connection import Connection
from plainstep.stores.publisher import CONTENT_TYPE, Outgoing

if TYPE_CHECKING:
    from pika.adapters.blocking_connection import BlockingChannel


class ExchangePublisher:
    """Sends messages to an exchange, with their keys as routing keys; the broker confirms each.

    Args:
        connection: the way to the broker.
        exchange: the exchange.
    """

    def __init__(self, connection: Connection, exchange: str) -> None:
        self.connection, self.exchange = connection, exchange
        self._opened = ExitStack()
        self._channel: BlockingChannel | None = None

    def publish(self, messages: Sequence[Outgoing]) -> list[str]:
        """Send some messages, one after the other."""
        if self._channel is None:
            self._channel = self._opened.enter_context(self.connection.channel())
            self._channel.confirm_delivery()
        channel, told = self._channel, list[str]()
        for one in messages:
            told.append(self._sent(channel, one))
            if (
                channel.is_closed
            ):  # what it closed for, such as an exchange that is not there, holds for the others, too
                return told + [told[-1]] * (len(messages) - len(told))
        return told

    def _sent(self, channel: BlockingChannel, one: Outgoing) -> str:
        said = pika.BasicProperties(content_type=CONTENT_TYPE, message_id=one.id, delivery_mode=2)
        try:
            channel.basic_publish(self.exchange, one.key, one.value, said, mandatory=True)
        except pika.exceptions.UnroutableError:
            return f"no queue is bound to the exchange {self.exchange} for it"
        except pika.exceptions.NackError:
            return "the broker refused it"
        except pika.exceptions.ChannelClosedByBroker as error:
            self.close()
            return f"the broker answered: {error.reply_text}"
        except (pika.exceptions.AMQPError, OSError) as error:
            self.close()
            raise Unreachable(f"The connection to {self.connection.place} was cut ({type(error).__name__}).") from error
        return ""

    def close(self) -> None:
        """Leave the broker."""
        self._channel = None
        self._opened.close()
