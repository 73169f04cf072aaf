"""A target that keeps its tables whole, as Arrow tables: what a commit makes of them, and everything else that is kept.

For stores that write all they hold at once, and the plainest there is: what the others do in SQL is told here in few lines.
"""

from __future__ import annotations

import time
import uuid
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.positions import MergedTable, Watermark
from plainstep.core.shapes.apply import Applied, applied
from plainstep.deferred import pa
from plainstep.stores.commit_errors import contradicted, half_a_row, moved
from plainstep.stores.keyed_rows import ScannedRows
from plainstep.stores.records import Commit, LedgerEntry, Part, QuarantinedRow, TableInfo

if TYPE_CHECKING:
    from plainstep.core.schema_drift import Fit
    from plainstep.stores.api import KeyedRows


@dataclass(frozen=True)
class Holdings:
    """Everything that a target holds.

    Attributes:
        tables: its tables, by name.
        identities: what tells each from another one of its name.
        watermarks: how far each load is merged.
        steps: the ledger, oldest first.
        refused: the steps that were refused, oldest first.
        quarantined: the rows of each load that are quarantined.
    """

    tables: dict[str, pa.Table] = field(default_factory=dict)
    identities: dict[str, str] = field(default_factory=dict)
    watermarks: dict[str, Watermark] = field(default_factory=dict)
    steps: tuple[LedgerEntry, ...] = ()
    refused: tuple[LedgerEntry, ...] = ()
    quarantined: dict[str, list[QuarantinedRow]] = field(default_factory=dict)


class WholeTarget(ABC):
    """A target that keeps its tables whole."""

    @abstractmethod
    def held(self) -> Holdings:
        """What it holds now."""

    @abstractmethod
    def change(self, change: Callable[[Holdings], Holdings]) -> None:
        """Put what a function makes of what is held in its place, whole, while nobody else does. If it raises, nothing is changed."""

    def watermark(self, load: str) -> Watermark | None:
        """A load's watermark, or None before its first step."""
        return self.held().watermarks.get(load)

    def standing(self) -> dict[str, tuple[Watermark, LedgerEntry]]:
        """Every load's watermark and the step that set it, at once."""
        held = self.held()
        last = {entry.load: entry for entry in held.steps}
        return {load: (watermark, last[load]) for load, watermark in held.watermarks.items()}

    def ledger(self, load: str | None = None, limit: int | None = None, refused: bool = False) -> list[LedgerEntry]:
        """The newest steps, or the newest that were refused, oldest first."""
        held = self.held()
        found = [one for one in (held.refused if refused else held.steps) if load in (None, one.load)]
        return found if limit is None else found[len(found) - min(limit, len(found)) :]

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""

        def noted(held: Holdings) -> Holdings:
            known = any((one.load, one.step, one.note) == (entry.load, entry.step, entry.note) for one in held.refused)
            return held if known else replace(held, refused=(*held.refused, entry))

        self.change(noted)

    def quarantined(self, load: str) -> list[QuarantinedRow]:
        """The rows of a load that are quarantined, oldest first."""
        return self.held().quarantined.get(load, [])

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none."""
        held = self.held()
        table = held.tables.get(name)
        return None if table is None else TableInfo(table.schema, table.num_rows > 0, held.identities.get(name, ""))

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        info = self.table(name, ())
        return None if info is None else MergedTable(name, info.identity, info.rows)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as it is: every type of Arrow's is held as it is."""
        return schema

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        yield from self.held().tables[name].select(schema.names).cast(schema).to_batches()

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return ScannedRows(self, name)

    def finish(self) -> None:  # noqa: B027 (most have nothing to finish)
        """Nothing: a commit leaves nothing to be done."""

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, at once.

        Raises:
            WatermarkMoved: a watermark is no longer where it was read.
            Refused: the edits cannot be made; nothing was written.
        """
        self.change(lambda held: committed(held, commits))


def committed(held: Holdings, commits: Sequence[Commit]) -> Holdings:
    """What a target holds after some commits.

    Raises:
        WatermarkMoved: a watermark is no longer where it was read.
        Refused: the edits cannot be made.
    """
    for commit in commits:
        now = held.watermarks.get(commit.watermark.load)
        if not commit.amends and (now and now.step) != (commit.before and commit.before.step):
            raise moved(commit.watermark.load)
        for part in commit.parts:
            held = _merged(held, commit, part)
        if commit.tolerated is not None and commit.entry.contradictions > commit.tolerated:
            raise contradicted(commit)
        held = held if commit.amends else _noted(held, commit)
    return held


def _taken_over(watermarks: dict[str, Watermark], commit: Commit) -> dict[str, Watermark]:
    """The watermarks, where every other load that merged into a table knows that this load does from here on."""
    taken = MergedTable(commit.main_table, taken_by=commit.watermark.load)
    return {
        load: replace(one, tables=(taken,)) if one.tables and one.tables[0].name == taken.name else one
        for load, one in watermarks.items()
    }


def _merged(held: Holdings, commit: Commit, part: Part) -> Holdings:
    """What is held after one part of a commit."""
    before = held.tables.get(part.table)
    identity = held.identities.get(part.table, "")
    info = None if before is None else TableInfo(before.schema, before.num_rows > 0, identity)
    fit = part.fit(info)
    commit.entry.note = "; ".join(filter(None, (fit.note, commit.entry.note)))
    rows = _fitted(before, part, fit)
    for edits in part.rounds:
        done = applied(rows, part.key, edits)
        rows = done.rows
        if done.halves and edits.whole:
            raise half_a_row(commit, done.halves)
        if edits.strict:
            commit.entry.contradictions += done.odd
        if part.counted:
            _count(commit.entry, done)
    identities = held.identities | {part.table: identity or uuid.uuid4().hex}
    return replace(held, tables=held.tables | {part.table: rows}, identities=identities)


def _fitted(table: pa.Table | None, part: Part, fit: Fit) -> pa.Table:
    """A table with the columns that rows are to fit into."""
    if table is None:
        return part.schema.empty_table()
    table = table.drop_columns(fit.shed)
    for name in fit.added:
        table = table.append_column(part.schema.field(name), pa.nulls(table.num_rows, part.schema.field(name).type))
    for name in fit.widened:
        index, wider = table.schema.get_field_index(name), part.schema.field(name)
        table = table.set_column(index, wider, table[name].cast(wider.type))
    return table


def _count(entry: LedgerEntry, done: Applied) -> None:
    for name in ("put", "patch", "drop", "append", "add"):
        setattr(entry, name, getattr(entry, name) + getattr(done, name))


def _noted(held: Holdings, commit: Commit) -> Holdings:
    """What is held with a commit's watermark, its ledger row, and the rows that are quarantined."""
    load, left_out, entry = commit.watermark.load, commit.left_out(), commit.entry
    left_out.note_in(entry)
    entry.seconds = time.perf_counter() - commit.began
    tables = tuple(
        MergedTable(part.table, held.identities[part.table], held.tables[part.table].num_rows > 0)
        for part in commit.parts
    )
    watermark = replace(commit.watermark, tables=tables or commit.watermark.tables)
    gone = {*left_out.released, *(row.place for row in left_out.quarantined)}
    kept = [row for row in held.quarantined.get(load, []) if row.place not in gone]
    fresh = [replace(row, step=watermark.step) for row in left_out.quarantined]
    others = _taken_over(held.watermarks, commit) if commit.takes_over else held.watermarks
    return replace(
        held,
        watermarks=others | {load: watermark},
        steps=(*held.steps, entry),
        quarantined=held.quarantined | {load: [*kept, *fresh]},
    )
