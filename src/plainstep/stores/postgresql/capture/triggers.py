"""Change capture in PostgreSQL by triggers: turning it on and off, bringing it up to date, telling what is wrong.

A change table holds whole rows as text, as the server writes a record: columns may come, go and change their types while
capture is on, and no statement of anybody's fails for it. Each change carries its transaction (``txn``): see ``snapshots`` for why a
window is a difference of snapshots and not of sequence numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg.types.json import Jsonb

from plainstep.errors import Refused, StoreError
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql import catalog, trust
from plainstep.stores.postgresql.capture import readers, registry
from plainstep.stores.postgresql.capture import trigger_sql as triggers
from plainstep.stores.postgresql.capture.method import CaptureMethod
from plainstep.stores.postgresql.capture.registry import State
from plainstep.stores.postgresql.capture.trigger_sql import RECORD, TRUNCATE
from plainstep.stores.postgresql.connection import Connection, holders
from plainstep.stores.records import CaptureInfo

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase

TRIGGERS = """
SELECT t.tgname::text, t.tgenabled::text FROM pg_trigger t WHERE t.tgrelid = %s AND NOT t.tgisinternal
  AND (t.tgname IN (%s, %s) OR (t.tgname < %s COLLATE "C" AND t.tgtype & 1 = 1 AND t.tgtype & 66 = 0))
ORDER BY 1"""


# A trigger of the application's that writes, or has others write, while a row of a table is recorded.
ROW_TRIGGERS = """
SELECT quote_ident(tgname), tgrelid::regclass::text FROM pg_trigger
WHERE tgrelid IN (SELECT relid FROM pg_partition_tree(%s) UNION SELECT %s) AND NOT tgisinternal AND tgenabled <> 'D'
  AND tgname NOT IN (%s, %s) ORDER BY tgparentid <> 0, 1 LIMIT 1"""

# A capture's function, and whether its changes are kept as JSON, as earlier releases kept them.
MADE_FOR = """
SELECT prosrc, proconfig, EXISTS (
    SELECT 1 FROM pg_attribute WHERE attrelid = to_regclass(%s) AND attname = 'now' AND atttypid = 'jsonb'::regtype)
