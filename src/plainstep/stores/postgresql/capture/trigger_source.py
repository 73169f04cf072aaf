"""Reading a captured PostgreSQL table: its changes, and the table itself at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

import psycopg

from plainstep.copying import replace
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.sql.literals import text
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.capture import readers, registry, snapshots
from plainstep.stores.postgresql.capture.source import TableSource
from plainstep.stores.postgresql.capture.trigger_sql import UNRECORDED
from plainstep.stores.postgresql.capture.triggers import Capture
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.copy import images, read
from plainstep.stores.postgresql.table import PostgresqlTable
from plainstep.stores.postgresql.types import Column
from plainstep.stores.recorded_order import in_order, rows_after
from plainstep.stores.records import Batches

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

ROUGHLY = (
    "times are those of each transaction's last captured change, shortly before it committed: "
    "the server keeps no commit times (track_commit_timestamp is off)"
)
# The operation of a change whose values were erased.
ERASED = "erased"
OPS = " ".join(f"WHEN '{op.word}' THEN {int(op)}" for op in Op)
HEADS = f"c.seq, CASE c.op {OPS} END, c.at, c.txn, c.by_role, c.fields, c.was, c.now"


class CapturedSource(TableSource):
    """The changes of one captured table.

    Args:
        store: the database.
        table: the table's name.
        types: types to use instead of the columns' own, by column.
        reader: who reads, by a name that is the same at every step.

    Raises:
        Refused: capture is off, or may have missed changes.
    """

    def __init__(self, database: PostgresqlDatabase, table: str, types: dict[str, str], reader: str = "") -> None:
        super().__init__(database, table, types, Capture(database))
        self.reader = reader

    def hidden(self, table: catalog.Table) -> frozenset[str]:
        """None: a change row holds the whole row."""
        return frozenset()

    def span(self) -> Span:
        """How far the changes can be read now: all that is committed."""
        with self.database.opened() as connection, connection.transaction():
            self.database.read_only(connection)
            self.renew(connection)
            return self.stands_at(connection)

    def end(self) -> Position:
        """Where its changes end now."""
        return self.span().end

    def stands_at(self, connection: Connection) -> Span:
        """Where the transaction's snapshot stands."""
        changes = self.state.change_table
        row = connection.execute(
            f"SELECT pg_current_snapshot()::text, greatest(%s, (SELECT min(seq) FROM {changes})), head.seq, head.at "
            f"FROM (SELECT seq, at FROM {changes} ORDER BY seq DESC LIMIT 1) head",
            [self.state.trimmed],
        ).fetchone()
        assert row is not None
        token, oldest, head, at = row
        return Span(self.state.identity, oldest, head, at, token, since=self.state.since)

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        """A connection to read the change table; while others may put something into it, in a transaction that keeps it as it is."""
        with self.database.opened() as connection:
            if self.state.ours:
                yield connection
                return
            with connection.transaction():
                trust.held(connection, self.state.change_table, there=True)
                yield connection

    def time_of(self, position: Position) -> datetime | None:
        """When the change at a position was recorded, if it is held."""
        with self._reading() as connection:
            row = connection.execute(
                f"SELECT at FROM {self.state.change_table} WHERE seq = %s", [position.number]
            ).fetchone()
            return row[0] if row else None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        with self._reading() as connection:
            row = connection.execute(
                f"SELECT count(*), min(at) FROM {self.state.change_table} WHERE {_within(window)}"
            ).fetchone()
            assert row is not None
            return Waiting(row[0], row[0] > 0, row[1])

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: what is before holds whole transactions, with those that came before them on a row."""
        with self._reading() as connection:
            numbers = connection.execute(
                f"SELECT seq FROM (SELECT seq, row_number() OVER (ORDER BY seq) AS place FROM {self.state.change_table} "
                f"WHERE {_within(window)}) numbered WHERE place %% %s = 0 ORDER BY seq",
                [most],
            ).fetchall()
        for (number,) in numbers:
            end = self.locate(number)
            if self._parts(window, end):
                return replace(end, note="")
        return None

    def _parts(self, window: Window, end: Position) -> bool:
        """Whether a position has a part of a window before it and another behind, and all that is before the window."""
        if not window.after <= end.number <= window.upto:
            return False
        first, rest = (
            replace(window, upto=end.number, upto_token=end.token),
            replace(window, after=end.number, after_token=end.token),
        )
        lost = " AND ".join(
            [
                "seq > 0",
                *_seen(window.after_token, "pg_visible_in_snapshot"),
                *_seen(end.token, "NOT pg_visible_in_snapshot"),
            ]
        )
        with self._reading() as connection:
            changes = self.state.change_table
            row = connection.execute(
                f"SELECT EXISTS (SELECT 1 FROM {changes} WHERE {_within(first)}), EXISTS (SELECT 1 FROM {changes} WHERE {_within(rest)}), "
                f"{'EXISTS (SELECT 1 FROM ' + changes + ' WHERE ' + lost + ')' if window.after_token else 'false'}"
            ).fetchone()
        return row == (True, True, False)

    def locate(self, point: int | datetime) -> Position:
        """The position of the transactions that made no change after a position, or after a time.

        As with every position, no transaction is split, and none is in without those that came before it on a row.
        """
        changes = self.state.change_table
        with self._reading() as connection:
            at, note = self._clock(connection) if isinstance(point, datetime) else ("at", "")
            early = "last <= %(point)s" if isinstance(point, int) else "last_at <= %(point)s"
            row = connection.execute(
                f"""WITH per AS (
    SELECT txn::text::bigint AS txn, max(seq) AS last, max({at}) AS last_at FROM {changes} GROUP BY txn
), newest AS (SELECT coalesce(max(txn), 0) AS txn, max(last) AS last, max(last_at) AS at FROM per WHERE {early})
SELECT newest.*, ARRAY(SELECT per.txn FROM per WHERE NOT ({early}) AND per.txn < newest.txn), pg_current_snapshot()::text
FROM newest""",
                {"point": point},
            ).fetchone()
        assert row is not None
        txn, last, when, late, now = row
        if isinstance(point, int) and point > (last or 0) and self.time_of(Position(point)):
            note = f"{point} is amid a transaction, which is never split: {last or 0} is taken instead"
        token = snapshots.Snapshot.parse(now).without(late, max(txn, 2))
        return Position(last or 0, str(token), when, note)

    def _clock(self, connection: Connection) -> tuple[str, str]:
        """When a change's transaction committed, as SQL, and how well the server knows."""
        row = connection.execute("SELECT current_setting('track_commit_timestamp')").fetchone()
        if row == ("on",):
            return "coalesce(pg_xact_commit_timestamp(txn::xid), at)", ""
        return "at", ROUGHLY

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Forget changes that lie at or before all these positions. The newest change always stays."""
        changes = self.state.change_table
        past = " AND ".join(
            f"pg_visible_in_snapshot(txn, {text(position.token)}::pg_snapshot)" if position.token else "true"
            for position in positions
        )
        before = min(one.number for one in positions)
        old = f"FROM {changes} WHERE seq < least(%s, (SELECT max(seq) FROM {changes})) AND {past}"
        with self.database.opened() as connection, connection.transaction():
            registry.held_to_write(connection, changes)
            row = connection.execute(f"SELECT count(*) {old} AND seq > 0", [before]).fetchone()
            gone = int(row[0]) if row else 0
            if not really:
                return gone
            connection.execute(f"DELETE {old}", [before])
            connection.execute(
                "UPDATE plainstep.captures SET trimmed_before = greatest(trimmed_before, %s) WHERE identity = %s",
                [before, self.state.identity],
            )
            return gone

    def changes_of(self, keys: pa.Table) -> list[int]:
        """The numbers of all changes that are held of the rows with some keys, before or after."""
        held = self.recorded(Window.between(Position(0), self.end()))
        return [number for changes in held for number in changes.among(keys).seq().tolist()]

    def erase(self, identity: str, numbers: Sequence[int]) -> bool:
        """Forget what these changes held. Their rows stay, without values: they tell where each transaction stood."""
        changes = self.state.change_table
        with self.database.opened() as connection, connection.transaction():
            registry.held_to_write(connection, changes)
            if not connection.execute("SELECT 1 FROM plainstep.captures WHERE identity = %s", [identity]).fetchone():
                return False
            connection.execute(
                f"UPDATE {changes} SET op = '{ERASED}', was = NULL, now = NULL WHERE seq = ANY(%s)", [list(numbers)]
            )
            return True

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no equivalent in other stores.
        """
        recorded = self.recorded(window)
        if not self.key():  # nothing tells which of them are of one row
            return Batches(recorded)
        return Batches(in_order(recorded, self.key(), "txn", partial(rows_after, self, window)))

    def table(self) -> PostgresqlTable:
        """The table itself."""
        return PostgresqlTable(self.database, self.name, self.types)

    def recorded(self, window: Window) -> Iterator[Changes]:
        """The changes of a window as they were recorded."""

        slots = self._slots()
        query = f"SELECT {HEADS} FROM {self.state.change_table} c WHERE {_within(window, 'c.')} ORDER BY c.seq"
        with self._reading() as connection:
            yield Changes(self._empty())  # so that the columns are known, whatever comes
            for batch in read(connection, query, _heads(), self.name):
                if batch.column("op").null_count:
                    raise self._lost(window)
                sides = [
                    images(batch.column(side), batch.column("fields"), slots, self.name, side + ".")
                    for side in ("was", "now")
                ]
                heads = {name: batch.column(name) for name in ("seq", "op", "at", "txn", "by")}
                yield Changes(pa.table(heads | sides[0] | sides[1], schema=self._empty().schema))

    def _slots(self) -> list[Column | None]:
        """The columns in the places in which a change holds their values; None for those that are not read."""
        wanted = {column.name: column for column in self.columns}
        places = {name: place for place, (name, _, _) in enumerate(self.state.layout)}
        return [
            wanted.get(name) if places[name] == place else None for place, (name, _, _) in enumerate(self.state.layout)
        ]

    def _empty(self) -> pa.Table:
        """No change, with all columns, in their order."""
        heads = [(column.name, column.kind) for column in _heads()[:5]]
        sides = [(side + column.name, column.kind) for side in (WAS, NOW) for column in self.columns]
        return pa.schema([*heads, *sides]).empty_table()

    def _lost(self, window: Window) -> Refused:
        with self._reading() as connection:  # another one: the changes are still being copied out
            row = connection.execute(
                f"SELECT c.now FROM {self.state.change_table} c WHERE {_within(window, 'c.')} AND c.op = %s LIMIT 1",
                [UNRECORDED],
            ).fetchone()
        reload = "plainstep reload LOAD compares the whole table and goes on from there."
        if row:
            return Refused(
                f"A row of {self.name} could not be recorded: {row[0]}.", "What it was changed to is not known.", reload
            )
        return Refused(
            f"A partition of {self.name} was truncated in a transaction that did not see all of its rows.",
            "Which rows went is not known. (Its isolation level was REPEATABLE READ or SERIALIZABLE.)",
            reload,
        )

    def reserve(self) -> None:
        """Nothing to do: should changes be trimmed before the first step ends, the second one says so."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Everything up to a position is merged: it may be trimmed."""
        with self.database.opened() as connection:
            self._note(connection, watermark)

    def _note(self, connection: Connection, watermark: Position) -> None:
        """Record where this reader stands, if that is not what is recorded already."""
        try:
            with connection.transaction():
                known = readers.known_reader(connection, self.state.identity, self.reader)
                if known is None or (known[0], known[2]) != (watermark.number, watermark.token):
                    # What is lost with the power is told by the next step.
                    connection.execute("SET LOCAL synchronous_commit = off")
                    readers.note_reader(
                        connection,
                        self.state.identity,
                        self.reader,
                        watermark.number,
                        watermark.number,
                        watermark.token,
                    )
        except (psycopg.errors.InsufficientPrivilege, psycopg.errors.UndefinedTable):
            return  # a role that may only read: trim does not know of it, and its load's status says so


