"""The books of loads that merge into Delta tables: the newest is named among a table's properties, in the commit that merges its rows."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, unquote

from plainstep.stores.books import Book, Books, written
from plainstep.stores.commit_errors import moved
from plainstep.stores.objects import Objects
from plainstep.stores.records import Commit

# Where they are kept, beside the tables; and the property of a table that names the newest of a load.
FOLDER, PROPERTY = "_plainstep", "plainstep."


class LakeBooks(Books):
    """The books of the loads that merge into the tables of a store.

    Args:
        objects: where the store is.
        vectors: whether tables that are made take deletion vectors.
    """

    def __init__(self, objects: Objects, vectors: bool = False) -> None:
        super().__init__(objects, FOLDER)
        self.vectors = vectors

    def tables_of(self, load: str) -> list[str]:
        """The tables that a load merged into, or was about to, ever; its watermark is with one of them."""
        try:
            return list(json.loads(self.objects.read(self._hint(load))))
        except FileNotFoundError:
            return []

    def step_named(self, metadata: Mapping[str, Any] | None, load: str) -> int | None:
        """The number of a load's newest step, as a version of a table names it; None where that version does not say."""
        named = ((metadata or {}).get("configuration") or {}).get(PROPERTY + load)
        return int(named.rpartition("/")[2].partition("-")[0]) if named else None

    def note_table(self, load: str, table: str) -> None:
        """Before the first commit: write down where a load's watermark will be found."""
        known = self.tables_of(load)
        if table not in known:
            self.objects.put(self._hint(load), json.dumps([*known, table], ensure_ascii=False).encode())

    def loads(self) -> list[str]:
        """Every load that merged into a table here, or began."""
        names = [
            one.name.split("/") for folder in ("loads", "begun") for one in self.objects.names(f"{FOLDER}/{folder}")
        ]
        return sorted({unquote(parts[2].removesuffix(".json")) for parts in names})

    def begun(self, load: str) -> list[str]:
        """The newest book of a load that was written while it had no table; none if there is none."""
        return [one.name for one in self.objects.names(f"{FOLDER}/begun/{quote(load, safe='')}")][-1:]

    def begin(self, book: Book, commit: Commit) -> None:
        """Write the book of a load that has no table yet: under the number of its step, which is there once.

        Raises:
            WatermarkMoved: another one has that number.
        """
        name = f"{FOLDER}/begun/{quote(book.watermark.load, safe='')}/{book.step:08}.json"
        before = commit.before.step if commit.before else None
        if book.step != (before or 0) + 1 or not self.objects.put(name, written(book), new=True):
            raise moved(book.watermark.load)

    def _hint(self, load: str) -> str:
        return f"{FOLDER}/loads/{quote(load, safe='')}.json"