FROM pg_proc WHERE oid = to_regprocedure(%s)"""

HELD = """SELECT count(*) FILTER (WHERE seq > 0), coalesce(min(seq), 0), coalesce(max(seq), 0), pg_total_relation_size(%s),
(SELECT at FROM {0} WHERE seq > 0 ORDER BY seq LIMIT 1) FROM {0}"""


class Capture(CaptureMethod):
    """Capturing by triggers that fill change tables."""

    how = "capture"
    absent = ("Capture is off for {}.", "No changes of it are recorded, so there is nothing to read.")

    def wrong(self, connection: Connection, state: State, table: catalog.Table) -> str:
        """What is wrong with a capture, or nothing."""
        if registry.system(connection) != state.system:
            return "this is a copy of the database it was made in, where transactions are numbered otherwise"
        if not set(state.key) <= set(table.names):
            return f"{table.name} no longer has the key {', '.join(state.key)}"
        if state.key and not any(set(names) == set(state.key) for names in table.uniques):
            return f"nothing makes {', '.join(state.key)} unique in {table.name} any more"
        found = dict(connection.execute(TRIGGERS, [table.oid, RECORD, TRUNCATE, RECORD]).fetchall())
        for name in (RECORD, TRUNCATE):
            if name not in found:
                return f"the trigger {name} is gone, so changes were not recorded"
            if found.pop(name) != "A":
                return f"the trigger {name} was switched off, so changes were not recorded"
        if found:
            state.early = next(iter(found))
            return f"the trigger {state.early} fires before capture's, so what it does is recorded too early"
        ids = [table.oid, table.oid, RECORD, TRUNCATE]
        row = None if state.key else connection.execute(ROW_TRIGGERS, ids).fetchone()
        if row:
            place = f"{self.database.name}.{table.schema}.{table.name}"
            state.remedy = (
                f"DROP TRIGGER {row[0]} ON {row[1]}; or follow the log, which knows: plainstep capture on {place} --no-key "
                f'--how log, with changes = "log" in its loads (plainstep capture off {place} then ends capture by triggers)'
            )
            return f"{table.name} has no key, and the trigger {row[0]}: nothing tells in which order what it does to a row came"
        if not catalog.exists(connection, state.change_table):
            return f"its change table {state.change_table} is gone"
        state.ours = trust.held(connection, state.change_table, there=True)
        row = connection.execute(f"SELECT 1 FROM {state.change_table} LIMIT 1").fetchone()
        return "" if row else f"the changes in {state.change_table} were cleared"

    def look_for_earlier(self, connection: Connection, state: State) -> None:
        """Tell whether its function is not the one that this release makes for the table as it is: slower, or less sure."""
        named = f"{triggers.function_name(state.oid)}()"
        row = connection.execute(MADE_FOR, [state.change_table, named]).fetchone()
        if row is None:
            return
        body, chosen, state.unreadable = row
        settings = {name.lower(): value for name, _, value in (one.partition("=") for one in chosen or ())}
        made = triggers.function_body(state.oid, state.changes, state.layout)
        state.outdated = bool(state.gone or body != made or settings != triggers.FUNCTION_SETTINGS)

    def fill_in(self, connection: Connection, state: State, info: CaptureInfo) -> None:
        """Tell how much is held, and between which positions."""
        if catalog.exists(connection, state.change_table):
            row: tuple[Any, ...] | None = connection.execute(
                HELD.format(state.change_table), [state.change_table]
            ).fetchone()
            assert row is not None
            info.held, info.oldest, info.head, info.size, info.oldest_at = row

    def turn_on(
        self, table: str, key: tuple[str, ...] | None, despite_row_security: bool = False
    ) -> tuple[CaptureInfo, bool]:
        """Turn capture on for a table, by its primary key, another unique set of columns, or without a key (None).

        Raises:
            Refused: no key to tell its rows apart, or another transaction holds the table.
        """
        with self.database.opened() as connection, connection.transaction():
            state = self.inspect(connection, table)
            if state:
                return self.info(connection, state), False
            found = lock(connection, self.database, table)
            if found.guarded and not despite_row_security:
                raise self.policies(table)
            registry.ready(connection)
            _install(connection, found, catalog.key_of(found, key, f"{self.database.name}.{table}"), table)
            return self.info(connection, self._sound(connection, table, found)), True

    def turn_off(self, table: str) -> CaptureInfo:
        """Turn capture off, and forget what it holds, whatever became of the table."""
        with self.database.opened() as connection, connection.transaction():
            state = self.whatever_became_of(connection, table)
            info = self.info(connection, state)
            if state.table is not None:
                lock(connection, self.database, table, captured=False)
            _remove(connection, state)
            return info

    def refresh(self, table: str) -> tuple[CaptureInfo, str]:
        """Bring capture up to the table as it is now.

        Columns that were added are read from here on, and the values they already hold are recorded as updates, so that
        nothing is lost. Where changes may have been missed, a new capture is begun instead.
        """
        with self.database.opened() as connection, connection.transaction():
            found = lock(connection, self.database, table)
            state = self.inspect(connection, table)
            if state is None:
                raise self.off(connection, table)
            registry.ready(connection)
            if state.problem:
                kept = state.key if set(state.key) <= set(found.names) else ()
                key = kept if state.key else None
                _remove(connection, state)
                _install(connection, found, catalog.key_of(found, key, f"{self.database.name}.{table}"), table)
                done = (
                    f"begun anew, because {state.problem}; changes may have been missed, "
                    "so every load of it must be reloaded: plainstep reload LOAD"
                )
                self._sound(connection, table, found)
            elif state.stale:
                done = _take_in(connection, state, found)
            else:
                done = "nothing to do: every column is captured"
            connection.execute(
                "UPDATE plainstep.captures SET table_name = %s WHERE table_oid = %s AND how = 'capture'",
                [table, found.oid],
            )
            return self.told(connection, table), done

    def _sound(self, connection: Connection, table: str, found: catalog.Table) -> State:
        """A capture that was begun just now; refused, and so undone, if it could not be trusted."""
        state = self.inspect(connection, table)
        assert state is not None
        if state.problem:
            raise Refused(
                f"{self.database.name}.{table} cannot be captured: {state.problem}.", "", _way_out(state, found)
            )
        return state


def _way_out(state: State, table: catalog.Table) -> str:
    if state.early:
        return f"ALTER TRIGGER {quoted(state.early)} ON {table.sql} RENAME TO {quoted('a_' + state.early)};"
    return state.remedy


def lock(connection: Connection, database: PostgresqlDatabase, table: str, captured: bool = True) -> catalog.Table:
    """Wait until nobody is writing a table, and keep writers out until the transaction ends.

    Args:
        connection: in a transaction.
        database: the database.
        table: the table's name.
        captured: whether it is to be captured from here on.

    Raises:
        ConfigError: no such table.
        StoreError: others kept it from being locked; it says who.
    """
    found = catalog.find(connection, table)
    if found is None:
        raise catalog.missing(connection, table, database.name)
    if found.kind not in ("r", "p"):
        raise Refused(
            f"{database.name}.{table} is not a table.", "Only a table's changes can be captured.", "Name a table."
        )
    if captured:
        catalog.refuse_inherited(found, f"{database.name}.{table}")
    try:
        with connection.transaction():
            # Who has written it and is still open wrote without the triggers: they end first. Readers go on.
            connection.execute(f"LOCK TABLE {found.sql} IN SHARE ROW EXCLUSIVE MODE")
    except psycopg.errors.LockNotAvailable:
        who = holders(connection, found.sql)
        raise StoreError(
            f"{database.name}.{table} could not be locked within {database.wait:g} seconds.",
            f"Waiting for: {who}." if who else "Another transaction has written it and is still open.",
            "Let it finish or end it, and run the command again; the store's wait says how long to try.",
        ) from None
    return found


def _install(connection: Connection, table: catalog.Table, key: tuple[str, ...], name: str) -> None:
    """Begin a capture, with an identity of its own."""
    _refuse_foreign(connection, table)
    for statement in triggers.install_sql(table):
        connection.execute(statement)
    _hand_over(connection, table)
    registry.register(connection, "capture", table, name, key, triggers.change_table_name(table), 0)


WHO = """SELECT current_user, pg_has_role(current_user, %(owner)s, 'MEMBER'),
    has_schema_privilege(%(owner)s, 'plainstep', 'CREATE')"""


def _refuse_foreign(connection: Connection, table: catalog.Table) -> None:
    """Refuse to capture a table with the rights of anybody but its owner.

    Raises:
        Refused: this role is not, and may not act as, the table's owner.
    """
    role, member, _ = connection.execute(WHO, {"owner": table.owner}).fetchone() or ("", True, True)
    if not member:
        raise Refused(
            f"{table.sql} belongs to {table.owner}, and {role} is not a member of that role.",
            "What records its changes must run with its owner's rights: with others, its owner would gain these.",
            f"Connect as {table.owner}; or GRANT {quoted(table.owner)} TO {quoted(role)};",
        )


def _hand_over(connection: Connection, table: catalog.Table) -> None:
    """Whoever turns capture on, it runs with the rights of the table's owner."""
    role, _, makes = connection.execute(WHO, {"owner": table.owner}).fetchone() or (table.owner, True, True)
    if role == table.owner:
        return
    owner = quoted(table.owner)
    connection.execute(f"GRANT USAGE, CREATE ON SCHEMA plainstep TO {owner}")  # without it, nothing can be made its own
    connection.execute(f"ALTER TABLE plainstep.{quoted(triggers.change_table_name(table))} OWNER TO {owner}")
    connection.execute(f"ALTER FUNCTION {triggers.function_name(table.oid)}() OWNER TO {owner}")
    if not makes:
        connection.execute(f"REVOKE CREATE ON SCHEMA plainstep FROM {owner}")


