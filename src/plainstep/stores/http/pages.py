"""Pages of a feed, one after the other: each names the next, by a cursor or by its address.

A position is the cursor of a page, and how many of its items are taken: ``CURSOR#COUNT``.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from plainstep.core.layouts.exact_json import Written, written
from plainstep.core.layouts.paths import value_at
from plainstep.errors import ConfigError, DataError, Refused
from plainstep.stores.http.client import NotThere, Server

if TYPE_CHECKING:
    from plainstep.settings.layout import PagesConfig

# Pages that are read in one window: what a busy server adds meanwhile is for the next one.
PAGES = 10_000


@dataclass(frozen=True)
class Page:
    """A page.

    Attributes:
        cursor: its own; empty for the first one.
        items: what is on it, each as JSON, without those that were taken before.
        taken: how many were.
        end: the position after it.
    """

    cursor: str
    items: list[str]
    taken: int
    end: str


class Pages:
    """The pages of a feed.

    Args:
        server: gives them.
        place: the feed's name, for messages.
        path: where it lies, below the server's address.
        said: what a layout says of its pages.
    """

    def __init__(self, server: Server, place: str, path: str, said: PagesConfig) -> None:
        self.server, self.place, self.path, self.said = server, place, path, said

    def after(self, position: str) -> Iterator[Page]:
        """The pages after a position; at least one, which may be empty.

        Raises:
            Refused: what is there now does not go on from the position.
        """
        cursor, taken = parted(position)
        seen: set[str] = set()
        for _ in range(PAGES):
            items, following = self._items(cursor)
            if len(items) < taken:
                raise self._lost(position, f"a page has {len(items):,} items, of which {taken:,} were merged")
            if items and following == cursor != "":
                raise DataError(
                    f"The page of {self.place} after {cursor!r} names itself as the next.",
                    "The server seems not to take the cursor, so all that follows would be missed.",
                    "Fix pages.cursor, or pages.next, in the layout.",
                )
            end = f"{following}#0" if following and following != cursor else f"{cursor}#{len(items)}"
            yield Page(cursor, items[taken:], taken, end)
            if not items or end.startswith(f"{cursor}#"):
                return
            seen.add(cursor)
            if following in seen:
                raise DataError(
                    f"The pages of {self.place} go in a circle: {following!r} comes again.",
                    "",
                    "Check pages.next in the layout.",
                )
            cursor, taken = following, 0

    def first(self) -> Any:
        """The first page, as it comes.

        Raises:
            ConfigError: there is none.
        """
        try:
            return self.server.page(self.path, dict(self.said.parameters))[0]
        except NotThere as error:
            raise ConfigError(f"There is no {self.place}: {error}.", "", "Check the path.") from error

    def _items(self, cursor: str) -> tuple[list[str], str]:
        """The items of a page, and the cursor of the next one, or an empty one."""
        said = self.said
        parameters, path = dict(said.parameters), self.path
        if cursor and said.cursor:
            parameters[said.cursor] = cursor
        elif cursor:
            parameters, path = {}, cursor
        try:
            body, linked = self.server.page(path, parameters)
        except NotThere as error:
            if cursor:
                raise self._lost(f"{cursor}#0", f"the server answers {error}") from error
            raise ConfigError(f"There is no {self.place}: {error}.", "", "Check 'from' in the load.") from error
        found = value_at(body, tuple(said.items.split("."))) if said.items else body
        if not isinstance(found, list):
            raise DataError(
                f"A page of {self.place} has no list at {said.items or 'its top'!r}.",
                "",
                "Fix pages.items in the layout.",
            )
        following = value_at(body, tuple(said.next.split("."))) if said.next else linked
        if not isinstance(following, str | int | Written | None) or isinstance(following, bool):
            raise DataError(
                f"A page of {self.place} says {written(following)[:80]} at {said.next!r}, which is not a cursor.",
                "",
                "Fix pages.next in the layout.",
            )
        return [written(item) for item in found], "" if following is None else str(following)

    def _lost(self, position: str, why: str) -> Refused:
        return Refused(
            f"{self.place} does not go on from {position}: {why}.",
            "What was changed since may be missed.",
            "plainstep reload LOAD reads it from its beginning.",
        )


def parted(position: str) -> tuple[str, int]:
    """The cursor of a page, and how many of its items are taken.

    Raises:
        ConfigError: it is no position of pages.
    """
    cursor, sign, count = position.rpartition("#")
    if position and (not sign or not count.isdigit()):
        raise ConfigError(
            f"{position!r} is not a position here.", "A position is the cursor of a page and a count: CURSOR#3."
        )
    return cursor, int(count or 0)
