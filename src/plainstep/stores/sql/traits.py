"""What each database's SQL is like, and what it promises: all that differs between those that SQLAlchemy reaches.

docs/stores/sql.md says which of this was run on a server. What is not promised is refused: a database
without traits can be asked queries, and neither read by table nor merged into.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from plainstep.copying import replace

# The declared types of a standard database, by Arrow's names of types. Decimals are declared by their size.
STANDARD_TYPES = {
    "int8": "SMALLINT", "int16": "SMALLINT", "int32": "INTEGER", "int64": "BIGINT", "float": "REAL", "double": "DOUBLE PRECISION",
    "bool": "BOOLEAN", "date32[day]": "DATE", "time64[us]": "TIME(6)", "timestamp[us]": "TIMESTAMP(6)",
    "timestamp[us, tz=UTC]": "TIMESTAMP(6) WITH TIME ZONE", "string": "TEXT", "binary": "BLOB",
}  # fmt: skip


@dataclass(frozen=True)
class Traits:
    """One database's ways. As they are made, they are the standard's.

    Attributes:
        types: how columns are declared.
        key_text: how texts in keys are declared, where not as others; and those of our own tables.
        text: what a value is cast to that is wanted as text.
        time_text, bytes_text: a time and bytes (``{}``) as texts, whole and in one form.
        time, zoned_time, bytes: such values out of texts (``{}``, in quotes; bytes as hexadecimal digits).
        limit: what ends a query of which only the first rows are wanted.
        stripped: a text (``{value}``) without some letters (``{letters}``) at its end.
        if_absent: what a CREATE TABLE says so that one that is there stays.
        real, own_text: types of our own tables.
        widening: the statement that gives a column another type; empty where there is none.
        session: what is said on every new connection, so that values come in one form.
        says_begin: whether transactions are begun and ended by statements; else the driver does it.
        reading: what is said at the begin of a transaction that only reads.
        savepoints: whether a transaction can go back to a point within it, in the standard's words.
        writing: what is said at the begin of a transaction that writes.
        ddl_commits: whether a statement that makes or changes a table commits what went before it.
        staging: the statement that makes a table of this session's own like another one.
        drop_staging: the statement that drops it.
        delete: the statement that deletes the rows whose keys are staged.
        update: the statement that sets columns of the rows whose keys are staged.
        aliased: whether these two call the table ``t``.
        exact: a text (``{}``) as what is compared letter by letter, where the database may take texts for equal that are not.
        guard: what serializes steps where keys are declared and not enforced; empty where they are.
        writers: a query for the open transactions that have written, by a number each; None where they do not show,
            empty where there is one writer at a time.
        open: the same for all that are open.
        comment: the statement that gives a table a comment, by which it is told from another one of its name; or empty.
        columns, key: queries for a table's columns (name, declared type, whether never null) and key, where reflection is not to be relied on.
        not_a_target: why it cannot be merged into; empty where it can.
    """

    types: Mapping[str, str] = field(default_factory=lambda: STANDARD_TYPES)
    key_text: str = ""
    text: str = "VARCHAR"
    time_text: str = "CAST({} AS VARCHAR)"
    bytes_text: str = ""
    time: str = "CAST({} AS TIMESTAMP)"
    zoned_time: str = "CAST({} AS TIMESTAMP WITH TIME ZONE)"
    bytes: str = ""
    limit: str = "LIMIT {count}"
    stripped: str = "rtrim({value}, '{letters}')"
    if_absent: str = "IF NOT EXISTS "
    real: str = "DOUBLE PRECISION"
    own_text: str = "TEXT"
    widening: str = "ALTER TABLE {table} ALTER COLUMN {column} TYPE {type}"
    session: tuple[str, ...] = ()
    says_begin: bool = False
    reading: tuple[str, ...] = ()
    savepoints: bool = False
    writing: tuple[str, ...] = ()
    ddl_commits: bool = False
    staging: str = "CREATE TEMPORARY TABLE {staged} AS SELECT * FROM {table} WHERE 1 = 0"
    drop_staging: str = "DROP TABLE {staged}"
    delete: str = "DELETE FROM {table} WHERE EXISTS (SELECT 1 FROM {staged} s WHERE {on})"
    update: str = "UPDATE {table} SET {sets} FROM {staged} s WHERE {on}"
    aliased: bool = False
    exact: str = ""
    guard: str = ""
    writers: str | None = None
    open: str | None = None
    comment: str = ""
    columns: str = ""
    key: str = ""
    not_a_target: str = ""


# PostgreSQL: transactions of this database that have written, and all of them. (A prepared one has no process.)
_PG_WRITERS = (
    "SELECT DISTINCT x.virtualtransaction FROM pg_locks x JOIN pg_locks r ON r.virtualtransaction = x.virtualtransaction "
    "WHERE x.locktype = 'transactionid' AND x.mode = 'ExclusiveLock' AND x.granted AND r.locktype = 'relation' "
    "AND r.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND x.pid IS DISTINCT FROM pg_backend_pid()"
)
_PG_OPEN = (
    "SELECT DISTINCT l.virtualtransaction FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid "
    "WHERE l.locktype IN ('virtualxid', 'transactionid') AND l.mode = 'ExclusiveLock' AND l.granted "
    "AND (a.datname = current_database() OR l.pid IS NULL) AND l.pid IS DISTINCT FROM pg_backend_pid() "
    # What this process reads meanwhile writes nothing.
    "AND (l.locktype = 'transactionid' OR a.application_name IS DISTINCT FROM current_setting('application_name'))"
)
POSTGRESQL = Traits(
    types=STANDARD_TYPES | {"binary": "BYTEA"},
    text="TEXT",
    time_text="CAST({} AS TEXT)",
    bytes_text="encode({}, 'hex')",
    bytes="decode({}, 'hex')",
    session=(
        "SET application_name = 'plainstep {process}'",
        "SET row_security = off",  # rows that a policy hides are an error, and not left out
        "SET TIME ZONE 'UTC'",
        "SET datestyle = 'ISO, YMD'",
        "SET bytea_output = 'hex'",
    ),
    says_begin=True,
    savepoints=True,
    reading=("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY",),
    writing=("BEGIN ISOLATION LEVEL READ COMMITTED READ WRITE",),
    staging="CREATE TEMPORARY TABLE {staged} ON COMMIT DROP AS SELECT * FROM {table} WHERE 1 = 0",
    drop_staging="",
    delete="DELETE FROM {table} USING {staged} s WHERE {on}",
    writers=_PG_WRITERS,
    open=_PG_OPEN,
    comment="COMMENT ON TABLE {table} IS {text}",
)
_MYSQL_OPEN = "SELECT trx_mysql_thread_id FROM information_schema.innodb_trx WHERE trx_is_read_only = 0"
MYSQL = Traits(
    types=STANDARD_TYPES
    | {
        "double": "DOUBLE", "float": "DOUBLE", "timestamp[us]": "DATETIME(6)", "timestamp[us, tz=UTC]": "DATETIME(6)",
        "string": "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", "binary": "LONGBLOB", "int8": "SMALLINT",
    },
    key_text="VARCHAR(250) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
    text="CHAR",
    time_text="CAST({} AS CHAR)",
    bytes_text="lower(hex({}))",
    time="CAST({} AS DATETIME(6))",
    zoned_time="CAST({} AS DATETIME(6))",
    bytes="unhex({})",
    stripped="regexp_replace({value}, '[{letters}]*$', '')",
    real="DOUBLE",
    own_text="LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
    widening="ALTER TABLE {table} MODIFY COLUMN {column} {type}",
    session=(
        "SET time_zone = '+00:00'",
        "SET sql_mode = 'PIPES_AS_CONCAT,STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'",
        "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
        "SET default_storage_engine = InnoDB",
    ),
    says_begin=True,
    reading=("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY",),
    writing=("START TRANSACTION",),
    ddl_commits=True,
    drop_staging="DROP TEMPORARY TABLE {staged}",
    delete="DELETE t FROM {table} t JOIN {staged} s ON {on}",
    update="UPDATE {table} t JOIN {staged} s ON {on} SET {sets}",
    aliased=True,
    exact="CAST({} AS BINARY)",
    writers=f"{_MYSQL_OPEN} AND (trx_rows_modified > 0 OR trx_query IS NOT NULL) AND trx_mysql_thread_id <> connection_id()",
    open=f"{_MYSQL_OPEN} AND trx_mysql_thread_id <> connection_id()",
    comment="ALTER TABLE {table} COMMENT = {text}",
)  # fmt: skip
SQLITE = Traits(
    types={
        "int8": "INTEGER", "int16": "INTEGER", "int32": "INTEGER", "int64": "INTEGER", "float": "REAL", "double": "REAL",
        "bool": "BOOLEAN", "date32[day]": "DATE", "time64[us]": "TIME", "timestamp[us]": "TIMESTAMP",
        "timestamp[us, tz=UTC]": "TIMESTAMPTZ", "string": "TEXT", "binary": "BLOB", "decimal": "DECIMALTEXT({digits},{scale})",
    },
    text="TEXT",
    time_text="{}",
    bytes_text="lower(hex({}))",
    time="{}",
    zoned_time="{}",
    bytes="X{}",
    widening="",
    says_begin=True,
    savepoints=True,
    reading=("PRAGMA query_only = ON", "BEGIN"),
    writing=("BEGIN IMMEDIATE",),
    delete="DELETE FROM {table} WHERE rowid IN (SELECT t.rowid FROM {staged} s CROSS JOIN {table} t ON {on})",
    aliased=True,
    exact="CAST({} AS BLOB)",
    update="UPDATE {table} AS t SET {sets} FROM {staged} s WHERE {on}",
    writers="",
    # Its clock may tell a later time than a writer's that has yet to commit: of times, nothing is known.
    open=None,
    columns='SELECT name, type, "notnull" FROM pragma_table_info({table}) ORDER BY cid',
    key="SELECT name FROM pragma_table_info({table}) WHERE pk > 0 ORDER BY pk",
)  # fmt: skip
DUCKDB = Traits(
    types=STANDARD_TYPES
    | {
        "double": "DOUBLE", "int8": "TINYINT", "string": "VARCHAR", "timestamp[us]": "TIMESTAMP",
        "timestamp[us, tz=UTC]": "TIMESTAMPTZ", "time64[us]": "TIME",
    },
    bytes_text="lower(hex({}))",
    zoned_time="CAST({} AS TIMESTAMPTZ)",
    bytes="unhex({})",
    session=("SET TimeZone = 'UTC'",),
    delete="DELETE FROM {table} USING {staged} s WHERE {on}",
    writers="",
    open="",
    comment="COMMENT ON TABLE {table} IS {text}",
    columns="SELECT column_name, data_type, is_nullable = 'NO' FROM information_schema.columns WHERE table_name = {table} ORDER BY ordinal_position",
    key="SELECT unnest(constraint_column_names) FROM duckdb_constraints() WHERE table_name = {table} AND constraint_type = 'PRIMARY KEY'",
)  # fmt: skip
SQL_SERVER = Traits(
    types=STANDARD_TYPES
    | {
        "double": "FLOAT(53)", "bool": "BIT", "timestamp[us]": "DATETIME2(6)", "timestamp[us, tz=UTC]": "DATETIMEOFFSET(6)",
        "string": "NVARCHAR(MAX)", "binary": "VARBINARY(MAX)",
    },
    key_text="NVARCHAR(200)",
    text="NVARCHAR(4000)",
    time_text="CONVERT(VARCHAR(33), {}, 126)",
    bytes_text="CONVERT(VARCHAR(MAX), {}, 2)",
    time="CAST({} AS DATETIME2(7))",
    zoned_time="CAST({} AS DATETIMEOFFSET(7))",
    bytes="CONVERT(VARBINARY(8000), {}, 2)",
    limit="OFFSET 0 ROWS FETCH NEXT {count} ROWS ONLY",
    if_absent="",
    real="FLOAT(53)",
    own_text="NVARCHAR(MAX)",
    widening="ALTER TABLE {table} ALTER COLUMN {column} {type}",
    # Snapshots see one moment where the database allows them; where it does not, the server says so.
    says_begin=True,
    reading=("SET TRANSACTION ISOLATION LEVEL SNAPSHOT", "BEGIN TRANSACTION"),
    writing=("SET TRANSACTION ISOLATION LEVEL READ COMMITTED", "SET XACT_ABORT ON", "BEGIN TRANSACTION"),
    staging="SELECT TOP 0 * INTO {staged} FROM {table}",
    delete="DELETE t FROM {table} t JOIN {staged} s ON {on}",
    update="UPDATE t SET {sets} FROM {table} t JOIN {staged} s ON {on}",
    aliased=True,
    exact="CAST({} AS VARBINARY(8000))",
)  # fmt: skip
ORACLE = Traits(
    types=STANDARD_TYPES
    | {"int64": "NUMBER(19)", "string": "CLOB", "double": "BINARY_DOUBLE", "time64[us]": "VARCHAR2(15)"},
    text="VARCHAR2(4000)",
    time_text="TO_CHAR({}, 'YYYY-MM-DD HH24:MI:SS.FF6')",
    bytes_text="LOWER(RAWTOHEX({}))",
    time="TO_TIMESTAMP({}, 'YYYY-MM-DD HH24:MI:SS.FF6')",
    zoned_time="TO_TIMESTAMP_TZ({} || ' UTC', 'YYYY-MM-DD HH24:MI:SS.FF6 TZR')",
    bytes="HEXTORAW({})",
    limit="FETCH FIRST {count} ROWS ONLY",
    if_absent="",
    session=("ALTER SESSION SET TIME_ZONE = 'UTC'",),
    reading=("SET TRANSACTION READ ONLY",),
    ddl_commits=True,
    not_a_target="It keeps no empty text: an empty one becomes null there, and rows would not be what they are.",
)
SNOWFLAKE = Traits(
    types=STANDARD_TYPES
    | {
        "string": "VARCHAR",
        "binary": "BINARY",
        "timestamp[us]": "TIMESTAMP_NTZ(6)",
        "timestamp[us, tz=UTC]": "TIMESTAMP_TZ(6)",
    },
    time_text="TO_VARCHAR({}, 'YYYY-MM-DD HH24:MI:SS.FF6')",
    bytes_text="LOWER(HEX_ENCODE({}))",
    time="CAST({} AS TIMESTAMP_NTZ)",
    zoned_time="CAST({} AS TIMESTAMP_TZ)",
    bytes="TO_BINARY({}, 'HEX')",
    own_text="VARCHAR",
    widening="ALTER TABLE {table} ALTER COLUMN {column} SET DATA TYPE {type}",
    session=("ALTER SESSION SET TIMEZONE = 'UTC'",),
    says_begin=True,
    reading=("BEGIN",),
    # each statement sees what was committed when it began
    writing=("BEGIN",),
    ddl_commits=True,
    delete="DELETE FROM {table} USING {staged} s WHERE {on}",
    guard="UPDATE {formats} SET version = version WHERE part = 'target'",
    comment="COMMENT ON TABLE {table} IS {text}",
)
REDSHIFT = replace(
    POSTGRESQL,
    savepoints=False,
    types=STANDARD_TYPES
    | {
        "string": "VARCHAR(65535)",
        "binary": "VARBYTE",
        "timestamp[us]": "TIMESTAMP",
        "timestamp[us, tz=UTC]": "TIMESTAMPTZ",
    },
    text="VARCHAR",
    own_text="VARCHAR(65535)",
    bytes_text="FROM_VARBYTE({}, 'hex')",
    bytes="TO_VARBYTE({}, 'hex')",
    session=("SET timezone = 'UTC'",),
    reading=("BEGIN READ ONLY",),
    writing=("BEGIN",),
    staging="CREATE TEMPORARY TABLE {staged} (LIKE {table})",
    drop_staging="DROP TABLE {staged}",
    guard="LOCK {watermarks}",
    writers=None,
    open=None,
)
COCKROACHDB = replace(
    POSTGRESQL,
    types=STANDARD_TYPES
    | {"string": "STRING", "binary": "BYTES", "timestamp[us]": "TIMESTAMP", "timestamp[us, tz=UTC]": "TIMESTAMPTZ"},
    session=("SET TIME ZONE 'UTC'", "SET experimental_enable_temp_tables = 'on'"),
    reading=("BEGIN READ ONLY",),
    writing=("BEGIN",),
    ddl_commits=True,  # changes of tables within a transaction may fail after it
    staging="CREATE TEMPORARY TABLE {staged} AS SELECT * FROM {table} WHERE 1 = 0",
    drop_staging="DROP TABLE {staged}",
    writers=None,
    open=None,
)
BIGQUERY = Traits(
    text="STRING",
    time_text="CAST({} AS STRING)",
    bytes_text="TO_HEX({})",
    time="CAST({} AS DATETIME)",
    zoned_time="CAST({} AS TIMESTAMP)",
    bytes="FROM_HEX({})",
    # each statement sees what was there when it began
    not_a_target="Its driver makes each statement a transaction of its own: rows and watermark could not be one commit.",
)
# By the name that SQLAlchemy gives the database.
KNOWN = {
    "postgresql": POSTGRESQL, "mysql": MYSQL, "mariadb": MYSQL, "sqlite": SQLITE, "duckdb": DUCKDB, "mssql": SQL_SERVER,
    "oracle": ORACLE, "snowflake": SNOWFLAKE, "redshift": REDSHIFT, "cockroachdb": COCKROACHDB, "bigquery": BIGQUERY,
}  # fmt: skip


def with_order(sql: str) -> str:
    """A query of first rows as SQL Server takes it: it must say in which order, if only that it does not matter."""
    if " OFFSET 0 ROWS" not in sql or re.search(r"\bORDER BY\b", sql):
        return sql
    return sql.replace(" OFFSET 0 ROWS", " ORDER BY (SELECT NULL) OFFSET 0 ROWS")
