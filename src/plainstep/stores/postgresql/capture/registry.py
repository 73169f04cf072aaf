"""What is captured in a PostgreSQL database, registered in ``plainstep.captures``: by triggers or from the log."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from psycopg.types.json import Jsonb

from plainstep.errors import Refused
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.capture import readers
from plainstep.stores.postgresql.connection import Connection

if TYPE_CHECKING:
    pass

# The format of these tables. Format 1 kept no number of its own, and no fingerprint of a publication; in format 2, any reader
# could move another one's watermark.
FORMAT = 3
NOTE_FORMAT = f"COMMENT ON TABLE plainstep.captures IS 'Plain Step, format {FORMAT}'"
FIND_FORMAT = r"SELECT substring(obj_description('plainstep.captures'::regclass) FROM 'format (\d+)')::int"
SCHEMA = """
CREATE TABLE IF NOT EXISTS plainstep.captures (
    table_oid oid NOT NULL, how text NOT NULL, table_name text NOT NULL, identity text NOT NULL, system text NOT NULL,
    key_columns text[] NOT NULL, columns jsonb NOT NULL, partitions text[] NOT NULL, kept_in text NOT NULL, since timestamptz NOT NULL DEFAULT now(),
    trimmed_before bigint NOT NULL DEFAULT 0, fingerprint text NOT NULL DEFAULT '', PRIMARY KEY (table_oid, how)
)"""
MIGRATE = "ALTER TABLE plainstep.captures ADD COLUMN IF NOT EXISTS fingerprint text NOT NULL DEFAULT ''"
# This very database: its changes mean nothing in a copy of it, where transactions are numbered anew.
SYSTEM = """SELECT c.system_identifier || '/' || d.oid FROM pg_control_system() c, pg_database d
WHERE d.datname = current_database()"""

REGISTERED = """SELECT r.table_oid, r.table_name, r.identity, r.system, r.key_columns, r.columns, r.partitions, r.kept_in,
    r.since, r.trimmed_before, coalesce(to_jsonb(r.*) ->> 'fingerprint', '') FROM plainstep.captures r WHERE r.how = %s"""


@dataclass
class State:
    """A capture as it stands.

    Attributes:
        oid: the table's number.
        name: the table's name when capture was turned on.
        identity: this capture's identity.
        system: the database it was made in.
        key: the columns that tell rows apart.
        layout: the columns captured, in the order in which their values are kept: name, number and type of each as it was
            when it was captured. The number of one that is gone is 0.
        partitions: the tables its rows lay in, if it is partitioned.
        changes: the change table (or the slot), as it is named.
        since: when it was turned on.
        trimmed: changes before this position were trimmed.
        fingerprint: what the publication was when it was made; empty where that was not noted.
        table: the table as it is now, or None if it is gone.
        problem: what is wrong, or empty; then changes may have been missed.
        remedy: the command that fixes it.
        early: the trigger of the application that fires before capture's, or empty.
        outdated: whether its triggers were made by an earlier release, or for columns that are gone.
        unreadable: whether its changes are stored in the format of an earlier release.
        ours: whether nobody could make anything run who reads its changes.
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
    fingerprint: str = ""
    table: catalog.Table | None = None
    problem: str = ""
    remedy: str = ""
    early: str = ""
    outdated: bool = False
    unreadable: bool = False
    ours: bool = False

    @property
    def change_table(self) -> str:
        """The change table, as SQL writes it."""
        return f"plainstep.{quoted(self.changes)}"

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the columns captured."""
        return tuple(dict.fromkeys(name for name, _, _ in self.layout))

    @property
    def _now(self) -> tuple[tuple[str, int, str], ...]:
        return self.table.layout if self.table else ()

    @property
    def waiting(self) -> tuple[str, ...]:
        """Columns of the table that came, by addition or under a new name, since capture was turned on or refreshed."""
        known = {(name, number) for name, number, _ in self.layout}
        return tuple(name for name, number, _ in self._now if (name, number) not in known)

    @property
    def gone(self) -> tuple[str, ...]:
        """Columns that the table no longer has, and whose values are still looked for with every change."""
        there = {(name, number) for name, number, _ in self._now}
        return tuple(name for name, number, _ in self.layout if number and (name, number) not in there)

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
        return bool(self.waiting or self.retyped or self.new_partitions or self.outdated or self.unreadable)

    @property
    def dropped(self) -> tuple[str, ...]:
        """Columns that the table no longer has."""
        return tuple(name for name in self.columns if self.table and name not in self.table.names)


def registered(connection: Connection, how: str, oid: int | None = None) -> list[State]:
    """What is captured in one way: of all tables, or of one."""
    where, values = (" AND r.table_oid = %s", [how, oid]) if oid is not None else ("", [how])
    if not catalog.exists(connection, "plainstep.captures"):
        return []
    trust.held(connection, "plainstep.captures", there=True)
    refuse_later_format(connection)
    rows = connection.execute(REGISTERED + where + " ORDER BY r.table_name", values).fetchall()
    return [
        State(oid, name, identity, system, tuple(key), tuple(map(tuple, layout)), tuple(parts), *rest)
        for oid, name, identity, system, key, layout, parts, *rest in rows
    ]


def kept_format(connection: Connection) -> int:
    """The format of what is registered here; the first format kept no number."""
    row = connection.execute(FIND_FORMAT).fetchone()
    return int(row[0]) if row and row[0] else 1


def refuse_later_format(connection: Connection) -> None:
    """Refuse what a later release wrote down.

    Raises:
        Refused: it did.
    """
    found = kept_format(connection)
    if found > FORMAT:
        raise Refused(
            f"The captures in this database have format {found}, and this release knows formats up to {FORMAT}.",
            "A later release of Plain Step wrote it.",
            "Use that release: pip install --upgrade plainstep.",
        )


def system(connection: Connection) -> str:
    """Which database this is."""
    row = connection.execute(SYSTEM).fetchone()
    assert row is not None
    return str(row[0])


def held_to_write(connection: Connection, *more: str) -> None:
    """Keep the registry, and more tables, as they are until the transaction ends, to write to them.

    Raises:
        Refused: somebody else owns one of them, and something of theirs would run.
    """
    trust.held(connection, "plainstep.captures", "plainstep.readers", *more, mode="ROW EXCLUSIVE")


def ready(connection: Connection) -> None:
    """Make the schema and the registry where they are not there yet; hold what is there.

    Raises:
        Refused: somebody else owns it, and something of theirs would run.
    """
    held_to_write(connection)
    row = connection.execute(
        "SELECT to_regnamespace('plainstep'), to_regclass('plainstep.captures'), to_regclass('plainstep.readers')"
    ).fetchone()
    assert row is not None
    if row[0] is None:
        connection.execute("CREATE SCHEMA IF NOT EXISTS plainstep")
    if row[1] is None:
        connection.execute(SCHEMA)
        connection.execute(NOTE_FORMAT)
    elif kept_format(connection) < FORMAT:
        connection.execute(MIGRATE)
        connection.execute(NOTE_FORMAT)
    readers.ready(connection, there=row[2] is not None)


def register(
    connection: Connection,
    how: str,
    table: catalog.Table,
    name: str,
    key: tuple[str, ...],
    kept_in: str,
    start: int,
    fingerprint: str = "",
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
        "fingerprint": fingerprint,
    }
    placeholders = ", ".join(["%s"] * len(values))
    with connection.transaction():
        held_to_write(connection)
        connection.execute(
            f"INSERT INTO plainstep.captures ({', '.join(values)}) VALUES ({placeholders})", list(values.values())
        )
