"""Change capture in PostgreSQL by triggers: turning it on and off, bringing it up to date, telling what is wrong.

A change table holds whole rows as ``jsonb``, so that columns may come, go and change their types while capture is on,
and no statement of anybody's fails for it. Each change carries its transaction (``txn``): see ``snapshots`` for why a
window is a difference of snapshots and not of sequence numbers.
"""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg.types.json import Jsonb

from plainstep.errors import Refused, StoreError
from plainstep.stores.base import CaptureInfo
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.connection import Connection, holders
from plainstep.stores.sql import quoted

if TYPE_CHECKING:
    from plainstep.stores.postgresql import PostgresqlStore

# First among a table's AFTER triggers, which fire in the order of their names: what another trigger does to the
# table must be recorded after what set it off.
RECORD, TRUNCATE = "0_plainstep_record", "0_plainstep_truncate"

SCHEMA = """
CREATE TABLE IF NOT EXISTS plainstep.captures (
    table_oid oid NOT NULL, how text NOT NULL, table_name text NOT NULL, identity text NOT NULL, system text NOT NULL,
    key_columns text[] NOT NULL, columns jsonb NOT NULL, partitions text[] NOT NULL, kept_in text NOT NULL, since timestamptz NOT NULL DEFAULT now(),
    trimmed_before bigint NOT NULL DEFAULT 0, PRIMARY KEY (table_oid, how)
)"""
# This very database: its changes mean nothing in a copy of it, where transactions are numbered anew.
SYSTEM = """SELECT c.system_identifier || '/' || d.oid FROM pg_control_system() c, pg_database d
WHERE d.datname = current_database()"""

REGISTERED = """SELECT r.table_oid, r.table_name, r.identity, r.system, r.key_columns, r.columns, r.partitions, r.kept_in,
    r.since, r.trimmed_before FROM plainstep.captures r WHERE r.how = %s"""

TRIGGERS = """
SELECT t.tgname::text, t.tgenabled::text FROM pg_trigger t WHERE t.tgrelid = %s AND NOT t.tgisinternal
  AND (t.tgname IN (%s, %s) OR (t.tgname < %s COLLATE "C" AND t.tgtype & 1 = 1 AND t.tgtype & 66 = 0))
ORDER BY 1"""


