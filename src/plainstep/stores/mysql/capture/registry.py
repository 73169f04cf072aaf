"""What is captured in a database, who reads it, and what is wrong with it."""

from __future__ import annotations

import json
import uuid
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import pymysql
from pymysql.constants import ER

from plainstep.core.positions import Position
from plainstep.errors import Refused
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.capture.triggers import Captured, create_sql, quoted, table_sql, text, trigger_sql
from plainstep.stores.mysql.connection import DENIED, SQL_MODE, number_of
from plainstep.stores.mysql.dialect import TEXT
from plainstep.stores.mysql.log.preconditions import CASCADES
from plainstep.stores.records import CaptureInfo, Reader

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire

FORMAT = 1
TABLES = (
    f"CREATE TABLE IF NOT EXISTS plainstep_captures (table_name VARCHAR(64) PRIMARY KEY, identity CHAR(32) NOT NULL, "
    f"key_columns {TEXT} NOT NULL, columns {TEXT} NOT NULL, since DATETIME(6) NOT NULL, trimmed BIGINT NOT NULL, "
    f"made_on {TEXT} NOT NULL, rebuilt {TEXT} NOT NULL, version INT NOT NULL) COLLATE utf8mb4_bin",
    "CREATE TABLE IF NOT EXISTS plainstep_readers (identity CHAR(32) NOT NULL, reader VARCHAR(500) NOT NULL, "
    "position BIGINT NOT NULL, seen DATETIME(6) NOT NULL, PRIMARY KEY (identity, reader)) COLLATE utf8mb4_bin",
    # Whoever writes here is given a number by which those are known that are still open: it is rolled back at once.
    "CREATE TABLE IF NOT EXISTS plainstep_probe (n BIGINT) ENGINE = InnoDB",
)
CAPTURES = "SELECT table_name, identity, key_columns, columns, since, trimmed, made_on, rebuilt, version FROM plainstep_captures"
TRIGGERS = (
    "SELECT trigger_name, action_statement FROM information_schema.triggers WHERE event_object_schema = database() "
    "AND event_object_table = %s"
)
# The numbers that the engine gives a table and its partitions: another one stands for a table that was emptied, or written anew.
SPACES = (
    "SELECT GROUP_CONCAT(table_id ORDER BY table_id) FROM information_schema.innodb_sys_tables "
    "WHERE name = concat(database(), '/', %s) OR name LIKE concat(database(), '/', %s, '#p#%%')"
)
# Seconds for which capture waits for those that have the table open: whoever comes meanwhile waits behind it.
PATIENCE = 1


@dataclass
class State:
    """A capture as it stands.

    Attributes:
        what: what is captured.
        identity: this capture's identity.
        since: when it was turned on.
        trimmed: changes of transactions below this number are forgotten.
        table: the table, or None if it is gone.
        waiting: columns of the table that are not captured yet.
        problem: what is wrong, or empty; then changes may have been missed.
        remedy: the command that fixes it.
    """

    what: Captured
    identity: str
    since: datetime
    trimmed: int
    table: catalog.Found | None
    waiting: tuple[str, ...] = ()
    problem: str = ""
    remedy: str = ""
    columns: dict[str, Any] = field(default_factory=dict)


def captures(connection: Wire, table: str = "") -> list[tuple[Any, ...]]:
    """What is registered: of all tables, or of one."""
    try:
        rows = connection.run(CAPTURES)[1]
    except pymysql.ProgrammingError as error:
        if number_of(error) != ER.NO_SUCH_TABLE:
            raise
        return []
    for row in rows:
        if row[8] > FORMAT:
            raise Refused(
                f"The captures in this database have format {row[8]}, and this release knows formats up to {FORMAT}.",
                "A later release of Plain Step wrote them.",
                "Use that release: pip install --upgrade plainstep.",
            )
    return [row for row in rows if table in ("", row[0])]


def inspect(connection: Wire, store: str, table: str) -> State | None:
    """Look at one table's capture, or None if it is off."""
    found = catalog.find(connection, table)
    rows = captures(connection, found.name if found else table)
    if not rows:
        return None
    name, identity, key, columns, since, trimmed, made_on, rebuilt, _ = rows[0]
    what = Captured(name, tuple(json.loads(key)), json.loads(columns))
    state = State(what, identity, since.replace(tzinfo=UTC), int(trimmed), found)
    state.problem = _problem(connection, state, made_on, rebuilt)
    if found is not None:
        state.waiting = tuple(column for column in found.names if column not in what.columns)
    place = f"{store}.{name}"
    if found is None:
        state.remedy = f"plainstep capture off {place}"
    elif state.problem or state.waiting:
        state.remedy = f"plainstep capture refresh {place}"
    return state


