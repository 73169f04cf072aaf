"""What a store offers: a few small protocols."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from plainstep.core.positions import MergedTable, Position, Span, Waiting, Watermark, Window
from plainstep.deferred import pa
from plainstep.stores.records import Batches, CaptureInfo, Commit, LedgerEntry, QuarantinedRow, Snapshot, TableInfo

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.errors import Refused
    from plainstep.stores.dialect import Dialect


class Reading(Protocol):
    """A table that is being read, in one transaction.

    Attributes:
        database: what it is read from: tables of one can be read in one transaction.
    """

    database: Any

    def select(self, columns: Sequence[str], texts: dict[str, str], tail: str) -> Iterator[pa.RecordBatch]:
        """Rows, in batches.

        Args:
            columns: the table's columns that are wanted, in their own types.
            texts: SQL expressions that are wanted beside them, as text, by the names they get.
            tail: what follows the table's name in the query.
        """
        ...

    def first(self, sql: str) -> tuple[Any, ...] | None:
        """The first row of a query."""
        ...

    def matching(self, columns: Sequence[str], keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these values of some columns, under the table's own names; if asked, only where one is null."""
        ...

    def beside(self, table: Any) -> Reading:
        """Another table of the same store, in the same transaction."""
        ...

    def unsettled(self, column: str) -> str:
        """A condition on changes that are safe to read by the order of this column, or empty where all are.

        Changes that another transaction has yet to commit may lie before some that are there already.

        Raises:
            Refused: such a transaction stays open.
        """
        ...


class Table(Protocol):
    """A table or view that can be read, whether its changes are recorded or not.

    Attributes:
        place: its name, as in ``town.tree``.
        sql: its name, as SQL writes it.
        typed: whether its columns hold values of their own types only.
        database: what it is read from.
        dialect: how its store writes SQL.
    """

    place: str
    sql: str
    typed: bool
    database: Any
    dialect: Dialect

    def schema(self) -> pa.Schema:
        """Its columns; ``null`` is the type of one that does not say what it holds."""
        ...

    def key(self) -> tuple[str, ...]:
        """Its primary key, or nothing."""
        ...

    def never_null(self) -> frozenset[str]:
        """The columns that are known to hold a value in every row."""
        ...

    def text(self, column: str) -> str:
        """A column's value as text, as SQL."""
        ...

    def literal(self, column: str, value: str) -> str:
        """A value of a column, given as that text, as SQL.

        Raises:
            ConfigError: it is not a value of that column.
        """
        ...

    def binary(self, value: str) -> str:
        """A text that is compared letter by letter, whatever the store's collation, as SQL."""
        ...

    def insertion(self, row: dict[str, Any]) -> str:
        """The statement that brings a row back, without what the table computes itself."""
        ...

    def updating(self, key: dict[str, Any], values: dict[str, Any]) -> str:
        """The statement that changes some values of the row with a key, without what the table computes itself."""
        ...

    def later(self, column: str, time: datetime) -> str:
        """The condition that a column holds a later time, as SQL."""
        ...

    def reading(self) -> AbstractContextManager[Reading]:
        """Read it, in one transaction."""
        ...


