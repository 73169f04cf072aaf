"""Change capture in SQLite: turning it on and off, bringing it up to date, and telling what is wrong with it."""

from __future__ import annotations

import json
import re
import sqlite3
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from msgspec import Struct, field

from plainstep.core.changes.ops import NOW, WAS
from plainstep.errors import Refused
from plainstep.sql.conditions import sum_of
from plainstep.sql.literals import quoted
from plainstep.stores.ledger import EMBEDDED
from plainstep.stores.records import CaptureInfo
from plainstep.stores.sqlite import catalog
from plainstep.stores.sqlite.capture.fitness import chosen_key, refuse_too_many_columns, refuse_too_wide, without_key
from plainstep.stores.sqlite.capture.triggers import CLOCK, Captured, tables_sql, triggers_sql
from plainstep.stores.sqlite.connection import rows_if_there

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase

# The format of what capture keeps in a file. Format 1 was not noted, and kept fewer notes of displaced rows; its triggers
# are found to be of an earlier release, and made anew by a refresh.
FORMAT = 2
REGISTRY = """CREATE TABLE IF NOT EXISTS plainstep_captures (
    table_name TEXT PRIMARY KEY,
    identity TEXT NOT NULL,
    key_columns TEXT NOT NULL,
    columns TEXT NOT NULL,
    since INTEGER NOT NULL
)"""


READERS = """CREATE TABLE IF NOT EXISTS plainstep_readers (
    identity TEXT NOT NULL,
    reader TEXT NOT NULL,
    mark INTEGER NOT NULL,
    seen INTEGER NOT NULL,
    PRIMARY KEY (identity, reader)
)"""


class State(Struct):
    """A capture as it stands: what was asked for, and what the file holds.

    Attributes:
        what: what is captured.
        identity: this capture's identity.
        since: when it was turned on.
        table: the table, or None if it is gone.
        waiting: columns of the table that are not captured yet.
        renamed: columns that were captured, with the names that they go by now, where no change of them was missed.
        numbered: whether the table has no key, and its rows are told apart by the number that SQLite gives them.
        problem: what is wrong, or empty; then changes may have been missed.
        remedy: the command that fixes it.
    """

    what: Captured
    identity: str
    since: datetime
    table: catalog.Table | None
    waiting: tuple[str, ...] = ()
    renamed: dict[str, str] = field(default_factory=dict)
    numbered: bool = False
    problem: str = ""
    remedy: str = ""


def since_epoch(milliseconds: int) -> datetime:
    """A time as change tables keep it."""
    return datetime.fromtimestamp(milliseconds / 1000, UTC)


def inspect(connection: sqlite3.Connection, store: str, table: str) -> State | None:
    """Look at one table's capture, or None if it is off.

    Raises:
        Refused: a later release keeps it.
    """
    _refuse_later_format(connection)
    sql = "SELECT table_name, identity, key_columns, columns, since FROM plainstep_captures WHERE lower(table_name) = lower(?)"
    rows = rows_if_there(connection, "plainstep_captures", sql, [table])
    if not rows:
        return None
    [(name, identity, key, columns, since)] = rows
    what = Captured(name, tuple(json.loads(key)), tuple(json.loads(columns)))
    state = State(what, identity, since_epoch(since), catalog.find(connection, name))
    if state.table and what.key == (state.table.row_number,):
        state.table, state.numbered = state.table.numbered(), True
    _judge(connection, store, state)
    return state


def _refuse_later_format(connection: sqlite3.Connection) -> None:
    sql = "SELECT version FROM plainstep_formats WHERE part = 'source'"
    for (version,) in rows_if_there(connection, "plainstep_formats", sql) or ():
        if version <= FORMAT:
            return
        raise Refused(
            f"The captures in this file have format {version}, and this release knows formats up to {FORMAT}.",
            "A later release of Plain Step wrote it.",
            "Use that release: pip install --upgrade plainstep.",
        )


def _judge(connection: sqlite3.Connection, store: str, state: State) -> None:
    what, table = state.what, state.table
    where = f"{store}.{what.table}"
    found = dict(
        connection.execute(
            "SELECT name, sql FROM sqlite_schema WHERE tbl_name = ? AND type = 'trigger' ORDER BY rowid",
            [what.table],
        ).fetchall()
    )
    state.remedy = f"plainstep capture refresh {where}"
    if table is None:
        state.problem = f"the table {what.table} is gone"
        state.remedy = f"plainstep capture off {where}"
        return
    lost = [name for name in what.columns if name not in table.names]
    if lost:
        state.renamed = _renamed(what, table, found)
        state.problem = "" if state.renamed else f"{what.table} no longer has the column {lost[0]}"
        state.waiting = tuple(state.renamed.values())
        return
    state.waiting = tuple(name for name in table.names if name not in what.columns)
    cleared = _cleared(connection, what)
    if cleared:
        state.problem = cleared
        return
    expected = triggers_sql(what, table)
    absent = [name for name in expected if name not in found]
    if absent:
        state.problem = f"the trigger {absent[0]} is gone, so changes were not recorded"
    elif table.expression_index or any(found[name] != sql for name, sql in expected.items()):
        state.problem = f"the keys, indexes or name of {what.table} changed since its triggers were made, or an earlier release made them"
    if not state.problem and not state.waiting:
        state.remedy = ""


