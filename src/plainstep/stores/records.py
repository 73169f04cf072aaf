"""The few records that cross between a step and its stores."""

from __future__ import annotations

import json
from collections.abc import Callable, Generator, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainstep.core.json_values import ready
from plainstep.core.positions import Position, Span, Watermark
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.layouts.plausibility import Doubt
    from plainstep.core.schema_drift import Fit
    from plainstep.core.shapes.edits import Edits


# What a step was; see ``LedgerEntry.kind``.
KINDS = ("changes", "snapshot", "reload", "repair", "begin", "retry", "watermark", "erase", "refused")


class LedgerEntry(Struct):
    """One step, as the ledger keeps it.

    Attributes:
        load: the load's name.
        step: its number, rising by one.
        kind: ``snapshot`` (a first full load), ``changes``, ``reload``, ``repair`` (differences), ``begin`` (a watermark set without
            loading), ``retry`` (rows that were quarantined), ``watermark`` (moved by hand) or ``refused`` (not made: the watermark and the rows stayed as they were).
        identity: the source's identity.
        after: the watermark before, null at first.
        upto: the watermark after.
        changes: changes read.
        inserts, updates, deletes: net changes.
        put, patch, drop, append, add: rows edited at the target.
        contradictions: changes that did not fit what was there.
        seconds: from the first read to the commit.
        read_seconds: how much of that went before the target was written: reading, collapsing, deciding. (A first load
            is read while it is written.)
        lag_seconds: how old the oldest of its changes was when it began, where that is known.
        at: when the step was made (UTC).
        note: what there is to say about it.
        after_shown, upto_shown: the two positions as people know them, where they are not numbers; else empty.
    """

    load: str
    step: int
    kind: str
    identity: str
    after: int | None
    upto: int
    changes: int = 0
    inserts: int = 0
    updates: int = 0
    deletes: int = 0
    put: int = 0
    patch: int = 0
    drop: int = 0
    append: int = 0
    add: int = 0
    contradictions: int = 0
    seconds: float = 0.0
    at: datetime | None = None
    note: str = ""
    after_shown: str = ""
    upto_shown: str = ""
    read_seconds: float = 0.0
    lag_seconds: float | None = None

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready(
            {
                "load": self.load,
                "step": self.step,
                "kind": self.kind,
                "at": self.at,
                "after": self.after_shown or self.after,
                "upto": self.upto_shown or self.upto,
                "changes": self.changes,
                "net": {"insert": self.inserts, "update": self.updates, "delete": self.deletes},
                "edits": {name: getattr(self, name) for name in ("put", "patch", "drop", "append", "add")},
                "contradictions": self.contradictions,
                "seconds": round(self.seconds, 6),
                "read_seconds": round(self.read_seconds, 6),
                "lag_seconds": self.lag_seconds,
                "note": self.note,
            }
        )


class TableInfo(Struct):
    """A target table as it stands.

    Attributes:
        schema: its columns.
        rows: whether it holds any row.
        identity: what tells it from another table of its name; empty where nothing does.
    """

    schema: pa.Schema
    rows: bool
    identity: str = ""


class QuarantinedRow(Struct, frozen=True):
    """A row that contradicts its layout, quarantined.

    Attributes:
        place: where it stands in its feed.
        reason: what is wrong with it.
        row: the row, as JSON.
        step: the step that quarantined it.
    """

    place: str
    reason: str
    row: str
    step: int = 0

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready({"place": self.place, "step": self.step, "reason": self.reason, "row": json.loads(self.row)})


class LeftOut(Struct, frozen=True):
    """What reading a source left out, or took otherwise than it stands there.

    Attributes:
        quarantined: rows that are quarantined.
        released: where rows stood that no longer are.
        notes: what else there is to say, for the ledger.
        rows: how many rows of a table, or changes that were collapsed into them, were read beside them.
        doubt: what spoke against the layout in what was read, if anything did.
        contradictions: how many of these changes do not fit the one before them of their row.
        older: of how many rows the first of these changes is an update: they are older than what is told of them.
    """

    quarantined: Sequence[QuarantinedRow] = ()
    released: Sequence[str] = ()
    notes: Sequence[str] = ()
    rows: int = 0
    doubt: Doubt | None = None
    contradictions: int = 0
    older: int = 0

    def note_in(self, entry: LedgerEntry) -> None:
        """Have a step's row in the ledger say so."""
        entry.note = "; ".join(filter(None, (entry.note, *self.notes)))
        entry.contradictions += self.contradictions


class Batches:
    """The changes of a window, to be read batch by batch, once.

    Args:
        batches: the changes; at least one batch, which may be empty.
        left_out: tells what the reading left out. It is asked when all of them are read.
    """

    def __init__(self, batches: Iterator[Changes], left_out: Callable[[], LeftOut] = LeftOut) -> None:
        self._batches, self.left_out = batches, left_out

    def __iter__(self) -> Iterator[Changes]:
        return self._batches

    def close(self) -> None:
        """Let go of what they are read from, if they are not read to their end."""
        if isinstance(self._batches, Generator):
            self._batches.close()


