"""Redis servers as stores: streams are feeds of changes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred, redis
from plainstep.errors import need
from plainstep.properties import cached_property
from plainstep.stores.streams.stores import BrokerStore
from plainstep.stores.streams.urls import broker_of

if TYPE_CHECKING:
    from datetime import timedelta

    from redis import Redis

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.publisher import Publisher
    from plainstep.stores.redis import log as logs
    from plainstep.stores.redis import publisher as publishers
    from plainstep.stores.streams.feed import LogFeed
else:
    logs, publishers = deferred("plainstep.stores.redis", "log", "publisher")


class RedisStore(BrokerStore):
    """A Redis server.

    Args:
        name: the store's name in plainstep.toml.
        url: ``redis://HOST:PORT/NUMBER`` or ``rediss://...``; ``?registry=`` names a registry of schemas.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for an answer.
    """

    has_fields = True

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.base, self.wait = name, url, base, wait
        self.server, self.place, self.registry = broker_of(url, "redis://host:6379/0")

    @cached_property
    def client(self) -> Redis:
        """The client, which connects when it is first used."""
        need("redis", "redis", f"{self.name} is a store of Redis")
        patience = max(self.wait, 1.0)
        # Answers as they come (the client's own reading of them takes three times as long), and of one form.
        made = redis.Redis.from_url(
            self.server, socket_timeout=patience, socket_connect_timeout=patience, protocol=2, client_name="plainstep"
        )
        made.set_response_callback("XRANGE", lambda answer, **_: answer)
        return made

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> LogFeed:
        """A stream."""
        field = layout.message.field if layout.message else ""
        return self.feed_of(logs.StreamLog(self.client, self.name, name, field), layout, overlap)

    def publisher(self, name: str) -> Publisher:
        """A way to send messages to a stream."""
        return publishers.StreamPublisher(self.client, self.name, name)
