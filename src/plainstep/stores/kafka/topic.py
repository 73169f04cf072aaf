"""A topic, or several that a pattern names, as a feed: in order within each partition only."""

from __future__ import annotations

from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import ConfigError, Refused
from plainstep.stores.kafka.connection import Connection
from plainstep.stores.kafka.log import PartitionLog
from plainstep.stores.streams.beside import Sampled
from plainstep.stores.streams.feed import LogFeed, MessageFeed
from plainstep.stores.streams.formats import rows_of
from plainstep.stores.streams.log import some_of

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.streams.schemas import Schemas

# Partitions that are looked at, of those that have messages.
PARTITIONS = 16


class TopicFeed(MessageFeed):
    """The messages of some topics.

    Args:
        connection: the way to their brokers.
        pattern: a topic, or a pattern in which * and ? stand for letters.
        layout: how they are read.
        base: the folder that relative paths start from.
        schemas: a registry of schemas, if there is one.
    """

    partitioned_by, is_ordered = "partition", False

    def __init__(
        self, connection: Connection, pattern: str, layout: LayoutConfig, base: Path, schemas: Schemas | None
    ) -> None:
        self.connection, self.pattern, self.place = connection, pattern, f"{connection.place}.{pattern}"
        self.identity = f"{pattern} by offset"
        self._many = bool({"*", "?", "["} & set(pattern))
        self.rows = rows_of(self.place, pattern, layout, self._samples, base, schemas)

    def partitions(self) -> list[str]:
        """The partitions that are there now."""
        known = self.connection.partitions()
        topics = [name for name in sorted(known) if fnmatchcase(name, self.pattern)] if self._many else [self.pattern]
        found = [self._named(topic, number) for topic in topics for number in known.get(topic, ())]
        if not found:
            raise Refused(
                f"There is no topic {self.pattern!r} in {self.connection.place}.",
                f"Topics there: {', '.join(sorted(known)[:10]) or 'none'}.",
                "Check 'from' in the load, or make the topic.",
            )
        return found

    def _named(self, topic: str, number: int) -> str:
        return f"{topic}/{number}" if self._many else str(number)

    def log(self, name: str) -> PartitionLog:
        """A partition by its name.

        Raises:
            ConfigError: it cannot be the name of one.
        """
        topic, _, number = name.rpartition("/")
        if not number.isdigit() or bool(topic) != self._many:
            raise ConfigError(
                f"{name!r} is not a partition of {self.place}.", f"They are: {', '.join(self.partitions())}."
            )
        return PartitionLog(self.connection, topic or self.pattern, int(number), name)

    def partition(self, name: str) -> LogFeed:
        """One of them."""
        return LogFeed(self.log(name), self.rows)

    def _samples(self) -> list[Sampled]:
        found = []
        for name in self.partitions():
            log = self.log(name)
            messages = some_of(log)
            found += [Sampled(log, messages)] if len(messages) else []
            if len(found) == PARTITIONS:
                break
        return found
