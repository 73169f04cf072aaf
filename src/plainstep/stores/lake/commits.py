"""One commit of a versioned table: a step's rows, and the book that says how far its load is merged by them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from itertools import chain
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from plainstep.copying import replace
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.stores.books import Book
from plainstep.stores.commit_errors import contradicted, half_a_row, moved
from plainstep.stores.lake.files import FileRows
from plainstep.stores.lake.merging import Merged, MergedFile, Merging, in_batches, in_one_round
from plainstep.stores.lake.writer import Writer
from plainstep.stores.records import Commit, LedgerEntry, Part, TableInfo

if TYPE_CHECKING:
    from plainstep.core.schema_drift import Fit

State = TypeVar("State")
Made = TypeVar("Made")


class LakeCommit(ABC, Generic[State, Made]):
    """A commit, tried on one version of a table. Rows that are only appended are written once, whatever version it is tried on.

    Args:
        commit: what to write.
        table: the table's name.

    Attributes:
        written: the files that were written for the version that it is tried on, by their names.
        is_unsure: whether the commit may have been made though it failed: an answer was lost, say. Its files are left then.
    """

    def __init__(self, commit: Commit, table: str) -> None:
        self.commit, self.table = commit, table
        self.written: list[str] = []
        self.is_unsure = False
        self._appended: tuple[list[Made], int] | None = None
        self._said = commit.entry.note

    @abstractmethod
    def made(self, state: State | None, book: Book | None, entry: LedgerEntry) -> bool:
        """Make the commit after a version; whether no other one came first."""

    @abstractmethod
    def remove(self, names: Sequence[str]) -> None:
        """Remove files that no commit names."""

    @abstractmethod
    def names(self, adds: Sequence[Made]) -> list[str]:
        """The names of files that were written."""

    def tried(self, state: State | None, book: Book | None) -> bool:
        """Make the commit after a version, or tell that another one came first.

        Args:
            state: that version; None where there is no table yet.
            book: the load's book as it is there.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits cannot be made.
        """
        commit = self.commit
        if not commit.amends and (book and book.step) != (commit.before and commit.before.step):
            raise moved(commit.watermark.load)
        entry, self.written, made = replace(commit.entry, note=self._said), [], False
        try:
            made = self.made(state, book, entry)
        finally:
            if not made:
                self.leave(self.written)
        if made:
            for name in ("put", "patch", "drop", "append", "add", "contradictions", "note", "seconds"):
                setattr(commit.entry, name, getattr(entry, name))
        return made

    def abandoned(self) -> None:
        """Remove what was appended, for no commit names it."""
        if self._appended is not None:
            self.leave(self.names(self._appended[0]))

    def leave(self, names: Sequence[str]) -> None:
        """Remove files of a commit that was not made, unless it may have been."""
        if not self.is_unsure:
            with suppress(Exception):  # what is left behind costs a little room
                self.remove(names)

    @contextmanager
    def committing(self) -> Iterator[None]:
        """Meanwhile, the commit is made; whatever goes wrong then, it may have been made."""
        self.is_unsure = True
        yield
        self.is_unsure = False

    def merged(
        self,
        part: Part,
        rows: FileRows,
        files: Sequence[MergedFile],
        writer: Writer[Made],
        entry: LedgerEntry,
        anew: bool,
        marks: bool,
    ) -> Merged:
        """Write the rows that come, but for those that are only appended.

        Args:
            part: what is done to the table.
            rows: reads its files.
            files: these.
            writer: writes new ones.
            entry: the ledger row, in which edits are counted.
            anew: whether every file is written anew, for its columns change.
            marks: whether rows may be marked as deleted.
        """
        found = Merging(rows, files, writer.schema, writer, marks).merged(part.key, part.rounds, anew)
        writer.flush()
        self.written += self.names(writer.adds)
        self._count(part, found, entry)
        return found

    def appended(self, part: Part, writer: Writer[Made], entry: LedgerEntry) -> list[Made]:
        """The files of rows that are only appended: written once, for they can be read once. (Of several rounds, they can be read again.)"""
        if self._appended is None:
            count = in_batches(_begun(part.rounds[0]), writer) if in_one_round(part.rounds) else 0
            writer.flush()
            self._appended = writer.adds, count
        if part.counted:
            entry.append += self._appended[1]
        return self._appended[0]

    def refuse_contradictions(self, entry: LedgerEntry) -> None:
        """Refuse more contradictions than are tolerated.

        Raises:
            Refused: there are.
        """
        if self.commit.tolerated is not None and entry.contradictions > self.commit.tolerated:
            self.commit.entry.contradictions = entry.contradictions
            raise contradicted(self.commit)

    def _count(self, part: Part, found: Merged, entry: LedgerEntry) -> None:
        done = found.done
        if done.halves:
            raise half_a_row(self.commit, done.halves)
        entry.contradictions += done.odd
        if part.counted:
            for name in ("put", "patch", "drop", "append", "add"):
                setattr(entry, name, getattr(entry, name) + getattr(done, name))


def _begun(edits: Edits) -> Iterator[pa.RecordBatch]:
    """The rows that are appended; the first of them is fetched at once, for with it what they are read from begins."""
    batches = iter(edits.append)
    some = next(batches, None)
    return iter(()) if some is None else chain((some,), batches)


def schema_of(part: Part, info: TableInfo | None, fit: Fit, held_as: Any) -> pa.Schema:
    """The columns that a table is to have.

    Args:
        part: what is done to it.
        info: the columns that it has; None where there is no table yet.
        fit: what is changed about them.
        held_as: the type in which it holds values of one.
    """
    wanted = {one.name: pa.field(one.name, held_as(one.type)) for one in part.schema}
    if info is None:
        return pa.schema(list(wanted.values()))
    kept = [wanted[one.name] if one.name in fit.widened else one for one in info.schema if one.name not in fit.shed]
    return pa.schema([*kept, *(wanted[name] for name in fit.added)])


def refuse_what_asks(place: str, asks: Mapping[str, bool]) -> None:
    """Refuse a table that asks more of its writers than is done here.

    Args:
        place: the table's name.
        asks: what a table may ask, as words after its name, and whether this one does.

    Raises:
        Refused: it asks something.
    """
    for reason, holds in asks.items():
        if holds:
            raise Refused(
                f"{place} {reason}, and is not merged into.",
                "What it promises would not be kept.",
                "Merge into a table of its own: another name in 'into', which the first step makes.",
            )
