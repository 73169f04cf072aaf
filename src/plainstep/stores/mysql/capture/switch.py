"""Turning capture on and off, and bringing it up to date."""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import pymysql
from pymysql.constants import ER

from plainstep.errors import Refused, StoreError
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.capture.registry import FORMAT, TABLES, captures
from plainstep.stores.mysql.capture.state import State, captured, info, inspect, server_of, spaces_of
from plainstep.stores.mysql.capture.triggers import Captured, create_sql, quoted, table_sql
from plainstep.stores.mysql.connection import DENIED, meanwhile, number_of
from plainstep.stores.mysql.log.preconditions import refuse_cascades

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire
    from plainstep.stores.records import CaptureInfo

# Seconds for which capture waits for those that have the table open: whoever comes meanwhile waits behind it.
PATIENCE = 1
# Seconds after which whoever still reads the log is more than a step of ours.
FOLLOWS = 2


@contextmanager
def alone(database: MysqlDatabase) -> Iterator[Wire]:
    """A connection that alone turns captures on and off meanwhile.

    Raises:
        StoreError: another one does.
    """
    with database.opened() as connection:
        row = connection.first("SELECT GET_LOCK(%s, %s)", [f"plainstep {database.url}"[:64], round(database.wait)])
        if not row or row[0] != 1:
            raise StoreError(
                f"Another command is changing the captures of {database.name}.", "", "Run the command again."
            )
        try:
            yield connection
        finally:
            if connection.open:
                connection.run("SELECT RELEASE_ALL_LOCKS()")


def turn_on(database: MysqlDatabase, table: str, key: tuple[str, ...] | None) -> tuple[CaptureInfo, bool]:
    """Turn capture on for a table, by its primary key or another unique set of columns.

    Raises:
        Refused: no such table, no key to tell its rows apart, or a table of which triggers do not see all.
    """
    with alone(database) as connection:
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
    if connection.is_mysql:
        raise Refused(
            f"{place} is in MySQL, which tells no trigger the number of its transaction.",
            "Without it, changes that are committed late would be missed.",
            'Read the table with changes = "log".',
        )
    if not found.is_table or found.engine.lower() != "innodb":
        what = "a view" if not found.is_table else f"kept by {found.engine}"
        raise Refused(
            f"{place} is {what}: only tables of InnoDB can be captured.", "", "Name the tables that it is made of."
        )
    refuse_cascades(connection, found, place)
    _refuse_replicas(connection, place)
    try:
        connection.run("SELECT 1 FROM information_schema.innodb_trx LIMIT 1")
    except pymysql.Error as error:
        if number_of(error) not in DENIED:
            raise
        raise Refused(
            f"Whether transactions that have changed {place} are still open may not be seen.",
            "Their changes would be missed.",
            f"GRANT PROCESS ON *.* TO {catalog.role(connection)};",
        ) from None


def _refuse_replicas(connection: Wire, place: str) -> None:
    """Refuse to capture where a replica follows the server: it would stop.

    The server logs the rows of change tables as statements, amid the rows of the table itself, which a replica takes for a damaged log
    (error 1595; seen with MariaDB 10.11 on both sides, also where the replica is told to pass over our tables).
    """
    following = "SELECT id FROM information_schema.processlist WHERE command LIKE 'Binlog Dump%'"
    before = connection.run(following)[1]
    if not before:
        return
    time.sleep(FOLLOWS)
    if {*connection.run(following)[1]} & {*before}:
        raise Refused(
            f"A replica, or another reader of the log, follows the server of {place}.",
            "Captured by triggers, changes are logged in a form at which replicas of MariaDB stop.",
            f"plainstep capture on {place} --how log reads the log itself.",
        )


def install(connection: Wire, found: catalog.Found, key: tuple[str, ...]) -> None:
    """Begin a capture, with an identity of its own."""
    what = Captured(found.name, key, {column.name: column.native for column in found.columns})
    for statement in (*TABLES, f"DROP TABLE IF EXISTS {quoted(what.changes)}", *table_sql(what, found.columns)):
        connection.run(statement)
    make_triggers(connection, what, True)
    connection.run(
        "REPLACE INTO plainstep_captures VALUES (%s, %s, %s, %s, UTC_TIMESTAMP(6), 0, %s, %s, %s)",
        [what.table, uuid.uuid4().hex, json.dumps(what.key), json.dumps(what.columns), server_of(connection),
         spaces_of(connection, what.table), FORMAT],
    )  # fmt: skip


def make_triggers(connection: Wire, what: Captured, begins: bool) -> None:
    """Make the triggers, or put others into their place, at once: no change is missed in between.

    Not strictly: a value that stands in the table is copied as it is, be it one that could not be written today.

    Raises:
        Refused: others have the table open.
    """
    try:
        with meanwhile(connection, sql_mode="''", lock_wait_timeout=str(PATIENCE)):
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


def drop_triggers(connection: Wire, what: Captured) -> None:
    """Drop the triggers that are there."""
    for name in what.triggers.values():
        connection.run(f"DROP TRIGGER IF EXISTS {quoted(name)}")


def turn_off(database: MysqlDatabase, table: str) -> CaptureInfo:
    """Turn capture off, and forget what it holds."""
    with alone(database) as connection:
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
    with alone(database) as connection:
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
    with meanwhile(connection, system_versioning_alter_history="KEEP"):  # the numbers of transactions stay
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
