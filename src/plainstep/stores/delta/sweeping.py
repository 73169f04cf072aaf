"""Removing what nothing refers to: files of steps that were killed before their commit, and books that newer ones took the place of."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from plainstep.stores.delta.books import PROPERTY, LakeBooks
from plainstep.stores.delta.log import OURS, Log, State

# How old a file is that is no part of any version: a step that is still writing is younger. And how old a book is, to which a table that
# is put back to an earlier version would go back.
FILES, BOOKS = timedelta(days=7), timedelta(days=30)


def sweep(books: LakeBooks, log: Log, state: State, now: datetime | None = None) -> list[str]:
    """Remove what is old and nothing refers to; only files of our own making.

    Args:
        books: the books of the store's loads.
        log: the table's log.
        state: its newest version.
        now: what time it is.

    Returns:
        What was removed.
    """
    now = now or datetime.now(UTC)
    named = {file.path for file in state.files.values()}
    for number in log.commits:
        version = log.version(number)
        named |= {file.path for file in (*version.added, *version.removed)}
    gone = [
        one.name
        for one in books.objects.names(log.folder.rstrip("/"))
        if one.changed < now - FILES
        and _is_ours(one.name, log.folder)
        and one.name.removeprefix(log.folder) not in named
    ]
    for name, newest in dict(state.metadata.get("configuration") or {}).items():
        if name.startswith(PROPERTY):
            kept = {one.name for one in books.chain(books.read(newest))}
            folder = newest.rpartition("/")[0]
            gone += [
                one.name for one in books.objects.names(folder) if one.changed < now - BOOKS and one.name not in kept
            ]
    books.objects.remove(gone)
    return gone


def _is_ours(name: str, folder: str) -> bool:
    rest = name.removeprefix(folder)
    return name.startswith(folder) and rest.startswith(OURS) and "/" not in rest
