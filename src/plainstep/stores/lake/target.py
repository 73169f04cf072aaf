"""Versioned tables as a place to merge into: each step is one commit of one table."""

from __future__ import annotations

import random
import time
from abc import abstractmethod
from typing import TYPE_CHECKING, Any

from plainstep.errors import Refused
from plainstep.stores.booked_target import BookedTarget
from plainstep.stores.books import TRIES
from plainstep.stores.keyed_rows import ScannedRows
from plainstep.stores.lake.commits import LakeCommit
from plainstep.stores.records import Commit

if TYPE_CHECKING:
    from plainstep.stores.api import KeyedRows, Target


class LakeTarget(BookedTarget):
    """The tables of a store, as a place to merge into.

    Attributes:
        name: the store's name.
        kind: what they are, as in "Delta tables".
    """

    name: str
    kind: str

    @abstractmethod
    def begin(self, commit: Commit) -> None:
        """Move the watermark of a load that has no table yet.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
        """

    @abstractmethod
    def begun(self, commit: Commit, table: str) -> LakeCommit[Any, Any]:
        """A commit that is to be tried; where the book of its load will be found is written down."""

    @abstractmethod
    def state(self, made: LakeCommit[Any, Any]) -> Any:
        """The newest version of the table of a commit, on which it is tried; None where there is no table.

        Raises:
            Refused: the table asks more of its writers than is done here.
        """

    def tidy(self, table: str, before: Any) -> None:
        """After a commit: write down, and remove, what is to be now and then."""

    def by_key(self: Target, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return ScannedRows(self, name)

    def finish(self) -> None:
        """Nothing: a commit leaves nothing to be done."""

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermark and add the ledger row, in one commit of one table.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits cannot be made; nothing was written.
        """
        if len(commits) > 1 or any(len(commit.parts) > 1 for commit in commits):
            raise Refused(
                f"{self.name} holds {self.kind}, and this step would write several of them.",
                "A commit is one of one table: of two, one could be there without the other.",
                "Take the load out of its group, or count(distinct ...), min and max out of its measures; or merge into another store.",
            )
        for commit in commits:
            if commit.main_table:
                self._commit(commit, commit.main_table)
            else:
                self.begin(commit)

    def _commit(self, commit: Commit, table: str) -> None:
        made, done = self.begun(commit, table), False
        try:
            for turn in range(TRIES):
                state = self.state(made)
                if done := made.tried(state, self.book(commit.watermark.load)):
                    self.tidy(table, state)
                    return
                time.sleep(random.random() * 0.02 * min(turn + 1, 10))  # not in step with whoever came first
        finally:
            if not done:
                made.abandoned()
        raise Refused(
            f"Others wrote {self.name}.{table} each time that this step was about to.",
            "A commit goes after those of others, never over them. Nothing was merged.",
            "Run the command again when less is written.",
        )
