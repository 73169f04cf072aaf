"""What SQLite knows of a table: its columns, its primary key, and what else must be unique in it."""

from __future__ import annotations

import difflib
import sqlite3

from msgspec import Struct

from plainstep.copying import replace
from plainstep.errors import Refused


class TableColumn(Struct, frozen=True):
    """One column as declared."""

    name: str
    declared: str
    not_null: bool


# What SQLite calls the number that it gives every row.
ROW_NUMBERS = ("rowid", "_rowid_", "oid")


class Unique(Struct, frozen=True):
    """Columns that must be unique together.

    Attributes:
        terms: pairs of a column and its collation.
        complete: whether it holds for every row (a partial index does not).
    """

    terms: tuple[tuple[str, str], ...]
    complete: bool = True

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns alone."""
        return tuple(name for name, _ in self.terms)


class Table(Struct, frozen=True):
    """A table of a SQLite file.

    Attributes:
        name: as the file spells it.
        columns: generated ones among them.
        key: the primary key's columns, or none.
        uniques: everything that makes one row push out another under OR REPLACE.
        expression_index: a unique index on an expression, through which rows push each other out unseen.
        computed: the columns that are generated, and cannot be written.
    """

    name: str
    columns: tuple[TableColumn, ...]
    key: tuple[str, ...]
    uniques: tuple[Unique, ...]
    expression_index: str = ""
    computed: frozenset[str] = frozenset()

    @property
    def names(self) -> tuple[str, ...]:
        """The columns' names."""
        return tuple(column.name for column in self.columns)

    @property
    def row_number(self) -> str:
        """The name of the number that SQLite gives every row; a column of that name hides it."""
        hidden = {name.lower() for name in self.names}
        return next((name for name in ROW_NUMBERS if name not in hidden), "")

    def numbered(self) -> Table:
        """The table with that number as its first column, and as its key."""
        number = TableColumn(self.row_number, "INTEGER", True)
        return replace(self, columns=(number, *self.columns), key=(number.name,))

    def declared(self, column: str) -> str:
        """A column's declared type."""
        return next(found.declared for found in self.columns if found.name == column)


def tables(connection: sqlite3.Connection) -> list[str]:
    """The names of all ordinary tables that are not our own."""
    rows = connection.execute("SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table'")
    return sorted(name for (name,) in rows if not name.startswith(("sqlite_", "plainstep_")))


def find(connection: sqlite3.Connection, name: str, views: bool = False) -> Table | None:
    """Look a table up, or None if there is no ordinary table (or, if asked for, view) of that name."""
    row = connection.execute(
        "SELECT name, wr FROM pragma_table_list(?) WHERE schema = 'main' AND type IN ('table', ?)",
        [name, "view" if views else "table"],
    ).fetchone()
    if row is None:
        return None
    name, without_rowid = row
    rows = connection.execute('SELECT name, type, "notnull", pk, hidden FROM pragma_table_xinfo(?)', [name]).fetchall()
    key = tuple(column for column, _, _, place, _ in sorted(rows, key=lambda row: row[3]) if place)
    own_index = connection.execute("SELECT 1 FROM pragma_index_list(?) WHERE origin = 'pk'", [name]).fetchone()
    # An INTEGER PRIMARY KEY is the row's number itself, without an index, and never null.
    number = key[0] if key and not without_rowid and own_index is None else ""
    columns = tuple(
        TableColumn(column, declared or "", bool(not_null) or column == number)
        for column, declared, not_null, _, hidden in rows
        if hidden != 1
    )
    uniques, expression_index = _uniques(connection, name, number, bool(without_rowid), {c.name for c in columns})
    computed = frozenset(column for column, _, _, _, hidden in rows if hidden > 1)
    return Table(name, columns, key, uniques, expression_index, computed)


def _uniques(
    connection: sqlite3.Connection, table: str, number: str, without_rowid: bool, names: set[str]
) -> tuple[tuple[Unique, ...], str]:
    found = []
    expression_index = ""
    rows = connection.execute('SELECT name, partial FROM pragma_index_list(?) WHERE "unique"', [table]).fetchall()
    for index, partial in rows:
        terms = connection.execute(
            "SELECT cid, name, coll FROM pragma_index_xinfo(?) WHERE key ORDER BY seqno", [index]
        ).fetchall()
        if any(cid == -2 for cid, _, _ in terms):
            expression_index = index
        else:
            found.append(Unique(tuple((name, coll) for _, name, coll in terms), not partial))
    if number:
        found.append(Unique(((number, "BINARY"),)))
    elif not without_rowid:
        rowid = next((name for name in ROW_NUMBERS if name not in {n.lower() for n in names}), None)
        if rowid:
            found.append(Unique(((rowid, "BINARY"),), complete=False))
    return tuple(sorted(set(found), key=lambda unique: unique.terms)), expression_index


def missing(table: str, connection: sqlite3.Connection, store: str) -> Refused:
    """The error for a table that is not there."""
    known = tables(connection)
    near = difflib.get_close_matches(table, known, 1)
    return Refused(
        f"There is no table {table!r} in {store}.",
        "Only ordinary tables can be captured: views and virtual tables have no triggers on their rows.",
        f"Did you mean {near[0]!r}?" if near else f"Its tables: {', '.join(known) or 'none'}.",
    )
