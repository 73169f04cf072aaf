"""What is captured in a PostgreSQL database, written down in ``plainstep.captures``: by triggers or from the log."""

from __future__ import annotations

import re
import uuid
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, ClassVar

from psycopg.types.json import Jsonb

from plainstep.core.positions import Place
from plainstep.errors import PlainStepError, Refused
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.records import CaptureInfo, Reader

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

# The format of these tables. Format 1 kept no number of its own, and no fingerprint of a publication; in format 2, any reader
# could move another one's mark.
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
READERS = """
CREATE TABLE IF NOT EXISTS plainstep.readers (
    identity text NOT NULL, reader text NOT NULL, mark bigint, upto bigint NOT NULL, token text NOT NULL DEFAULT '',
    seen timestamptz NOT NULL DEFAULT now(), written_by name NOT NULL DEFAULT current_user,
    PRIMARY KEY (identity, reader, written_by)
)"""
# Whoever reads writes rows of his own, and of nobody else: else one reader could have forgotten what another needs. (Rows that
# an earlier release wrote tell nobody's name, and are anybody's.)
OWN_ROWS = (
    "ALTER TABLE plainstep.readers ENABLE ROW LEVEL SECURITY",
    "CREATE POLICY shown ON plainstep.readers FOR SELECT USING (true)",
    "CREATE POLICY come ON plainstep.readers FOR INSERT WITH CHECK (written_by = current_user)",
    "CREATE POLICY change ON plainstep.readers FOR UPDATE USING (written_by = current_user)",
    "CREATE POLICY go ON plainstep.readers FOR DELETE USING (written_by IN (current_user, ''))",
)
MIGRATE_READERS = (
    "ALTER TABLE plainstep.readers ADD COLUMN written_by name NOT NULL DEFAULT ''",
    "ALTER TABLE plainstep.readers ALTER COLUMN written_by SET DEFAULT current_user",
    "ALTER TABLE plainstep.readers DROP CONSTRAINT readers_pkey",
    "ALTER TABLE plainstep.readers ADD PRIMARY KEY (identity, reader, written_by)",
    *OWN_ROWS,
)
# Finds a table of readers in which any reader could move another one's mark.
OF_ANYBODY = """SELECT 1 WHERE to_regclass('plainstep.readers') IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM pg_attribute WHERE attrelid = to_regclass('plainstep.readers') AND attname = 'written_by')"""
NOTED = """INSERT INTO plainstep.readers (identity, reader, mark, upto, token)
VALUES (%(identity)s, %(reader)s, %(mark)s, %(upto)s, %(token)s) ON CONFLICT (identity, reader, written_by)
DO UPDATE SET mark = excluded.mark, upto = excluded.upto, token = excluded.token, seen = now()"""
READ = """SELECT reader, table_name, how, coalesce(mark, upto), token, seen FROM plainstep.readers
JOIN plainstep.captures USING (identity) ORDER BY table_name, how, reader"""
OF_NOBODY = "SELECT 1 FROM plainstep.readers WHERE identity = %s AND reader = %s AND written_by = ''"
KNOWN = """SELECT mark, upto, token FROM plainstep.readers
WHERE identity = %s AND reader = %s AND written_by = current_user"""
SNAPSHOT = re.compile(r"\d{1,19}:\d{1,19}:(\d{1,19}(,\d{1,19})*)?")
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
        remedy: the command that mends it.
        early: the trigger of the application that fires before capture's, or empty.
        outdated: whether its triggers were made by an earlier release, or for columns that are gone.
        unreadable: whether its changes are kept as an earlier release kept them.
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
    trust.held(connection, "plainstep.captures")
    refuse_later_format(connection)
    rows = connection.execute(REGISTERED + where + " ORDER BY r.table_name", values).fetchall()
    return [
        State(oid, name, identity, system, tuple(key), tuple(map(tuple, layout)), tuple(parts), *rest)
        for oid, name, identity, system, key, layout, parts, *rest in rows
    ]


def kept_format(connection: Connection) -> int:
    """The format of what is written down here; the first one did not say."""
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
            f"What is captured in this database is kept in format {found}, and this release knows formats up to {FORMAT}.",
            "A later release of Plain Step wrote it.",
            "Use that release: pip install --upgrade plainstep.",
        )


def readers(connection: Connection) -> list[Reader]:
    """Who reads what is captured in this database, as far as they are written down."""
    if not catalog.exists(connection, "plainstep.readers"):
        return []
    with connection.transaction():
        trust.held(connection, "plainstep.readers", "plainstep.captures")
        with by_policy(connection):
            rows = connection.execute(READ).fetchall()
    return [Reader(name, table, how, _place(mark, token), seen) for name, table, how, mark, token, seen in rows]


