"""A bucket to append journals to: a log of commits, each an object that is made only where there is none yet.

Files are written where no reader looks; the commit is the object ``commits/N``, which says where each load's book is (watermark, ledger,
files), and which files came with it; then they are copied to where they belong. Whoever comes next copies what a killed step left, and
removes what was never committed when it is old. No file is renamed, and no lock is needed.
"""

from __future__ import annotations

import json
import random
import time
import uuid
from collections.abc import Sequence
from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import chain
from typing import IO, TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.positions import MergedTable
from plainstep.errors import Refused
from plainstep.stores.booked_target import BookedTarget
from plainstep.stores.books import TRIES, Book, Books, WrittenFile, followed_by, looked_up, taken_over
from plainstep.stores.commit_errors import moved, only_journals, refuse_place
from plainstep.stores.files.folders import Bucket, Kept
from plainstep.stores.files.target import Journals
from plainstep.stores.keyed_rows import ScannedRows
from plainstep.stores.objects import Objects
from plainstep.stores.records import Commit

if TYPE_CHECKING:
    from plainstep.formats.openable import Openable
    from plainstep.stores.api import KeyedRows

OWN = ".plainstep"
FORMAT = 1
# So many commits are kept, for whoever is about to read one; and after so many, what nothing refers to is looked for.
KEPT, SWEEP = 100, 50
# How old a book is that a newer one took the place of: whoever is about to read it is faster. And how old a file is that no commit
# names: a step that is still writing is younger.
READ, WRITTEN = timedelta(days=1), timedelta(days=7)
# Files of a step that are open at a time: each is sent in parts of some 10 MiB.
OPEN = 16
# Bytes of a file's rows in memory, far more than it takes: S3 copies no file of more than 5 GB.
LONGEST = 4 << 30


@dataclass(frozen=True)
class Head:
    """A commit.

    Attributes:
        number: its number, from 1 on; 0 before the first.
        books: the book of each load, by its name.
        files: the files that came with it: where they were written, by where they belong.
    """

    number: int
    books: dict[str, str]
    files: dict[str, str]