class Reader(Struct, frozen=True):
    """Who reads a captured table, as it is registered at the source.

    Attributes:
        name: the load and its target, by a name that is the same at every step.
        table: the table.
        how: ``capture`` or ``log``.
        watermark: where it stands; everything at or before it is merged.
        seen: when it last said so (UTC).
    """

    name: str
    table: str
    how: str
    watermark: Position
    seen: datetime


class FileForm(Struct, frozen=True):
    """How rows are laid out in files.

    Attributes:
        partition: what folders are by.
        zone: the time zone whose days ``date`` means.
        format: ``parquet``, ``jsonl`` or ``csv``.
    """

    partition: tuple[str, ...] = ()
    format: str = "parquet"
    zone: str = "UTC"


class Part(Struct):
    """What one commit does to one table.

    Attributes:
        table: the target table. Made when it is not there; columns it lacks are added.
        schema: the target table's columns.
        key: its key columns; none where rows are only appended.
        rounds: what to do to its rows, round after round; it is gone through more than once.
        fit: told how the table stands, within the transaction; refuses if the rows would not fit, or says what is
            changed about the table so that they do.
        form: how they are laid out, where the target is a folder of files.
        counted: whether its edits are counted in the ledger; those of tables that a shape keeps beside its own are not.
    """

    table: str
    schema: pa.Schema
    key: tuple[str, ...]
    rounds: Sequence[Edits]
    fit: Callable[[TableInfo | None], Fit]
    form: FileForm = FileForm()
    counted: bool = True


class Commit(Struct):
    """Everything one step writes: rows, watermark and ledger row, together or not at all.

    Attributes:
        parts: what to do to tables; none for a watermark that moves without rows.
        before: the watermark as it was read; the commit fails if it has moved since.
        watermark: the watermark as it will be.
        entry: the ledger row; the counts of edits are filled in by the commit.
        tolerated: how many contradictions are counted and merged anyway; None for any number.
        left_out: asked when all rows are written, because a first load is read while it is written: which rows are set
            quarantined, and which no longer are.
        began: when the step began, by ``time.perf_counter``.
        takes_over: whether the load's table is its own from here on, whichever other load merged into it before.
        amends: whether it only edits rows that a step wrote before, and leaves watermark and ledger as they are.
    """

    parts: list[Part]
    before: Watermark | None
    watermark: Watermark
    entry: LedgerEntry
    tolerated: int | None = None
    left_out: Callable[[], LeftOut] = LeftOut
    began: float = 0.0
    takes_over: bool = False
    amends: bool = False

    @property
    def main_table(self) -> str:
        """The name of the load's own table; empty where it has none yet."""
        if self.parts:
            return self.parts[0].table
        return self.watermark.tables[0].name if self.watermark.tables else ""


class Snapshot(Struct):
    """A source table as it stood at one position.

    Attributes:
        span: where the source stood.
        schema: its columns.
        batches: its rows, to be read before the snapshot is closed.
        left_out: tells what the reading left out. It is asked when all rows are read.
        total: tells how many rows there are, roughly, or None; it is asked only if somebody watches.
    """

    span: Span
    schema: pa.Schema
    batches: Iterator[pa.RecordBatch]
    left_out: Callable[[], LeftOut] = LeftOut
    total: Callable[[], int | None] = lambda: None


class CaptureInfo(Struct):
    """What is captured of one table.

    Attributes:
        table: the table's name.
        key: the columns that tell its rows apart.
        columns: the columns captured.
        since: when capture was turned on (UTC).
        identity: this capture's identity.
        held: how many changes are held.
        danger: why what is held may be lost soon, or empty.
        size: how many bytes they take, roughly.
        oldest_at: when the oldest of them was made (UTC).
        oldest, head: the positions between which they lie.
        waiting_columns: columns of the table that are not captured yet.
        how: ``capture`` by triggers, or ``log``.
        holds_back: bytes of log that the server keeps for it.
        problem: what is wrong with the capture, or empty.
        remedy: the command that fixes it, or empty.
    """

    table: str
    key: tuple[str, ...]
    columns: tuple[str, ...]
    since: datetime | None
    identity: str
    held: int = 0
    oldest: int = 0
    head: int = 0
    waiting_columns: tuple[str, ...] = ()
    problem: str = ""
    remedy: str = ""
    how: str = "capture"
    holds_back: int | None = None
    size: int | None = None
    oldest_at: datetime | None = None
    danger: str = ""

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready(
            {
                "table": self.table,
                "key": list(self.key),
                "columns": list(self.columns),
                "since": self.since,
                "held": self.held,
                "oldest": self.oldest,
                "head": self.head,
                "how": self.how,
                "holds_back_bytes": self.holds_back,
                "columns_not_captured": list(self.waiting_columns),
                "problem": self.problem,
                "remedy": self.remedy,
            }
        )
