"""A capture as it stands, and what is wrong with it."""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

import pymysql

from plainstep.errors import Refused
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.capture import registry
from plainstep.stores.mysql.capture.triggers import Captured, quoted, trigger_sql
from plainstep.stores.mysql.log.preconditions import cascade_of
from plainstep.stores.records import CaptureInfo

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.wire import Wire

TRIGGERS = (
    "SELECT trigger_name, action_statement FROM information_schema.triggers WHERE event_object_schema = database() "
    "AND event_object_table = %s"
)
# The numbers that the engine gives a table and its partitions: another one stands for a table that was emptied, or written anew.
SPACES = (
    "SELECT GROUP_CONCAT(table_id ORDER BY table_id) FROM information_schema.innodb_sys_tables "
    "WHERE name = concat(database(), '/', %s) OR name LIKE concat(database(), '/', %s, '#p#%%')"
)


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


def inspect(connection: Wire, store: str, table: str) -> State | None:
    """Look at one table's capture, or None if it is off."""
    found = catalog.find(connection, table)
    rows = registry.captures(connection, found.name if found else table)
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
    cascade = cascade_of(connection, table)
    if cascade:
        return f"rows of {what.table} change with those of another table ({cascade} cascades), which no trigger sees"
    if made_on != server_of(connection):
        return "it was restored on another server"
    spaces = spaces_of(connection, what.table)
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


def server_of(connection: Wire) -> str:
    """What a server calls itself."""
    row = connection.first("SELECT @@server_uid")
    return str(row[0]) if row else ""


def spaces_of(connection: Wire, table: str) -> str:
    """The engine's numbers of a table; empty where the role may not see them."""
    with suppress(pymysql.Error):
        row = connection.first(SPACES, [table, table])
        return str(row[0] or "") if row else ""
    return ""


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