def _problem(connection: Wire, state: State, made_on: str, rebuilt: str) -> str:
    """What is wrong with a capture, or empty."""
    what, table = state.what, state.table
    if table is None:
        return f"the table {what.table} is gone"
    told = _altered(what, table) or _tampered(connection, what)
    if told:
        return told
    cascade = connection.first(CASCADES, [table.schema, table.name])
    if cascade is not None:
        return f"rows of {what.table} change with those of another table ({cascade[0]} cascades), which no trigger sees"
    if made_on != _server(connection):
        return "it was restored on another server"
    spaces = _spaces(connection, what.table)
    if rebuilt and spaces and rebuilt != spaces:
        return f"{what.table} was emptied by TRUNCATE, or written anew by ALTER TABLE, which no trigger sees"
    return ""


def _altered(what: Captured, table: catalog.Found) -> str:
    now = {column.name: column.native for column in table.columns}
    for name, kind in what.columns.items():
        if name not in now:
            return f"{what.table} no longer has the column {name}"
        if now[name] != kind:
            return f"the column {name} of {what.table} was {kind}, and is {now[name]}"
    return ""


def _tampered(connection: Wire, what: Captured) -> str:
    try:
        if connection.first(f"SELECT 1 FROM {quoted(what.changes)} WHERE op = 0 LIMIT 1") is None:
            return f"the changes in {what.changes} were cleared"
    except pymysql.ProgrammingError:
        return f"its change table {what.changes} is gone"
    written = dict(connection.run(TRIGGERS, [what.table])[1])
    for name, sql in trigger_sql(what).items():
        if name not in written:
            return f"the trigger {name} is gone, so changes were not recorded"
        if " ".join(written[name].split()) != " ".join(sql.split()):
            return f"the trigger {name} is not as it was made"
    return ""


def _server(connection: Wire) -> str:
    row = connection.first("SELECT @@server_uid")
    return str(row[0]) if row else ""


def _spaces(connection: Wire, table: str) -> str:
    """The engine's numbers of a table; empty where the role may not see them."""
    with suppress(pymysql.Error):
        row = connection.first(SPACES, [table, table])
        return str(row[0] or "") if row else ""
    return ""


def turn_on(database: MysqlDatabase, table: str, key: tuple[str, ...] | None) -> tuple[CaptureInfo, bool]:
    """Turn capture on for a table, by its primary key or another unique set of columns.

    Raises:
        Refused: no such table, no key to tell its rows apart, or a table of which triggers do not see all.
    """
    with database.opened() as connection:
        state = inspect(connection, database.name, table)
        if state:
            return info(connection, state), False
        found = catalog.existing(connection, table, database.name)
        _refuse_untold(connection, database, found)
        install(connection, found, chosen_key(found, key, database.name))
        state = inspect(connection, database.name, table)
        assert state is not None
        return info(connection, state), True


def chosen_key(found: catalog.Found, key: tuple[str, ...] | None, store: str) -> tuple[str, ...]:
    """The columns by which rows are told apart.

    Raises:
        Refused: there are none.
    """
    if key is None:
        raise Refused(
            f"Without a key, {store}.{found.name} cannot be captured in MariaDB.",
            "",
            f"ALTER TABLE {found.sql} ADD PRIMARY KEY (...), or read it with changes = 'diff'.",
        )
    chosen = key or found.primary
    if chosen and any(set(unique) == set(chosen) for unique in found.uniques):
        return chosen
    told = f"{', '.join(chosen)} is not unique in it" if chosen else "it has no primary key"
    raise Refused(
        f"{store}.{found.name} cannot be captured: {told}.",
        "Its changes could not be told apart.",
        f"ALTER TABLE {found.sql} ADD PRIMARY KEY (...);",
    )


