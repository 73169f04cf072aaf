"""What is captured in a PostgreSQL database, written down in ``plainstep.captures``: by triggers or from the log."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import datetime

from psycopg.types.json import Jsonb

from plainstep.errors import Refused
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.sql import quoted

SCHEMA = """
CREATE TABLE IF NOT EXISTS plainstep.captures (
    table_oid oid NOT NULL, how text NOT NULL, table_name text NOT NULL, identity text NOT NULL, system text NOT NULL,
    key_columns text[] NOT NULL, columns jsonb NOT NULL, partitions text[] NOT NULL, kept_in text NOT NULL, since timestamptz NOT NULL DEFAULT now(),
    trimmed_before bigint NOT NULL DEFAULT 0, PRIMARY KEY (table_oid, how)
)"""
# This very database: its changes mean nothing in a copy of it, where transactions are numbered anew.
SYSTEM = """SELECT c.system_identifier || '/' || d.oid FROM pg_control_system() c, pg_database d
WHERE d.datname = current_database()"""

REGISTERED = """SELECT r.table_oid, r.table_name, r.identity, r.system, r.key_columns, r.columns, r.partitions, r.kept_in,
    r.since, r.trimmed_before FROM plainstep.captures r WHERE r.how = %s"""


@dataclass
class State:
    """A capture as it stands.

    Attributes:
        oid: the table's number.
        name: the table's name when capture was turned on.
        identity: this capture's identity.
        system: the database it was made in.
        key: the columns that tell rows apart.
        layout: the columns captured: name, number and type of each as it was then.
        partitions: the tables its rows lay in, if it is partitioned.
        changes: the change table (or the slot), as it is named.
        since: when it was turned on.
        trimmed: changes before this position were trimmed.
        table: the table as it is now, or None if it is gone.
        problem: what is wrong, or empty; then changes may have been missed.
        remedy: the command that mends it.
    """

    oid: int
    name: str
    identity: str
    system: str
    key: tuple[str, ...]
    layout: tuple[tuple[str, int, str], ...]
    partitions: tuple[str, ...]
    changes: str
    since: datetime
    trimmed: int
    table: catalog.Table | None = None
    problem: str = ""
    remedy: str = ""

    @property
    def change_table(self) -> str:
        """The change table, as SQL writes it."""
        return f"plainstep.{quoted(self.changes)}"

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the columns captured."""
        return tuple(name for name, _, _ in self.layout)

    @property
    def _now(self) -> tuple[tuple[str, int, str], ...]:
        return self.table.layout if self.table else ()

    @property
    def waiting(self) -> tuple[str, ...]:
        """Columns of the table that came, by addition or under a new name, since capture was turned on or refreshed."""
        known = {(name, number) for name, number, _ in self.layout}
        return tuple(name for name, number, _ in self._now if (name, number) not in known)

    @property
    def retyped(self) -> tuple[str, ...]:
        """Columns whose type changed since, and perhaps their values with it."""
        return tuple(column[0] for column in self._now if column not in self.layout and column[0] not in self.waiting)

    @property
    def lost_partitions(self) -> bool:
        """Whether rows went with a partition, which nothing records."""
        return bool(self.table and set(self.partitions) - set(self.table.partitions))

    @property
    def new_partitions(self) -> bool:
        """Whether there are partitions that are not known yet."""
        return bool(self.table and set(self.table.partitions) - set(self.partitions))

    @property
    def stale(self) -> bool:
        """Whether the table is laid out otherwise than when capture was turned on or refreshed."""
        return bool(self.waiting or self.retyped or self.new_partitions)

    @property
    def dropped(self) -> tuple[str, ...]:
        """Columns that the table no longer has."""
        return tuple(name for name in self.columns if self.table and name not in self.table.names)


def registered(connection: Connection, how: str, oid: int | None = None) -> list[State]:
    """What is captured in one way: of all tables, or of one."""
    where, values = (" AND r.table_oid = %s", [how, oid]) if oid is not None else ("", [how])
    if not catalog.exists(connection, "plainstep.captures"):
        return []
    rows = connection.execute(REGISTERED + where + " ORDER BY r.table_name", values).fetchall()
    return [
        State(oid, name, identity, system, tuple(key), tuple(map(tuple, layout)), tuple(parts), kept_in, since, trimmed)
        for oid, name, identity, system, key, layout, parts, kept_in, since, trimmed in rows
    ]


def state_of(connection: Connection, table: str, how: str) -> State | None:
    """A table's capture, also of a table that is gone or was made again; None if there is none."""
    found = catalog.find(connection, table)
    states = registered(connection, how, found.oid) if found else []
    states = states or [one for one in registered(connection, how) if one.name == table]
    if not states:
        return None
    states[0].table = found if found and found.oid == states[0].oid else None
    return states[0]


def renamed(connection: Connection, store: str, table: str, how: str) -> None:
    """Refuse a name whose table goes by another name now."""
    for state in registered(connection, how):
        if state.name == table:
            row = connection.execute("SELECT oid::regclass::text FROM pg_class WHERE oid = %s", [state.oid]).fetchone()
            if row is not None:
                now = row[0]
                raise Refused(
                    f"The table {table} of {store} is called {now} now.",
                    "Its capture went with it; a load that names it must follow.",
                    f'Change the load\'s "from" to {store}.{now}, then plainstep capture refresh {store}.{now}.',
                )


def made_again(connection: Connection, store: str, table: str, how: str) -> None:
    """Refuse a table that was dropped and made again under a name that is captured."""
    if any(state.name == table for state in registered(connection, how)):
        raise Refused(
            f"The table {table} of {store} was dropped and made again since capture was turned on.",
            "Nothing records the new table's changes.",
            f"plainstep capture off {store}.{table}, then plainstep capture on {store}.{table}, then plainstep reload LOAD.",
        )


def system(connection: Connection) -> str:
    """Which database this is."""
    row = connection.execute(SYSTEM).fetchone()
    assert row is not None
    return str(row[0])


def ready(connection: Connection) -> None:
    """Make the schema and the registry where they are not there yet."""
    row = connection.execute("SELECT to_regnamespace('plainstep'), to_regclass('plainstep.captures')").fetchone()
    assert row is not None
    if row[0] is None:
        connection.execute("CREATE SCHEMA IF NOT EXISTS plainstep")
    if row[1] is None:
        connection.execute(SCHEMA)


def register(
    connection: Connection, how: str, table: catalog.Table, name: str, key: tuple[str, ...], kept_in: str, start: int
) -> None:
    """Write down what is captured from here on, under a new identity."""
    values = {
        "table_oid": table.oid,
        "how": how,
        "table_name": name,
        "identity": uuid.uuid4().hex,
        "system": system(connection),
        "key_columns": list(key),
        "columns": Jsonb(table.layout),
        "partitions": list(table.partitions),
        "kept_in": kept_in,
        "trimmed_before": start,
    }
    marks = ", ".join(["%s"] * len(values))
    connection.execute(f"INSERT INTO plainstep.captures ({', '.join(values)}) VALUES ({marks})", list(values.values()))
