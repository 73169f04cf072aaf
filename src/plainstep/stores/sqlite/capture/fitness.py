"""Whether a table can be captured: what tells its rows apart, and whether it is too wide."""

from __future__ import annotations

import sqlite3

from plainstep.errors import Refused
from plainstep.sql.literals import quoted
from plainstep.stores.sqlite import catalog

# The columns of a change beside its two images.
BESIDE = 3


def chosen_key(table: catalog.Table, asked: tuple[str, ...], store: str) -> tuple[str, ...]:
    """The columns that tell rows apart: those that are asked for, or the primary key.

    Raises:
        Refused: they are not unique, or may be null.
    """
    if not asked:
        if table.key:
            return table.key
        usable = [unique.columns for unique in table.uniques if unique.complete and _never_null(table, unique.columns)]
        hint = ",".join(usable[0]) if usable else "COLUMN[,COLUMN]"
        raise Refused(
            f"{table.name} has no primary key.",
            "Without a key, the changes of one row cannot be told from those of another.",
            f"Name columns that are unique and never null: plainstep capture on {store}.{table.name} --key {hint}; "
            "or --no-key, for a journal or events.",
        )
    names = {name.lower(): name for name in table.names}
    unknown = [name for name in asked if name.lower() not in names]
    if unknown:
        raise Refused(f"{table.name} has no column {unknown[0]!r}.", "", f"Its columns: {', '.join(table.names)}.")
    chosen = tuple(names[name.lower()] for name in asked)
    if set(chosen) == set(table.key):
        return chosen
    lacking, first = [], []
    if not any(unique.complete and set(unique.columns) == set(chosen) for unique in table.uniques):
        columns = ", ".join(quoted(name) for name in chosen)
        lacking.append("nothing makes them unique")
        first.append(f"CREATE UNIQUE INDEX {quoted(table.name + '_key')} ON {quoted(table.name)} ({columns});")
    nullable = [column.name for column in table.columns if column.name in chosen and not column.not_null]
    if nullable:
        lacking.append(f"{', '.join(nullable)} may be null")
        first.insert(0, f"declare {', '.join(nullable)} NOT NULL (SQLite: by making the table anew)")
    if lacking:
        raise Refused(
            f"The rows of {table.name} cannot be told apart by {', '.join(chosen)}: {'; '.join(lacking)}.",
            "Two rows with one key would be taken for one row, and one with a null in its key could not be found again.",
            f"Choose other columns with --key; or first: {', then '.join(first)}",
        )
    return chosen


def without_key(table: catalog.Table) -> catalog.Table:
    """A table that has no key, as it is captured: by the number that SQLite gives every row, until it packs its file.

    Raises:
        Refused: it has a key, or a column hides that number.
    """
    if table.key:
        raise Refused(
            f"{table.name} has the primary key {', '.join(table.key)}.",
            "",
            "Leave --no-key out: capture goes by that key.",
        )
    if not table.row_number:
        raise Refused(
            f"{table.name} has columns named {', '.join(catalog.ROW_NUMBERS)}.",
            "They hide the number by which SQLite tells rows apart.",
            "Rename one of them; or name columns that are unique and never null: --key COLUMN[,COLUMN].",
        )
    return table.numbered()


def _never_null(table: catalog.Table, columns: tuple[str, ...]) -> bool:
    return all(column.not_null for column in table.columns if column.name in columns)


def refuse_too_many_columns(connection: sqlite3.Connection, table: catalog.Table) -> None:
    """Refuse a table of which a change, which holds a row twice, would have too many columns for SQLite.

    Raises:
        Refused: it would.
    """
    most = (connection.getlimit(sqlite3.SQLITE_LIMIT_COLUMN) - BESIDE) // 2
    if len(table.names) > most:
        raise _too_wide(table, f"a change holds a row twice, which leaves room for {most:,} columns")


def refuse_too_wide(connection: sqlite3.Connection, table: catalog.Table) -> None:
    """Refuse a table whose triggers SQLite cannot run: the application's statements would fail.

    Raises:
        Refused: it cannot.
    """
    name, column = quoted(table.name), quoted(next(one for one in table.names if one not in table.computed))
    for statement in (
        f"INSERT INTO {name} DEFAULT VALUES",
        f"UPDATE {name} SET {column} = {column}",
        f"DELETE FROM {name}",
    ):
        try:
            connection.execute(f"EXPLAIN {statement}")
        except sqlite3.OperationalError as error:
            raise _too_wide(table, str(error)) from None


def _too_wide(table: catalog.Table, why: str) -> Refused:
    return Refused(
        f"{table.name} has {len(table.names):,} columns, too many to be captured: {why}.",
        "Its triggers could not be made, or would make statements of the application fail.",
        'Compare it instead, with changes = "diff" in its load; or split the table.',
    )