def _refuse_untold(connection: Wire, database: MysqlDatabase, found: catalog.Found) -> None:
    place = f"{database.name}.{found.name}"
    if "mariadb" not in connection.get_server_info().lower():
        raise Refused(
            f"{place} is in MySQL, which tells no trigger the number of its transaction.",
            "Without it, changes that are committed late would be missed.",
            'Read the table with changes = "diff" or "column".',
        )
    if not found.is_table or found.engine.lower() != "innodb":
        what = "a view" if not found.is_table else f"kept by {found.engine}"
        raise Refused(
            f"{place} is {what}: only tables of InnoDB can be captured.", "", "Name the tables that it is made of."
        )
    cascade = connection.first(CASCADES, [found.schema, found.name])
    if cascade is not None:
        raise Refused(
            f"Rows of {place} change with those of another table: {cascade[0]} cascades.",
            "The server fires no trigger for such changes.",
            'Read it with changes = "diff"; or make the foreign key anew without CASCADE and SET NULL.',
        )
    try:
        connection.run("SELECT 1 FROM information_schema.innodb_trx LIMIT 1")
    except pymysql.Error as error:
        if number_of(error) not in {*DENIED, 1227}:
            raise
        raise Refused(
            f"Whether transactions that have changed {place} are still open may not be seen.",
            "Their changes would be missed.",
            f"GRANT PROCESS ON *.* TO {catalog.role(connection)};",
        ) from None


def install(connection: Wire, found: catalog.Found, key: tuple[str, ...]) -> None:
    """Begin a capture, with an identity of its own."""
    what = Captured(found.name, key, {column.name: column.native for column in found.columns})
    for statement in (*TABLES, f"DROP TABLE IF EXISTS {quoted(what.changes)}", *table_sql(what, found.columns)):
        connection.run(statement)
    make_triggers(connection, what, True)
    connection.run(
        "REPLACE INTO plainstep_captures VALUES (%s, %s, %s, %s, UTC_TIMESTAMP(6), 0, %s, %s, %s)",
        [what.table, uuid.uuid4().hex, json.dumps(what.key), json.dumps(what.columns), _server(connection),
         _spaces(connection, what.table), FORMAT],
    )  # fmt: skip


def make_triggers(connection: Wire, what: Captured, begins: bool) -> None:
    """Make the triggers, or put others into their place, at once: no change is missed in between.

    Not strictly: a value that stands in the table is copied as it is, be it one that could not be written today.

    Raises:
        Refused: others have the table open.
    """
    connection.run(f"SET SESSION sql_mode = '', SESSION lock_wait_timeout = {PATIENCE}")
    try:
        for name in what.triggers.values():
            connection.run(create_sql(what, name))
    except pymysql.Error as error:
        if number_of(error) != ER.LOCK_WAIT_TIMEOUT:
            raise
        if begins:
            drop_triggers(connection, what)
        raise Refused(
            f"{what.table} is in use by transactions that stay open.",
            "A trigger is only made when nobody has the table open; whoever comes meanwhile would wait behind it.",
            "Let them end, and run the command again.",
        ) from error
    finally:
        connection.run(f"SET SESSION sql_mode = '{SQL_MODE}'")


def drop_triggers(connection: Wire, what: Captured) -> None:
    """Drop the triggers that are there."""
    for name in what.triggers.values():
        connection.run(f"DROP TRIGGER IF EXISTS {quoted(name)}")


def captured(connection: Wire, database: MysqlDatabase, table: str) -> State:
    """A table's capture.

    Raises:
        Refused: it is off.
    """
    state = inspect(connection, database.name, table)
    if state is not None:
        return state
    catalog.existing(connection, table, database.name)
    raise Refused(
        f"Capture is off for {database.name}.{table}.",
        "No changes of it are recorded, so there is nothing to read.",
        f"plainstep capture on {database.name}.{table}",
    )


def turn_off(database: MysqlDatabase, table: str) -> CaptureInfo:
    """Turn capture off, and forget what it holds."""
    with database.opened() as connection:
        state = captured(connection, database, table)
        found = info(connection, state)
        remove(connection, state)
        return found


def remove(connection: Wire, state: State) -> None:
    """Drop everything that belongs to a capture."""
    drop_triggers(connection, state.what)
    connection.run("DELETE FROM plainstep_captures WHERE table_name = %s", [state.what.table])
    connection.run("DELETE FROM plainstep_readers WHERE identity = %s", [state.identity])
    connection.run(f"DROP TABLE IF EXISTS {quoted(state.what.changes)}")


def refresh(database: MysqlDatabase, table: str) -> tuple[CaptureInfo, str]:
    """Bring capture up to the table as it is now, by a new capture: its columns are those of the table."""
    with database.opened() as connection:
        state = captured(connection, database, table)
        if state.table is None:
            raise Refused(
                f"The table {state.what.table} is gone from {database.name}.",
                "There is nothing to capture.",
                f"plainstep capture off {database.name}.{state.what.table}",
            )
        if not state.problem and not state.waiting:
            return info(connection, state), "nothing to do: every column is captured"
        why = state.problem or f"{', '.join(state.waiting)} came"
        if not state.problem:
            done = _take_in(connection, state)
        else:
            _refuse_untold(connection, database, state.table)
            remove(connection, state)
            install(connection, state.table, chosen_key(state.table, state.what.key, database.name))
            done = (
                f"begun anew, because {why}; changes may have been missed, so every load of it must be reloaded: "
                "plainstep reload LOAD"
            )
        return info(connection, captured(connection, database, table)), done


