"""Delta tables as a place to merge into: each step is one commit of one table."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from contextlib import suppress
from copy import copy
from typing import Any

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa, pc
from plainstep.stores.books import Book, followed_by
from plainstep.stores.delta.books import PROPERTY, LakeBooks
from plainstep.stores.delta.commits import TableCommit, refuse_others
from plainstep.stores.delta.log import Log, State
from plainstep.stores.delta.rows import Rows
from plainstep.stores.delta.schema import held_as
from plainstep.stores.delta.sweeping import sweep
from plainstep.stores.lake.commits import LakeCommit
from plainstep.stores.lake.target import LakeTarget
from plainstep.stores.objects import Objects
from plainstep.stores.records import Commit, TableInfo

# What to do where a table lacks what it was made of.
ANEW = "Bring it back, or remove the table's folder: the next step then loads it anew."
# After so many versions their state is written down, so that a log is read from there.
CHECKPOINT = 20
# After so many versions what nothing refers to is looked for, for which the whole log is read.
SWEEP = 200
# The property of a table by which commits stay, however old they are.
CLEANUP = "delta.enableExpiredLogCleanup"


class DeltaTarget(LakeTarget):
    """The tables of a store, as a place to merge into.

    Args:
        objects: where they are.
        name: the store's name.
        place: where the library that writes checkpoints finds them.
        vectors: whether tables that are made take deletion vectors.
    """

    advice, kind = ANEW, "Delta tables"

    def __init__(self, objects: Objects, name: str, place: str, vectors: bool) -> None:
        self.objects, self.name, self.place = objects, name, place
        self._books = LakeBooks(objects, vectors)
        self._states: dict[str, State] = {}
        self._upto: dict[str, int] = {}

    @property
    def books(self) -> LakeBooks:
        """The books of its loads."""
        return self._books

    def _log(self, table: str, since: int | None = None) -> Log:
        return Log(self.objects, table, f"{self.name}.{table}", ANEW, self._upto.get(table), since)

    def _newest(self, table: str) -> Log:
        """A table's log, as far as its newest version takes: a log can hold every commit of a month."""
        if table in self._upto:
            return self._log(table)
        known, whole = self._states.get(table), self._log(table)
        since = known.number if known else whole.last_checkpoint
        log = self._log(table, since)
        return log if since is not None and log.goes_on(known) else whole

    def at_step(self, load: str, table: str, step: int) -> DeltaTarget | None:
        """The same, in which a table stands as it last did before a load's next step; None where that is not held any more."""
        log, found = self._log(table), None
        for number in reversed(log.commits):
            found = number if found is None else found
            said = self.books.step_named(log.version(number).metadata, load)
            if said is not None and said <= step:
                break
            found = number - 1 if said is not None else found
        else:
            return None
        one = copy(self)
        one._states, one._upto = {}, {table: found}
        return one if said == step else None

    def _state(self, log: Log, table: str) -> State | None:
        """The newest version of a table; None where there is none."""
        if not log.commits:
            return None
        self._states[table] = log.state(log.head, self._states.get(table))
        return self._states[table]

    def loads(self) -> list[str]:
        """Every load that merged into a table here, or began."""
        return self.books.loads()

    def newest(self, load: str) -> Book | None:
        """A load's book: that of its last step, in whichever table it merged into then."""
        states = [self._state(self._newest(table), table) for table in self.books.tables_of(load)]
        names = [dict(state.metadata.get("configuration") or {}).get(PROPERTY + load) for state in states if state]
        found = [self.books.read(name) for name in (*names, *self.books.begun(load)) if name]
        return max(found, key=lambda book: book.step, default=None)

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none."""
        log = self._newest(name)
        state = self._state(log, name)
        if state is None:
            return None
        refuse_others(state, log.place)
        return TableInfo(Rows(log, state.metadata).schema, bool(state.files), state.metadata["id"])

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        state = self._state(self._newest(name), name)
        return None if state is None else MergedTable(name, state.metadata["id"], bool(state.files))

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as a Delta table holds it."""
        return pa.schema([pa.field(one.name, held_as(one.type)) for one in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        log = self._newest(name)
        state = self._state(log, name)
        if state is None:
            return
        rows = Rows(log, state.metadata)
        for file in list(state.files.values()):
            found = rows.of(file, only=schema.names)
            columns = [_as(found[one.name], one.type) for one in schema]
            yield from pa.Table.from_arrays(columns, schema=schema).to_batches()

    def begin(self, commit: Commit) -> None:
        """Move the watermark of a load that has no table yet."""
        book = self.book(commit.watermark.load)
        self.books.begin(followed_by(book, commit, commit.entry, ()), commit)

    def begun(self, commit: Commit, table: str) -> TableCommit:
        """A commit that is to be tried."""
        if not commit.amends:
            self.books.note_table(commit.watermark.load, table)
        return TableCommit(self.books, commit, table, self._newest(table))

    def state(self, made: LakeCommit[Any, Any]) -> State | None:
        """The newest version of the table of a commit."""
        assert isinstance(made, TableCommit)
        made.log = self._newest(made.table)
        state = self._state(made.log, made.table)
        if state is not None:
            refuse_others(state, made.log.place)
        return state

    def tidy(self, table: str, before: State | None) -> None:
        """Write down now and then what the table is made of, and remove what nothing refers to. That it could not be hurts nobody."""
        number = before.number + 1 if before else 0
        with suppress(Exception):
            if before and number % CHECKPOINT == 0:
                written = importlib.import_module("deltalake").DeltaTable(f"{self.place}/{table}")
                written.create_checkpoint()
                if dict(before.metadata.get("configuration") or {}).get(CLEANUP, "true") == "true":
                    written.cleanup_metadata()  # commits older than the table keeps them, before the last checkpoint
            if before and number % SWEEP == 0:
                log = self._log(table)
                # That reads as much as there are commits: of a long log it is done less often.
                if number // SWEEP % (1 + len(log.commits) // (10 * SWEEP)) == 0:
                    sweep(self.books, log, log.state(log.head))


def _as(values: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    if pa.types.is_time(kind):  # Arrow reads a time of day only as part of a timestamp
        return pc.binary_join_element_wise("1970-01-01", values, " ").cast(pa.timestamp("us")).cast(kind)
    return values.cast(kind)