def _remove(connection: Connection, state: State) -> None:
    registry.held_to_write(connection)
    if state.table is not None:
        for name in (RECORD, TRUNCATE):
            connection.execute(f"DROP TRIGGER IF EXISTS {quoted(name)} ON {state.table.sql}")
        for name in state.table.partition_names.values():
            connection.execute(f"DROP TRIGGER IF EXISTS {quoted(TRUNCATE)} ON {name}")
    connection.execute(f"DROP FUNCTION IF EXISTS plainstep.{quoted(f'record_{state.oid}')}()")
    connection.execute(f"DROP TABLE IF EXISTS {state.change_table}")
    readers.forget_readers(connection, state.identity)
    connection.execute("DELETE FROM plainstep.captures WHERE table_oid = %s AND how = 'capture'", [state.oid])


def _any_filled(columns: Sequence[str]) -> str:
    """Whether any of some columns holds a value, as SQL."""
    return " OR ".join(f"{quoted(name)} IS NOT NULL" for name in columns) or "false"


def _layout(state: State, table: catalog.Table) -> tuple[tuple[str, int, str], ...]:
    """The columns captured from here on. Each keeps its place, and one that is gone leaves it empty."""
    there = {(name, number): kind for name, number, kind in table.layout}
    known = {(name, number) for name, number, _ in state.layout}
    kept = [
        (name, number, there[name, number]) if (name, number) in there else (name, 0, kind)
        for name, number, kind in state.layout
    ]
    return (*kept, *(column for column in table.layout if column[:2] not in known))


