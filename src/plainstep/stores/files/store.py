"""Folders of files, and buckets, as stores: feeds of changes that land as JSON Lines, CSV, Parquet or Avro."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.redaction import shown_url
from plainstep.stores.capabilities import BaseStore, place_for
from plainstep.stores.misplaced import refuse_misplaced
from plainstep.stores.urls import parts_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores import objects
    from plainstep.stores.api import Target
    from plainstep.stores.files import bucket_target as bucket_targets
    from plainstep.stores.files import feed as feeds
    from plainstep.stores.files import folders
    from plainstep.stores.files import target as targets
else:
    (objects,) = deferred("plainstep.stores", "objects")
    bucket_targets, feeds, folders, targets = deferred(
        "plainstep.stores.files", "bucket_target", "feed", "folders", "target"
    )


class FilesStore(BaseStore):
    """A folder of files, or a bucket of object storage.

    Args:
        name: the store's name in plainstep.toml.
        url: ``file:///folder`` (relative to ``base``), ``file:////folder``, or ``s3://BUCKET/PREFIX`` (and ``gs``, ``az``).
        base: the folder that relative paths start from.
        wait: not used here.
    """

    exclusive = False
    appends_only = True

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        if parts_of(url).query:
            raise ConfigError(f"The URL {shown_url(url)!r} has something after a ?.", "", "Write it as %3F.")
        where = objects.location(url, base, ("file:///landing or file:////data/landing", "s3://BUCKET/PREFIX"))
        self._where = where
        self.place = where.rstrip("/") if isinstance(where, str) else str(where.absolute())

    def feed(self, pattern: str, layout: LayoutConfig, overlap: int | timedelta | None) -> feeds.FileFeed:
        """The rows of some files."""
        refuse_misplaced(f"{self.name}.{pattern}", "a folder of files", layout, "message", "pages")
        return feeds.FileFeed(self._folder(), pattern, f"{self.name}.{pattern}", layout, overlap)

    def _folder(self) -> folders.Folder:
        if isinstance(self._where, Path):
            return folders.LocalFolder(self._where)
        return folders.Bucket(self._objects, self._kept)

    @cached_property
    def _kept(self) -> folders.Kept:
        return folders.Kept()

    @cached_property
    def _objects(self) -> objects.Objects:
        return objects.Objects(self.name, self._where, "storage")

    def target(self) -> Target:
        """The folder as a place that journals are appended to."""
        if not isinstance(self._where, Path):
            return bucket_targets.BucketTarget(self.name, self._objects)
        return targets.FolderTarget(self.name, self._where, self.wait)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: its files are read as feeds."""
        return Refused(
            f"{self.name} is a folder of files, and is not a place for {place_for(what)}.",
            "Its files are read as a feed of changes, by a layout.",
            f"plainstep init --changes {self.name}.PATTERN proposes one.",
        )
