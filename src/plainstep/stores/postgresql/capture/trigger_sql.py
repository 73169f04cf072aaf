"""The triggers that write PostgreSQL's change tables, as SQL text."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count

from plainstep.sql.literals import quoted, text
from plainstep.stores.postgresql import catalog

# The columns that a change table holds, in their order: name, number and type of each. The number of one that is gone is 0.
Layout = Sequence[tuple[str, int, str]]

# First among a table's AFTER triggers, which fire in the order of their names: what another trigger does to the
# table must be recorded after what set it off.
RECORD, TRUNCATE = "0_plainstep_record", "0_plainstep_truncate"


def change_table_name(table: catalog.Table) -> str:
    """The change table's name: that of the table with its schema, if it fits and can mean no other one."""
    name = f"{table.schema}.{table.name}"
    if len(name.encode()) <= 63 and name.count(".") == 1:
        return name
    tail = f"_{table.oid}"
    return name.encode()[: 63 - len(tail)].decode(errors="ignore") + tail


# What a change table holds where rows went and nothing could tell which, and where a row could not be recorded.
LOST, UNRECORDED = "lost", "unrecorded"
# A row of the change table is made in one piece of memory, of which the server gives less than 1 GiB: both images must fit.
LARGEST = 900_000_000


def function_name(oid: int) -> str:
    """The trigger function of a table, as SQL writes it."""
    return f"plainstep.{quoted(f'record_{oid}')}"


def image(layout: Layout, row: str) -> str:
    """A row as its change table holds it, as SQL: its values in the order of the layout, as the server writes a record.

    No cast of anybody's is called for it, nothing is rounded, and the columns' names are not kept with every row.

    Args:
        layout: the columns; those with the number 0 are gone.
        row: what the row is called.
    """
    values = (f"{row}.{quoted(name)}" if number else "NULL" for name, number, _ in layout)
    return f"ROW({', '.join(values)})::pg_catalog.text"


def function_body(oid: int, change_table: str, layout: Layout) -> str:
    """What the trigger function of a table does.

    Whatever becomes of the table, no statement of anybody's fails for it. Where a column was dropped or renamed since, the
    values are found by the columns' numbers, more slowly. What cannot be recorded is noted as such.

    A transaction that sees an old snapshot, and truncates one partition, does not see rows that others committed since: it
    can only tell that some may be lost.
    """
    changes = f"plainstep.{quoted(change_table)}"
    said, fields = changes.replace("'", "''"), len(layout)
    numbers = ",".join(str(number) for _, number, _ in layout)
    unrecorded = f"INSERT INTO {changes} (op, now) VALUES ('{UNRECORDED}', SQLERRM); RETURN NULL;"
    return f"""
DECLARE
    old_row text; new_row text; listed text;
BEGIN
    IF TG_LEVEL = 'ROW' THEN
        BEGIN
            IF TG_OP <> 'INSERT' THEN old_row := {image(layout, "OLD")}; END IF;
            IF TG_OP <> 'DELETE' THEN new_row := {image(layout, "NEW")}; END IF;
        EXCEPTION
            WHEN undefined_column THEN
                BEGIN
                    {_listed(oid, numbers, "'($1).'")}
                    IF TG_OP <> 'INSERT' THEN EXECUTE 'SELECT ROW(' || listed || ')::text' INTO old_row USING OLD; END IF;
                    IF TG_OP <> 'DELETE' THEN EXECUTE 'SELECT ROW(' || listed || ')::text' INTO new_row USING NEW; END IF;
                EXCEPTION WHEN OTHERS THEN {unrecorded}
                END;
            WHEN OTHERS THEN {unrecorded}
        END;
        IF coalesce(octet_length(old_row), 0)::bigint + coalesce(octet_length(new_row), 0) > {LARGEST} THEN
            INSERT INTO {changes} (op, now) VALUES ('{UNRECORDED}', 'the row is too large'); RETURN NULL;
        END IF;
        INSERT INTO {changes} (op, fields, was, now) VALUES (lower(TG_OP), {fields}, old_row, new_row);
    ELSIF TG_RELID = {oid}::oid THEN
        INSERT INTO {changes} (op) VALUES ('truncate');
    ELSIF current_setting('transaction_isolation') = 'read committed' THEN  -- one partition, before its rows go
        {_listed(oid, numbers, "'whole_row.'")}
        EXECUTE 'INSERT INTO {said} (op, fields, was) SELECT ''delete'', {fields}, ROW(' || listed || ')::text FROM ONLY '
            || quote_ident(TG_TABLE_SCHEMA) || '.' || quote_ident(TG_TABLE_NAME) || ' whole_row';
    ELSE
        INSERT INTO {changes} (op) VALUES ('{LOST}');
    END IF;
    RETURN NULL;
END """