def _renamed(what: Captured, table: catalog.Table, found: dict[str, str]) -> dict[str, str]:
    """Columns that go by another name now: SQLite has followed it in the triggers, which went on writing as before.

    Returns:
        The columns by their old names; nothing where the triggers are not as SQLite leaves them.
    """
    places = dict(zip(what.columns, table.names, strict=False))
    names = {old: new for old, new in places.items() if old not in table.names and new not in what.columns}
    expected = triggers_sql(what.called(names), table)
    written = {name: _with_names(sql, names, ("",)) for name, sql in found.items()}
    same = all(written.get(name) == _with_names(sql, names, ("", WAS, NOW)) for name, sql in expected.items())
    return names if same and all(name in names or name in table.names for name in what.columns) else {}


def _with_names(sql: str, names: dict[str, str], sides: tuple[str, ...]) -> str:
    """A statement with old names instead of new ones."""
    for old, new in names.items():
        for side in sides:
            sql = sql.replace(quoted(side + new), quoted(side + old))
    return sql


def _cleared(connection: sqlite3.Connection, what: Captured) -> str:
    """Whether the change table is gone or empty, which it never is by itself."""
    rows = rows_if_there(connection, what.changes, f"SELECT 1 FROM {quoted(what.changes)} LIMIT 1")
    if rows is None:
        return f"its change table {what.changes} is gone"
    return "" if rows else f"the changes in {what.changes} were cleared"


@contextmanager
def writing(connection: sqlite3.Connection) -> Iterator[None]:
    """Everything in one transaction."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        yield
    except BaseException:
        connection.execute("ROLLBACK")
        raise
    connection.execute("COMMIT")


def turn_on(database: SqliteDatabase, table: str, key: tuple[str, ...] | None) -> tuple[CaptureInfo, bool]:
    """Turn capture on for a table, by its primary key, another unique set of columns, or without a key (None).

    Raises:
        Refused: no such table, no key to tell its rows apart.
    """
    with database.opened("rw") as connection, writing(connection):
        state = inspect(connection, database.name, table)
        if state:
            return info(connection, state), False
        found = catalog.find(connection, table)
        if found is None:
            raise catalog.missing(table, connection, database.name)
        connection.execute(REGISTRY)
        found = without_key(found) if key is None else found
        install(connection, found, chosen_key(found, key or (), database.name))
        state = inspect(connection, database.name, table)
        assert state is not None
        return info(connection, state), True


def install(connection: sqlite3.Connection, table: catalog.Table, key: tuple[str, ...]) -> None:
    """Begin a capture, with an identity of its own."""
    if table.expression_index:
        raise Refused(
            f"{table.name} has a unique index on an expression, {table.expression_index}.",
            "INSERT OR REPLACE can remove rows through it, and capture could not see which.",
            f"Make the expression a generated column and put the index on that: then {table.name} can be captured.",
        )
    what = Captured(table.name, key, table.names)
    refuse_too_many_columns(connection, table)
    for statement in (EMBEDDED.create_formats, EMBEDDED.note_format("source", FORMAT), *tables_sql(what)):
        connection.execute(statement)
    make_triggers(connection, what, table)
    refuse_too_wide(connection, table)
    connection.execute(
        f"INSERT INTO plainstep_captures VALUES (?, ?, ?, ?, {CLOCK})",
        [what.table, uuid.uuid4().hex, json.dumps(what.key), json.dumps(what.columns)],
    )


def make_triggers(connection: sqlite3.Connection, what: Captured, table: catalog.Table) -> None:
    """Make the triggers of a capture; and those of the user's that fire before a row is written anew, as they are, after ours."""
    users = connection.execute(
        "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = lower(?) ORDER BY rowid",
        [what.table],
    ).fetchall()
    for statement in triggers_sql(what, table).values():
        connection.execute(statement)
    for name, sql in users:
        if BEFORE.match(sql):
            connection.execute(f"DROP TRIGGER {quoted(name)}")
            connection.execute(sql)


# How a trigger begins that fires before a row is written: SQLite keeps its text, and takes BEFORE for granted.
BEFORE = re.compile(
    r"""\s*CREATE\s+(TEMP(ORARY)?\s+)?TRIGGER\s+(IF\s+NOT\s+EXISTS\s+)?("([^"]|"")*"|\[[^]]*\]|`([^`]|``)*`|[^\s"\[`]+)\s+(BEFORE\b|(INSERT|UPDATE|DELETE)\b)""",
    re.IGNORECASE,
)


