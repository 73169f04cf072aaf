"""What a server must be set to so that its log tells all changes of a table; each with the statement that sets it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pymysql

from plainstep.errors import ConfigError, Refused
from plainstep.stores.mysql.catalog import Found, role
from plainstep.stores.mysql.connection import DENIED, number_of

if TYPE_CHECKING:
    from plainstep.stores.mysql.table import MysqlTable
    from plainstep.stores.mysql.wire import Wire

WANTED = {"binlog_format": "ROW", "binlog_row_image": "FULL", "binlog_row_metadata": "FULL"}
# What MySQL has beside: transactions need names, and documents must be told whole.
MYSQL_WANTED = {"gtid_mode": "ON", "binlog_row_value_options": ""}
# How names are turned on while the server runs: each step, once the one before it holds everywhere.
NAMES_ON = (
    "SET PERSIST enforce_gtid_consistency = ON; SET PERSIST gtid_mode = OFF_PERMISSIVE; SET PERSIST gtid_mode = ON_PERMISSIVE; "
    "SET PERSIST gtid_mode = ON;"
)
# The first version of MySQL that tells the names of columns in its log.
FIRST_NAMED = (8, 0, 1)
CASCADES = """
SELECT constraint_name, delete_rule, update_rule FROM information_schema.referential_constraints
WHERE constraint_schema = %s AND table_name = %s AND (delete_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT')
  OR update_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT'))
"""


def refuse_untold(connection: Wire, table: MysqlTable) -> None:
    """Refuse a table of which the log does not tell all changes.

    Raises:
        Refused: something about the server, the role or the table stands in the way.
    """
    found = table.found
    for column in found.columns:
        if column.name in table.types and table.columns[column.name].kind != column.kind:
            raise ConfigError(
                f"The load reads {column.name} of {table.place} as {table.types[column.name]}, and the log holds {column.declared}.",
                "A value of the log is read as what it was written as.",
                f'Take {column.name} out of types; or read the table with changes = "capture" or "diff".',
            )
    if not found.is_table:
        raise Refused(
            f"{table.place} is a view: the log tells of tables only.", "", "Name the tables that it is made of."
        )
    if found.engine.lower() != "innodb":
        raise Refused(
            f"{table.place} is kept by {found.engine}, which knows no transactions.",
            "Its first load would not stand at one place of the log.",
            f'ALTER TABLE {found.sql} ENGINE = InnoDB; or read it with changes = "diff".',
        )
    _refuse_settings(connection, table)
    refuse_cascades(connection, found, table.place)
    versioned = connection.first(
        "SELECT table_type FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
        [found.schema, found.name],
    )
    if versioned and versioned[0] == "SYSTEM VERSIONED":
        raise Refused(
            f"{table.place} is versioned by the server, which logs its deletes as updates.",
            "They would not be told from changes of the row.",
            "It is a table of changes already: read it with a layout that names its row start as valid_from and its row end as valid_to.",
        )


def cascade_of(connection: Wire, found: Found) -> str:
    """A foreign key by which the rows of a table change with those of another one; empty where there is none."""
    row = connection.first(CASCADES, [found.schema, found.name])
    return str(row[0]) if row else ""


def refuse_cascades(connection: Wire, found: Found, place: str) -> None:
    """Refuse a table whose rows change with those of another one.

    Raises:
        Refused: they do.
    """
    cascade = cascade_of(connection, found)
    if cascade:
        raise Refused(
            f"Rows of {place} change with those of another table: {cascade} cascades.",
            "The server writes such changes into no log, and fires no trigger for them.",
            'Read it with changes = "diff"; or make the foreign key anew without CASCADE and SET NULL.',
        )


def _refuse_settings(connection: Wire, table: MysqlTable) -> None:
    if connection.is_mysql and connection.version < FIRST_NAMED:
        raise Refused(
            f"The server of {table.place} is MySQL {'.'.join(map(str, connection.version))}, whose log does not name columns.",
            "Which values are whose is not known, if columns change.",
            'Read it with changes = "diff" or "column"; its log can be read from MySQL 8.0 on.',
        )
    wanted = WANTED | MYSQL_WANTED if connection.is_mysql else WANTED
    names = ["log_bin", *wanted]
    _, rows = connection.run(f"SELECT {', '.join(f'@@global.{name}' for name in names)}")
    told = dict(zip(names, rows[0], strict=True))
    if not told["log_bin"]:
        raise Refused(
            f"The server of {table.place} writes no binary log.",
            "Without it, nothing tells its changes.",
            'Set log_bin = ON in its configuration, under [mysqld], and start it again; or read with changes = "diff".',
        )
    for name, value in wanted.items():
        if str(told[name] or "").upper() != value:
            remedy = f"SET GLOBAL {name} = '{value}'; and the same in its configuration. Sessions that are open keep what they have."
            raise Refused(
                f"The server of {table.place} has {name} = {told[name]}.",
                "Without names (GTID), where a load stands in its log is not told."
                if name == "gtid_mode"
                else "Its log would not tell every row with all its columns.",
                NAMES_ON if name == "gtid_mode" else remedy,
            )
    _refuse_not_shown(connection, table)


def _refuse_not_shown(connection: Wire, table: MysqlTable) -> None:
    """Refuse a role that may not see the log, and a database that is left out of it."""
    try:
        status = connection.log_status()
        connection.run("SHOW BINARY LOGS")
        _refuse_unprivileged(connection, table)
    except pymysql.Error as error:
        if number_of(error) not in DENIED:
            raise
        raise _unprivileged(connection, table) from None
    only, never = (str(one or "").split(",") for one in (status[2:4] if status else ("", "")))
    if (only != [""] and table.found.schema not in only) or table.found.schema in never:
        raise Refused(
            f"The server of {table.place} leaves this database out of its log.",
            "Its settings binlog_do_db or binlog_ignore_db say so.",
            "Take them out of its configuration, and start it again.",
        )


def _refuse_unprivileged(connection: Wire, table: MysqlTable) -> None:
    """Refuse a role that may not read the log.

    Raises:
        Refused: it may not.
    """
    _, grants = connection.run("SHOW GRANTS")
    told = " ".join(str(row[0]).upper() for row in grants)
    if not any(word in told for word in ("ALL PRIVILEGES ON *.*", "REPLICATION SLAVE", "REPLICATION REPLICA")):
        raise _unprivileged(connection, table)


def _unprivileged(connection: Wire, table: MysqlTable) -> Refused:
    sees = "REPLICATION CLIENT" if connection.is_mysql else "BINLOG MONITOR"
    return Refused(
        f"The role of {table.database.name} may not read the server's log.",
        "Without it, nothing tells the changes of its tables.",
        f"GRANT REPLICATION SLAVE, {sees} ON *.* TO {role(connection)};",
    )
