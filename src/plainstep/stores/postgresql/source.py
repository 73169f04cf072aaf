"""Reading a captured PostgreSQL table: its changes, and the table itself at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING

from plainstep.core.positions import Place, Span, Waiting, Window
from plainstep.core.words import NOW, WAS, Op
from plainstep.errors import Refused
from plainstep.stores.base import Snapshot
from plainstep.stores.postgresql import capture, catalog, registry, snapshots
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.sql import quoted, text

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.changes import Changes
    from plainstep.stores.postgresql import PostgresqlStore
    from plainstep.stores.postgresql.types import Column

ROUGHLY = (
    "times are those of each transaction's last captured change, shortly before it committed: "
    "the server keeps no commit times (track_commit_timestamp is off)"
)
OPS = " ".join(f"WHEN '{op.word}' THEN {int(op)}" for op in Op)


class CapturedSource:
    """The changes of one captured table.

    Args:
        store: the database.
        table: the table's name.
        types: types to use instead of the columns' own, by column.

    Raises:
        Refused: capture is off, or may have missed changes.
    """

    own_capture = True

    def __init__(self, store: PostgresqlStore, table: str, types: dict[str, str]) -> None:
        self.store, self.name, self.types = store, table, types

    @cached_property
    def _state(self) -> registry.State:
        with self.store.opened() as connection:
            return self._look(connection)

    def _look(self, connection: Connection) -> registry.State:
        state = capture.inspect(connection, self.store.name, self.name)
        if state is None:
            raise capture.off(connection, self.store.name, self.name)
        if state.problem:
            raise Refused(
                f"The capture of {self.store.name}.{self.name} cannot be trusted: {state.problem}.",
                "Changes may have been missed or recorded out of order.",
                state.remedy,
            )
        return state

    def _renew(self, connection: Connection) -> registry.State:
        """The state of the capture and the columns, as they are now."""
        self.__dict__["_state"] = self._look(connection)
        self.__dict__.pop("_columns", None)
        return self._state

    @cached_property
    def _columns(self) -> list[Column]:
        table = self._state.table
        assert table is not None
        captured = tuple(
            table.column(name)
            for name in self._state.columns
            if name not in (*self._state.dropped, *self._state.waiting)
        )
        return catalog.typed(captured, self.types, self.name)

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self._state.key

    def warnings(self) -> list[str]:
        """Columns that came to the table, or changed their type."""
        refresh = f"plainstep capture refresh {self.store.name}.{self.name}"
        came = [f"the column {name} of {self.name} is not captured yet: {refresh}" for name in self._state.waiting]
        other = [f"the column {name} of {self.name} has another type now: {refresh}" for name in self._state.retyped]
        parts = [f"{self.name} has a new partition: {refresh}"] if self._state.new_partitions else []
        return came + other + parts

    def dropped(self) -> tuple[str, ...]:
        """Columns that the table once had while it was captured."""
        return self._state.dropped

    def schema(self) -> pa.Schema:
        """The captured columns."""
        import pyarrow as pa

        return pa.schema([column.field for column in self._columns])

    def span(self) -> Span:
        """How far the changes can be read now: all that is committed."""
        with self.store.opened() as connection:
            self._renew(connection)
            return self._span(connection)

    def _span(self, connection: Connection) -> Span:
        changes = self._state.change_table
        row = connection.execute(
            f"SELECT pg_current_snapshot()::text, greatest(%s, (SELECT min(seq) FROM {changes})), head.seq, head.at "
            f"FROM (SELECT seq, at FROM {changes} ORDER BY seq DESC LIMIT 1) head",
            [self._state.trimmed],
        ).fetchone()
        assert row is not None
        token, oldest, head, at = row
        return Span(self._state.identity, oldest, head, at, token)

    def time_of(self, place: Place) -> datetime | None:
        """When the change at a place was recorded, if it is held."""
        with self.store.opened() as connection:
            row = connection.execute(
                f"SELECT at FROM {self._state.change_table} WHERE seq = %s", [place.position]
            ).fetchone()
            return row[0] if row else None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        with self.store.opened() as connection:
            row = connection.execute(
                f"SELECT count(*), min(at) FROM {self._state.change_table} WHERE {_within(window)}"
            ).fetchone()
            assert row is not None
            return Waiting(row[0], row[0] > 0, row[1])

    def locate(self, point: int | datetime) -> Place:
        """The place of the transactions that made no change after a position, or after a time.

        As with every place, no transaction is split, and none is in without those that came before it on a row.
        """
        with self.store.opened() as connection:
            at, note = "at", ""
            if isinstance(point, datetime):
                at, note = (
                    ("coalesce(pg_xact_commit_timestamp(txn::xid), at)", "")
                    if self._keeps_commit_times(connection)
                    else ("at", ROUGHLY)
                )
            early = "last <= %(point)s" if isinstance(point, int) else "last_at <= %(point)s"
            row = connection.execute(
                f"""WITH per AS (
    SELECT txn::text::bigint AS txn, max(seq) AS last, max({at}) AS last_at, pg_current_snapshot()::text AS now
    FROM {self._state.change_table} GROUP BY txn
), newest AS (SELECT coalesce(max(txn), 0) AS txn, max(last) AS last, max(last_at) AS at FROM per WHERE {early})
SELECT newest.*, ARRAY(SELECT per.txn FROM per WHERE NOT ({early}) AND per.txn < newest.txn), pg_current_snapshot()::text
FROM newest""",
                {"point": point},
            ).fetchone()
            assert row is not None
            txn, last, when, late, now = row
            token = snapshots.Snapshot.parse(now).without(late, max(txn, 2))
            return Place(last or 0, str(token), when, note)

    def _keeps_commit_times(self, connection: Connection) -> bool:
        row = connection.execute("SELECT current_setting('track_commit_timestamp')").fetchone()
        return row is not None and row[0] == "on"

    def trim(self, places: Sequence[Place]) -> int:
        """Forget changes that lie at or before all these places. The newest change always stays."""
        changes = self._state.change_table
        past = " AND ".join(
            f"pg_visible_in_snapshot(txn, {text(place.token)}::pg_snapshot)" if place.token else "true"
            for place in places
        )
        before = min(place.position for place in places)
        with self.store.opened() as connection, connection.transaction():
            gone = connection.execute(
                f"DELETE FROM {changes} WHERE seq < least(%s, (SELECT max(seq) FROM {changes})) AND {past}", [before]
            ).rowcount
            connection.execute(
                "UPDATE plainstep.captures SET trimmed_before = greatest(trimmed_before, %s) WHERE identity = %s",
                [before, self._state.identity],
            )
            return gone

    def read(self, window: Window) -> Iterator[Changes]:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no like in other stores.
        """
        from plainstep.core.changes import Changes
        from plainstep.stores.postgresql.copying import read

        names, query = self._query(window)
        with self.store.opened() as connection:
            yield Changes(_changes(None, names))  # so that the columns are known, whatever comes
            for batch in read(connection, query, names, self.name):
                yield Changes(_changes(batch, names))

    def _query(self, window: Window) -> tuple[list[Column], str]:
        """The columns of a change, and the query for the changes of a window."""
        import pyarrow as pa

        from plainstep.stores.postgresql.types import Column

        heads = [
            (Column("seq", "bigint", pa.int64()), "c.seq"),
            (Column("op", "smallint", pa.int8()), f"CASE c.op {OPS} END"),
            (Column("at", "timestamptz", pa.timestamp("us", "UTC")), "c.at"),
            (Column("txn", "bigint", pa.int64()), "c.txn"),
            (Column("by", "text", pa.string()), "c.by_role"),
        ]
        special = [column for column in self._columns if column.canonical]
        joins = ""
        for side in (WAS, NOW):
            image = side.rstrip(".")
            for column in self._columns:
                value = f"{image}_.{quoted(column.name)}" if column.canonical else f"c.{image} ->> {text(column.name)}"
                heads.append((Column(side + column.name, column.declared, column.kind), value))
            if special:
                listed = ", ".join(f"{quoted(column.name)} {column.native}" for column in special)
                joins += f" LEFT JOIN LATERAL jsonb_to_record(c.{image}) AS {image}_({listed}) ON true"
        selected = ", ".join(value for _, value in heads)
        query = (
            f"SELECT {selected} FROM {self._state.change_table} c{joins} WHERE {_within(window, 'c.')} ORDER BY c.seq"
        )
        return [column for column, _ in heads], query

    def reserve(self) -> None:
        """Nothing to do: changes are kept until they are trimmed."""

    def settled(self, mark: Place, upto: Place) -> None:
        """Nothing to do: changes are kept until they are trimmed."""

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the place it stands at, from one transaction."""
        from plainstep.stores.postgresql.copying import read

        with self.store.opened() as connection, connection.transaction():
            connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            # Before the snapshot is taken: a truncate in between would show through it.
            table = catalog.find_and_lock(connection, self.name)
            self._renew(connection)
            selected = ", ".join(_plain(column) for column in self._columns)
            rows = read(connection, f"SELECT {selected} FROM {table}", self._columns, self.name)
            span = self._span(connection)
            with closing(rows) as batches:  # a copy that is not read to its end would hold up the transaction's
                yield Snapshot(span, self.schema(), batches)


def _plain(column: Column) -> str:
    """A column of the table in the form that changes carry it."""
    name = quoted(column.name)
    return f"{name}::jsonb" if column.native == "json" else name


def _within(window: Window, of: str = "") -> str:
    """The condition for the changes of a window.

    The comparisons by number are implied by those by snapshot, and let the index be used.
    """
    terms = [f"{of}seq > 0"]
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


def _changes(batch: pa.RecordBatch | None, columns: list[Column]) -> pa.Table:
    import pyarrow as pa

    if batch is None:
        return pa.schema([(column.name, column.kind) for column in columns]).empty_table()
    return pa.Table.from_batches([batch])
