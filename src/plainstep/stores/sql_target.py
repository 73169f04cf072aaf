"""What every SQL database does alike as a target: what is asked of its tables of watermarks and of steps."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, ClassVar

from plainstep.core.positions import Watermark
from plainstep.errors import LostConnection, PlainStepError, Refused
from plainstep.stores import ledger as books
from plainstep.stores.records import Commit, LedgerEntry, QuarantinedRow
from plainstep.stores.retry import retried


class Answer:
    """The server's answer to COMMIT: whether it is awaited."""

    awaited = False


class SqlTarget(ABC):
    """A SQL database to merge into.

    Attributes:
        kept_in: its tables of watermarks and of steps, in the present format.
        found: the same, in the format in which they were found.
    """

    kept_in: ClassVar[books.Books] = books.EMBEDDED

    def __init__(self) -> None:
        self.found = books.FoundBooks(self.kept_in)

    @abstractmethod
    def asked(self, sql: Callable[[books.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of these tables, in the format that they have; none where they are not there yet.

        Args:
            sql: gives the query for the tables in a format.
            parameters: its values.
        """

    def watermark(self, load: str) -> Watermark | None:
        """A load's watermark, or None before its first step."""
        rows = self.asked(lambda kept: kept.find_watermark, [load])
        return books.watermark_of(load, rows[0] if rows else None)

    def standing(self) -> dict[str, tuple[Watermark, LedgerEntry]]:
        """Every load's watermark and the step that set it, at once."""
        return books.standing_of(self.asked(lambda kept: kept.find_standing))

    def ledger(self, load: str | None = None, limit: int | None = None, refused: bool = False) -> list[LedgerEntry]:
        """The newest steps, or the newest that were refused, oldest first."""
        sql, parameters = self.kept_in.find_entries(load, limit, refused)
        return [books.entry_of(row) for row in reversed(self.asked(lambda kept: sql, parameters))]

    def quarantined(self, load: str) -> list[QuarantinedRow]:
        """The rows of a load that are quarantined, oldest first."""
        return [QuarantinedRow(*row) for row in self.asked(lambda kept: kept.find_quarantined, [load])]

    @contextmanager
    def answered(self, commit: Commit, place: str, wait: float) -> Iterator[Answer]:
        """What is committed in here counts as committed also where the server's answer is lost on its way.

        Args:
            commit: the commit; its ledger row tells whether it was made.
            place: the database, for messages.
            wait: how many seconds to wait for it to come back.

        Yields:
            Where to note that the answer to COMMIT is awaited.

        Raises:
            Refused: whether it was made cannot be asked.
            LostConnection: the connection was cut; nothing was written.
        """
        answer = Answer()
        try:
            yield answer
        except LostConnection:
            if not answer.awaited or not self._went_through(commit.entry, place, wait):
                raise

    def _went_through(self, entry: LedgerEntry, place: str, wait: float) -> bool:
        def look() -> bool:
            return any(one.step == entry.step and one.at == entry.at for one in self.ledger(entry.load))

        try:
            return retried(look, wait, lost=True)
        except PlainStepError as error:
            raise Refused(
                f"The connection to {place} was lost while {entry.load} was being committed.",
                "Whether it was committed is not known yet; the next step reads the watermark and goes on from there.",
                f"plainstep step {entry.load}",
            ) from error

    def finish(self) -> None:  # noqa: B027 (a commit of a database leaves nothing to be done)
        """Nothing: a commit leaves nothing to be done."""
