"""Reading a captured SQLite table: its changes, and the table itself at one position."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from functools import partial
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes, concat
from plainstep.core.changes.ops import NOW, SAME, WAS
from plainstep.core.positions import Position, Window
from plainstep.deferred import deferred, pa
from plainstep.errors import DataError, Refused, StoreError
from plainstep.properties import cached_property
from plainstep.sql.conditions import all_of
from plainstep.sql.literals import quoted
from plainstep.stores.records import Batches, CaptureInfo, LeftOut, Snapshot
from plainstep.stores.sqlite.capture import readers
from plainstep.stores.sqlite.capture import state as capture
from plainstep.stores.sqlite.capture.held_changes import HeldChanges
from plainstep.stores.sqlite.capture.spellings import Spellings, has_spellings
from plainstep.stores.sqlite.connection import fetched, meanwhile
from plainstep.stores.sqlite.misfits import Misfits
from plainstep.stores.sqlite.table import SqliteTable
from plainstep.stores.sqlite.types import Column, column_of

if TYPE_CHECKING:
    from plainstep.core.changes import chains
    from plainstep.stores import recorded_order
    from plainstep.stores.sqlite.capture import quarantine as quarantines
    from plainstep.stores.sqlite.capture.quarantine import Quarantine
else:  # what has nothing to read needs none of them
    [chains], [recorded_order] = (
        deferred("plainstep.core.changes", "chains"),
        deferred("plainstep.stores", "recorded_order"),
    )
    [quarantines] = deferred("plainstep.stores.sqlite.capture", "quarantine")

# Rows fetched at a time: so many that their values are still in the cache when they become columns (measured).
BATCH = 1 << 11


class SqliteSource(HeldChanges):
    """The changes of one captured table, and its rows, in the types of its columns; see ``HeldChanges``."""

    is_managed = True
    overlaps = False
    has_before_images = True
    has_exact_operations = True
    on_bad_value = "refuse"
    follows_state = ("_columns", "misfits", "_spellings")

    def warnings(self) -> list[str]:
        """Columns that were added to the table and are not captured."""
        waiting = [
            f"the column {name} of {self.name} is not captured yet: plainstep capture refresh {self.database.name}.{self.name}"
            for name in self._state.waiting
        ]
        return waiting + self.misfits.told()

    @cached_property
    def _columns(self) -> list[Column]:
        table = self._state.table
        assert table is not None
        unknown = [name for name in self.types if name not in self._state.what.columns]
        if unknown:
            raise DataError(
                f"types names the column {unknown[0]!r}, which {self.name} does not have.",
                "",
                f"Its columns: {', '.join(self._state.what.columns)}.",
            )
        return [column_of(self.name, name, table.declared(name), self.types) for name in self._state.what.columns]

    @cached_property
    def misfits(self) -> Misfits:
        """What is done with values that do not fit their columns."""
        return Misfits(self.on_bad_value, self.key(), f"plainstep reload {self.reader.partition(',')[0] or 'LOAD'}")

    @property
    def spells_keys(self) -> bool:
        """Whether two keys may be one value."""
        return any(has_spellings(column) for column in self._columns if column.name in self.key())

    @cached_property
    def _spellings(self) -> Spellings:
        return Spellings(f"{self.database.name}.{self.name}")

    def table(self, numbered: bool = False) -> SqliteTable:
        """The table itself, its values read as those of its changes are; with the number of each row, if asked for."""
        table = SqliteTable(self.database, self.name, self.types, numbered)
        table.misfits = self.misfits
        return table

    def held(self) -> CaptureInfo:
        """What its capture holds."""
        with self.database.opened() as connection:
            return capture.info(connection, self._state)

    def schema(self) -> pa.Schema:
        """The captured columns."""
        return pa.schema([(column.name, column.kind) for column in self._shown])

    def recorded_schema(self) -> pa.Schema:
        """All columns of the changes as they were recorded."""
        return pa.schema([(column.name, column.kind) for column in self._columns])

    @property
    def _shown(self) -> list[Column]:
        """The captured columns that are the table's own."""
        return self._columns[1:] if self._state.numbered else self._columns

    def changes_of(self, keys: pa.Table) -> list[int]:
        """The numbers of all changes that are held of the rows with some keys, before or after."""
        images = [(name, column) for name, column in self._images if column.name in self._key]
        held = self._rows("op NOT IN ('begin', 'erased')", [], images)
        return [number for changes in held for number in changes.among(keys).seq().tolist()]

    def erase(self, identity: str, numbers: Sequence[int]) -> bool:
        """Forget what these changes held. Their rows stay, without values, so that positions have no gaps."""
        names = [quoted(side + name) for side in (WAS, NOW) for name in self._state.what.columns]
        sets = ", ".join(f"{name} = NULL" for name in names)
        with (
            self.database.opened("rw") as connection,
            meanwhile(connection, secure_delete="ON"),
            capture.writing(connection),
        ):
            there = "SELECT 1 FROM plainstep_captures WHERE identity = ?"
            if not connection.execute(there, [identity]).fetchone():
                return False
            connection.execute(
                f"UPDATE {quoted(self._state.what.changes)} SET op = 'erased', {sets} "
                "WHERE seq IN (SELECT value FROM json_each(?))",
                [json.dumps(list(numbers))],
            )
            return True

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a value does not fit its column's declared type.
            Refused: changes of the window are missing.
        """
        changes, quarantine = self.read_bent(window), quarantines.Quarantine(self._key)
        if self.on_bad_value == "quarantine":
            changes = map(quarantine.without, changes)
        if self._state.numbered:
            changes = map(self._without_number, changes)
        return Batches(changes, self._left_out(quarantine))

    def _without_number(self, changes: Changes) -> Changes:
        return Changes(changes.table.drop_columns([side + name for side in (WAS, NOW) for name in self._key]))

    def _left_out(self, quarantine: Quarantine) -> Callable[[], LeftOut]:
        """Tells what a reading left out, or took otherwise."""
        return lambda: replace(quarantine.left_out(), notes=self.misfits.told())

    def read_bent(self, window: Window) -> Iterator[Changes]:
        """The changes of a window, all of them: with nulls where rows are quarantined for a value."""
        # All that one statement did, by whatever triggers, has one time: the clock stands still while it runs.
        standing = partial(recorded_order.rows_after, _Numbered(self), window)
        return recorded_order.in_order(self.recorded(window), self._key, "at", standing)

    def recorded(self, window: Window) -> Iterator[Changes]:
        """The changes of a window as they were recorded."""
        return self._read(window, self._images)

    @property
    def _images(self) -> list[tuple[str, Column]]:
        """The columns of both images."""
        return [(side + column.name, column) for side in (WAS, NOW) for column in self._columns]

    def in_order(self, numbers: list[int]) -> bool:
        """Whether changes, which are all that certain rows went through in certain transactions, can only be in their order."""
        picked = "seq IN (SELECT value FROM json_each(?))"
        changes = concat(self._rows(picked, [json.dumps(numbers)], self._images))
        return chains.surely_in_order(changes, self._key, "at")

    def read_lean(self, window: Window) -> Batches:
        """The changes of a window, with old values of the key only: what costs is to make a value Python's."""

        if self.on_bad_value == "quarantine" or self._state.numbered:
            return self.read(window)
        if any(
            pa.types.is_decimal(one.kind) or pa.types.is_timestamp(one.kind) or pa.types.is_time(one.kind)
            for one in self._columns
        ):
            return self.read(window)  # 1.5 and 1.50 are one value, but not one text: SQLite could not compare them
        olds = [(WAS + column.name, column) for column in self._columns if column.name in self.key()]
        news = [(NOW + column.name, column) for column in self._columns]
        images = [(SAME, Column(SAME, "BOOLEAN", pa.bool_())), *olds, *news]
        changes = self._read(window, images, {SAME: self._unchanged("", "")})
        return Batches(changes, self._left_out(quarantines.Quarantine(self.key())))

    def unchanged(self, firsts: list[int], lasts: list[int]) -> list[bool]:
        """For pairs of changes, whether the row was before the first as it is after the last."""
        changes = quoted(self._state.what.changes)
        sql = (
            f"SELECT {self._unchanged('f.', 'l.')} FROM json_each(?) pair JOIN {changes} f ON f.seq = pair.value ->> 0 "
            f"JOIN {changes} l ON l.seq = pair.value ->> 1 ORDER BY pair.key"
        )
        with self.database.opened() as connection:
            return [
                bool(same) for (same,) in connection.execute(sql, [json.dumps(list(zip(firsts, lasts, strict=True)))])
            ]

    def _unchanged(self, first: str, last: str) -> str:
        """Whether the old values of one change are the new ones of another, as SQL."""
        others = [column.name for column in self._columns if column.name not in self.key()]
        pairs = [f"{first}{quoted(WAS + name)} IS {last}{quoted(NOW + name)}" for name in others]
        return all_of(pairs) if pairs else "1"

    def _read(
        self, window: Window, images: list[tuple[str, Column]], computed: dict[str, str] | None = None
    ) -> Iterator[Changes]:
        found = 0
        for changes in self._rows("seq > ? AND seq <= ?", [window.after, window.upto], images, computed):
            found += len(changes)
            erased = changes.table["op"].null_count
            yield Changes(changes.table.filter(changes.table["op"].is_valid())) if erased else changes
        if found != window.upto - window.after:
            raise Refused(
                f"Missing: {window.upto - window.after - found:,} of the {window.upto - window.after:,} changes after {window.after} up to {window.upto}.",
                "Something removed rows from the change table; those changes are lost.",
                "plainstep reload LOAD compares the whole table instead.",
            )

    def _rows(
        self,
        picked: str,
        values: Sequence[Any],
        images: list[tuple[str, Column]],
        computed: dict[str, str] | None = None,
    ) -> Iterator[Changes]:
        """Some changes in batches, of which the first may be empty: so that the columns are known all the same."""
        selected = ", ".join((computed or {}).get(name) or column.read_sql(quoted(name)) for name, column in images)
        sql = (
            f"SELECT seq, CASE op WHEN 'insert' THEN 1 WHEN 'update' THEN 2 WHEN 'delete' THEN 3 END, at, {selected} "
            f"FROM {quoted(self._state.what.changes)} WHERE {picked} ORDER BY seq"
        )
        none = True
        with self.database.opened() as connection, closing(connection.execute(sql, values)) as cursor:
            for rows in fetched(cursor, BATCH):
                yield self._changes(rows, images)
                none = False
        if none:
            yield self._changes([], images)

    def _changes(self, rows: list[tuple[Any, ...]], images: list[tuple[str, Column]]) -> Changes:

        columns: Sequence[Sequence[Any]] = list(zip(*rows, strict=True)) if rows else [()] * (3 + len(images))
        seq = columns[0]
        table = {
            "op": pa.array(columns[1], pa.int8()),
            "seq": pa.array(seq, pa.int64()),
            "at": pa.array(columns[2], pa.int64()).cast(pa.timestamp("ms", "UTC")).cast(utc_time()),
        }

        def whose(index: int) -> str:
            return f"the change at position {seq[index]}"

        out: dict[str, dict[int, str]] = {WAS: {}, NOW: {}} if self.on_bad_value == "quarantine" else {}
        for (name, column), values in zip(images, columns[3:], strict=True):
            table[name] = self._array(column, values, whose, out.get(name[: len(WAS)]))
        if out:
            names = [name for name, _ in images]
            table |= quarantines.noted(out, names, rows)
        if self.spells_keys and rows:
            spelled = dict(zip((name for name, _ in images), columns[3:], strict=True))
            sides = [[side + name for name in self.key()] for side in (WAS, NOW)]
            old, new = (([table[name] for name in names], [spelled[name] for name in names]) for names in sides)
            self._spellings.changes(old, new)
        return Changes(pa.table(table))

    def _array(self, column: Column, values: Sequence[Any], whose: Any, out: dict[int, str] | None = None) -> pa.Array:
        return self.misfits.to_arrow(column, values, lambda index: f"{whose(index)} of {self.name}", out)

    def reserve(self) -> None:
        """Nothing to do: should changes be trimmed before the first step ends, the second one says so."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Everything up to a position is merged: it may be trimmed."""
        with suppress(StoreError):  # a source that may only be read, or is locked: the next step tells it
            readers.note(self.database, self._state.identity, self.reader, watermark.number)

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the position it stands at, from one read transaction."""
        with self.database.reading() as connection:
            span = self._renewed_span(connection)
            quarantine = quarantines.Quarantine(self.key())
            rows = self._batches(connection, quarantine)
            yield Snapshot(span, self.schema(), rows, self._left_out(quarantine), lambda: self._count(connection))

    def _count(self, connection: sqlite3.Connection) -> int:
        """How many rows the table has. (Counting a million takes some 20 ms, reading them over a second.)"""
        return int(connection.execute(f"SELECT count(*) FROM {quoted(self._state.what.table)}").fetchone()[0])

    def _batches(self, connection: sqlite3.Connection, quarantine: Quarantine) -> Iterator[pa.RecordBatch]:
        shown = self._shown
        selected = ", ".join(column.read_sql(quoted(column.name)) for column in shown)
        cursor = connection.execute(f"SELECT {selected} FROM {quoted(self._state.what.table)}")
        key = [index for index, column in enumerate(shown) if column.name in self.key()]
        schema = self.schema()
        for rows in fetched(cursor, BATCH):
            columns = zip(*rows, strict=True)
            out: dict[int, str] | None = {} if self.on_bad_value == "quarantine" else None
            arrays = [
                self._array(column, values, lambda index, rows=rows: self._row_name(rows[index], key), out)
                for column, values in zip(shown, columns, strict=True)
            ]
            batch = pa.record_batch(arrays, schema=schema)
            if self.spells_keys:
                texts = list(zip(*rows, strict=True))
                self._spellings.rows([arrays[place] for place in key], [texts[place] for place in key])
            yield quarantine.without_rows(batch, out, rows) if out is not None else batch

    def _row_name(self, row: tuple[Any, ...], key: list[int]) -> str:
        return "the row " + ", ".join(f"{self._columns[index].name} = {row[index]!r}" for index in key)


class _Numbered:
    """Changes as they were recorded, and their table, with the number of each row where that is what tells rows apart."""

    def __init__(self, source: SqliteSource) -> None:
        self.source, self.recorded, self.end = source, source.recorded, source.end

    def schema(self) -> pa.Schema:
        """The columns of both."""
        return self.source.recorded_schema()

    def table(self) -> SqliteTable:
        """The table."""
        return self.source.table(self.source.key() == ())