def _take_over(connection: Connection, state: State, table: catalog.Table) -> None:
    """Bring changes that an earlier release kept as JSON into the present form."""
    names = [name for name, _, _ in state.layout]
    kinds = {column.name: column.declared for column in table.columns}
    listed = ", ".join(f"{quoted(name)} {kinds.get(name, 'text')}" for name in names)
    row = triggers.image([(name, 1, "") for name in names], "r")
    changes = state.change_table
    connection.execute(f"ALTER TABLE {changes} ADD COLUMN fields smallint")
    for side in ("was", "now"):
        connection.execute(
            f"ALTER TABLE {changes} ALTER COLUMN {side} TYPE text"  # not by its expression, in which no query may stand
        )
        connection.execute(
            f"UPDATE {changes} c SET fields = {len(names)}, {side} = (SELECT {row} FROM jsonb_to_record(c.{side}::jsonb) "
            f"AS r({listed})) WHERE {side} IS NOT NULL"
        )


def _take_in(connection: Connection, state: State, table: catalog.Table) -> str:
    registry.held_to_write(connection, state.change_table)
    if state.unreadable:
        _take_over(connection, state, table)
    layout = _layout(state, table)
    if layout != state.layout or state.outdated:
        connection.execute(triggers.function_sql(state.oid, state.changes, layout))
    connection.execute(
        "UPDATE plainstep.captures SET columns = %s, partitions = %s WHERE table_oid = %s AND how = 'capture'",
        [Jsonb(layout), list(table.partitions), table.oid],
    )
    for statement in triggers.partitions_sql(table, [oid for oid in table.partitions if oid not in state.partitions]):
        connection.execute(statement)
    fresh = [*state.waiting, *state.retyped]
    if not fresh and not state.new_partitions:
        return "its trigger function is made for the table as it is now; nothing was missed"
    if not fresh:
        return "now watching new partitions too; if one was attached with rows in it: plainstep reload LOAD"
    before = [(name, 0 if name in fresh else number, kind) for name, number, kind in layout]
    # What a column held before it changed its type is not known; one that is new held nothing.
    retyped = _any_filled(state.retyped)
    recorded = connection.execute(
        f"INSERT INTO {state.change_table} (op, fields, was, now) "
        f"SELECT CASE WHEN {retyped} THEN 'put' ELSE 'update' END, {len(layout)}, "
        f"CASE WHEN NOT ({retyped}) THEN {triggers.image(before, 'whole_row')} END, {triggers.image(layout, 'whole_row')} "
        f"FROM {table.sql} whole_row WHERE {_any_filled(fresh)}"
    ).rowcount
    told = f"now capturing {', '.join(state.waiting)} too" if state.waiting else f"read {', '.join(fresh)} anew"
    return f"{told}; rows that had values there already, recorded as updates: {recorded:,}"
