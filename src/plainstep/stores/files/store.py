"""Folders of files as stores: feeds of changes that land as JSON Lines, CSV, Parquet or Avro."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, Refused
from plainstep.redaction import shown_url
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.urls import parts_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.api import Target
    from plainstep.stores.files import feed as feeds
    from plainstep.stores.files import target as targets
else:
    feeds, targets = deferred("plainstep.stores.files", "feed", "target")


class FilesStore(BaseStore):
    """A folder of files.

    Args:
        name: the store's name in plainstep.toml.
        url: ``file:///folder`` (relative to ``base``) or ``file:////folder``.
        base: the folder that relative paths start from.
        wait: not used here.
    """

    exclusive = False
    appends_only = True

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        parts = parts_of(url)
        if parts.netloc or parts.query or parts.fragment or not parts.path.startswith("/"):
            raise ConfigError(
                f"The URL {shown_url(url)!r} names no folder.",
                "A folder's URL has three slashes before a relative path, four before an absolute one.",
                "Write file:///landing or file:////data/landing.",
            )
        self.folder = base / unquote(parts.path)[1:]
        self.place = str(self.folder.absolute())

    def feed(self, pattern: str, layout: LayoutConfig, overlap: int | timedelta | None) -> feeds.FileFeed:
        """The rows of some files."""
        return feeds.FileFeed(self.folder, pattern, f"{self.name}.{pattern}", layout, overlap)

    def target(self) -> Target:
        """The folder as a place that journals are appended to."""
        return targets.FolderTarget(self.name, self.folder, self.wait)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: its files are read as feeds."""
        asked = {"tables": "a table of its own", "log": "changes = 'log'"}.get(what, what)
        return Refused(
            f"{self.name} is a folder of files, and is not a place for {asked}.",
            "Its files are read as a feed of changes, by a layout.",
            f"plainstep init --changes {self.name}.PATTERN proposes one.",
        )