def _listed(oid: int, numbers: str, of: str) -> str:
    """The statement that lists a table's columns, as they are called now, by their numbers."""
    return (
        f"SELECT string_agg(coalesce({of} || quote_ident(a.attname), 'NULL'), ', ' ORDER BY n.place) INTO listed "
        f"FROM unnest('{{{numbers}}}'::int2[]) WITH ORDINALITY AS n(number, place) "
        f"LEFT JOIN pg_attribute a ON a.attrelid = {oid}::oid AND a.attnum = n.number AND n.number > 0 AND NOT a.attisdropped;"
    )


# Text must come in one form, whoever writes, and no name be looked up elsewhere.
FUNCTION_SETTINGS = {
    "search_path": "pg_catalog, pg_temp",
    "extra_float_digits": "1",
    "datestyle": "ISO, YMD",
    "intervalstyle": "postgres",
    "bytea_output": "hex",
    "timezone": "UTC",
    "standard_conforming_strings": "on",
}


def function_sql(oid: int, change_table: str, layout: Layout) -> str:
    """The statement that makes the trigger function of a table, or makes it anew.

    It runs with its owner's rights, so that whoever may write the table need own nothing here.
    """
    chosen = " ".join(
        f"SET {name} = {value if name == 'search_path' else text(value)}" for name, value in FUNCTION_SETTINGS.items()
    )
    return (
        f"CREATE OR REPLACE FUNCTION {function_name(oid)}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER {chosen} "
        f"AS {dollar_quoted(function_body(oid, change_table, layout))}"
    )


def dollar_quoted(body: str) -> str:
    """A text in dollar quotes, of a tag that it does not contain."""
    tag = next(tag for number in count() if (tag := f"$record{number}$") not in body)
    return f"{tag}{body}{tag}"


def install_sql(table: catalog.Table) -> list[str]:
    """Statements that make and begin the change table, its trigger function and the triggers."""
    changes = f"plainstep.{quoted(change_table_name(table))}"
    function = function_name(table.oid)
    return [
        f"""CREATE TABLE {changes} (
    seq bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
    txn xid8 NOT NULL DEFAULT pg_catalog.pg_current_xact_id(),
    op text NOT NULL,
    at timestamptz NOT NULL DEFAULT pg_catalog.clock_timestamp(),
    by_role name NOT NULL DEFAULT SESSION_USER,
    fields smallint,
    was text,
    now text
)""",
        f"CREATE INDEX ON {changes} (txn)",
        f"INSERT INTO {changes} (seq, op) VALUES (0, 'begin')",
        function_sql(table.oid, change_table_name(table), table.layout),
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
    function = function_name(table.oid)
    return [
        statement
        for name in (table.partition_names[oid] for oid in partitions)
        for statement in (
            f"CREATE TRIGGER {quoted(TRUNCATE)} BEFORE TRUNCATE ON {name} EXECUTE FUNCTION {function}()",
            f"ALTER TABLE {name} ENABLE ALWAYS TRIGGER {quoted(TRUNCATE)}",
        )
    ]