@dataclass
class State:
    """A capture as it stands.

    Attributes:
        oid: the table's number.
        name: the table's name when capture was turned on.
        identity: this capture's identity.
        system: the database it was made in.
        key: the columns that tell rows apart.
        layout: the columns captured: name, number and type of each as it was then.
        partitions: the tables its rows lay in, if it is partitioned.
        changes: the change table (or the slot), as it is named.
        since: when it was turned on.
        trimmed: changes before this position were trimmed.
        table: the table as it is now, or None if it is gone.
        problem: what is wrong, or empty; then changes may have been missed.
        remedy: the command that mends it.
    """

    oid: int
    name: str
    identity: str
    system: str
    key: tuple[str, ...]
    layout: tuple[tuple[str, int, str], ...]
    partitions: tuple[str, ...]
    changes: str
    since: datetime
    trimmed: int
    table: catalog.Table | None = None
    problem: str = ""
    remedy: str = ""

    @property
    def change_table(self) -> str:
        """The change table, as SQL writes it."""
        return f"plainstep.{quoted(self.changes)}"

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the columns captured."""
        return tuple(name for name, _, _ in self.layout)

    @property
    def _now(self) -> tuple[tuple[str, int, str], ...]:
        return self.table.layout if self.table else ()

    @property
    def waiting(self) -> tuple[str, ...]:
        """Columns of the table that came, by addition or under a new name, since capture was turned on or refreshed."""
        known = {(name, number) for name, number, _ in self.layout}
        return tuple(name for name, number, _ in self._now if (name, number) not in known)

    @property
    def retyped(self) -> tuple[str, ...]:
        """Columns whose type changed since, and perhaps their values with it."""
        return tuple(column[0] for column in self._now if column not in self.layout and column[0] not in self.waiting)

    @property
    def lost_partitions(self) -> bool:
        """Whether rows went with a partition, which nothing records."""
        return bool(self.table and set(self.partitions) - set(self.table.partitions))

    @property
    def new_partitions(self) -> bool:
        """Whether there are partitions that are not known yet."""
        return bool(self.table and set(self.table.partitions) - set(self.partitions))

    @property
    def stale(self) -> bool:
        """Whether the table is laid out otherwise than when capture was turned on or refreshed."""
        return bool(self.waiting or self.retyped or self.new_partitions)

    @property
    def dropped(self) -> tuple[str, ...]:
        """Columns that the table no longer has."""
        return tuple(name for name in self.columns if self.table and name not in self.table.names)


def registered(connection: Connection, how: str, oid: int | None = None) -> list[State]:
    """What is captured in one way: of all tables, or of one."""
    where, values = (" AND r.table_oid = %s", [how, oid]) if oid is not None else ("", [how])
    if not catalog.exists(connection, "plainstep.captures"):
        return []
    rows = connection.execute(REGISTERED + where + " ORDER BY r.table_name", values).fetchall()
    return [
        State(oid, name, identity, system, tuple(key), tuple(map(tuple, layout)), tuple(parts), kept_in, since, trimmed)
        for oid, name, identity, system, key, layout, parts, kept_in, since, trimmed in rows
    ]


def inspect(connection: Connection, store: str, table: str) -> State | None:
    """Look at one table's capture, or None if it is off.

    Raises:
        Refused: the table was renamed.
    """
    found = catalog.find(connection, table)
    if found is None:
        renamed(connection, store, table, "capture")
        return None
    states = registered(connection, "capture", found.oid)
    if not states:
        made_again(connection, store, table, "capture")
        return None
    states[0].table = found
    _judge(connection, f"{store}.{table}", states[0])
    return states[0]


def renamed(connection: Connection, store: str, table: str, how: str) -> None:
    """Refuse a name whose table goes by another name now."""
    for state in registered(connection, how):
        if state.name == table:
            row = connection.execute("SELECT oid::regclass::text FROM pg_class WHERE oid = %s", [state.oid]).fetchone()
            if row is not None:
                now = row[0]
                raise Refused(
                    f"The table {table} of {store} is called {now} now.",
                    "Its capture went with it; a load that names it must follow.",
                    f'Change the load\'s "from" to {store}.{now}, then plainstep capture refresh {store}.{now}.',
                )


def made_again(connection: Connection, store: str, table: str, how: str) -> None:
    """Refuse a table that was dropped and made again under a name that is captured."""
    if any(state.name == table for state in registered(connection, how)):
        raise Refused(
            f"The table {table} of {store} was dropped and made again since capture was turned on.",
            "Nothing records the new table's changes.",
            f"plainstep capture off {store}.{table}, then plainstep capture on {store}.{table}, then plainstep reload LOAD.",
        )


def _judge(connection: Connection, place: str, state: State) -> None:
    state.remedy = f"plainstep capture refresh {place}"
    state.problem = _wrong(connection, state)
    if not (state.problem or state.stale):
        state.remedy = ""


def _wrong(connection: Connection, state: State) -> str:
    """What is wrong with a capture, or nothing."""
    table = state.table
    assert table is not None
    if state.lost_partitions:
        return f"a partition of {table.name} was detached or dropped, and its rows with it"
    if system(connection) != state.system:
        return "this is a copy of the database it was made in, where transactions are numbered otherwise"
    if not set(state.key) <= set(table.names):
        return f"{table.name} no longer has the key {', '.join(state.key)}"
    if not any(set(names) == set(state.key) for names in table.uniques):
        return f"nothing makes {', '.join(state.key)} unique in {table.name} any more"
    found = dict(connection.execute(TRIGGERS, [table.oid, RECORD, TRUNCATE, RECORD]).fetchall())
    for name in (RECORD, TRUNCATE):
        if name not in found:
            return f"the trigger {name} is gone, so changes were not recorded"
        if found.pop(name) != "A":
            return f"the trigger {name} was switched off, so changes were not recorded"
    if found:
        return f"the trigger {next(iter(found))} fires before capture's, so what it does is recorded too early"
    if not catalog.exists(connection, state.change_table):
        return f"its change table {state.change_table} is gone"
    row = connection.execute(f"SELECT 1 FROM {state.change_table} LIMIT 1").fetchone()
    return "" if row else f"the changes in {state.change_table} were cleared"


def system(connection: Connection) -> str:
    """Which database this is."""
    row = connection.execute(SYSTEM).fetchone()
    assert row is not None
    return str(row[0])


def ready(connection: Connection) -> None:
    """Make the schema and the registry where they are not there yet."""
    row = connection.execute("SELECT to_regnamespace('plainstep'), to_regclass('plainstep.captures')").fetchone()
    assert row is not None
    if row[0] is None:
        connection.execute("CREATE SCHEMA IF NOT EXISTS plainstep")
    if row[1] is None:
        connection.execute(SCHEMA)


def turn_on(store: PostgresqlStore, table: str, key: tuple[str, ...]) -> tuple[CaptureInfo, bool]:
    """Turn capture on for a table, by its primary key or another unique set of columns.

    Raises:
        Refused: no key to tell its rows apart, or another transaction holds the table.
    """
    with store.opened() as connection, connection.transaction():
        state = inspect(connection, store.name, table)
        if state:
            return info_of(connection, state), False
        found = lock(connection, store, table)
        ready(connection)
        _install(connection, found, catalog.key_of(found, key, f"{store.name}.{table}"), table)
        state = inspect(connection, store.name, table)
        assert state is not None
        if state.problem:
            raise Refused(f"{store.name}.{table} cannot be captured: {state.problem}.", "", _way_out(state, found))
        return info_of(connection, state), True


def _way_out(state: State, table: catalog.Table) -> str:
    if "fires before" in state.problem:
        name = state.problem.split()[2]
        return f"ALTER TRIGGER {quoted(name)} ON {table.sql} RENAME TO {quoted('a_' + name)};"
    return state.remedy


def lock(connection: Connection, store: PostgresqlStore, table: str) -> catalog.Table:
    """Wait until nobody is writing a table, and keep writers out until the transaction ends.

    Raises:
        ConfigError: no such table.
        StoreError: others kept it from being locked; it says who.
    """
    found = catalog.find(connection, table)
    if found is None:
        raise catalog.missing(connection, table, store.name)
    if found.kind not in ("r", "p"):
        raise Refused(f"{store.name}.{table} is no table.", "Only a table's changes can be captured.", "Name a table.")
    try:
        with connection.transaction():
            connection.execute(f"LOCK TABLE {found.sql} IN SHARE ROW EXCLUSIVE MODE")
    except psycopg.errors.LockNotAvailable:
        who = holders(connection, found.sql)
        raise StoreError(
            f"{store.name}.{table} could not be locked within {store.wait:g} seconds.",
            f"Waiting for: {who}." if who else "Another transaction has written it and is still open.",
            "Let it finish or end it, and run the command again; the store's wait says how long to try.",
        ) from None
    return found


def change_table_name(table: catalog.Table) -> str:
    """The change table's name: that of the table with its schema, as long as it fits."""
    name = f"{table.schema}.{table.name}"
    if len(name.encode()) <= 63:
        return name
    tail = f"_{table.oid}"
    return name.encode()[: 63 - len(tail)].decode(errors="ignore") + tail


