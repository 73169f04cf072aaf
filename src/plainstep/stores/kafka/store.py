"""Brokers that speak Kafka's protocol, as stores: topics are feeds of changes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.properties import cached_property
from plainstep.redaction import keep_secret
from plainstep.stores.streams.stores import BrokerStore

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.kafka import connection as connections
    from plainstep.stores.kafka import publisher as publishers
    from plainstep.stores.kafka import topic as topics
    from plainstep.stores.publisher import Publisher
else:
    connections, topics, publishers = deferred("plainstep.stores.kafka", "connection", "topic", "publisher")


class KafkaStore(BrokerStore):
    """Some brokers.

    Args:
        name: the store's name in plainstep.toml.
        url: ``kafka://HOST:PORT,HOST:PORT``; after a ``?`` a registry, and how to come in.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for a broker.
    """

    kept_in = "topic"

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.base, self.wait = name, url, base, wait
        self.settings, self.registry, self.group = connections.settings_of(url)
        keep_secret(self.registry)
        self.place = self.settings["bootstrap.servers"]

    @cached_property
    def connection(self) -> connections.Connection:
        """The way to them, which stays open."""
        return connections.Connection(self.name, self.settings, self.wait, self.group)

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> topics.TopicFeed:
        """A topic, or those that a pattern names."""
        self.refuse_misplaced(name, layout, overlap)
        return topics.TopicFeed(self.connection, name, layout, self.base, self.schemas)

    def publisher(self, name: str) -> Publisher:
        """A way to send messages to a topic."""
        return publishers.TopicPublisher(self.connection, name)
