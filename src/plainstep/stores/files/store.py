"""Folders of files as stores: feeds of changes that land as JSON Lines, CSV, Parquet or Avro."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote

from plainstep.errors import ConfigError, Refused
from plainstep.redaction import shown_url
from plainstep.stores.files.feed import FileFeed
from plainstep.stores.files.target import FolderTarget
from plainstep.stores.urls import parts_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.models import LayoutConfig
    from plainstep.stores.api import Source, Table, Target
    from plainstep.stores.records import CaptureInfo, Reader


class FilesStore:
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

    def feed(self, pattern: str, layout: LayoutConfig, overlap: int | timedelta | None) -> FileFeed:
        """The rows of some files."""
        return FileFeed(self.folder, pattern, f"{self.name}.{pattern}", layout, overlap)

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """Always refused: files are read by a layout."""
        raise self._only_feeds(f"changes = {how!r}")

    def table(self, name: str, types: dict[str, str]) -> Table:
        """Always refused: files have no tables."""
        raise self._only_feeds("a table of its own")

    def target(self) -> Target:
        """The folder as a place that journals are appended to."""
        return FolderTarget(self.name, self.folder, self.wait)

    def capture_on(
        self, table: str, key: tuple[str, ...] = (), how: str = "capture", despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Always refused."""
        raise self._only_feeds("capture")

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Always refused."""
        raise self._only_feeds("capture")

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Always refused."""
        raise self._only_feeds("capture")

    def tables(self) -> list[str]:
        """Files are no tables: which of them are one feed, a person must say."""
        return []

    def captures(self, table: str = "", how: str = "") -> list[CaptureInfo]:
        """Nothing is ever captured here."""
        return []

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """Nothing to do: nothing is captured here."""
        return nullcontext()

    def kept_open(self) -> AbstractContextManager[None]:
        """Nothing to do: nothing here costs much to open."""
        return nullcontext()

    def readers(self, table: str = "") -> list[Reader]:
        """Nothing is captured, so nobody reads it."""
        return []

    def forget(self, reader: str) -> int:
        """Nobody is written down here."""
        return 0

    def _only_feeds(self, what: str) -> Refused:
        return Refused(
            f"{self.name} is a folder of files, and is no place for {what}.",
            "Its files are read as a feed of changes, by a layout.",
            f"plainstep init --changes {self.name}.PATTERN proposes one.",
        )
