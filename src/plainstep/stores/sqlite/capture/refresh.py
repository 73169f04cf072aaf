"""Bringing a SQLite capture up to its table: columns that came, go by another name, or went."""

from __future__ import annotations

import json
import sqlite3
from typing import TYPE_CHECKING

from plainstep.core.changes.ops import NOW, WAS
from plainstep.errors import Refused
from plainstep.sql.conditions import any_of
from plainstep.sql.literals import quoted, text
from plainstep.stores.records import CaptureInfo
from plainstep.stores.sqlite.capture import state as capture
from plainstep.stores.sqlite.capture.fitness import chosen_key
from plainstep.stores.sqlite.capture.triggers import CLOCK, Captured

if TYPE_CHECKING:
    from plainstep.stores.sqlite.capture.state import State
    from plainstep.stores.sqlite.database import SqliteDatabase


def refresh(database: SqliteDatabase, table: str) -> tuple[CaptureInfo, str]:
    """Bring capture up to the table as it is now.

    Columns that were added, or go by another name, are captured from here on under their names, and the values
    they already hold are recorded as updates, so that nothing is lost. Where changes may have been missed, a new
    capture is begun instead.
    """
    with database.opened("rw") as connection, capture.writing(connection):
        state = capture.captured(connection, database, table)
        if state.numbered and state.renamed:  # which rows were merged under the old name, only a key would tell
            state.problem = " and ".join(f"{old} was renamed to {new}" for old, new in state.renamed.items())
        if state.problem:
            done = _begin_anew(connection, database, state)
        elif state.renamed:
            done = _rename(connection, state)
        elif state.waiting:
            done = _take_in(connection, state)
        else:
            done = "nothing to do: every column is captured"
        state = capture.captured(connection, database, table)
        return capture.info(connection, state), done


def _begin_anew(connection: sqlite3.Connection, database: SqliteDatabase, state: State) -> str:
    if state.table is None:
        raise Refused(
            f"The table {state.what.table} is gone from {database.name}.",
            "There is nothing to capture.",
            f"plainstep capture off {database.name}.{state.what.table}",
        )
    key = tuple(name for name in state.what.key if name in state.table.names)
    capture.remove(connection, state.what)
    capture.install(connection, state.table, chosen_key(state.table, key, database.name))
    return (
        f"begun anew, because {state.problem}; changes may have been missed, "
        "so every load of it must be reloaded: plainstep reload LOAD"
    )


def _take_in(connection: sqlite3.Connection, state: State) -> str:
    what = Captured(state.what.table, state.what.key, (*state.what.columns, *state.waiting))
    for name in state.waiting:
        for side in (WAS, NOW):
            connection.execute(f"ALTER TABLE {quoted(what.changes)} ADD COLUMN {quoted(side + name)}")
        connection.execute(f"ALTER TABLE {quoted(what.displaced)} ADD COLUMN {quoted(name)}")
    return f"now capturing {', '.join(state.waiting)} too; {_begin_with(connection, state, what, state.waiting)}"


def _rename(connection: sqlite3.Connection, state: State) -> str:
    """Give the changes that are held the columns' new names."""
    what = state.what.called(state.renamed)
    for old, new in state.renamed.items():
        for side in (WAS, NOW):
            connection.execute(
                f"ALTER TABLE {quoted(what.changes)} RENAME COLUMN {quoted(side + old)} TO {quoted(side + new)}"
            )
        connection.execute(f"ALTER TABLE {quoted(what.displaced)} RENAME COLUMN {quoted(old)} TO {quoted(new)}")
    names = ", ".join(f"{old} as {new}" for old, new in state.renamed.items())
    return f"now capturing {names}; {_begin_with(connection, state, what, tuple(state.renamed.values()))}"


def _begin_with(connection: sqlite3.Connection, state: State, what: Captured, new: tuple[str, ...]) -> str:
    """Capture other columns than before, from here on."""
    assert state.table is not None
    capture.drop_triggers(connection, state.what)
    capture.make_triggers(connection, what, state.table)
    connection.execute(
        "UPDATE plainstep_captures SET columns = ?, key_columns = ? WHERE table_name = ?",
        [json.dumps(what.columns), json.dumps(what.key), what.table],
    )
    recorded = _record_values(connection, what, new)
    return f"rows that had values there already, recorded as updates: {recorded:,}"


def _record_values(connection: sqlite3.Connection, what: Captured, new: tuple[str, ...]) -> int:
    """Record the values that the new columns already hold, as updates from null."""
    before = [name for name in what.columns if name not in new]
    names = [quoted(WAS + name) for name in before] + [quoted(NOW + name) for name in what.columns]
    values = [quoted(name) for name in before] + [quoted(name) for name in what.columns]
    filled = any_of(f"{quoted(name)} IS NOT NULL" for name in new)
    return connection.execute(
        f"INSERT INTO {quoted(what.changes)} (op, at, {', '.join(names)}) "
        f"SELECT {text('update')}, {CLOCK}, {', '.join(values)} FROM {quoted(what.table)} WHERE {filled}"
    ).rowcount
