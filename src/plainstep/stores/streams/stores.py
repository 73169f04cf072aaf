"""What stores of brokers have in common: each stream there is a feed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.stores.capabilities import BaseStore, place_for
from plainstep.stores.misplaced import refuse_misplaced
from plainstep.stores.streams.beside import Sampled
from plainstep.stores.streams.feed import LogFeed
from plainstep.stores.streams.formats import rows_of
from plainstep.stores.streams.log import MessageLog, some_of
from plainstep.stores.streams.registry import Registry
from plainstep.stores.streams.schemas import Schemas

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig


class BrokerStore(BaseStore):
    """A broker.

    Attributes:
        kept_in: what its feeds are called, for messages.
        has_fields: whether a message is made of fields.
    """

    name: str
    base: Path
    registry: str
    kept_in = "stream"
    has_fields = False

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: what it keeps is read as feeds."""
        return Refused(
            f"{self.name} is a broker, and is not a place for {place_for(what)}.",
            f"Its {self.kept_in}s are read as feeds of changes, by a layout.",
            f"plainstep init --changes {self.name}.{self.kept_in.upper()} proposes one.",
        )

    def refuse_misplaced(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> None:
        """Refuse what is said of a feed that means nothing for it.

        Raises:
            ConfigError: there is something.
        """
        refuse_misplaced(f"{self.name}.{name}", f"a {self.kept_in}", layout, "pages")
        if layout.message and layout.message.field and not self.has_fields:
            raise ConfigError(
                f"The layout of {self.name}.{name} says message.field.",
                "Only entries of Redis have fields.",
                "Leave it out.",
            )
        if overlap is not None:
            raise ConfigError(
                f"A load from {self.name} has an overlap.", "Messages never come late.", "Leave the overlap out."
            )

    def feed_of(self, log: MessageLog, layout: LayoutConfig, overlap: int | timedelta | None) -> LogFeed:
        """A log as a feed."""
        self.refuse_misplaced(log.topic, layout, overlap)
        samples: Callable[[], list[Sampled]] = lambda: [Sampled(log, some_of(log))]  # noqa: E731
        return LogFeed(log, rows_of(log.place, log.topic, layout, samples, self.base, self.schemas))

    @cached_property
    def schemas(self) -> Schemas | None:
        """The schemas of its registry, if its URL names one; what it told is kept."""
        return Schemas(Registry(self.registry)) if self.registry else None