def _place(mark: int, token: str) -> Place:
    """Where a reader stands. What is no place holds everything back: others may have written it."""
    return Place(mark, token) if not token or _is_snapshot(token) else Place(0)


def _is_snapshot(token: str) -> bool:
    """Whether the server takes a text for one of its snapshots."""
    if not SNAPSHOT.fullmatch(token):
        return False
    xmin, xmax, listed = token.split(":")
    every = [int(xmin), *(int(one) for one in listed.split(",") if one), int(xmax)]
    return every[0] > 0 and every == sorted(every) and every[-1] < 1 << 63


def forget(connection: Connection, reader: str) -> int:
    """Strike a reader out."""
    if not catalog.exists(connection, "plainstep.readers"):
        return 0
    with connection.transaction():
        trust.held(connection, "plainstep.readers", mode="ROW EXCLUSIVE")
        with by_policy(connection):
            return connection.execute("DELETE FROM plainstep.readers WHERE reader = %s", [reader]).rowcount


def forget_readers(connection: Connection, identity: str) -> None:
    """Strike the readers of a capture out that is no more."""
    if catalog.exists(connection, "plainstep.readers"):
        with connection.transaction(), by_policy(connection):
            connection.execute("DELETE FROM plainstep.readers WHERE identity = %s", [identity])


def known_reader(
    connection: Connection, identity: str, reader: str, mode: str = "ROW EXCLUSIVE"
) -> tuple[int | None, int, str] | None:
    """What is written down of a reader: its mark, how far there is nothing for it, and the mark's token.

    Args:
        connection: in the transaction in which this may be written anew.
        identity: that of the capture.
        reader: its name.
        mode: the lock under which the readers are kept as they are.
    """
    with connection.transaction():
        trust.held(connection, "plainstep.readers", mode=mode)
        with by_policy(connection):
            return connection.execute(KNOWN, [identity, reader]).fetchone()


def note_reader(
    connection: Connection, identity: str, reader: str, mark: int | None, upto: int, token: str = ""
) -> None:
    """Write down where a reader stands, in the transaction in which it was looked for."""
    values = {"identity": identity, "reader": reader, "mark": mark, "upto": upto, "token": token}
    with by_policy(connection):
        if connection.execute(OF_NOBODY, [identity, reader]).fetchone():
            connection.execute(f"DELETE {OF_NOBODY.removeprefix('SELECT 1 ')}", [identity, reader])
        connection.execute(NOTED, values)


def slowest_reader(connection: Connection, identity: str) -> int | None:
    """How far there is nothing for the slowest reader of a capture, within a transaction."""
    with by_policy(connection):
        row = connection.execute("SELECT min(upto) FROM plainstep.readers WHERE identity = %s", [identity]).fetchone()
        return row[0] if row else None


@contextmanager
def by_policy(connection: Connection) -> Iterator[None]:
    """Policies say who may write which readers' rows. Elsewhere they are off, so that no row is left out unseen."""
    connection.execute("SET LOCAL row_security = on")
    yield
    connection.execute("SET LOCAL row_security = off")


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
    if row[2] is None:
        for statement in (READERS, *OWN_ROWS):
            connection.execute(statement)
    elif connection.execute(OF_ANYBODY).fetchone():
        for statement in MIGRATE_READERS:
            connection.execute(statement)


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
    marks = ", ".join(["%s"] * len(values))
    with connection.transaction():
        held_to_write(connection)
        connection.execute(
            f"INSERT INTO plainstep.captures ({', '.join(values)}) VALUES ({marks})", list(values.values())
        )


