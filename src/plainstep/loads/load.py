"""A load, with its stores."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from functools import cached_property
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plainstep.settings.models import LoadConfig
    from plainstep.stores.api import Source, Store, Target


@dataclass(eq=False)
class Load:
    """One load, with its stores.

    Attributes:
        name: the load's name.
        config: what plainstep.toml says of it.
        from_store, from_table: where changes are read.
        into_store, into_table: where they are merged.
        keep: how long its source keeps changes, as plainstep.toml has it; empty where it does not say.
        base: the folder that relative paths start from.
        old_values: the load whose mirror has the old values that the feed does not tell, if one is named.
        deliver: where its events are sent, with its values from the environment.
        rows_store, rows_table: the table that the changes are of, where something else writes them.
    """

    name: str
    config: LoadConfig
    from_store: Store
    from_table: str
    into_store: Store
    into_table: str
    rows_store: Store | None = None
    rows_table: str = ""
    keep: str = ""
    base: Path = Path()
    old_values: Load | None = None
    deliver: str = ""

    @property
    def made_by(self) -> str:
        """The settings that decide what its target holds, as JSON, to be kept with its mark."""
        said = self.config.meaning | {"key": sorted(self.source.key())}
        return json.dumps(said, ensure_ascii=False, sort_keys=True)

    @property
    def reader(self) -> str:
        """By what name it is written down at its source, where others read it: no URL is told there."""
        which = sha256(self.into_store.place.encode()).hexdigest()[:8]
        return f"{self.name}, into {self.into_table} of {self.into_store.name} ({which})"

    @cached_property
    def source(self) -> Source:
        """Where changes are read, as far as the load takes them."""
        from plainstep.sources.projected import narrows, scoped

        if not narrows(self) or self.config.changes == "diff":  # that one compares what is taken
            return self.whole_source
        return scoped(self, self.whole_source)

    @cached_property
    def whole_source(self) -> Source:
        """The same without the load's filter and columns."""
        if self.config.changes not in ("capture", "log"):
            from plainstep.sources.factory import source_of

            return source_of(self)
        source = self.from_store.source(self.from_table, self.config.types, self.config.changes, self.reader)
        if self.config.on_bad_value != "refuse":
            self._bend(source)
        return source

    def _bend(self, source: Source) -> None:
        from plainstep.errors import ConfigError
        from plainstep.stores.api import LooselyTyped

        if not isinstance(source, LooselyTyped):
            raise ConfigError(
                f"on_bad_value does nothing for {self.config.source}.",
                "In its store, a column holds values of its own type only.",
                f"Take it out of [loads.{self.name}].",
            )
        source.on_bad_value = self.config.on_bad_value

    def with_text(self, column: str) -> Load:
        """The same load, a column of which is read as text: to look at values that are none of its type."""
        types = self.config.types | {column: "TEXT"}
        return replace(self, config=self.config.model_copy(update={"types": types}))

    @property
    def unfiltered(self) -> Load:
        """The same load of whole rows, of all of them: to look at what its filter keeps out."""
        everything = {"where": "", "columns": [], "derive": {}, "key": list(self.whole_source.key()), "drift": "add"}
        return replace(self, config=self.config.model_copy(update=everything))

    @cached_property
    def target(self) -> Target:
        """Where they are merged."""
        return self.into_store.target()
