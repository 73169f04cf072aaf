"""What loads keep with a target of files: watermark, ledger and quarantined rows.

A load's are written into a file of their own, under a name that was never used; the commit that merges a step's rows names that file.
So rows, watermark and ledger row are there with one commit, or not at all.
"""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, TypeVar
from urllib.parse import quote

from plainstep.copying import replace
from plainstep.core.positions import MergedTable, Watermark
from plainstep.errors import Refused
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.objects import Objects
from plainstep.stores.records import Commit, LedgerEntry, QuarantinedRow

FORMAT = 1
# Steps in one file, and files that it lists: when it has so many, the next ones go into a new one, which names it.
STEPS, FILES = 100, 1000
# How often something is looked at while newer ones take its place.
TRIES = 50

Found = TypeVar("Found")
WrittenFile = tuple[int, str, str, int]


@dataclass(frozen=True)
class Book:
    """What is kept of a load.

    Attributes:
        watermark: how far it is merged.
        steps: its newest steps, oldest first.
        earlier: the file of those before; empty if there are none.
        quarantined: the rows that are quarantined.
        files: what these steps wrote, where the target itself does not list it: step, table, file, and how many rows.
        name: the file it was read from; empty where it is not written yet.
    """

    watermark: Watermark
    steps: tuple[LedgerEntry, ...] = ()
    earlier: str = ""
    quarantined: tuple[QuarantinedRow, ...] = ()
    files: tuple[WrittenFile, ...] = ()
    name: str = field(default="", compare=False)

    @property
    def step(self) -> int:
        """The number of the step that set the watermark."""
        return self.watermark.step


class Books:
    """The books of the loads that merge into a store.

    Args:
        objects: where the store is.
        folder: where they are kept there.
    """

    def __init__(self, objects: Objects, folder: str) -> None:
        self.objects, self.folder = objects, folder

    def read(self, name: str) -> Book:
        """A book.

        Raises:
            FileNotFoundError: a newer one took its place.
            Refused: a later release wrote it.
        """
        return book_of(self.objects.read(name), self.objects.place, name)

    def write(self, book: Book) -> str:
        """Write a book under a new name."""
        name = f"{self.folder}/books/{quote(book.watermark.load, safe='')}/{book.step:08}-{uuid.uuid4()}.json"
        self.objects.put(name, written(book), new=True)
        return name

    def chain(self, book: Book) -> Iterator[Book]:
        """A book, and those of the steps before it."""
        yield book
        while book.earlier:
            book = self.read(book.earlier)
            yield book

    def steps(self, book: Book, limit: int | None) -> list[LedgerEntry]:
        """The newest steps of a load, oldest first."""
        found: list[LedgerEntry] = []
        for one in self.chain(book):
            found = [*one.steps, *found]
            if limit is not None and len(found) >= limit:
                break
        return found if limit is None else found[len(found) - min(limit, len(found)) :]

    def refuse(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        known = [one for one in self.refused(entry.load) if (one.step, one.note) == (entry.step, entry.note)]
        if not known:
            values: Sequence[Any] = bookkeeping.entry_values(entry)
            name = f"{self.folder}/refused/{quote(entry.load, safe='')}/{entry.step:08}-{uuid.uuid4()}.json"
            self.objects.put(name, json.dumps(values, ensure_ascii=False).encode(), new=True)

    def refused(self, load: str | None) -> Iterator[LedgerEntry]:
        """The steps that were refused, of a load or of all, oldest first."""
        folder = f"{self.folder}/refused" + (f"/{quote(load, safe='')}" if load is not None else "")
        for one in self.objects.names(folder):
            yield bookkeeping.entry_of(json.loads(self.objects.read(one.name)))


def book_of(text: bytes | str, place: str, name: str = "") -> Book:
    """A book as it was kept.

    Args:
        text: what was kept.
        place: where, for messages.
        name: the file it was read from.

    Raises:
        Refused: a later release wrote it.
    """
    said = json.loads(text)
    if said["format"] > FORMAT:
        raise Refused(
            f"{place} was written by a later release of Plain Step (format {said['format']}).",
            "This one would not read it right.",
            "pip install --upgrade plainstep",
        )
    load, *values = said["watermark"]
    watermark = bookkeeping.watermark_of(load, values)
    assert watermark is not None
    steps = tuple(bookkeeping.entry_of(one) for one in said["steps"])
    quarantined = tuple(QuarantinedRow(*one) for one in said["quarantined"])
    files = tuple((step, table, file, rows) for step, table, file, rows in said.get("files", ()))
    return Book(watermark, steps, said["earlier"], quarantined, files, name)


def followed_by(
    book: Book | None,
    commit: Commit,
    entry: LedgerEntry,
    tables: tuple[MergedTable, ...],
    files: Sequence[WrittenFile] = (),
) -> Book:
    """The book after a step, when all its rows are written; the ledger row is completed.

    Args:
        book: the one before, or None.
        commit: what the step writes.
        entry: its ledger row.
        tables: what it merged into; none if there is nothing yet.
        files: what it wrote, where the target itself does not list it.
    """
    left_out = commit.left_out()
    left_out.note_in(entry)
    entry.seconds = time.perf_counter() - commit.began
    watermark = replace(commit.watermark, tables=tables) if tables else commit.watermark
    gone = {*left_out.released, *(row.place for row in left_out.quarantined)}
    kept = [row for row in (book.quarantined if book else ()) if row.place not in gone]
    quarantined = (*kept, *(replace(row, step=watermark.step) for row in left_out.quarantined))
    if book is None or is_full(book):
        return Book(watermark, (entry,), book.name if book else "", quarantined, tuple(files))
    return Book(watermark, (*book.steps, entry), book.earlier, quarantined, (*book.files, *files))


def is_full(book: Book) -> bool:
    """Whether the next step begins another book, which names this one."""
    return len(book.steps) >= STEPS or len(book.files) >= FILES


def taken_over(book: Book, table: str, load: str) -> Book:
    """The book of a load that merged into a table, which another one merges into from here on."""
    return replace(book, watermark=replace(book.watermark, tables=(MergedTable(table, taken_by=load),)))


def written(book: Book) -> bytes:
    """A book as it is kept."""
    *values, load = bookkeeping.watermark_values(book.watermark)
    said = {
        "format": FORMAT,
        "watermark": [load, *values],
        "steps": [bookkeeping.entry_values(one) for one in book.steps],
        "earlier": book.earlier,
        "quarantined": [[one.place, one.reason, one.row, one.step] for one in book.quarantined],
    }
    if book.files:
        said["files"] = book.files
    return json.dumps(said, ensure_ascii=False).encode()


def looked_up(look: Callable[[], Found], advice: str) -> Found:
    """What is found in books, looking once more where a newer one took the place of the one that was about to be read.

    Raises:
        Refused: it is gone, and none took its place.
    """
    for _ in range(TRIES):
        with suppress(FileNotFoundError):
            return look()
        time.sleep(0.005)
    raise Refused(
        "The target names a file with the watermark of a load, and that file is gone.",
        "How far the load is merged is not known.",
        advice,
    )
