"""Reading a captured table: its changes, and the table itself at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS
from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.deferred import np, pa
from plainstep.errors import Refused, StoreError
from plainstep.stores.mysql.capture import registry
from plainstep.stores.mysql.capture import state as states
from plainstep.stores.mysql.capture.state import State
from plainstep.stores.mysql.capture.triggers import quoted
from plainstep.stores.mysql.open_transactions import bound
from plainstep.stores.mysql.rows import read as read_rows
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.mysql.types import Column
from plainstep.stores.records import Batches, CaptureInfo, Snapshot

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire


class CapturedSource:
    """The changes of one captured table.

    A position is the number of a transaction below which all have ended. What a first load's snapshot saw of later ones is
    told by its token: they are not read again.

    Args:
        database: where the table is.
        table: its name.
        types: types to use instead of its columns' own, by column.
        reader: who reads, by a name that is the same at every step.
    """

    is_managed = True
    overlaps = False
    has_before_images = True
    has_exact_operations = True

    def __init__(self, database: MysqlDatabase, table: str, types: dict[str, str], reader: str) -> None:
        self.database, self.name, self.types, self.reader = database, table, types, reader
        self.rows = MysqlTable(database, table, types)
        self.place = f"{database.name}.{table}"
        self._state: State | None = None
        # The connection behind whose transaction committed changes wait, as it was when the span was last told.
        self._holder = 0

    @property
    def state(self) -> State:
        """The capture, as it was when its span was last told."""
        if self._state is None:
            with self.database.opened() as connection:
                self._renew(connection)
        assert self._state is not None
        return self._state

    def _renew(self, connection: Wire) -> State:
        state = states.captured(connection, self.database, self.name)
        if state.problem:
            raise Refused(
                f"The capture of {self.place} is broken: {state.problem}.",
                "Changes may have been missed.",
                state.remedy,
            )
        self._state = state
        self.rows = MysqlTable(self.database, self.name, self.types)  # its columns, too, as they are now
        return state

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self.state.what.key

    def warnings(self) -> list[str]:
        """Columns that were added to the table and are not captured."""
        waiting = [
            f"the column {name} of {self.name} is not captured yet: plainstep capture refresh {self.place}"
            for name in self.state.waiting
        ]
        if self._holder:
            waiting.append(
                f"changes of {self.name} wait for a transaction that is still open, of connection {self._holder}"
            )
        return waiting

    @property
    def columns(self) -> list[Column]:
        """The captured columns."""
        return [self.rows.columns[name] for name in self.state.what.columns]

    def table(self) -> MysqlTable:
        """The table itself."""
        return self.rows

    def held(self) -> CaptureInfo:
        """What its capture holds."""
        with self.database.opened() as connection:
            return states.info(connection, self.state)

    def schema(self) -> pa.Schema:
        """The captured columns."""
        return pa.schema([column.field for column in self.columns])

    def span(self) -> Span:
        """How far changes can be read now: below the transactions that are open."""
        with self.database.opened() as connection:
            state = self._renew(connection)
            return self._span(state, self._head(connection, state))

    def _head(self, connection: Wire, state: State) -> int:
        """Behind the last change of those transactions below which all have ended."""
        below = self.database.moment_bound or bound(connection)
        changes = quoted(state.what.changes)
        row = connection.first(f"SELECT max(rs) FROM {changes} WHERE rs < {below.number}")
        later = (
            connection.first(f"SELECT 1 FROM {changes} WHERE rs >= {below.number} LIMIT 1") if below.holder else None
        )
        self._holder = below.holder if later else 0
        return int(row[0]) + 1 if row and row[0] else 0

    def _span(self, state: State, head: int) -> Span:
        return Span(state.identity, state.trimmed, max(head, state.trimmed), start=state.trimmed, since=state.since)

    def end(self) -> Position:
        """Where changes end now."""
        with self.database.opened() as connection:
            return Position(self._head(connection, self.state))

    def time_of(self, position: Position) -> datetime | None:
        """A number of transactions has no time."""
        return None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        if window.upto <= window.after:
            return Waiting(0, False)
        with self.database.opened() as connection:
            row = connection.first(
                f"SELECT count(*), min(at) FROM {quoted(self.state.what.changes)} WHERE {_picked(window)}"
            )
        count = int(row[0]) if row else 0
        return Waiting(count, count > 0, row[1].replace(tzinfo=UTC) if row and row[1] else None)

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no equivalent in other stores.
        """
        return Batches(self._changes(window))

    def recorded(self, window: Window) -> Iterator[Changes]:
        """The changes of a window as they were recorded: each row's are in order."""
        return self._changes(window)

    def changes_of(self, keys: pa.Table) -> list[int]:
        """The numbers of all changes that are held of the rows with some keys, before or after."""
        found = self._rows("op > 0", "n")
        return [number for changes in found for number in changes.among(keys).table["position"].to_pylist()]

    def erase(self, identity: str, numbers: Sequence[int]) -> bool:
        """Forget these changes, and that they were made: also what the server keeps of what was deleted."""
        changes = quoted(self.state.what.changes)
        with self.database.opened() as connection:
            row = connection.first("SELECT 1 FROM plainstep_captures WHERE identity = %s", [identity])
            if row is None:
                return False
            # In their place, a row that is none: the end of what is held does not move back.
            connection.run(f"INSERT INTO {changes} (op, at) VALUES (-1, UTC_TIMESTAMP(6))")
            for start in range(0, len(numbers), AT_ONCE):
                some = ", ".join(map(str, numbers[start : start + AT_ONCE]))
                connection.run(f"DELETE FROM {changes} WHERE n IN ({some})")
            connection.run(f"DELETE HISTORY FROM {changes}")
        return True

    def _changes(self, window: Window) -> Iterator[Changes]:
        yield from self._rows(_picked(window), "rs + 1")  # the first position that includes it

    def _rows(self, picked: str, position: str) -> Iterator[Changes]:
        """Some changes, in order."""
        images = [replace(column, name=side + column.name) for side in (WAS, NOW) for column in self.columns]
        selected = ", ".join(["op", "at", "rs", position, *(column.read_sql(quoted(column.name)) for column in images)])
        read = [*_own_columns(), *images]
        sql = f"SELECT {selected} FROM {quoted(self.state.what.changes)} WHERE {picked} ORDER BY n"
        seq = 0
        with self.database.read_transaction() as connection:
            yield self._numbered(pa.schema([(column.name, column.kind) for column in read]).empty_table(), 0)
            for batch in read_rows(connection, sql, read, self.place):
                yield self._numbered(pa.Table.from_batches([batch]), seq)
                seq += batch.num_rows

    def _numbered(self, rows: pa.Table, seq: int) -> Changes:
        columns: dict[str, Any] = {
            "op": rows["op"], "seq": pa.array(np.arange(seq + 1, seq + 1 + rows.num_rows)), "at": rows["at"].cast(utc_time()),
            "txn": rows["rs"], "position": rows["position"],
        }  # fmt: skip
        columns |= {name: rows[name] for name in rows.column_names if name.startswith((WAS, NOW))}
        return Changes(pa.table(columns))

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the position it stands at, from one read transaction."""
        with self.database.opened() as connection:
            state = self._renew(connection)
            head = self._head(connection, state)
        _ = self.schema()
        with self.database.snapshot() as connection:
            # Below the bound, the snapshot sees all; of later ones, those that it sees are told one by one.
            changes = quoted(state.what.changes)
            _, seen = connection.run(f"SELECT DISTINCT rs FROM {changes} WHERE rs >= {head} AND op > 0 ORDER BY rs")
            span = replace(self._span(state, head), token=",".join(str(number) for (number,) in seen))
            selected = ", ".join(column.read_sql(quoted(column.name)) for column in self.columns)
            rows = read_rows(connection, f"SELECT {selected} FROM {self.rows.sql}", self.columns, self.place)
            yield Snapshot(span, self.schema(), self.database.kept(rows))

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: after a transaction."""
        changes = quoted(self.state.what.changes)
        with self.database.opened() as connection:
            row = connection.first(
                f"SELECT rs FROM {changes} WHERE {_picked(window)} ORDER BY rs LIMIT 1 OFFSET {most - 1}"
            )
            more = row and connection.first(
                f"SELECT 1 FROM {changes} WHERE {_picked(window)} AND rs > {int(row[0])} LIMIT 1"
            )
        return Position(int(row[0]) + 1, window.after_token) if row and more else None

    def locate(self, point: int | datetime) -> Position:
        """The position itself, or the last one whose changes were all made at or before a time."""
        if isinstance(point, int):
            return Position(point)
        with self.database.opened() as connection:
            late = point.astimezone(UTC).replace(tzinfo=None).isoformat(" ")
            row = connection.first(
                f"SELECT min(rs) FROM {quoted(self.state.what.changes)} WHERE op > 0 AND at > %s", [late]
            )
            return Position(int(row[0]) if row and row[0] else self._head(connection, self.state))

    def reserve(self) -> None:
        """Nothing to do: should changes be trimmed before the first step ends, the second one says so."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Everything up to a position is merged: it may be trimmed."""
        with (
            suppress(StoreError),
            self.database.opened() as connection,
        ):  # one that may only be read: the next step tells it
            registry.note_reader(connection, self.state.identity, self.reader, watermark.number)

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Forget changes that lie before all of these positions."""
        upto = min((position.number for position in positions), default=0)
        changes = quoted(self.state.what.changes)
        with self.database.opened() as connection:
            row = connection.first(f"SELECT count(*) FROM {changes} WHERE op > 0 AND rs < {upto}")
            count = int(row[0]) if row else 0
            if not really or not count:
                return count
            connection.run("START TRANSACTION")
            connection.run(f"DELETE FROM {changes} WHERE op <> 0 AND rs < {upto}")
            connection.run(
                f"UPDATE plainstep_captures SET trimmed = greatest(trimmed, {upto}) WHERE identity = %s",
                [self.state.identity],
            )
            connection.run("COMMIT")
            connection.run(f"DELETE HISTORY FROM {changes}")
        return count


# Changes that are forgotten in one statement.
AT_ONCE = 10_000


def _own_columns() -> list[Column]:
    """What a change table has beside images."""
    kinds = {"op": pa.int8(), "at": pa.timestamp("us", "UTC"), "rs": pa.int64(), "position": pa.int64()}
    return [Column(name, "", kind) for name, kind in kinds.items()]


def _picked(window: Window) -> str:
    """The condition that a change is in a window."""
    seen = f" AND rs NOT IN ({window.after_token})" if window.after_token else ""
    return f"op > 0 AND rs >= {window.after} AND rs < {window.upto}{seen}"
