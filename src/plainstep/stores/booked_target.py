"""A target that keeps its books in files: what it tells of watermarks, ledger and quarantine."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import Protocol

from plainstep.core.positions import Watermark
from plainstep.stores.books import Book, looked_up
from plainstep.stores.records import LedgerEntry, QuarantinedRow


class LoadBooks(Protocol):
    """Where the books of loads are kept."""

    def steps(self, book: Book, limit: int | None) -> list[LedgerEntry]:
        """The newest steps of a load, oldest first."""
        ...

    def refuse(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        ...

    def refused(self, load: str | None) -> Iterator[LedgerEntry]:
        """The steps that were refused, of a load or of all, oldest first."""
        ...


class BookedTarget(ABC):
    """What can be told of the loads by their books.

    Attributes:
        advice: what to do where a book is gone.
    """

    advice: str

    @property
    @abstractmethod
    def books(self) -> LoadBooks:
        """Where they are kept."""

    @abstractmethod
    def loads(self) -> list[str]:
        """Every load that merged here, or began."""

    @abstractmethod
    def newest(self, load: str) -> Book | None:
        """A load's book, that of its last step; None before its first.

        Raises:
            FileNotFoundError: a newer one took its place.
        """

    def book(self, load: str) -> Book | None:
        """A load's book, that of its last step; None before its first."""
        return looked_up(lambda: self.newest(load), self.advice)

    def watermark(self, load: str) -> Watermark | None:
        """A load's watermark, or None before its first step."""
        book = self.book(load)
        return book.watermark if book else None

    def standing(self) -> dict[str, tuple[Watermark, LedgerEntry]]:
        """Every load's watermark and the step that set it, at once."""
        books = [self.book(load) for load in self.loads()]
        return {book.watermark.load: (book.watermark, book.steps[-1]) for book in books if book}

    def ledger(self, load: str | None = None, limit: int | None = None, refused: bool = False) -> list[LedgerEntry]:
        """The newest steps, or the newest that were refused, oldest first."""
        if refused:
            found = list(self.books.refused(load))
        else:
            loads = self.loads() if load is None else [load]
            found = [entry for one in loads for entry in self._steps(one, limit)]
        if load is None or refused:
            found.sort(key=lambda entry: (entry.at is not None, entry.at, entry.step))
        return found if limit is None else found[len(found) - min(limit, len(found)) :]

    def _steps(self, load: str, limit: int | None) -> list[LedgerEntry]:
        def steps() -> list[LedgerEntry]:
            book = self.newest(load)
            return self.books.steps(book, limit) if book else []

        return looked_up(steps, self.advice)

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        self.books.refuse(entry)

    def quarantined(self, load: str) -> list[QuarantinedRow]:
        """The rows of a load that are quarantined, oldest first."""
        book = self.book(load)
        return list(book.quarantined) if book else []