class Source(Protocol):
    """Where the changes of one table are read.

    Attributes:
        is_managed: whether the changes are Plain Step's own capture, which is known to be complete.
        overlaps: whether a window may hold what is merged already.
        has_before_images: whether old values are told, so that changes could be undone.
        has_exact_operations: whether operations say which rows are there, so that one that does not fit is a contradiction.
    """

    is_managed: bool
    overlaps: bool
    has_before_images: bool
    has_exact_operations: bool

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        ...

    def warnings(self) -> list[str]:
        """What a person should know about this source, such as columns that are not captured."""
        ...

    def schema(self) -> pa.Schema:
        """The columns that changes and snapshots carry."""
        ...

    def span(self) -> Span:
        """How far the source can be read now."""
        ...

    def time_of(self, position: Position) -> datetime | None:
        """When the change at a position was made, if it is held and the source knows."""
        ...

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds, told without reading it. A window of nothing is told at no cost."""
        ...

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches; at least one batch, which may be empty."""
        ...

    def reserve(self) -> None:
        """Before a first load: keep every change from here on until ``acknowledge`` is called."""
        ...

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """After a step: its load is merged up to ``watermark``, and nothing for it lies between there and ``upto``."""
        ...

    def snapshot(self) -> AbstractContextManager[Snapshot]:
        """The table as it stands, with the position it stands at, from one read transaction."""
        ...

    def locate(self, point: int | datetime) -> Position:
        """The position that a number stands for, or the last one whose changes were all made at or before a time."""
        ...

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Forget changes that lie before all of these positions; return how many (that would be, if not really)."""
        ...


@runtime_checkable
class DivisibleSource(Source, Protocol):
    """A source whose windows can be cut."""

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut so that no more than so many changes come before, or few more: no transaction is split.

        Returns:
            The end of the first part, which holds a change at least; None where the window need not be cut.
        """
        ...


@runtime_checkable
class PatientSource(Source, Protocol):
    """A source of which only reading tells whether a window holds anything."""

    def may_stay(self, window: Window) -> bool:
        """Whether a watermark can stay where it is when a window held nothing, rather than move for nothing."""
        ...


@runtime_checkable
class SpreadSource(Source, Protocol):
    """A source that can be read by several machines at once, each of which opens it for itself."""

    def is_spread(self) -> bool:
        """Whether it really can."""
        ...

    def pieces(self, window: Window, most: int) -> list[Any]:
        """A window in pieces, in reading order, which can be sent to other machines; at most so many."""
        ...

    def replays(self) -> bool:
        """Whether its rows are known by all changes alone; else the pieces of all of it are rows, each an insert."""
        ...

    def pieces_of_all(self, span: Span, most: int) -> list[Any]:
        """All rows as they stand at the end of a span, as pieces of changes."""
        ...

    def read_piece(self, piece: Any) -> Batches:
        """The changes of a piece, in batches; see ``read``."""
        ...


class RecordedSource(Protocol):
    """Our own capture, which records changes as its triggers fire, beside the table."""

    def schema(self) -> pa.Schema:
        """The columns of both."""
        ...

    def recorded(self, window: Window) -> Iterator[Changes]:
        """The changes of a window as they were recorded, with both images."""
        ...

    def table(self) -> Table:
        """The table itself."""
        ...

    def end(self) -> Position:
        """Where its changes end now. What is known of the reading that is going on stays known."""
        ...


@runtime_checkable
class LeanSource(Source, Protocol):
    """A source that is quicker where old values are not asked for."""

    def read_lean(self, window: Window) -> Batches:
        """The changes of a window, with old values of the key only, and ``same``: whether all stayed as it was."""
        ...

    def unchanged(self, firsts: list[int], lasts: list[int]) -> list[bool]:
        """For pairs of changes, whether the row was before the first as it is after the last."""
        ...

    def in_order(self, numbers: list[int]) -> bool:
        """Whether some changes, which are all that certain rows went through in certain transactions, are in their order."""
        ...


@runtime_checkable
class CapturedTable(Source, Protocol):
    """A source that reads our own capture."""

    def held(self) -> CaptureInfo:
        """What its capture holds, as it was when its span was last told."""
        ...


@runtime_checkable
class ErasableChanges(Source, Protocol):
    """A source that can forget what some of the changes held."""

    def changes_of(self, keys: pa.Table) -> list[int]:
        """The numbers of all changes that are held of the rows with some keys, before or after."""
        ...

    def erase(self, identity: str, numbers: Sequence[int]) -> bool:
        """Forget what these changes held, and that they were made; all of them are merged by every reader.

        Args:
            identity: that of the capture whose changes they are.
            numbers: theirs.

        Returns:
            False if another capture has taken its place, whose changes have the same numbers: then nothing was done.
        """
        ...


