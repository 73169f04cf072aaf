"""Change capture in PostgreSQL by the server's own log: a publication and a slot for each table.

Whoever reads a slot is registered in ``plainstep.readers``, and the slot moves on only to where the slowest of them
has merged, so that several loads can follow one table.
"""

from __future__ import annotations

import uuid
from contextlib import suppress
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg.types.json import Jsonb

from plainstep.errors import Refused, StoreError
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.capture import readers, registry
from plainstep.stores.postgresql.capture import triggers as capture
from plainstep.stores.postgresql.capture.method import CaptureMethod
from plainstep.stores.postgresql.capture.registry import State
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.records import CaptureInfo

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

READY = """
SELECT current_setting('wal_level'), current_setting('max_replication_slots')::int, (SELECT count(*) FROM pg_replication_slots),
    r.rolsuper OR r.rolreplication, has_database_privilege(current_database(), 'CREATE'),
    r.rolsuper OR pg_has_role(current_user, %(owner)s, 'USAGE'), current_user
FROM pg_roles r WHERE r.rolname = current_user"""

# Positions in the log as whole numbers, as they are kept in watermarks.
NUMBER = "({} - '0/0'::pg_lsn)::bigint"
SLOT = f"""
SELECT {NUMBER.format("s.confirmed_flush_lsn")}, s.wal_status, (pg_current_wal_lsn() - s.restart_lsn)::bigint
FROM pg_replication_slots s WHERE s.slot_name = %s AND s.database = current_database()"""

# How much more log the server will keep for a slot; null where it keeps all of it.
LEFT = "SELECT safe_wal_size FROM pg_replication_slots WHERE slot_name = %s AND database = current_database()"

OPEN = """
SELECT 'process ' || a.pid, a.usename, a.datname, date_trunc('second', now() - a.xact_start) AS age FROM pg_stat_activity a
WHERE a.backend_xid IS NOT NULL AND a.pid <> pg_backend_pid()
UNION ALL SELECT 'prepared transaction ' || quote_literal(p.gid), p.owner, p.database, date_trunc('second', now() - p.prepared)
FROM pg_prepared_xacts p ORDER BY age DESC LIMIT 4"""


# What a publication is: a row filter, a column list, other operations, the table taken out and put in again, all write
# these rows anew, and so does what sets them back.
FINGERPRINT = """
SELECT concat_ws('/', p.oid, p.xmin, r.oid, r.xmin) FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
WHERE p.pubname = %s AND r.prrelid = %s"""


def publication(oid: int) -> str:
    """The name of a table's publication."""
    return f"plainstep_{oid}"


def lsn(position: int) -> str:
    """A position as the server writes it."""
    return f"{position >> 32:X}/{position & 0xFFFFFFFF:X}"