class Way(ABC):
    """One way of capturing: what both ways have in common.

    Args:
        store: the database.
    """

    how: ClassVar[str]
    # What is said of a table that is not captured, and why that matters.
    absent: ClassVar[tuple[str, str]]

    def __init__(self, database: PostgresqlDatabase) -> None:
        self.database = database

    @abstractmethod
    def wrong(self, connection: Connection, state: State, table: catalog.Table) -> str:
        """What is wrong with a capture, or nothing."""

    @abstractmethod
    def fill_in(self, connection: Connection, state: State, info: CaptureInfo) -> None:
        """Tell how much is held, and between which positions."""

    def look_for_earlier(self, connection: Connection, state: State) -> None:
        """Tell whether a capture, or what it recorded, is that of an earlier release, or of columns that are gone."""
        return

    def command(self, verb: str, table: str) -> str:
        """A command for a table, as a person types it."""
        return f"plainstep capture {verb} {self.database.name}.{table}" + (" --how log" if self.how == "log" else "")

    def inspect(self, connection: Connection, table: str) -> State | None:
        """Look at one table's capture, or None if it is off.

        Raises:
            Refused: the table was renamed, or dropped and made again.
        """
        found = catalog.find(connection, table)
        if found is None:
            self._renamed(connection, table)
            return None
        states = registered(connection, self.how, found.oid)
        if not states:
            self._made_again(connection, table)
            return None
        self._judge(connection, states[0], found, table)
        return states[0]

    def trusted(self, connection: Connection, table: str) -> State:
        """A table's capture, if it is on and has missed nothing.

        Raises:
            Refused: it is off, or may have missed changes.
        """
        state = self.inspect(connection, table)
        if state is None:
            raise self.off(connection, table)
        if state.table:
            catalog.refuse_hidden_rows(connection, state.table, f"{self.database.name}.{table}")
            catalog.refuse_inherited(state.table, f"{self.database.name}.{table}")
        if state.unreadable:
            raise Refused(
                f"The changes of {self.database.name}.{table} are kept as an earlier release kept them.",
                "This one reads them in another form.",
                self.command("refresh", table),
            )
        if state.problem:
            raise Refused(
                f"The capture of {self.database.name}.{table} cannot be trusted: {state.problem}.",
                "Changes may have been missed or recorded out of order.",
                f"{state.remedy}, then plainstep reload LOAD",
            )
        return state

    def _judge(self, connection: Connection, state: State, found: catalog.Table, table: str) -> None:
        state.table = found
        state.problem = self.wrong(connection, state, found)
        self.look_for_earlier(connection, state)
        state.unreadable |= connection.execute(OF_ANYBODY).fetchone() is not None
        if state.lost_partitions:
            state.problem = f"a partition of {found.name} was detached or dropped, and its rows with it"
        if state.problem or state.stale:
            state.remedy = self.command("refresh", table)

    def _renamed(self, connection: Connection, table: str) -> None:
        for state in registered(connection, self.how):
            now = catalog.by_number(connection, state.oid) if state.name == table else None
            if now:
                name = f"{now.schema}.{now.name}"
                raise Refused(
                    f"The table {table} of {self.database.name} is called {name} now.",
                    "Its capture went with it; a load that names it must follow.",
                    f'Change the load\'s "from" to {self.database.name}.{name}, then {self.command("refresh", name)}',
                )

    def _made_again(self, connection: Connection, table: str) -> None:
        if any(state.name == table for state in registered(connection, self.how)):
            raise Refused(
                f"The table {table} of {self.database.name} was dropped and made again since capture was turned on.",
                "Nothing records the new table's changes.",
                f"{self.command('off', table)}, then on again, then plainstep reload LOAD",
            )

    def whatever_became_of(self, connection: Connection, table: str) -> State:
        """A table's capture, also of a table that is gone or was made again.

        Raises:
            Refused: it is off.
        """
        found = catalog.find(connection, table)
        states = registered(connection, self.how, found.oid) if found else []
        states = states or [one for one in registered(connection, self.how) if one.name == table]
        if not states:
            raise self.off(connection, table)
        states[0].table = found if found and found.oid == states[0].oid else None
        return states[0]

    def off(self, connection: Connection, table: str) -> PlainStepError:
        """The error for a table that is not captured in this way."""
        if catalog.find(connection, table) is None:
            return catalog.missing(connection, table, self.database.name)
        what, why = self.absent
        return Refused(what.format(f"{self.database.name}.{table}"), why, self.command("on", table))

    def policies(self, table: str) -> Refused:
        """The error for a table of which policies keep rows from some roles."""
        return Refused(
            f"Policies keep rows of {self.database.name}.{table} from some roles (row-level security).",
            "What is captured holds every row, for whoever may read it.",
            f"{self.command('on', table)} --despite-row-security; grant the right to read changes to nobody who may not see all rows",
        )

    def list_all(self, connection: Connection, table: str = "") -> list[CaptureInfo]:
        """What is captured in this way in the database, of all tables or of one."""
        infos = []
        one = catalog.find(connection, table) if table else None
        if table and one is None:
            return []
        for state in registered(connection, self.how, one.oid if one else None):
            found = catalog.by_number(connection, state.oid)
            if found:
                self._judge(connection, state, found, state.name)
            else:
                state.problem, state.remedy = "the table is gone", self.command("off", state.name)
            infos.append(self.info(connection, state))
        return infos

    def info(self, connection: Connection, state: State) -> CaptureInfo:
        """What there is to say of a capture."""
        info = CaptureInfo(
            state.name,
            state.key,
            state.columns,
            state.since,
            state.identity,
            waiting_columns=state.waiting,
            problem=state.problem,
            remedy=state.remedy,
            how=self.how,
        )
        self.fill_in(connection, state, info)
        return info

    def told(self, connection: Connection, table: str) -> CaptureInfo:
        """What there is to say of a table's capture, which is on."""
        state = self.inspect(connection, table)
        assert state is not None
        return self.info(connection, state)
