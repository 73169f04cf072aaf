"""What a commit is made of, in the same order on every SQL target: watermark, rows, ledger row."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import TYPE_CHECKING, Any, ClassVar

from plainstep.copying import replace
from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.commit_errors import contradicted, half_a_row, moved
from plainstep.stores.records import Commit, LedgerEntry, Part, TableInfo

if TYPE_CHECKING:
    from plainstep.core.schema_drift import Fit
    from plainstep.core.shapes.edits import Edits
    from plainstep.stores.dialect import Dialect


class Merge(ABC):
    """One commit, within a transaction that somebody else opens and ends.

    Args:
        commit: what to write. The counts of edits are filled into its ledger row.
        kept: what is known of the tables of watermarks and of steps.

    Attributes:
        part: what is done to one of its tables, while that is being done.
        table: this table's name, as SQL writes it.
        key: this table's key.
        tally: where edits of this table are counted: the ledger row, or nowhere that lasts.
        odd: rows that were not as expected: there already, or not there.
    """

    books: ClassVar[bookkeeping.Books] = bookkeeping.EMBEDDED
    part: Part
    table: str
    key: list[str]
    tally: LedgerEntry

    def __init__(self, commit: Commit, kept: bookkeeping.FoundBooks) -> None:
        self.commit, self.kept = commit, kept
        self.odd = 0
        self._identities: dict[str, str] = {}
        # Columns of a table that rows lack, and that are null in them.
        self._nulls: dict[str, list[pa.Field]] = {}

    def begin(self) -> None:
        """Move the watermark, and make the tables fit.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: a table does not fit.
        """
        if not self.commit.amends:
            self._move_watermark()
        for _ in self._each(self.commit.parts):
            self._prepare()

    def leave(self) -> None:
        """Remove the rows that go."""
        for part in self._each(reversed(self.commit.parts)):
            for edits in part.rounds:
                if edits.clear:
                    self.execute(f"DELETE FROM {self.table}")
                self.remove(edits)
                for values in edits.purge:
                    self.key = list(values.column_names)
                    self.tally.drop += self.drop(values)
                self._count_odd(edits)

    def arrive(self) -> None:
        """Write the rows that come or change.

        Raises:
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
        """
        for part in self._each(self.commit.parts):
            for edits in part.rounds:
                self._write(edits)
                self._count_odd(edits)
        if self.commit.tolerated is not None and self.commit.entry.contradictions > self.commit.tolerated:
            raise contradicted(self.commit)

    def end(self) -> None:
        """Quarantine rows, and write the ledger row."""
        if self.commit.amends:
            return
        self._quarantined()
        if self.commit.parts:
            self._note_tables()
        if self.commit.takes_over and self.commit.main_table:
            self.execute(*self.books.take_over(self.commit.main_table, self.commit.watermark.load))
        self.commit.entry.seconds = time.perf_counter() - self.commit.began
        self.execute(self.books.insert_entry, bookkeeping.entry_values(self.commit.entry))

    def _quarantined(self) -> None:
        """Keep the rows that are quarantined, and forget those that no longer are."""
        left_out, watermark = self.commit.left_out(), self.commit.watermark
        for place in {*left_out.released, *(row.place for row in left_out.quarantined)}:
            self.execute(self.books.forget_quarantined, [watermark.load, place])
        for row in left_out.quarantined:
            self.execute(self.books.quarantined, [watermark.load, row.place, row.reason, row.row, watermark.step])
        left_out.note_in(self.commit.entry)

    def _note_tables(self) -> None:
        """Keep with the watermark which tables were merged into, where it does not say so already."""
        parts = self._each(self.commit.parts)
        tables = tuple(
            MergedTable(part.table, self._identities.get(part.table, ""), self.holds_rows()) for part in parts
        )
        if tables != self.commit.watermark.tables:
            self.execute(self.books.note_tables, [bookkeeping.written_tables(tables), self.commit.watermark.load])

    def _each(self, parts: Iterable[Part]) -> Iterator[Part]:
        for part in parts:
            self.part, self.table, self.key = part, self.sql_of(part.table), list(part.key)
            self.tally = self.commit.entry if part.counted else replace(self.commit.entry)
            yield part

    @property
    def dialect(self) -> Dialect:
        """How the store writes SQL."""
        return self.books.dialect

    def sql_of(self, table: str) -> str:
        """A table's name, as SQL writes it."""
        return self.dialect.quoted(table)

    def _move_watermark(self) -> None:
        watermark, before = self.commit.watermark, self.commit.before
        values = bookkeeping.watermark_values(watermark)
        self.make_books()
        if before is None:
            if self.finds(self.books.find_watermark, [watermark.load]):
                raise moved(watermark.load)
            self.execute(self.books.insert_watermark, values)
        elif self.execute(self.books.move_watermark, [*values, before.step]) != 1:
            raise moved(watermark.load)

    def _prepare(self) -> None:
        """Make the table, or add the columns it lacks."""
        info = self.table_info()
        fit = self.fitted(info)
        declared = {field.name: self.declaration(field) for field in self.part.schema}
        columns = {name: f"{self.dialect.quoted(name)} {kind}" for name, kind in declared.items()}
        if info is None:
            lines = [sql + (" NOT NULL" if name in self.key else "") for name, sql in columns.items()]
            constraints = self.table_constraints() if self.key else []
            self.execute(f"CREATE TABLE {self.table} ({', '.join(lines + constraints)})")
            self._identities[self.part.table] = self.stamp()
            return
        self._identities[self.part.table] = info.identity or self.stamp()
        self._nulls[self.part.table] = [info.schema.field(name) for name in fit.gone]
        for name in fit.shed:
            self.execute(f"ALTER TABLE {self.table} DROP COLUMN {self.dialect.quoted(name)}")
        for name in fit.added:
            self.execute(f"ALTER TABLE {self.table} ADD COLUMN {columns[name]}")
        for name in fit.widened:
            self.widen(name, declared[name])

    def fitted(self, info: TableInfo | None) -> Fit:
        """What is changed about a table so that rows fit; told in the ledger.

        Raises:
            Refused: they do not.
        """
        fit = self.part.fit(info)
        said = (fit.note, self.commit.entry.note)
        self.commit.entry.note = "; ".join(part for part in said if part)
        return fit

    def widen(self, column: str, declared: str) -> None:
        """Give a column a type that holds more."""
        widening = self.dialect.widening
        self.execute(widening.format(table=self.table, column=self.dialect.quoted(column), type=declared))

    def remove(self, edits: Edits) -> None:
        """Remove the rows that go; count in ``odd`` those that are not there."""
        if edits.drop is not None and edits.drop.num_rows:
            dropped = self.drop(edits.drop)
            self.tally.drop += dropped
            self.odd += edits.drop.num_rows - dropped

    def _write(self, edits: Edits) -> None:
        entry = self.tally
        if edits.put is not None and edits.put.num_rows:
            rows = _with_nulls(edits.put, self._nulls.get(self.part.table, ()))
            entry.put += self.put(rows.slice(0, edits.new), rows.slice(edits.new))
        if edits.clean is not None and edits.clean.num_rows:
            left = self.drop(edits.clean)
            entry.drop += left
            self.odd += left
        for patch in edits.patch:
            found = self.patch(patch)
            if found != patch.num_rows and edits.whole:
                raise half_a_row(self.commit, patch.num_rows - found)
            self.odd += patch.num_rows - found
            entry.patch += found
        if edits.add is not None and edits.add.num_rows:
            entry.add += self.add(edits.add)
        entry.append += self.append(edits)

    def _count_odd(self, edits: Edits) -> None:
        if edits.strict:
            self.commit.entry.contradictions += self.odd
        self.odd = 0

    def others(self, rows: pa.Table) -> list[str]:
        """The columns of some rows that are not in the key."""
        return [name for name in rows.column_names if name not in self.key]

    def make_books(self) -> None:
        """Make the tables of watermarks and of steps where they are not there yet, and bring those of an earlier format up.

        Raises:
            Refused: a later release made them.
        """
        if self._are_made():
            return
        version = self.kept_version()
        books = self.books.of(version)
        for statement in self.books.create if version is None else books.migrations:
            self.execute(statement)

    def _are_made(self) -> bool:
        """Whether these tables are known to be there, and are still in the present format.

        To look for them in the catalogue takes some milliseconds, of which a small step would feel every one.
        """
        known = self.kept.settled and self.commit.before is not None
        return known and self.finds(f"{self.books.find_version} AND version = {bookkeeping.FORMAT}", [])

    @abstractmethod
    def stamp(self) -> str:
        """Give the table what tells it from another one of its name, where the store itself does not; return that."""

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
    def kept_version(self) -> int | None:
        """The format of the tables of watermarks and of steps, or None if they are not there yet."""

    def holds_rows(self) -> bool:
        """Whether the table holds any row."""
        return self.finds(f"SELECT 1 FROM {self.table} {self.dialect.first(1)}", [])

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


def _with_nulls(rows: pa.Table, columns: Sequence[pa.Field]) -> pa.Table:
    """Rows with columns that are null in all of them."""
    for field in columns:
        if field.name not in rows.column_names:
            rows = rows.append_column(field.name, pa.nulls(rows.num_rows, field.type))
    return rows


def run(merges: Sequence[Merge]) -> None:
    """Make some commits in one transaction: rows go in reverse order, and come in order.

    Raises:
        WatermarkMoved: a watermark is no longer where it was read.
        Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
    """
    for merge in merges:
        merge.begin()
    for merge in reversed(merges):
        merge.leave()
    for merge in merges:
        merge.arrive()
    for merge in merges:
        merge.end()


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