@runtime_checkable
class ReplayedSource(Source, Protocol):
    """A source whose rows may be known by its changes alone, of which some may be gone."""

    def is_incomplete(self, watermark: Watermark, deletes: int = 0) -> bool:
        """Whether some of what was merged is gone, so that what is left does not tell of every row.

        Args:
            watermark: how far it is merged.
            deletes: how many rows of the target are not told, if that is known.
        """
        ...


@runtime_checkable
class LooselyTyped(Source, Protocol):
    """A source in whose columns any value may stand.

    Attributes:
        on_bad_value: what is done with one that does not fit: ``refuse``, ``round``, ``null`` or ``quarantine``.
        spells_keys: whether two rows may have keys that are one value, written in two ways.
    """

    on_bad_value: str

    @property
    def spells_keys(self) -> bool: ...

    def table(self) -> Table:
        """The table itself, its values read as those of its changes are."""
        ...

    def read_bent(self, window: Window) -> Iterator[Changes]:
        """The changes of a window, all of them: with nulls where rows are quarantined for a value."""
        ...


@runtime_checkable
class ForeignSource(Source, Protocol):
    """A source whose positions are its own."""

    def parse(self, said: str) -> Position:
        """The last position that is not after a position, as a person wrote it."""
        ...

    def label(self, position: Position) -> str:
        """A position as people know it."""
        ...

    def limitations(self) -> list[str]:
        """What the changes cannot tell."""
        ...

    def span_after(self, watermark: Watermark) -> Span:
        """How far the source can be read now, going on from a watermark."""
        ...

    def continuity_error(self, watermark: Watermark, span: Span) -> Refused | None:
        """Why a load cannot go on from its watermark, or None if it can."""
        ...


@runtime_checkable
class PairedSource(Source, Protocol):
    """A source that finds changes by pairing rows before and after.

    Attributes:
        paired_by: the columns that tell rows apart, as the load names them.
    """

    paired_by: tuple[str, ...]


@runtime_checkable
class VersionedTarget(Protocol):
    """A target whose tables are still there as they stood before."""

    def at_step(self, load: str, table: str, step: int) -> Target | None:
        """The same target, in which a table stands as it last did before a load's next step: it is only read.

        Args:
            load: the load.
            table: the table's name.
            step: the number of the load's step.

        Returns:
            None where that is not held any more.
        """
        ...


class KeyedRows(Protocol):
    """The rows of one table."""

    def matching(self, schema: pa.Schema, keys: pa.Table, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """The rows with these values of some columns, in batches; if asked, only where one column is null.

        Args:
            schema: the columns that are wanted, and their types.
            keys: the values.
            where_null: the column that must be null, or empty.
        """
        ...

    def first_values(
        self, schema: pa.Schema, groups: pa.Table, value: str, count: int, largest: bool
    ) -> Iterator[pa.RecordBatch]:
        """For each group, at least its first values in order, where it has so many.

        Args:
            schema: the columns of groups, then the value, and their types.
            groups: the groups.
            value: the value's column.
            count: how many values are wanted of each group.
            largest: whether the largest come first.
        """
        ...


class Target(Protocol):
    """Where rows, watermarks and ledger are kept."""

    def watermark(self, load: str) -> Watermark | None:
        """A load's watermark, or None before its first step."""
        ...

    def standing(self) -> dict[str, tuple[Watermark, LedgerEntry]]:
        """Every load's watermark and the step that set it, at once."""
        ...

    def ledger(self, load: str | None = None, limit: int | None = None, refused: bool = False) -> list[LedgerEntry]:
        """The newest steps, or the newest that were refused, oldest first."""
        ...

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        ...

    def quarantined(self, load: str) -> list[QuarantinedRow]:
        """The rows of a load that are quarantined, oldest first."""
        ...

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none.

        Raises:
            Refused: the table cannot be merged into by this key.
        """
        ...

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none. Told at little cost."""
        ...

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as this store would hold it."""
        ...

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        ...

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        ...

    def finish(self) -> None:
        """Finish what a commit that was made left to be done, if it was killed then."""
        ...

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: a watermark is no longer where it was read.
            Refused: the edits cannot be made; nothing was written.
        """
        ...
