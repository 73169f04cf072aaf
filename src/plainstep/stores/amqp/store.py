"""RabbitMQ brokers as stores: stream queues are feeds of changes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.properties import cached_property
from plainstep.stores.streams.stores import BrokerStore
from plainstep.stores.streams.urls import broker_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.amqp import connection as connections
    from plainstep.stores.amqp import log as logs
    from plainstep.stores.amqp import publisher as publishers
    from plainstep.stores.publisher import Publisher
    from plainstep.stores.streams.feed import LogFeed
else:
    connections, logs, publishers = deferred("plainstep.stores.amqp", "connection", "log", "publisher")


class AmqpStore(BrokerStore):
    """A RabbitMQ broker.

    Args:
        name: the store's name in plainstep.toml.
        url: ``amqp://USER@HOST:PORT/VHOST`` or ``amqps://...``; ``?registry=`` names a registry of schemas.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for an answer.
    """

    kept_in = "queue"

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.base, self.wait = name, url, base, wait
        self.server, self.place, self.registry = broker_of(url, "amqp://user@host:5672/")

    @cached_property
    def connection(self) -> connections.Connection:
        """The way to it."""
        return connections.Connection(self.name, self.server, self.wait)

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> LogFeed:
        """A stream queue."""
        return self.feed_of(logs.QueueLog(self.connection, self.name, name), layout, overlap)

    def publisher(self, name: str) -> Publisher:
        """A way to send messages to an exchange."""
        return publishers.ExchangePublisher(self.connection, name)