def turn_off(database: SqliteDatabase, table: str) -> CaptureInfo:
    """Turn capture off, and forget what it holds."""
    with database.opened("rw") as connection, writing(connection):
        state = captured(connection, database, table)
        found = info(connection, state)
        remove(connection, state.what)
        return found


def captured(connection: sqlite3.Connection, database: SqliteDatabase, table: str) -> State:
    """A table's capture.

    Raises:
        Refused: it is off.
    """
    state = inspect(connection, database.name, table)
    if state is None:
        raise off(connection, database, table)
    return state


def off(connection: sqlite3.Connection, database: SqliteDatabase, table: str) -> Refused:
    """The error for a table that is not captured."""
    if catalog.find(connection, table) is None:
        return catalog.missing(table, connection, database.name)
    return Refused(
        f"Capture is off for {database.name}.{table}.",
        "No changes of it are recorded, so there is nothing to read.",
        f"plainstep capture on {database.name}.{table}",
    )


def remove(connection: sqlite3.Connection, what: Captured) -> None:
    """Drop everything that belongs to a capture."""
    drop_triggers(connection, what)
    for name in (what.changes, what.displaced):
        connection.execute(f"DROP TABLE IF EXISTS {quoted(name)}")
    connection.execute(READERS)
    which = "SELECT identity FROM plainstep_captures WHERE table_name = ?"
    connection.execute(f"DELETE FROM plainstep_readers WHERE identity IN ({which})", [what.table])
    connection.execute("DELETE FROM plainstep_captures WHERE table_name = ?", [what.table])


def drop_triggers(connection: sqlite3.Connection, what: Captured) -> None:
    """Drop every trigger of ours that writes this change table, whatever table it hangs on now."""
    rows = connection.execute("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger'").fetchall()
    for name, sql in rows:
        if name.startswith("plainstep_") and (quoted(what.changes) in sql or quoted(what.displaced) in sql):
            connection.execute(f"DROP TRIGGER {quoted(name)}")


def list_all(database: SqliteDatabase, table: str = "") -> list[CaptureInfo]:
    """What is captured in the file, of all tables or of one; nothing, if there is no file yet."""
    if not database.path.exists():
        return []
    with database.opened() as connection:
        connection.execute("BEGIN")
        sql = "SELECT table_name FROM plainstep_captures ORDER BY table_name"
        rows = rows_if_there(connection, "plainstep_captures", sql) or []
        wanted = [name for (name,) in rows if table.lower() in ("", name.lower())]
        states = [captured(connection, database, name) for name in wanted]
        return [info(connection, state) for state in states]


def bounds(connection: sqlite3.Connection, state: State) -> tuple[int, int, int | None]:
    """The oldest position that can be read from, the head, and the time of the change at the head."""
    changes = quoted(state.what.changes)
    first, head, at = connection.execute(
        f"SELECT (SELECT min(seq) FROM {changes}), max(seq), at FROM {changes}"
    ).fetchone()
    return first or 0, head or 0, at


def info(connection: sqlite3.Connection, state: State) -> CaptureInfo:
    """What there is to say of a capture."""
    oldest = head = held = size = 0
    since = None
    if not _cleared(connection, state.what):
        oldest, head, _ = bounds(connection, state)
        held = head - max(oldest - 1, 0)  # positions have no gaps
        size, since = _weighed(connection, state.what, held)
    hidden = state.what.key if state.numbered else ()
    return CaptureInfo(
        state.what.table,
        () if state.numbered else state.what.key,
        tuple(name for name in state.what.columns if name not in hidden),
        state.since,
        state.identity,
        held,
        oldest,
        head,
        state.waiting,
        state.problem,
        state.remedy,
        size=size,
        oldest_at=since,
    )


# So many of the newest changes tell how large one is.
WEIGHED = 50


def _weighed(connection: sqlite3.Connection, what: Captured, held: int) -> tuple[int, datetime | None]:
    """Roughly how many bytes the changes take, and when the oldest was made."""
    columns = [quoted(side + name) for side in (WAS, NOW) for name in what.columns]
    lengths = sum_of(f"coalesce(length(CAST({name} AS BLOB)), 0)" for name in columns)
    sql = f"SELECT avg(length) FROM (SELECT 16 + {len(columns)} + {lengths} AS length FROM {quoted(what.changes)} ORDER BY seq DESC LIMIT {WEIGHED})"
    [each] = connection.execute(sql).fetchone()
    row = connection.execute(f"SELECT at FROM {quoted(what.changes)} WHERE seq > 0 ORDER BY seq LIMIT 1").fetchone()
    return round(each * held), since_epoch(row[0]) if row else None