class BucketTarget(Journals, BookedTarget):
    """A bucket that journals are appended to.

    Args:
        name: the store's name.
        objects: its files.
    """

    most_open, longest = OPEN, LONGEST
    advice = "Put it back from a copy of the bucket, or step into another folder."

    def __init__(self, name: str, objects: Objects) -> None:
        self.place, self.objects = name, objects
        self._books = Books(objects, OWN)
        self._written: dict[str, str] = {}
        self._placed, self._is_unsure = 0, False

    @property
    def books(self) -> Books:
        """The books of its loads."""
        return self._books

    def head(self) -> Head:
        """The newest commit."""

        def newest() -> Head:
            names = [one.name for one in self.objects.names(f"{OWN}/commits")]
            if not names:
                return Head(0, {}, {})
            said = json.loads(self.objects.read(names[-1]))
            if said["format"] > FORMAT:
                raise Refused(
                    f"{self.place} was written by a later release of Plain Step (format {said['format']}).",
                    "This one would not read it right.",
                    "pip install --upgrade plainstep",
                )
            return Head(said["number"], said["books"], said["files"])

        return looked_up(newest, self.advice)

    def loads(self) -> list[str]:
        """Every load that merged here."""
        return sorted(self.head().books)

    def newest(self, load: str) -> Book | None:
        """A load's book, that of its last step; None before its first."""
        name = self.head().books.get(load)
        return self.books.read(name) if name else None

    def standing_table(self, name: str) -> MergedTable | None:
        """A table, which lies where its watermark lies."""
        return MergedTable(name, "", True)

    def files(self, name: str) -> list[str]:
        """A journal's files, oldest first."""

        def listed() -> list[tuple[int, str]]:
            newest = (self.books.read(book) for book in self.head().books.values())
            books = (one for book in newest for one in self.books.chain(book))
            return [(step, file) for one in books for step, table, file, _ in one.files if table == name]

        return [file for _, file in sorted(looked_up(listed, self.advice))]

    def source(self, file: str) -> Openable | None:
        """What a file is read from: a killed step may have left it where it was written."""
        bucket = Bucket(self.objects, Kept())
        return bucket.file(file) or bucket.file(self.head().files.get(file, file))

    def create(self, file: str) -> AbstractContextManager[IO[bytes]]:
        """A new file, written where no reader looks; when it is closed, it lasts."""
        self._written[file] = f"{OWN}/new/{uuid.uuid4()}/{file}"
        return self.objects.write(self._written[file])

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a journal, to be looked up by key: by reading all of them."""
        return ScannedRows(self, name)

    def shown(self, file: str) -> str:
        """Where a file belongs."""
        return f"{self.objects.where.rstrip('/')}/{file}"

    def finish(self) -> None:
        """Copy committed files to where they belong."""
        self._place(self.head())

    def _place(self, head: Head) -> None:
        if head.number > self._placed:
            for file, new in head.files.items():
                with suppress(FileNotFoundError):  # somebody else did it
                    self.objects.copy(new, file)
            self.objects.remove(list(head.files.values()))
            self._placed = head.number

    def commit(self, *commits: Commit) -> None:
        """Write the files, move the watermarks and add the ledger rows: all of it, or nothing.

        Raises:
            WatermarkMoved: a watermark is no longer where it was read.
            Refused: something else than a journal is asked for.
        """
        self._written, self._is_unsure = {}, False
        made = False
        try:
            self._standing(self.head(), commits)
            files = [self._appended(commit) for commit in commits]
            for turn in range(TRIES):
                if made := self._tried(commits, files):
                    return
                time.sleep(random.random() * 0.02 * min(turn + 1, 10))  # not in step with whoever came first
        finally:
            if not made and not self._is_unsure:
                self._remove(list(self._written.values()))
        raise Refused(
            f"Others wrote {self.place} each time that this step was about to.",
            "A commit goes after those of others, never over them. Nothing was merged.",
            "Run the command again when less is written.",
        )

    def _remove(self, names: Sequence[str]) -> None:
        with suppress(Exception):  # what is left behind costs a little room
            self.objects.remove(names)

    def _standing(self, head: Head, commits: Sequence[Commit]) -> dict[str, Book]:
        """The book of each load of these commits; of every load, if one takes a table over.

        Raises:
            WatermarkMoved: one's watermark is no longer where it was read.
        """
        loads = {commit.watermark.load for commit in commits}
        wanted = head.books if any(commit.takes_over for commit in commits) else head.books.keys() & loads
        books = {load: self.books.read(head.books[load]) for load in wanted}
        for commit in commits:
            load = commit.watermark.load
            if (books[load].step if load in books else None) != (commit.before.step if commit.before else None):
                raise moved(load)
        return books

    def _appended(self, commit: Commit) -> list[WrittenFile]:
        """Write the rows of a commit: once, for they can be read once."""
        found = []
        for part in commit.parts:
            if part.key or commit.amends:
                raise only_journals(self.place)
            refuse_place(self.place, part.table, OWN)
            fit = part.fit(None)
            commit.entry.note = "; ".join(filter(None, (fit.note, commit.entry.note)))
            batches = (batch for edits in part.rounds for batch in edits.append)
            first = next(batches, None)
            counts = {} if first is None else self.write(commit, part, first.schema, chain([first], batches))
            commit.entry.append += sum(counts.values())
            found += [(commit.watermark.step, part.table, file, count) for file, count in counts.items()]
        return found

    def _tried(self, commits: Sequence[Commit], files: Sequence[list[WrittenFile]]) -> bool:
        """Make the commit after the newest one, or tell that another one came first."""
        head = self.head()
        self._place(head)
        before = self._standing(head, commits)
        entries = [replace(commit.entry) for commit in commits]
        after: dict[str, Book] = {}
        for commit, entry, some in zip(commits, entries, files, strict=True):
            load, table = commit.watermark.load, commit.main_table
            tables = tuple(MergedTable(part.table, "", True) for part in commit.parts)
            after[load] = followed_by(before.get(load), commit, entry, tables, some)
            if commit.takes_over and table:
                others = [one for one in before if one != load and _merged_into(before[one], table)]
                after |= {one: taken_over(before[one], table, load) for one in others}
        names = {load: self.books.write(book) for load, book in after.items()}
        said = {
            "format": FORMAT,
            "number": head.number + 1,
            "books": head.books | names,
            "files": self._written,
        }
        name = f"{OWN}/commits/{head.number + 1:020}.json"
        self._is_unsure = True  # if its answer is lost, the commit may be there, and names these files
        is_made = self.objects.put(name, json.dumps(said, ensure_ascii=False).encode(), new=True)
        self._is_unsure = False
        if not is_made:
            self._remove(list(names.values()))
            return False
        for commit, entry in zip(commits, entries, strict=True):
            commit.entry.note, commit.entry.seconds = entry.note, entry.seconds
        with suppress(Exception):  # the commit is made: what is left to do, the next step does
            newest = self.head()
            self._place(newest)
            if newest.number % SWEEP == 0:
                self.sweep(newest)
        return True

    def sweep(self, head: Head, now: datetime | None = None) -> list[str]:
        """Remove what nothing refers to, and is old enough that nobody is about to read or to name it.

        Args:
            head: the newest commit.
            now: what time it is.

        Returns:
            What was removed.
        """
        now = now or datetime.now(UTC)
        kept = {one.name for name in head.books.values() for one in self.books.chain(self.books.read(name))}
        gone = [one.name for one in self.objects.names(f"{OWN}/commits")][:-KEPT]
        gone += [
            one.name for one in self.objects.names(f"{OWN}/books") if one.changed < now - READ and one.name not in kept
        ]
        gone += [one.name for one in self.objects.names(f"{OWN}/new") if one.changed < now - WRITTEN]
        self.objects.remove(gone)
        return gone


def _merged_into(book: Book, table: str) -> bool:
    return any(one.name == table for one in book.watermark.tables[:1])
