"""Servers that tell changes as JSON pages over HTTP, as stores."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, Refused
from plainstep.settings.layout import PagesConfig
from plainstep.stores.capabilities import BaseStore, place_for
from plainstep.stores.misplaced import refuse_misplaced

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.http import client, feed, pages
else:
    client, feed, pages = deferred("plainstep.stores.http", "client", "feed", "pages")


class HttpStore(BaseStore):
    """A server.

    Args:
        name: the store's name in plainstep.toml.
        url: ``https://HOST/PATH``; ``?token=`` is sent as a bearer's token.
        base: the folder that relative paths start from.
        wait: for how many seconds it is asked again where it is busy.
    """

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.base, self.wait = name, url, base, wait
        self.server = client.Server(name, url, wait)
        self.place = self.server.url

    def feed(self, name: str, layout: LayoutConfig, overlap: int | timedelta | None) -> feed.PagesFeed:
        """The pages below its address."""
        if overlap is not None:
            raise ConfigError(
                f"A load from {self.name} has an overlap.", "A cursor has none.", "Leave the overlap out."
            )
        refuse_misplaced(f"{self.name}.{name}", "a feed of pages", layout, "message")
        found = pages.Pages(self.server, f"{self.name}.{name}", name, layout.pages or PagesConfig())
        return feed.PagesFeed(found, layout, self.base)

    def lacking(self, what: str) -> Refused:
        """Why it lacks something: its pages are read as feeds."""
        return Refused(
            f"{self.name} is a server that is asked over HTTP, and is not a place for {place_for(what)}.",
            "Its pages are read as feeds of changes, by a layout.",
            f"plainstep init --changes {self.name}.PATH proposes one.",
        )