def install_sql(table: catalog.Table) -> list[str]:
    """Statements that make and begin the change table, its trigger function and the triggers."""
    changes = f"plainstep.{quoted(change_table_name(table))}"
    function = f"plainstep.{quoted(f'record_{table.oid}')}"
    to_json, equals = "pg_catalog.to_jsonb", "OPERATOR(pg_catalog.=)"
    return [
        f"""CREATE TABLE {changes} (
    seq bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
    txn xid8 NOT NULL DEFAULT pg_catalog.pg_current_xact_id(),
    op text NOT NULL,
    at timestamptz NOT NULL DEFAULT pg_catalog.clock_timestamp(),
    by_role name NOT NULL DEFAULT SESSION_USER,
    was jsonb,
    now jsonb
)""",
        f"CREATE INDEX ON {changes} (txn)",
        f"INSERT INTO {changes} (seq, op) VALUES (0, 'begin')",
        # Runs with its owner's rights, so that whoever may write the table need own nothing here. The settings
        # make the text of every value the same whoever writes, and no name can be looked up elsewhere.
        f"""CREATE FUNCTION {function}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
SET search_path = pg_catalog, pg_temp SET extra_float_digits = 1 SET datestyle = 'ISO, YMD'
SET intervalstyle = 'postgres' SET bytea_output = 'hex' AS $record$
BEGIN
    IF TG_OP {equals} 'UPDATE' THEN
        INSERT INTO {changes} (op, was, now) VALUES ('update', {to_json}(OLD), {to_json}(NEW));
    ELSIF TG_OP {equals} 'INSERT' THEN
        INSERT INTO {changes} (op, now) VALUES ('insert', {to_json}(NEW));
    ELSIF TG_OP {equals} 'DELETE' THEN
        INSERT INTO {changes} (op, was) VALUES ('delete', {to_json}(OLD));
    ELSIF TG_RELID {equals} {table.oid}::pg_catalog.oid THEN
        INSERT INTO {changes} (op) VALUES ('truncate');
    ELSE  -- one partition only: before its rows go
        EXECUTE pg_catalog.format('INSERT INTO {changes.replace("'", "''")} (op, was) SELECT ''delete'', {to_json}(whole_row.*) FROM ONLY %I.%I whole_row',
            TG_TABLE_SCHEMA, TG_TABLE_NAME);
    END IF;
    RETURN NULL;
END $record$""",
        f"REVOKE ALL ON FUNCTION {function}() FROM PUBLIC",
        f"CREATE TRIGGER {quoted(RECORD)} AFTER INSERT OR UPDATE OR DELETE ON {table.sql} "
        f"FOR EACH ROW EXECUTE FUNCTION {function}()",
        f"CREATE TRIGGER {quoted(TRUNCATE)} AFTER TRUNCATE ON {table.sql} EXECUTE FUNCTION {function}()",
        # Also for what replication and restores write, which ordinary triggers do not see.
        f"ALTER TABLE {table.sql} ENABLE ALWAYS TRIGGER {quoted(RECORD)}",
        f"ALTER TABLE {table.sql} ENABLE ALWAYS TRIGGER {quoted(TRUNCATE)}",
        *partitions_sql(table, table.partitions),
    ]


