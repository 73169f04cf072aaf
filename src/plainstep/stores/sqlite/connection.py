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
from plainstep.stores.free_connections import FreeConnections
from plainstep.stores.garbage_collection import held_off
from plainstep.stores.urls import locked

# Parses the schema, and tells whether the file can be read.
FIRST_LOOK = "SELECT 1 FROM sqlite_schema LIMIT 1"
LOCKED = (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)


class _Connection(sqlite3.Connection):
    """A connection that knows which file it is to."""

    file: tuple[int, int]


class Connections:
    """The connections to one file. While somebody keeps them, one that is free is used again.

    For each new one, SQLite parses the whole schema: with 100 captured tables in the file, that takes some 40 ms.

    Args:
        path: the file.
        wait: how many seconds to wait for a lock.
    """

    def __init__(self, path: Path, wait: float) -> None:
        self.path, self.wait = path, wait
        self._reading, self._writing = (FreeConnections(self._works, _Connection.close, always=False) for _ in range(2))

    @contextmanager
    def kept(self) -> Iterator[None]:
        """Use them again meanwhile. Those that are free hold no lock."""
        with self._reading.kept(), self._writing.kept():
            yield

    @contextmanager
    def opened(self, mode: str) -> Iterator[sqlite3.Connection]:
        """A connection in autocommit mode.

        Args:
            mode: ``ro`` reads, ``rw`` writes, ``rwc`` also makes the file.

        Raises:
            StoreError: the file is missing, locked, no database, or cannot be read or written.
        """
        if mode != "rwc" and not self.path.exists():
            raise StoreError(
                f"There is no file {self.path}.",
                "An SQLite database is a file, and this one is not there.",
                "A relative path starts at the folder of plainstep.toml.",
            )
        free = self._reading if mode == "ro" else self._writing
        with told(self.path, self.wait):
            connection = free.take() or _connect(self.path, mode, self.wait)
            try:
                yield connection
                end(connection)
            except BaseException:
                connection.close()
                raise
            free.give(connection)

    def _works(self, connection: _Connection) -> bool:
        """Whether it is to the file that is there now, and can read it.

        Raises:
            sqlite3.Error: the file is locked, and stayed so.
        """
        try:
            if connection.file != _file(self.path):
                return False
            connection.execute(FIRST_LOOK).fetchall()
        except OSError:
            return False
        except sqlite3.Error as error:
            if _code(error) in LOCKED:
                connection.close()
                raise
            return False
        return True


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


@contextmanager
def meanwhile(connection: sqlite3.Connection, **settings: object) -> Iterator[None]:
    """Other settings (``PRAGMA``) of a connection, for a while; then those that it had. (It is used again by others.)"""
    before = {}
    for name, value in settings.items():
        [before[name]] = connection.execute(f"PRAGMA {name}").fetchone()
        connection.execute(f"PRAGMA {name} = {value}").fetchall()
    yield
    for name, value in before.items():  # after an error, it is not used again
        connection.execute(f"PRAGMA {name} = {value}").fetchall()


def _connect(path: Path, mode: str, wait: float) -> _Connection:
    connection = _made(path, mode, wait)
    if mode != "ro":
        return connection
    try:
        connection.execute(FIRST_LOOK).fetchone()
        return connection
    except sqlite3.Error as error:
        connection.close()
        if _code(error) not in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN):
            raise
    # A read-only connection cannot take back what a killed writer left half done, nor make the shared-memory file of
    # a write-ahead log. Any ordinary reader does that, so become one.
    connection = _made(path, "rw", wait)
    connection.execute("PRAGMA query_only = ON")
    return connection


def _made(path: Path, mode: str, wait: float) -> _Connection:
    file = _file(path) if path.exists() else None  # should it be replaced just now, the next use opens it once more
    made = sqlite3.connect(
        f"file:{quote(str(path.absolute()))}?mode={mode}",
        uri=True,
        timeout=wait,
        isolation_level=None,
        check_same_thread=False,
        factory=_Connection,
    )
    made.file = file or _file(path)
    return made


def _file(path: Path) -> tuple[int, int]:
    """What tells a file from another one of its name."""
    found = path.stat()
    return found.st_dev, found.st_ino


def _code(error: sqlite3.Error) -> int:
    return int(getattr(error, "sqlite_errorcode", 0)) & 0xFF


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
    code = _code(error)
    if code in LOCKED:
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
