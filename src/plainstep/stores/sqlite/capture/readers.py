"""Who reads the captured tables of a SQLite file, registered in it, so that nobody trims what another has yet to read."""

from __future__ import annotations

import sqlite3
from typing import TYPE_CHECKING, Any

from plainstep.core.positions import Position
from plainstep.stores.records import Reader
from plainstep.stores.sqlite.capture.state import READERS, since_epoch
from plainstep.stores.sqlite.capture.triggers import CLOCK
from plainstep.stores.sqlite.connection import meanwhile, rows_if_there

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase

# Milliseconds to wait for a lock: what cannot be recorded now is recorded by the next step.
PATIENCE = 200


def note(database: SqliteDatabase, identity: str, reader: str, mark: int) -> None:
    """Record where a reader stands, if that is not what is recorded already."""
    if _known(database, identity, reader) == mark:
        return
    with (
        database.opened("rw") as connection,
        # What is lost with the power is told by the next step.
        meanwhile(connection, busy_timeout=PATIENCE, synchronous="NORMAL"),
    ):
        connection.execute("BEGIN IMMEDIATE")
        connection.execute(READERS)
        connection.execute(
            f"INSERT INTO plainstep_readers VALUES (?, ?, ?, {CLOCK}) "
            "ON CONFLICT (identity, reader) DO UPDATE SET mark = excluded.mark, seen = excluded.seen",
            [identity, reader, mark],
        )
        connection.execute("COMMIT")


def _known(database: SqliteDatabase, identity: str, reader: str) -> int | None:
    sql = "SELECT mark FROM plainstep_readers WHERE identity = ? AND reader = ?"
    with database.opened() as connection:
        rows = _rows(connection, sql, identity, reader)
        return int(rows[0][0]) if rows else None


def _rows(connection: sqlite3.Connection, sql: str, *values: str) -> list[tuple[Any, ...]]:
    return rows_if_there(connection, "plainstep_readers", sql, values) or []


def every(database: SqliteDatabase, table: str = "") -> list[Reader]:
    """The registered readers of all tables or of one."""
    sql = (
        "SELECT reader, table_name, mark, seen FROM plainstep_readers JOIN plainstep_captures USING (identity) "
        "WHERE ? IN ('', table_name) ORDER BY table_name, reader"
    )
    if not database.path.exists():
        return []
    with database.opened() as connection:
        rows = _rows(connection, sql, table)
    return [Reader(name, table, "capture", Position(mark), since_epoch(seen)) for name, table, mark, seen in rows]


def forget(database: SqliteDatabase, reader: str) -> int:
    """Remove a reader."""
    with database.opened("rw") as connection:
        connection.execute(READERS)
        return connection.execute("DELETE FROM plainstep_readers WHERE reader = ?", [reader]).rowcount