def partitions_sql(table: catalog.Table, partitions: Sequence[str]) -> list[str]:
    """Statements that watch partitions for a truncate of their own, which the table's trigger does not see."""
    function = f"plainstep.{quoted(f'record_{table.oid}')}"
    return [
        statement
        for name in (table.partition_names[oid] for oid in partitions)
        for statement in (
            f"CREATE TRIGGER {quoted(TRUNCATE)} BEFORE TRUNCATE ON {name} EXECUTE FUNCTION {function}()",
            f"ALTER TABLE {name} ENABLE ALWAYS TRIGGER {quoted(TRUNCATE)}",
        )
    ]


def _install(connection: Connection, table: catalog.Table, key: tuple[str, ...], name: str) -> None:
    """Begin a capture, with an identity of its own."""
    for statement in install_sql(table):
        connection.execute(statement)
    _hand_over(connection, table)
    register(connection, "capture", table, name, key, change_table_name(table), 0)


def register(
    connection: Connection, how: str, table: catalog.Table, name: str, key: tuple[str, ...], kept_in: str, start: int
) -> None:
    """Write down what is captured from here on, under a new identity."""
    values = {
        "table_oid": table.oid,
        "how": how,
        "table_name": name,
        "identity": uuid.uuid4().hex,
        "system": system(connection),
        "key_columns": list(key),
        "columns": Jsonb(table.layout),
        "partitions": list(table.partitions),
        "kept_in": kept_in,
        "trimmed_before": start,
    }
    marks = ", ".join(["%s"] * len(values))
    connection.execute(f"INSERT INTO plainstep.captures ({', '.join(values)}) VALUES ({marks})", list(values.values()))


def _hand_over(connection: Connection, table: catalog.Table) -> None:
    """Where a superuser turns capture on, it runs with the rights of the table's owner all the same."""
    row = connection.execute("SELECT current_user, rolsuper FROM pg_roles WHERE rolname = current_user").fetchone()
    if row is None or not row[1] or row[0] == table.owner:
        return
    owner = quoted(table.owner)
    connection.execute(f"GRANT USAGE ON SCHEMA plainstep TO {owner}")
    connection.execute(f"ALTER TABLE plainstep.{quoted(change_table_name(table))} OWNER TO {owner}")
    connection.execute(f"ALTER FUNCTION plainstep.{quoted(f'record_{table.oid}')}() OWNER TO {owner}")


def off(connection: Connection, store: str, table: str) -> Exception:
    """The error for a table that is not captured."""
    if catalog.find(connection, table) is None:
        return catalog.missing(connection, table, store)
    return Refused(
        f"Capture is off for {store}.{table}.",
        "No changes of it are recorded, so there is nothing to read.",
        f"plainstep capture on {store}.{table}",
    )


def turn_off(store: PostgresqlStore, table: str) -> CaptureInfo:
    """Turn capture off, and forget what it holds, whatever became of the table."""
    with store.opened() as connection, connection.transaction():
        state = state_of(connection, table, "capture")
        if state is None:
            raise off(connection, store.name, table)
        info = info_of(connection, state)
        if state.table is not None:
            lock(connection, store, table)
        _remove(connection, state)
        return info


def state_of(connection: Connection, table: str, how: str) -> State | None:
    """A table's capture, also of a table that is gone or was made again; None if there is none."""
    found = catalog.find(connection, table)
    states = registered(connection, how, found.oid) if found else []
    states = states or [one for one in registered(connection, how) if one.name == table]
    if not states:
        return None
    states[0].table = found if found and found.oid == states[0].oid else None
    return states[0]


