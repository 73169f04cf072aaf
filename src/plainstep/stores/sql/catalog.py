"""What a database knows of its tables: their columns and keys, and what tells one from another of its name."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.stores import ledger as bookkeeping
from plainstep.stores.records import TableInfo
from plainstep.stores.sql.types import Column, kind_declared, kind_of

if TYPE_CHECKING:
    from plainstep.stores.sql.database import SqlDatabase

QUOTED = r'"(?:[^"]|"")+"'
# What stands in a table's comment for its identity: it goes with the table, also under another name, and with no copy.
IDENTITY = re.compile(r"\[plainstep ([0-9a-f]{32})\]")


def parts_of(name: str) -> tuple[str | None, str]:
    """The schema that a table's name tells, if it does, and the table's own. Each may stand in double quotes, as for one with a dot in it."""
    quoted = re.fullmatch(rf"(?:({QUOTED}|[^.\"]+)\.)?({QUOTED})", name)
    schema, table = quoted.groups() if quoted else name.rpartition(".")[::2]
    plain = [one[1:-1].replace('""', '"') if re.fullmatch(QUOTED, one) else one for one in (schema or "", table)]
    return plain[0] or None, plain[1]


def columns_of(database: SqlDatabase, connection: Connection, name: str) -> list[Column]:
    """The columns of a table or view; nothing where there is none."""
    traits, (schema, table) = database.traits, parts_of(name)
    if traits.columns:
        rows = connection.execute(sa.text(traits.columns.format(table=":name")), {"name": table}).fetchall()
        return [Column(one, str(told), kind_declared(name, one, str(told)), bool(sure)) for one, told, sure in rows]
    try:
        found = sa.inspect(connection).get_columns(table, schema)
    except sa.exc.NoSuchTableError:
        return []
    return [
        Column(
            one["name"],
            one["type"].compile(connection.dialect) if not isinstance(one["type"], sa.types.NullType) else "",
            kind_of(one["type"]),
            not one.get("nullable", True),
            "computed" in one,
        )
        for one in found
    ]


def keys_of(database: SqlDatabase, connection: Connection, name: str) -> list[tuple[str, ...]]:
    """What makes the rows of a table unique, its primary key first."""
    traits, (schema, table) = database.traits, parts_of(name)
    if traits.key:
        rows = connection.execute(sa.text(traits.key.format(table=":name")), {"name": table}).fetchall()
        return [tuple(one for (one,) in rows)] if rows else []
    look = sa.inspect(connection)
    try:
        primary = tuple(look.get_pk_constraint(table, schema)["constrained_columns"])
        others = [tuple(one["column_names"]) for one in look.get_unique_constraints(table, schema)]
        indexes = [
            tuple(map(str, one["column_names"]))
            for one in look.get_indexes(table, schema)
            if one["unique"] and None not in one["column_names"]
        ]
    except (NotImplementedError, sa.exc.NoSuchTableError):
        return []
    return [one for one in (primary, *others, *indexes) if one]


def sql_of(database: SqlDatabase, name: str) -> str:
    """A table's name, as SQL writes it."""
    schema, table = parts_of(name)
    return ".".join(database.dialect.quoted(one) for one in (schema, table) if one)


def tables(connection: Connection, schema: str | None = None) -> list[str]:
    """The tables of a database, without Plain Step's own."""
    look = sa.inspect(connection)
    return [name for name in look.get_table_names(schema) if not name.startswith("plainstep_")]


def kept_version(database: SqlDatabase, connection: Connection, books: bookkeeping.Books) -> int | None:
    """The format of the tables of watermarks and of steps, or None if they are not there yet."""
    there = {name for name in bookkeeping.telling(books) if columns_of(database, connection, name)}
    return bookkeeping.version_of(books, there, lambda sql: database.first(connection, sql))


def table_info(database: SqlDatabase, connection: Connection, name: str, key: tuple[str, ...]) -> TableInfo | None:
    """A table as it stands, or None if there is none.

    Raises:
        Refused: nothing makes the key unique in it.
    """
    columns = columns_of(database, connection, name)
    if not columns:
        return None
    if key and not any(set(one) == set(key) for one in keys_of(database, connection, name)):
        raise Refused(
            f"Nothing makes {', '.join(key)} unique in {database.name}.{name}.",
            "Rows are merged by key: two rows with one key would stay two.",
            f"ALTER TABLE {sql_of(database, name)} ADD UNIQUE ({', '.join(map(database.dialect.quoted, key))});",
        )
    _refuse_without_transactions(database, connection, name)
    found = database.first(connection, f"SELECT 1 FROM {sql_of(database, name)} {database.dialect.first(1)}")
    fields = [(column.name, column.kind) for column in columns if not column.computed]
    return TableInfo(pa.schema(fields), found is not None, identity_of(database, connection, name))


def _refuse_without_transactions(database: SqlDatabase, connection: Connection, name: str) -> None:
    """Refuse a table whose rows are written outside of transactions.

    Raises:
        Refused: it is one.
    """
    if database.backend not in ("mysql", "mariadb"):
        return
    schema, table = parts_of(name)
    engine = sa.inspect(connection).get_table_options(table, schema).get(f"{database.backend}_engine", "InnoDB")
    if engine != "InnoDB":
        raise Refused(
            f"{database.name}.{name} is kept by {engine}, which knows no transactions.",
            "Rows, watermark and ledger could not be one commit.",
            f"ALTER TABLE {sql_of(database, name)} ENGINE = InnoDB;",
        )


def comment_of(connection: Connection, name: str) -> str:
    """What a table's comment says; empty where there is none, or no such thing."""
    schema, table = parts_of(name)
    try:
        return str(sa.inspect(connection).get_table_comment(table, schema)["text"] or "")
    except (NotImplementedError, sa.exc.SQLAlchemyError):
        return ""


def identity_of(database: SqlDatabase, connection: Connection, name: str) -> str:
    """What tells a table from another one of its name, or empty."""
    found = IDENTITY.search(comment_of(connection, name)) if database.traits.comment else None
    return found[1] if found else ""
