"""Iceberg tables of a catalogue as a store."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, Refused
from plainstep.redaction import shown_url
from plainstep.stores.capabilities import BaseStore

if TYPE_CHECKING:
    from plainstep.stores.iceberg import catalogs
    from plainstep.stores.iceberg import table as tables
    from plainstep.stores.iceberg import target as targets
    from plainstep.stores.lake import source as sources
else:
    catalogs, tables, targets = deferred("plainstep.stores.iceberg", "catalogs", "table", "target")
    (sources,) = deferred("plainstep.stores.lake", "source")


class IcebergStore(BaseStore):
    """A catalogue of Iceberg tables.

    Args:
        name: the store's name in plainstep.toml.
        url: see ``Catalog``.
        base: the folder that relative paths start from.
        wait: not used here.
    """

    methods = ("versions",)
    exclusive = False
    appends_only = False

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, shown_url(url), wait
        self.catalog = catalogs.Catalog(name, url, base)
        self.place = self.catalog.place

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> sources.VersionsSource:
        """The versions of one table."""
        if types:
            raise ConfigError(
                f"A load from {self.name}.{table} says types.",
                "An Iceberg table says the types of its columns itself.",
                "Leave types out.",
            )
        place = f"{self.name}.{table}"
        if "." not in table:
            raise ConfigError(
                f"{place} names no namespace.",
                "A catalogue holds tables in namespaces.",
                f"Write {self.name}.NAMESPACE.{table} in 'from'.",
            )
        return sources.VersionsSource(tables.IcebergTable(lambda: self.catalog.table(table), place))

    def target(self) -> targets.IcebergTarget:
        """The tables as a place to merge into."""
        return targets.IcebergTarget(self.catalog, self.name)

    def versioned(self) -> list[str]:
        """The tables of the catalogue."""
        return self.catalog.tables()

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """No two tables are of one moment."""
        return nullcontext()

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: it tells versions."""
        return Refused(
            f"{self.name} is a catalogue of Iceberg tables, whose changes are told by their versions.",
            "",
            'Say changes = "versions" in the load.',
        )
