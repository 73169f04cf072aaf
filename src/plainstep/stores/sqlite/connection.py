"""Connections to SQLite files, and its errors in our words."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

from plainstep.errors import DataError, LostConnection, PlainStepError, StoreError
from plainstep.stores.garbage_collection import held_off
from plainstep.stores.urls import locked


@contextmanager
def opened(path: Path, mode: str, wait: float) -> Iterator[sqlite3.Connection]:
    """A connection in autocommit mode, closed at the end.

    Args:
        path: the file.
        mode: ``ro`` reads, ``rw`` writes, ``rwc`` also makes the file.
        wait: how many seconds to wait for a lock.

    Raises:
        StoreError: the file is missing, locked, no database, or cannot be read or written.
    """
    if mode != "rwc" and not path.exists():
        raise StoreError(
            f"There is no file {path}.",
            "An SQLite database is a file, and this one is not there.",
            "A relative path starts at the folder of plainstep.toml.",
        )
    try:
        connection = _connect(path, mode, wait)
    except sqlite3.Error as error:
        raise explained(error, path, wait) from error
    try:
        with told(path, wait):
            yield connection
    finally:
        connection.close()


@contextmanager
def told(path: Path, wait: float) -> Iterator[None]:
    """SQLite's errors in our words."""
    try:
        yield
    except sqlite3.Error as error:
        raise explained(error, path, wait) from error


def begin(connection: sqlite3.Connection) -> None:
    """Read in one transaction from here on, if that is not so already."""
    if not connection.in_transaction:
        connection.execute("BEGIN")


def end(connection: sqlite3.Connection) -> None:
    """End what was read in one transaction."""
    if connection.in_transaction:
        connection.execute("ROLLBACK")


def _connect(path: Path, mode: str, wait: float) -> sqlite3.Connection:
    uri = f"file:{quote(str(path.absolute()))}?mode="
    connection = sqlite3.connect(uri + mode, uri=True, timeout=wait, isolation_level=None, check_same_thread=False)
    if mode != "ro":
        return connection
    try:
        connection.execute("SELECT 1 FROM sqlite_schema LIMIT 1").fetchone()
        return connection
    except sqlite3.Error as error:
        connection.close()
        if getattr(error, "sqlite_errorcode", 0) & 0xFF not in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN):
            raise
    # A read-only connection cannot take back what a killed writer left half done, nor make the shared-memory file of
    # a write-ahead log. Any ordinary reader does that, so become one.
    connection = sqlite3.connect(uri + "rw", uri=True, timeout=wait, isolation_level=None, check_same_thread=False)
    connection.execute("PRAGMA query_only = ON")
    return connection


def fetched(cursor: sqlite3.Cursor, size: int) -> Iterator[list[tuple[Any, ...]]]:
    """The rows of a query, some at a time."""
    while True:
        with held_off():
            rows = cursor.fetchmany(size)
        if not rows:
            return
        yield rows


def rows_if_there(
    connection: sqlite3.Connection, table: str, sql: str, parameters: Sequence[Any] = ()
) -> list[Any] | None:
    """The rows of a query over a table of our own, or None where the table is not there (yet).

    SQLite has one code for everything that is wrong with a statement: its catalogue says which it is.
    """
    try:
        return connection.execute(sql, parameters).fetchall()
    except sqlite3.OperationalError:
        if connection.execute("SELECT 1 FROM sqlite_schema WHERE name = ?", [table]).fetchone():
            raise
        return None


def explained(error: sqlite3.Error, path: Path, wait: float) -> PlainStepError:
    """SQLite's error in three lines."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return locked(path, wait)
    if code == sqlite3.SQLITE_NOTADB:
        return StoreError(f"{path} is not an SQLite database.", "", "Check the store's url in plainstep.toml.")
    if getattr(error, "sqlite_errorcode", 0) in (sqlite3.SQLITE_READONLY_ROLLBACK, sqlite3.SQLITE_READONLY_RECOVERY):
        # A reader that came as a writer ended its transaction took the journal, which was about to go, for a dead one's.
        return LostConnection(
            f"{path} was being written at that very moment.", "Nothing was read or written.", "Run the command again."
        )
    if code == sqlite3.SQLITE_READONLY or code == sqlite3.SQLITE_CANTOPEN:
        return StoreError(f"{path} cannot be opened: {error}.", "", "Check the permissions of the file and its folder.")
    if code == sqlite3.SQLITE_FULL:
        return StoreError(f"{path} cannot be written: the disk is full.", "Nothing was written.")
    if "Could not decode to UTF-8" in str(error):  # the column's name is the expression that was selected
        selected = str(error).partition("column '")[2].partition("' with text")[0]
        quoted = re.search(r'"((?:[^"]|"")+)"', selected)
        column = (quoted[1].replace('""', '"') if quoted else selected).removeprefix("was.").removeprefix("now.")
        return DataError(
            f"In {path}, the column {column} holds text that is not UTF-8.",
            f"Which letters its bytes stand for is not known. Nothing was written. (hex({column}) shows them.)",
            "Write that row anew at the source, then plainstep reload LOAD (the recorded change keeps what it was).",
        )
    return StoreError(f"SQLite says of {path}: {error}.", "Nothing was written.")