class Log(CaptureMethod):
    """Following the server's own log."""

    how = "log"
    absent = (
        "The log is not followed for {}.",
        "A load with changes = 'log' needs a publication and a slot.",
    )

    def wrong(self, connection: Connection, state: State, table: catalog.Table) -> str:
        """What is wrong with a capture, or nothing."""
        published = connection.execute(
            "SELECT p.pubinsert AND p.pubupdate AND p.pubdelete AND p.pubtruncate FROM pg_publication p "
            "JOIN pg_publication_rel r ON r.prpubid = p.oid WHERE p.pubname = %s AND r.prrelid = %s",
            [publication(state.oid), state.oid],
        ).fetchone()
        if not published or not published[0]:
            return f"the publication {publication(state.oid)} does not publish every change of {table.name} any more"
        if state.fingerprint and state.fingerprint != fingerprint(connection, state.oid):
            return (
                f"the publication {publication(state.oid)} was changed, and may have left out changes of {table.name}"
            )
        slot = connection.execute(SLOT, [state.changes]).fetchone()
        if slot is None:
            return f"the slot {state.changes} is gone"
        if slot[1] == "lost":
            return f"the slot {state.changes} was lost: it held back more log than max_slot_wal_keep_size allows"
        return (
            "" if set(state.key) <= set(identifying(table)) else f"the replica identity of {table.name} lacks its key"
        )

    def fill_in(self, connection: Connection, state: State, info: CaptureInfo) -> None:
        """Tell how much log is held back, and between which positions changes lie."""
        row: tuple[Any, ...] | None = connection.execute(SLOT, [state.changes]).fetchone()
        if row:
            info.oldest, _, info.holds_back = row
        left = connection.execute(LEFT, [state.changes]).fetchone()
        if left and left[0] is not None and left[0] < (info.holds_back or 0):
            told = f"{max(left[0], 0) >> 20:,} MiB more" if left[0] > 0 else "nothing more"
            info.danger = f"the server keeps {told} of its log for {state.changes} (max_slot_wal_keep_size)"
        head = connection.execute(f"SELECT {NUMBER.format('pg_current_wal_lsn()')}").fetchone()
        info.head = head[0] if head else 0

    def turn_on(
        self, table: str, key: tuple[str, ...] | None, despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Make the publication and the slot.

        Raises:
            Refused: the server, the role or the table is not ready; it says everything that is missing.
            StoreError: open transactions kept the slot from being made; it says whose.
        """
        with self.database.opened() as connection:
            state = self.inspect(connection, table)
            if state:
                return self.info(connection, state), False
            found = catalog.find(connection, table)
            if found is None:
                raise catalog.missing(connection, table, self.database.name)
            catalog.refuse_inherited(found, f"{self.database.name}.{table}")
            if found.guarded and not despite_row_security:
                raise self.policies(table)
            chosen = _ready(connection, self.database, table, found, key)
            with connection.transaction():
                capture.lock(connection, self.database, table)
                registry.ready(connection)
                _publish(connection, found)
            try:
                _begin(connection, self.database, found, chosen, table)
            except BaseException:
                connection.execute(f"DROP PUBLICATION IF EXISTS {quoted(publication(found.oid))}")
                raise
            return self.told(connection, table), True

    def turn_off(self, table: str) -> CaptureInfo:
        """Drop the slot and the publication, whatever became of the table."""
        with self.database.opened() as connection:
            state = self.whatever_became_of(connection, table)
            info = self.info(connection, state)
            _remove(connection, state)
            return info

    def refresh(self, table: str) -> tuple[CaptureInfo, str]:
        """Bring capture up to the table as it is now. Where something may have been missed, it is begun anew."""
        with self.database.opened() as connection:
            state = self.inspect(connection, table)
            if state is None:
                raise self.off(connection, table)
            assert state.table is not None
            reload = "so every load of it must be reloaded: plainstep reload LOAD"
            registry.ready(connection)
            if state.problem:
                key = _ready(connection, self.database, table, state.table, state.key or None)
                _remove(connection, state)
                _publish(connection, state.table)
                _begin(connection, self.database, state.table, key, table)
                done = f"begun anew, because {state.problem}; changes may have been missed, {reload}"
            elif state.stale:
                done = _take_in(connection, state)
                done += f", {reload}" if "values" in done else ""
            else:
                done = "nothing to do: every column is captured"
            return self.told(connection, table), done


def identifying(table: catalog.Table) -> tuple[str, ...]:
    """The columns whose old values the log holds, by the table's replica identity."""
    if table.identity == "f":
        return table.names
    return table.primary if table.identity == "d" else table.identity_columns


def _ready(
    connection: Connection, database: PostgresqlDatabase, name: str, table: catalog.Table, key: tuple[str, ...] | None
) -> tuple[str, ...]:
    """Everything that must be so before a log can be followed, said at once; the key."""
    row = connection.execute(READY, {"owner": table.owner}).fetchone()
    assert row is not None
    level, most, used, replicates, creates, owns, role = row
    wrong = []
    if level != "logical":
        wrong.append(f"wal_level is {level}: ALTER SYSTEM SET wal_level = 'logical'; then restart the server")
    if used >= most:
        wrong.append(f"all {most} replication slots are taken: drop one, or raise max_replication_slots and restart")
    if not replicates:
        wrong.append(f"the role {role} may not replicate: ALTER ROLE {quoted(role)} REPLICATION")
    if not creates:
        wrong.append(f"the role {role} may not make a publication: GRANT CREATE ON DATABASE ... TO {quoted(role)}")
    if not owns:
        wrong.append(f"the role {role} does not own {name}: GRANT {quoted(table.owner)} TO {quoted(role)}")
    chosen = key or ()
    if not identifying(table):
        wrong.append(
            f"{name} has no replica identity, and once published it could not be updated: "
            f"ALTER TABLE {table.sql} REPLICA IDENTITY FULL"
        )
    else:
        chosen = (
            catalog.key_of(table, key, f"{database.name}.{name}")
            if key is None or key or table.identity != "i"
            else identifying(table)
        )
        if not set(chosen) <= set(identifying(table)):
            wrong.append(
                f"the log does not hold the old values of {', '.join(chosen)}: ALTER TABLE {table.sql} REPLICA IDENTITY FULL"
            )
    if wrong:
        raise Refused(f"The log of {database.name} cannot be followed for {name} yet.", *_told(wrong))
    return chosen


def _told(wrong: list[str]) -> tuple[str, str]:
    return "Missing: " + "; ".join(wrong) + ".", "Then run the command again."


def _publish(connection: Connection, table: catalog.Table) -> None:
    connection.execute(
        f"CREATE PUBLICATION {quoted(publication(table.oid))} FOR TABLE {table.sql} "
        "WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = true)"
    )


def _begin(
    connection: Connection, database: PostgresqlDatabase, table: catalog.Table, key: tuple[str, ...], name: str
) -> None:
    """Make the slot, and write down what is captured since when."""
    row = connection.execute("SELECT oid FROM pg_database WHERE datname = current_database()").fetchone()
    assert row is not None
    slot = f"plainstep_{row[0]}_{table.oid}"
    # The slot begins when every transaction that is open now has ended, so it may have to wait for one.
    connection.execute(f"SET statement_timeout = {round(database.wait * 1000)}")
    try:
        connection.execute("SELECT pg_create_logical_replication_slot(%s, 'pgoutput')", [slot])
    except psycopg.errors.QueryCanceled:
        rows = connection.execute(OPEN).fetchall()
        who = ", ".join(f"{what} ({user}, database {base}, since {age})" for what, user, base, age in rows)
        raise StoreError(
            f"The slot for {database.name}.{name} could not begin within {database.wait:g} seconds.",
            f"It begins when every open transaction of the server has ended. Open: {who}." if who else "",
            "Let it finish or end it (ROLLBACK PREPARED ends a prepared one), and run the command again; the store's wait says how long to try.",
        ) from None
    finally:
        connection.execute("RESET statement_timeout")
    try:
        started = connection.execute(SLOT, [slot]).fetchone()
        assert started is not None
        told = fingerprint(connection, table.oid)
        registry.register(connection, "log", table, name, key, slot, started[0], told)
    except BaseException:
        _drop_slot(connection, slot)
        raise


def fingerprint(connection: Connection, oid: int) -> str:
    """What a table's publication is now, by its rows in the catalogue; empty if there is none."""
    row = connection.execute(FINGERPRINT, [publication(oid), oid]).fetchone()
    return str(row[0]) if row else ""


def _drop_slot(connection: Connection, slot: str) -> None:
    with suppress(psycopg.errors.UndefinedObject):
        connection.execute("SELECT pg_drop_replication_slot(%s)", [slot])


def _remove(connection: Connection, state: State) -> None:
    registry.held_to_write(connection)
    _drop_slot(connection, state.changes)
    connection.execute(f"DROP PUBLICATION IF EXISTS {quoted(publication(state.oid))}")
    readers.forget_readers(connection, state.identity)
    connection.execute("DELETE FROM plainstep.captures WHERE table_oid = %s AND how = 'log'", [state.oid])


def _take_in(connection: Connection, state: State) -> str:
    """Read new columns from here on. Values that they hold already are in no log: then the identity changes."""
    assert state.table is not None
    fresh = [*state.waiting, *state.retyped]
    filled = " OR ".join(f"{quoted(name)} IS NOT NULL" for name in fresh) or "false"
    held = connection.execute(f"SELECT 1 FROM {state.table.sql} WHERE {filled} LIMIT 1").fetchone()
    kept = [column for column in state.layout if column[0] in state.dropped]
    identity = uuid.uuid4().hex if held else state.identity
    with connection.transaction():
        registry.held_to_write(connection)
        connection.execute(
            "UPDATE plainstep.captures SET columns = %s, partitions = %s, identity = %s WHERE identity = %s",
            [Jsonb([*state.table.layout, *kept]), list(state.table.partitions), identity, state.identity],
        )
        with readers.by_policy(connection):
            connection.execute(
                "UPDATE plainstep.readers SET identity = %s WHERE identity = %s", [identity, state.identity]
            )
    if not fresh:
        return "now following new partitions too; if one was attached with rows in it: plainstep reload LOAD"
    told = f"now capturing {', '.join(fresh)} too" if state.waiting else f"read {', '.join(fresh)} anew"
    return f"{told}; some rows hold values there already, which no log tells" if held else told
