"""NATS servers as stores: streams of JetStream are feeds of changes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError
from plainstep.properties import cached_property
from plainstep.stores.streams.stores import BrokerStore
from plainstep.stores.streams.urls import broker_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.nats import connection as connections
    from plainstep.stores.nats import log as logs
    from plainstep.stores.nats import publisher as publishers
    from plainstep.stores.publisher import Publisher
    from plainstep.stores.streams.feed import LogFeed
else:
    connections, logs, publishers = deferred("plainstep.stores.nats", "connection", "log", "publisher")


class NatsStore(BrokerStore):
    """A NATS server with JetStream.

    Args:
        name: the store's name in plainstep.toml.
        url: ``nats://HOST:PORT``; ``?registry=`` names a registry of schemas.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for an answer.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.base, self.wait = name, url, base, wait
        self.server, self.place, self.registry = broker_of(url, "nats://host:4222")

    @cached_property
    def connection(self) -> connections.Connection:
        """The way to it, which stays open."""
        return connections.Connection(self.name, self.server, self.wait)

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> LogFeed:
        """A stream."""
        if not name or set(name) & set(" .*>/\\"):
            raise ConfigError(f"{name!r} is not the name of a stream.", "", "Write STORE.STREAM.")
        return self.feed_of(logs.StreamLog(self.connection, self.name, name), layout, overlap)

    def publisher(self, name: str) -> Publisher:
        """A way to send messages to a subject."""
        return publishers.SubjectPublisher(self.connection, name)
