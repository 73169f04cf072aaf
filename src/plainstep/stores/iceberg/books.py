"""The books of loads that merge into Iceberg tables: each among the properties of its table, in the commit that merges its rows.

A file beside the table would be removed by whoever removes what no snapshot names; properties stay. Of the ledger, the steps before the
newest hundred are in files of that kind, for they are history only.
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from plainstep.copying import replace
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.books import Book, book_of, written
from plainstep.stores.iceberg.catalogs import Catalog
from plainstep.stores.records import LedgerEntry

# The property of a table that holds the book of a load; and the namespace whose properties say where the loads' books are.
PROPERTY, SPACE = "plainstep.", "plainstep"
# Letters of one property of a namespace: a catalogue in PostgreSQL takes 1,000.
PIECE = 900
# Refused steps that are remembered, of each load.
REFUSED = 20


class CatalogBooks:
    """The books of the loads that merge into the tables of a catalogue.

    Args:
        catalog: the catalogue.
    """

    def __init__(self, catalog: Catalog) -> None:
        self.catalog = catalog

    def _said(self) -> dict[str, str]:
        """What was said of loads, put together again."""
        found: dict[str, str] = {}
        for name, piece in sorted(self.catalog.properties(SPACE).items()):
            whole = name.rpartition("#")[0]
            found[whole] = found.get(whole, "") + piece
        return found

    def _say(self, name: str, text: str) -> None:
        pieces = {f"{name}#{at // PIECE:04}": text[at : at + PIECE] for at in range(0, len(text), PIECE)}
        before = {one for one in self.catalog.properties(SPACE) if one.rpartition("#")[0] == name}
        self.catalog.say(SPACE, pieces, before - pieces.keys())

    def tables_of(self, load: str) -> list[str]:
        """The tables that a load merged into, or was about to, ever; its book is with one of them."""
        return list(json.loads(self._said().get(f"tables.{load}", "[]")))

    def note_table(self, load: str, table: str) -> None:
        """Before the first commit: write down where a load's book will be found."""
        known = self.tables_of(load)
        if table not in known:
            self._say(f"tables.{load}", json.dumps([*known, table], ensure_ascii=False))

    def loads(self) -> list[str]:
        """Every load that merged into a table here, or began."""
        names = (name.partition(".") for name in self._said())
        return sorted({load for word, _, load in names if word in ("tables", "begun")})

    def begun(self, load: str) -> Book | None:
        """The book of a load that has no table yet."""
        text = self._said().get(f"begun.{load}")
        return book_of(text, self.catalog.name) if text else None

    def begin(self, book: Book) -> None:
        """Write the book of a load that has no table yet."""
        self._say(f"begun.{book.watermark.load}", written(book).decode())

    def of_table(self, table: Any, load: str) -> Book | None:
        """The book of a load that is with a table, as the library that reads metadata has it."""
        text = table.properties.get(PROPERTY + load)
        return book_of(text, self.catalog.name) if text else None

    def put_aside(self, book: Book, table: Any) -> Book:
        """A book that is full, written into a file beside its table."""
        name = f"{table.location()}/metadata/plainstep-{quote(book.watermark.load, safe='')}-{book.step:08}-{uuid.uuid4()}.json"
        with table.io.new_output(name).create() as out:
            out.write(written(book))
        return replace(book, name=name)

    def steps(self, book: Book, limit: int | None) -> list[LedgerEntry]:
        """The newest steps of a load, oldest first; those of before, as far as their files are there."""
        found = list(book.steps)
        while book.earlier and (limit is None or len(found) < limit):
            try:
                book = book_of(self.catalog.read(book.earlier), self.catalog.name)
            except FileNotFoundError:  # somebody removed what no snapshot names
                break
            found = [*book.steps, *found]
        return found if limit is None else found[len(found) - min(limit, len(found)) :]

    def refuse(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        known = list(self.refused(entry.load))
        if all((one.step, one.note) != (entry.step, entry.note) for one in known):
            kept = [bookkeeping.entry_values(one) for one in [*known, entry][-REFUSED:]]
            self._say(f"refused.{entry.load}", json.dumps(kept, ensure_ascii=False))

    def refused(self, load: str | None) -> Iterator[LedgerEntry]:
        """The steps that were refused, of a load or of all, oldest first."""
        for name, text in self._said().items():
            if name.startswith("refused.") and load in (None, name.removeprefix("refused.")):
                yield from (bookkeeping.entry_of(one) for one in json.loads(text))