def _seen(token: str, visible: str) -> list[str]:
    return [f"{visible}(txn, {text(token)}::pg_snapshot)"] if token else []


def _within(window: Window, of: str = "") -> str:
    """The condition for the changes of a window.

    The comparisons by number are implied by those by snapshot, and let the index be used.
    """
    terms = [f"{of}seq > 0 AND {of}op <> '{ERASED}'"]
    if window.upto_token:
        upto = snapshots.Snapshot.parse(window.upto_token)
        terms.append(f"{of}txn < '{upto.xmax}' AND pg_visible_in_snapshot({of}txn, {text(window.upto_token)})")
    else:
        terms.append(f"{of}seq <= {window.upto}")
    if window.after_token:
        after = snapshots.Snapshot.parse(window.after_token)
        terms.append(f"{of}txn >= '{after.xmin}' AND NOT pg_visible_in_snapshot({of}txn, {text(window.after_token)})")
    else:
        terms.append(f"{of}seq > {window.after}")
    return " AND ".join(terms)


def _heads() -> list[Column]:
    """What a change holds, its rows as text."""

    return [
        Column("seq", "bigint", pa.int64()),
        Column("op", "smallint", pa.int8()),
        Column("at", "timestamptz", pa.timestamp("us", "UTC")),
        Column("txn", "bigint", pa.int64()),
        Column("by", "text", pa.string()),
        Column("fields", "smallint", pa.int16()),
        Column("was", "text", pa.string()),
        Column("now", "text", pa.string()),
    ]
