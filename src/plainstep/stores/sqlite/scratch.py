"""A copy of a SQLite file's schema, with some of its rows, to try things out."""

from __future__ import annotations

import shutil
import sqlite3
import uuid
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote

from plainstep.sql.literals import quoted
from plainstep.stores.capabilities import ScratchTable
from plainstep.stores.sqlite import catalog

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase

# How many values of a column are drawn from.
VALUES = 30
WHOLE = ["0", "1", "2", "3", "4", "5", "6", "7", "-1", "NULL"]
TEXTS = ["'a'", "'b'", "'c'", "''", "'A'", "'1'", "NULL"]
UPSERTS = (
    "INSERT OR REPLACE INTO {table} ({columns}) VALUES ({values})",
    "INSERT OR IGNORE INTO {table} ({columns}) VALUES ({values})",
    "INSERT INTO {table} ({columns}) VALUES ({values}) ON CONFLICT DO UPDATE SET {sets}",
)


class SqliteTemplate:
    """What copies are made of: a file.

    Args:
        path: the file.
        table: the table that is tried out.
        notes: what it leaves out.
    """

    def __init__(self, path: Path, table: str, notes: list[str]) -> None:
        self.path, self.notes = path, notes
        with closing(sqlite3.connect(path)) as connection:
            found = catalog.find(connection, table)
            assert found is not None
            self.table = found.name
            others = [name for name in catalog.tables(connection) if name != found.name]
            self.tables = [_described(connection, name) for name in [found.name, *others]]

    @contextmanager
    def fresh(self) -> Iterator[SqliteScratch]:
        """A new copy."""
        path = self.path.with_name(f"{uuid.uuid4().hex}.db")
        shutil.copyfile(self.path, path)
        scratch = SqliteScratch(path)
        try:
            yield scratch
        finally:
            scratch.close()
            for one in path.parent.glob(f"{path.name}*"):
                one.unlink()


class SqliteScratch:
    """A copy of a file."""

    def __init__(self, path: Path) -> None:
        self.url = f"sqlite:///{quote(str(path.absolute()))}"
        self._connection = sqlite3.connect(path, isolation_level=None)
        self._connection.execute("PRAGMA foreign_keys = ON")

    def close(self) -> None:
        """Let go of it."""
        self._connection.close()

    def play(self, statements: Sequence[str], kept: bool) -> int:
        """Run statements in one transaction; how many were accepted."""
        accepted = 0
        if len(statements) > 1 or not kept:
            self._connection.execute("BEGIN")
        for statement in statements:
            with suppress(sqlite3.Error):
                self._connection.execute(statement).fetchall()
                accepted += 1
        if self._connection.in_transaction:
            try:
                self._connection.execute("COMMIT" if kept else "ROLLBACK")
            except sqlite3.Error:  # a deferred constraint
                self._connection.execute("ROLLBACK")
        return accepted


@contextmanager
def scratch(database: SqliteDatabase, table: str, folder: Path, rows: int) -> Iterator[SqliteTemplate]:
    """A copy of a file's schema, with so many rows of each table."""
    path, notes = folder / "template.db", []
    with database.opened() as source, closing(sqlite3.connect(path, isolation_level=None)) as copy:
        if catalog.find(source, table) is None:
            raise catalog.missing(table, source, database.name)
        found = source.execute(
            "SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'plainstep%' "
            "AND name NOT LIKE 'sqlite%' ORDER BY CASE type WHEN 'table' THEN 0 WHEN 'index' THEN 2 WHEN 'view' THEN 3 ELSE 4 END, rowid"
        ).fetchall()
        for kind in ("table", "rows", "index", "view", "trigger"):
            if kind == "rows":
                for name in catalog.tables(copy):
                    _copy_rows(source, copy, name, rows)
            for _, name, sql in [one for one in found if one[0] == kind]:
                try:
                    copy.execute(sql)
                except (
                    sqlite3.Error
                ) as error:  # a virtual table of a module that is not here, a function of the application's
                    notes.append(f"the {kind} {name} could not be copied: {error}")
    yield SqliteTemplate(path, table, notes)


def _copy_rows(source: sqlite3.Connection, copy: sqlite3.Connection, name: str, rows: int) -> None:
    table = catalog.find(source, name)
    if table is None:
        return
    columns = ", ".join(quoted(one) for one in table.names if one not in table.computed)
    places = ", ".join("?" for one in table.names if one not in table.computed)
    some = source.execute(f"SELECT {columns} FROM {quoted(name)} LIMIT ?", [rows]).fetchall()
    with suppress(sqlite3.Error):
        copy.executemany(f"INSERT OR IGNORE INTO {quoted(name)} ({columns}) VALUES ({places})", some)


def _described(connection: sqlite3.Connection, name: str) -> ScratchTable:
    table = catalog.find(connection, name)
    assert table is not None
    pools = {}
    for column in table.columns:
        if column.name not in table.computed:
            sql = f"SELECT DISTINCT quote({quoted(column.name)}) FROM {quoted(name)} LIMIT {VALUES}"
            held = [value for (value,) in connection.execute(sql)]
            found = [*held, *_usual(column.declared.upper())]
            # A null in a key is refused in any case: there is nothing to rehearse.
            barred = "NULL" if column.name in table.key else None
            pools[quoted(column.name)] = [one for one in found if one != barred] or ["1"]
    return ScratchTable(quoted(name), tuple(quoted(one) for one in table.key), pools, UPSERTS)


def _usual(declared: str) -> list[str]:
    """Values that fit a declared type, beside those that are there: any other may be one that no load could merge."""
    if "INT" in declared:
        return WHOLE
    if any(word in declared for word in ("REAL", "FLOA", "DOUB")):
        return [*WHOLE, "1.5", "-0.25"]
    return TEXTS if any(word in declared for word in ("CHAR", "TEXT", "CLOB")) else ["NULL"]
