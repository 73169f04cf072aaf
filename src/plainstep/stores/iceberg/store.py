"""Iceberg tables of a catalogue as a store."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError
from plainstep.redaction import shown_url
from plainstep.stores.lake.store import LakeStore

if TYPE_CHECKING:
    from plainstep.stores.iceberg import catalogs
    from plainstep.stores.iceberg import table as tables
    from plainstep.stores.iceberg import target as targets
    from plainstep.stores.lake import source as sources
else:
    catalogs, tables, targets = deferred("plainstep.stores.iceberg", "catalogs", "table", "target")
    (sources,) = deferred("plainstep.stores.lake", "source")


class IcebergStore(LakeStore):
    """A catalogue of Iceberg tables.

    Args:
        name: the store's name in plainstep.toml.
        url: see ``Catalog``.
        base: the folder that relative paths start from.
        wait: not used here.
    """

    holds, one = "is a catalogue of Iceberg tables", "An Iceberg table"

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, shown_url(url), wait
        self.catalog = catalogs.Catalog(name, url, base)
        self.place = self.catalog.place

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> sources.VersionsSource:
        """The versions of one table."""
        self.refuse_types(table, types)
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
