"""What a commit is made of, in the same order on every SQL target: mark, rows, ledger row."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from itertools import chain
from typing import TYPE_CHECKING, Any, ClassVar

from plainstep.stores import bookkeeping
from plainstep.stores.records import Commit, TableInfo
from plainstep.stores.sql import quoted

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.edits import Edits


class Merge(ABC):
    """One commit, within a transaction that somebody else opens and ends.

    Args:
        commit: what to write. The counts of edits are filled into its ledger row.

    Attributes:
        odd: rows that were not as expected: there already, or not there.
    """

    books: ClassVar[bookkeeping.Books] = bookkeeping.EMBEDDED

    def __init__(self, commit: Commit) -> None:
        self.commit = commit
        self.table = quoted(commit.table)
        self.key = list(commit.key)
        self.odd = 0

    def run(self) -> None:
        """Move the mark, make the edits, and write the ledger row.

        Raises:
            MarkMoved: the mark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
        """
        self._move_mark()
        if self.commit.edits:
            self._prepare()
            self._edit(self.commit.edits)
        for place in {*self.commit.back, *(row.place for row in self.commit.aside)}:
            self.execute(self.books.put_back, [self.commit.mark.load, place])
        for row in self.commit.aside:
            values = [self.commit.mark.load, row.place, row.reason, row.row, self.commit.mark.step]
            self.execute(self.books.set_aside, values)
        self.commit.entry.seconds = time.perf_counter() - self.commit.began
        self.execute(self.books.insert_entry, bookkeeping.entry_values(self.commit.entry))

    def _move_mark(self) -> None:
        mark, before = self.commit.mark, self.commit.before
        values = bookkeeping.mark_values(mark)
        if before is None:
            self.make_books()
            if self.finds(self.books.find_mark, [mark.load]):
                raise bookkeeping.moved(mark.load)
            self.execute(self.books.insert_mark, values)
        elif self.execute(self.books.move_mark, [*values, before.step]) != 1:
            raise bookkeeping.moved(mark.load)

    def _prepare(self) -> None:
        """Make the table, or add the columns it lacks."""
        info = self.table_info()
        said = (self.commit.fit(info), self.commit.entry.note)
        self.commit.entry.note = "; ".join(part for part in said if part)
        columns = [(field.name, f"{quoted(field.name)} {self.declaration(field)}") for field in self.commit.schema]
        if info is None:
            lines = [sql + (" NOT NULL" if name in self.key else "") for name, sql in columns]
            self.execute(f"CREATE TABLE {self.table} ({', '.join(lines + self.table_constraints())})")
            return
        for name, sql in columns:
            if name not in info.schema.names:
                self.execute(f"ALTER TABLE {self.table} ADD COLUMN {sql}")

    def _edit(self, edits: Edits) -> None:
        entry = self.commit.entry
        if edits.clear:
            self.execute(f"DELETE FROM {self.table}")
        self.drop_and_put(edits)
        if edits.clean is not None and edits.clean.num_rows:
            left = self.drop(edits.clean)
            entry.drop += left
            self.odd += left
        for part in edits.patch:
            found = self.patch(part)
            if found != part.num_rows:
                raise bookkeeping.half_a_row(self.commit, part.num_rows - found)
            entry.patch += found
        if edits.add is not None and edits.add.num_rows:
            entry.add = self.add(edits.add)
        entry.append = self.append(edits)
        if edits.sure:
            entry.contradictions += self.odd
        if self.commit.tolerated is not None and entry.contradictions > self.commit.tolerated:
            raise bookkeeping.contradicted(self.commit)

    def drop_and_put(self, edits: Edits) -> None:
        """Remove the rows that go, and put those that are there; count in ``odd`` what was otherwise."""
        entry = self.commit.entry
        if edits.drop is not None and edits.drop.num_rows:
            entry.drop = self.drop(edits.drop)
            self.odd += edits.drop.num_rows - entry.drop
        if edits.put is not None and edits.put.num_rows:
            entry.put = self.put(edits.put.slice(0, edits.new), edits.put.slice(edits.new))

    def others(self, rows: pa.Table) -> list[str]:
        """The columns of some rows that are not in the key."""
        return [name for name in rows.column_names if name not in self.key]

    def make_books(self) -> None:
        """Make the tables of marks and of steps where they are not there yet."""
        for statement in self.books.create:
            self.execute(statement)

    def table_constraints(self) -> list[str]:
        """What a new table declares beside its columns."""
        return []

    @abstractmethod
    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        """Run a statement; return how many rows it touched."""

    @abstractmethod
    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        """Whether a query finds any row."""

    @abstractmethod
    def table_info(self) -> TableInfo | None:
        """The target table as it stands, or None if it is not there."""

    @abstractmethod
    def declaration(self, field: pa.Field) -> str:
        """The type under which a column is made."""

    @abstractmethod
    def drop(self, keys: pa.Table) -> int:
        """Remove rows; return how many were there."""

    @abstractmethod
    def put(self, new: pa.Table, known: pa.Table) -> int:
        """Put rows that should be new, and rows that should be there; count in ``odd`` what was otherwise."""

    @abstractmethod
    def patch(self, rows: pa.Table) -> int:
        """Set some columns; return how many rows were there."""

    @abstractmethod
    def add(self, rows: pa.Table) -> int:
        """Add numbers to rows, or begin them; return how many."""

    def append(self, edits: Edits) -> int:
        """Add whole rows; return how many."""
        batches = iter(edits.append)
        first = next(batches, None)
        return 0 if first is None else self.stream(first.schema, chain([first], batches))

    @abstractmethod
    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        """Insert rows as they come, without looking for their keys; return how many."""


class IndexedMerge(Merge):
    """A commit where the key has an index: rows are updated in place, or inserted."""

    def put(self, new: pa.Table, known: pa.Table) -> int:
        """Put rows that should be new, and rows that should be there; count in ``odd`` what was otherwise."""
        for part, first_try in ((known, self.update), (new, self.insert_new)):
            missed = part.num_rows - first_try(part) if part.num_rows else 0
            if missed:  # some rows were not as expected: whichever they are, put all of them
                self.odd += missed
                self.upsert(part)
        return int(new.num_rows + known.num_rows)

    def patch(self, rows: pa.Table) -> int:
        """Set some columns; return how many rows were there."""
        return self.update(rows)

    @abstractmethod
    def update(self, rows: pa.Table) -> int:
        """Set the columns that are not in the key, where the row is there; return where it was."""

    @abstractmethod
    def insert_new(self, rows: pa.Table) -> int:
        """Insert rows whose key is not there; return how many."""

    @abstractmethod
    def upsert(self, rows: pa.Table) -> None:
        """Put rows, whether they are there or not."""
