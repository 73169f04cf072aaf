"""Reading a captured PostgreSQL table: its changes, and the table itself at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

import psycopg

from plainstep.core.positions import Place, Span, Waiting, Window
from plainstep.core.words import NOW, WAS, Op
from plainstep.errors import Refused
from plainstep.stores.postgresql import catalog, snapshots
from plainstep.stores.postgresql.capture import Capture
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.table_source import TableSource
from plainstep.stores.sql import quoted, text

if TYPE_CHECKING:
    import pyarrow as pa

    from plainstep.core.changes import Changes
    from plainstep.stores.postgresql import PostgresqlStore
    from plainstep.stores.postgresql.table import PostgresqlTable
    from plainstep.stores.postgresql.types import Column

ROUGHLY = (
    "times are those of each transaction's last captured change, shortly before it committed: "
    "the server keeps no commit times (track_commit_timestamp is off)"
)
OPS = " ".join(f"WHEN '{op.word}' THEN {int(op)}" for op in Op)


KNOWN = "SELECT mark, token FROM plainstep.readers WHERE identity = %(identity)s AND reader = %(reader)s"
NOTED = """INSERT INTO plainstep.readers (identity, reader, mark, upto, token)
VALUES (%(identity)s, %(reader)s, %(mark)s, %(mark)s, %(token)s) ON CONFLICT (identity, reader)
DO UPDATE SET mark = excluded.mark, upto = excluded.upto, token = excluded.token, seen = now()"""


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

    def __init__(self, store: PostgresqlStore, table: str, types: dict[str, str], reader: str = "") -> None:
        super().__init__(store, table, types, Capture(store))
        self.reader = reader

    def hidden(self, table: catalog.Table) -> frozenset[str]:
        """None: a change row holds the whole row."""
        return frozenset()

    def plain(self, column: Column) -> str:
        """A column of the table; ``json`` as the change tables keep it."""
        name = quoted(column.name)
        return f"{name}::jsonb" if column.native == "json" else name

    def span(self) -> Span:
        """How far the changes can be read now: all that is committed."""
        with self.store.opened() as connection, connection.transaction():
            self.store.read_only(connection)
            self.renew(connection)
            return self.stands_at(connection)

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

    def time_of(self, place: Place) -> datetime | None:
        """When the change at a place was recorded, if it is held."""
        with self.store.opened() as connection:
            row = connection.execute(
                f"SELECT at FROM {self.state.change_table} WHERE seq = %s", [place.position]
            ).fetchone()
            return row[0] if row else None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        with self.store.opened() as connection:
            row = connection.execute(
                f"SELECT count(*), min(at) FROM {self.state.change_table} WHERE {_within(window)}"
            ).fetchone()
            assert row is not None
            return Waiting(row[0], row[0] > 0, row[1])

    def locate(self, point: int | datetime) -> Place:
        """The place of the transactions that made no change after a position, or after a time.

        As with every place, no transaction is split, and none is in without those that came before it on a row.
        """
        changes = self.state.change_table
        with self.store.opened() as connection:
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
        if isinstance(point, int) and point > (last or 0) and self.time_of(Place(point)):
            note = f"{point} is amid a transaction, which is never split: {last or 0} is taken instead"
        token = snapshots.Snapshot.parse(now).without(late, max(txn, 2))
        return Place(last or 0, str(token), when, note)

    def _clock(self, connection: Connection) -> tuple[str, str]:
        """When a change's transaction committed, as SQL, and how well the server knows."""
        row = connection.execute("SELECT current_setting('track_commit_timestamp')").fetchone()
        if row == ("on",):
            return "coalesce(pg_xact_commit_timestamp(txn::xid), at)", ""
        return "at", ROUGHLY

    def trim(self, places: Sequence[Place], really: bool = True) -> int:
        """Forget changes that lie at or before all these places. The newest change always stays."""
        changes = self.state.change_table
        past = " AND ".join(
            f"pg_visible_in_snapshot(txn, {text(place.token)}::pg_snapshot)" if place.token else "true"
            for place in places
        )
        before = min(place.position for place in places)
        old = f"FROM {changes} WHERE seq < least(%s, (SELECT max(seq) FROM {changes})) AND {past}"
        with self.store.opened() as connection, connection.transaction():
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

    def read(self, window: Window) -> Iterator[Changes]:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no like in other stores.
        """
        from plainstep.stores.recorded import in_order, rows_after

        return in_order(self.recorded(window), self.key(), "txn", partial(rows_after, self, window))

    def table(self) -> PostgresqlTable:
        """The table itself."""
        return self.store.table(self.name, self.types)

    def recorded(self, window: Window) -> Iterator[Changes]:
        """The changes of a window as they were recorded."""
        from plainstep.core.changes import Changes
        from plainstep.stores.postgresql.copying import read

        names, query = self._query(window)
        with self.store.opened() as connection:
            yield Changes(_changes(None, names))  # so that the columns are known, whatever comes
            for batch in read(connection, query, names, self.name):
                if batch.column("op").null_count:
                    raise self._lost()
                yield Changes(_changes(batch, names))

    def _lost(self) -> Refused:
        return Refused(
            f"A partition of {self.name} was truncated in a transaction that did not see all of its rows.",
            "Which rows went is not known. (Its isolation level was REPEATABLE READ or SERIALIZABLE.)",
            "plainstep reload LOAD compares the whole table and goes on from there.",
        )

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
        special = [column for column in self.columns if column.canonical]
        joins = ""
        for side in (WAS, NOW):
            image = side.rstrip(".")
            for column in self.columns:
                value = f"{image}_.{quoted(column.name)}" if column.canonical else f"c.{image} ->> {text(column.name)}"
                heads.append((Column(side + column.name, column.declared, column.kind), value))
            if special:
                listed = ", ".join(f"{quoted(column.name)} {column.native}" for column in special)
                joins += f" LEFT JOIN LATERAL jsonb_to_record(c.{image}) AS {image}_({listed}) ON true"
        selected = ", ".join(value for _, value in heads)
        query = (
            f"SELECT {selected} FROM {self.state.change_table} c{joins} WHERE {_within(window, 'c.')} ORDER BY c.seq"
        )
        return [column for column, _ in heads], query

    def reserve(self) -> None:
        """Nothing to do: should changes be trimmed before the first step ends, the second one says so."""

    def settled(self, mark: Place, upto: Place) -> None:
        """Everything up to a place is merged: it may be trimmed."""
        with self.store.opened() as connection:
            self._note(connection, mark)

    def _note(self, connection: Connection, mark: Place) -> None:
        """Write down where this reader stands, if that is not what is written down already."""
        values = {"identity": self.state.identity, "reader": self.reader, "mark": mark.position, "token": mark.token}
        try:
            known = connection.execute(KNOWN, values).fetchone()
            if known is None or known != (mark.position, mark.token):
                with connection.transaction():  # what is lost with the power is told by the next step
                    connection.execute("SET LOCAL synchronous_commit = off")
                    connection.execute(NOTED, values)
        except (psycopg.errors.InsufficientPrivilege, psycopg.errors.UndefinedTable):
            return  # a role that may only read: trim does not know of it, and its load's status says so


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
