"""Delta tables in a folder, or in a bucket of object storage, as a store."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.redaction import shown_url
from plainstep.stores.lake.store import LakeStore

if TYPE_CHECKING:
    from plainstep.stores import objects as object_stores
    from plainstep.stores.delta import books
    from plainstep.stores.delta import table as tables
    from plainstep.stores.delta import target as targets
    from plainstep.stores.lake import source as sources
else:
    (object_stores,) = deferred("plainstep.stores", "objects")
    books, tables, targets = deferred("plainstep.stores.delta", "books", "table", "target")
    (sources,) = deferred("plainstep.stores.lake", "source")


class DeltaStore(LakeStore):
    """A folder, or what stands below a URL of object storage, in which each folder is a Delta table.

    Args:
        name: the store's name in plainstep.toml.
        url: ``delta:///folder`` (relative to ``base``), ``delta:////folder``, or ``delta+s3://BUCKET/PREFIX`` (and ``gs``, ``az``);
            ``?deletion_vectors=true`` has tables that are made take deletion vectors.
        base: the folder that relative paths start from.
        wait: not used here.
    """

    holds, one = "holds Delta tables", "A Delta table"

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        before, _, query = url.partition("?")
        self._vectors = _said(url, query)
        self._where = object_stores.location(
            before, base, ("delta:///lake or delta:////data/lake", "delta+s3://BUCKET/PREFIX")
        )
        self.place = self._where.rstrip("/") if isinstance(self._where, str) else str(self._where.absolute())

    @cached_property
    def objects(self) -> object_stores.Objects:
        """Its files."""
        if isinstance(self._where, Path) and not self._where.is_dir():
            raise Refused(f"There is no folder {self._where}.", "", f"Fix the url of the store {self.name}.")
        return object_stores.Objects(self.name, self._where, "lake")

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> sources.VersionsSource:
        """The versions of one table."""
        self.refuse_types(table, types)
        return sources.VersionsSource(tables.DeltaTable(self.objects, table, f"{self.name}.{table}"))

    def versioned(self) -> list[str]:
        """The folders that are Delta tables."""
        return [name for name in self.objects.folders() if any(True for _ in self.objects.names(f"{name}/_delta_log"))]

    def target(self) -> targets.DeltaTarget:
        """The tables as a place to merge into. The folder is made where it is not there yet."""
        if isinstance(self._where, Path):
            self._where.mkdir(parents=True, exist_ok=True)
        return targets.DeltaTarget(self.objects, self.name, self.place, self._vectors)

    def forgetting(self, table: str) -> str:
        """What removes the earlier versions of a table."""
        return f"vacuum {self.name}.{table}; of what was quarantined, {books.FOLDER}/books of before"


def _said(url: str, query: str) -> bool:
    """Whether a URL says that tables take deletion vectors.

    Raises:
        ConfigError: it says something else.
    """
    if query not in ("", "deletion_vectors=true", "deletion_vectors=false"):
        raise ConfigError(
            f"The URL {shown_url(url)!r} says {query!r}.",
            "A store of Delta tables has one setting.",
            "Write ?deletion_vectors=true, or nothing.",
        )
    return query == "deletion_vectors=true"