def _take_in(connection: Wire, state: State) -> str:
    """Capture further columns, from here on; the values that they hold already are recorded as updates."""
    assert state.table is not None
    kinds = {column.name: column.native for column in state.table.columns}
    what = Captured(
        state.what.table, state.what.key, state.what.columns | {name: kinds[name] for name in state.waiting}
    )
    connection.run("SET SESSION system_versioning_alter_history = KEEP")  # the numbers of transactions stay
    for name in state.waiting:
        for side in ("was.", "now."):
            connection.run(
                f"ALTER TABLE {quoted(what.changes)} ADD COLUMN IF NOT EXISTS {quoted(side + name)} {kinds[name]} NULL"
            )
    make_triggers(connection, what, False)
    connection.run(
        "UPDATE plainstep_captures SET columns = %s WHERE table_name = %s", [json.dumps(what.columns), what.table]
    )
    old = [name for name in what.columns if name not in state.waiting]
    names = [quoted(f"was.{name}") for name in old] + [quoted(f"now.{name}") for name in what.columns]
    values = [quoted(name) for name in (*old, *what.columns)]
    filled = " OR ".join(f"{quoted(name)} IS NOT NULL" for name in state.waiting)
    count, _ = connection.run(
        f"INSERT INTO {quoted(what.changes)} (op, at, {', '.join(names)}) SELECT 2, UTC_TIMESTAMP(6), {', '.join(values)} "
        f"FROM {quoted(what.table)} WHERE {filled} FOR UPDATE"
    )
    return f"now capturing {', '.join(state.waiting)} too; rows that had values there already, recorded as updates: {count:,}"


def list_all(database: MysqlDatabase, table: str = "") -> list[CaptureInfo]:
    """What is captured in the database, of all tables or of one."""
    with database.opened() as connection:
        names = [row[0] for row in captures(connection, table)]
        return [info(connection, captured(connection, database, name)) for name in names]


def info(connection: Wire, state: State) -> CaptureInfo:
    """What there is to say of a capture."""
    held, first, last, since = 0, 0, 0, None
    with suppress(pymysql.ProgrammingError):
        row = connection.first(
            f"SELECT count(*), min(rs), max(rs), min(at) FROM {quoted(state.what.changes)} WHERE op > 0"
        )
        if row and row[0]:
            held, first, last, since = int(row[0]), int(row[1]), int(row[2]) + 1, row[3].replace(tzinfo=UTC)
    row = connection.first(
        "SELECT data_length + index_length FROM information_schema.tables WHERE table_schema = database() AND table_name = %s",
        [state.what.changes],
    )
    return CaptureInfo(
        state.what.table, state.what.key, tuple(state.what.columns), state.since, state.identity, held, max(first, state.trimmed), last,
        state.waiting, state.problem, state.remedy, size=int(row[0]) if row and row[0] else 0, oldest_at=since,
    )  # fmt: skip


def note_reader(connection: Wire, identity: str, reader: str, position: int) -> None:
    """Register a reader, and where it stands."""
    connection.run(
        "INSERT INTO plainstep_readers VALUES (%s, %s, %s, UTC_TIMESTAMP(6)) "
        "ON DUPLICATE KEY UPDATE position = VALUES(position), seen = VALUES(seen)",
        [identity, reader, position],
    )


def readers(connection: Wire, table: str = "") -> list[Reader]:
    """The registered readers of all tables or of one."""
    if not captures(connection, table):
        return []
    _, rows = connection.run(
        "SELECT r.reader, c.table_name, r.position, r.seen FROM plainstep_readers r JOIN plainstep_captures c USING (identity) "
        f"WHERE {text(table)} IN ('', c.table_name) ORDER BY c.table_name, r.reader"
    )
    return [Reader(name, of, "capture", Position(int(at)), seen.replace(tzinfo=UTC)) for name, of, at, seen in rows]


def forget(connection: Wire, reader: str) -> int:
    """Remove a reader."""
    return connection.run("DELETE FROM plainstep_readers WHERE reader = %s", [reader])[0] if captures(connection) else 0