def _remove(connection: Connection, state: State) -> None:
    if state.table is not None:
        for name in (RECORD, TRUNCATE):
            connection.execute(f"DROP TRIGGER IF EXISTS {quoted(name)} ON {state.table.sql}")
        for name in state.table.partition_names.values():
            connection.execute(f"DROP TRIGGER IF EXISTS {quoted(TRUNCATE)} ON {name}")
    connection.execute(f"DROP FUNCTION IF EXISTS plainstep.{quoted(f'record_{state.oid}')}()")
    connection.execute(f"DROP TABLE IF EXISTS {state.change_table}")
    connection.execute("DELETE FROM plainstep.captures WHERE table_oid = %s AND how = 'capture'", [state.oid])


def refresh(store: PostgresqlStore, table: str) -> tuple[CaptureInfo, str]:
    """Bring capture up to the table as it is now.

    Columns that were added are read from here on, and the values they already hold are recorded as updates, so that
    nothing is lost. Where changes may have been missed, a new capture is begun instead.
    """
    with store.opened() as connection, connection.transaction():
        found = lock(connection, store, table)
        state = inspect(connection, store.name, table)
        if state is None:
            raise off(connection, store.name, table)
        if state.problem:
            key = state.key if set(state.key) <= set(found.names) else ()
            _remove(connection, state)
            _install(connection, found, catalog.key_of(found, key, f"{store.name}.{table}"), table)
            done = (
                f"begun anew, because {state.problem}; changes may have been missed, "
                "so every load of it must be reloaded: plainstep reload LOAD"
            )
        elif state.stale:
            done = _take_in(connection, state, found)
        else:
            done = "nothing to do: every column is captured"
        connection.execute(
            "UPDATE plainstep.captures SET table_name = %s WHERE table_oid = %s AND how = 'capture'", [table, found.oid]
        )
        again = inspect(connection, store.name, table)
        assert again is not None
        return info_of(connection, again), done


def _take_in(connection: Connection, state: State, table: catalog.Table) -> str:
    kept = [column for column in state.layout if column[0] in state.dropped]  # the targets have them still
    connection.execute(
        "UPDATE plainstep.captures SET columns = %s, partitions = %s WHERE table_oid = %s AND how = 'capture'",
        [Jsonb([*table.layout, *kept]), list(table.partitions), table.oid],
    )
    for statement in partitions_sql(table, [oid for oid in table.partitions if oid not in state.partitions]):
        connection.execute(statement)
    fresh = [*state.waiting, *state.retyped]
    if not fresh:
        return "now watching new partitions too; if one was attached with rows in it: plainstep reload LOAD"
    filled = " OR ".join(f"{quoted(name)} IS NOT NULL" for name in fresh)
    recorded = connection.execute(
        f"INSERT INTO {state.change_table} (op, was, now) "
        f"SELECT 'update', to_jsonb(whole_row.*) - %s::text[], to_jsonb(whole_row.*) FROM {table.sql} whole_row WHERE {filled}",
        [fresh],
    ).rowcount
    told = f"now capturing {', '.join(state.waiting)} too" if state.waiting else f"read {', '.join(fresh)} anew"
    return f"{told}; rows that had values there already, recorded as updates: {recorded:,}"


def list_all(connection: Connection, store: PostgresqlStore) -> list[CaptureInfo]:
    """What is captured by triggers in the database."""
    found = []
    for state in registered(connection, "capture"):
        state.table = catalog.by_number(connection, state.oid)
        if state.table is None:
            state.problem, state.remedy = "the table is gone", f"plainstep capture off {store.name}.{state.name}"
        else:
            _judge(connection, f"{store.name}.{state.name}", state)
        found.append(info_of(connection, state))
    return found


def info_of(connection: Connection, state: State) -> CaptureInfo:
    """What there is to say of a capture."""
    info = CaptureInfo(
        state.name,
        state.key,
        state.columns,
        state.since,
        state.identity,
        waiting_columns=state.waiting,
        problem=state.problem,
        remedy=state.remedy,
    )
    if catalog.exists(connection, state.change_table):
        sql = f"SELECT count(*) FILTER (WHERE seq > 0), coalesce(min(seq), 0), coalesce(max(seq), 0) FROM {state.change_table}"
        row: tuple[Any, ...] = connection.execute(sql).fetchone() or (0, 0, 0)
        info.held, info.oldest, info.head = row
    return info
