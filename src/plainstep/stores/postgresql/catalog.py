"""What PostgreSQL knows of a table: its columns with their types, and what makes its rows unique."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, field
from typing import Any

from plainstep.errors import ConfigError, DataError, Refused
from plainstep.properties import cached_property
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.types import Column, arrow_type, spelled

# A domain is followed down to what it is made of: to read one as such would run its checks. Types that only this database has
# become text elsewhere.
COLUMNS = """
WITH RECURSIVE base(attnum, typid, typmod) AS (
    SELECT attnum, atttypid, atttypmod FROM pg_attribute
    WHERE attrelid = %(oid)s AND attnum > 0 AND NOT attisdropped
  UNION ALL
    SELECT b.attnum, t.typbasetype, t.typtypmod FROM base b JOIN pg_type t ON t.oid = b.typid WHERE t.typtype = 'd'
)
SELECT a.attname, a.attnotnull, a.attgenerated <> '',
       CASE WHEN n.nspname = 'pg_catalog' AND t.typtype <> 'c' THEN format_type(b.typid, b.typmod) ELSE 'text' END,
       format_type(a.atttypid, a.atttypmod), a.attnum,
       CASE WHEN t.typtype IN ('b', 'e') AND (t.typelem = 0 OR t.typelem < 16384) THEN format_type(b.typid, b.typmod) ELSE 'text' END,
       b.typid >= 16384,
       CASE WHEN n.nspname = 'pg_catalog' AND t.typtype = 'b' OR t.typtype = 'e' THEN a.atttypid ELSE 0 END
FROM base b
JOIN pg_type t ON t.oid = b.typid AND t.typtype <> 'd'
JOIN pg_namespace n ON n.oid = t.typnamespace
JOIN pg_attribute a ON a.attrelid = %(oid)s AND a.attnum = b.attnum
ORDER BY a.attnum
"""

# Unique keys that hold for the whole table and at once: no condition, no expression, not deferrable, no null.
UNIQUES = """
SELECT i.indisprimary, array_agg(a.attname::text ORDER BY k.place)
FROM pg_index i
CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k(attnum, place)
JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
WHERE i.indrelid = %(oid)s AND i.indisunique AND i.indimmediate AND i.indisvalid AND i.indpred IS NULL
  AND i.indexprs IS NULL AND k.place <= i.indnkeyatts
GROUP BY i.indexrelid, i.indisprimary
ORDER BY i.indisprimary DESC, i.indexrelid
"""

TABLE = """
SELECT c.oid, n.nspname, c.relname, c.relkind::text, c.relreplident::text, pg_get_userbyid(c.relowner),
    ARRAY(SELECT a.attname::text FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey)
          WHERE i.indrelid = c.oid AND i.indisreplident),
    row_security_active(c.oid), c.relrowsecurity, c.relkind = 'r' AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhparent = c.oid)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = """


@dataclass(frozen=True)
class Table:
    """A table as it stands.

    Attributes:
        oid: its number, which stays when it is renamed.
        schema, name: its name.
        kind: ``r`` a table, ``p`` a partitioned one; anything else is none.
        identity: its replica identity: ``d``, ``n``, ``f`` or ``i``.
        owner: the role that owns it.
        identity_columns: those of the index that is its replica identity.
        hides_rows: whether a row-level policy decides which of its rows this role sees.
        guarded: whether policies decide which of its rows some role sees.
        inherited: whether other tables inherit from it, so that it shows their rows too.
        columns: its columns.
        layout: name, number and type of each.
        not_null: those that are never null.
        generated: those that are computed, and cannot be written.
        uniques: sets of columns that tell its rows apart; the primary key first.
        primary: the primary key, or nothing.
        partition_names: the tables its rows lie in, if it is partitioned: their names by their numbers.
    """

    oid: int
    schema: str
    name: str
    kind: str
    identity: str
    owner: str
    identity_columns: tuple[str, ...]
    hides_rows: bool
    guarded: bool
    inherited: bool
    columns: tuple[Column, ...]
    layout: tuple[tuple[str, int, str], ...]
    not_null: frozenset[str]
    generated: frozenset[str]
    uniques: tuple[tuple[str, ...], ...]
    primary: tuple[str, ...]
    partition_names: dict[str, str] = field(default_factory=dict)

    @property
    def partitions(self) -> tuple[str, ...]:
        """The numbers of its partitions."""
        return tuple(self.partition_names)

    @property
    def sql(self) -> str:
        """The name as SQL writes it."""
        return f"{quoted(self.schema)}.{quoted(self.name)}"

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The columns' names."""
        return tuple(column.name for column in self.columns)

    def column(self, name: str) -> Column:
        """A column by its name."""
        return self.columns[self.names.index(name)]


def parts_of(table: str) -> list[str]:
    """The schema (if there is one) and the name that a configured table names.

    Args:
        table: ``tree``, ``public.tree``, or with double quotes around a part that has a dot in it.

    Raises:
        ConfigError: it has more parts than that.
    """
    found = re.findall(r'"((?:[^"]|"")+)"|([^."]+)', table)
    parts = [plain or inside.replace('""', '"') for inside, plain in found]
    if not 1 <= len(parts) <= 2 or _joined(parts) != sql_of_text(table):
        raise ConfigError(
            f"{table!r} names no table.",
            "A table of PostgreSQL is written TABLE or SCHEMA.TABLE.",
            'Put a part that has a dot or a quote in it in double quotes: "odd.name".',
        )
    return parts


def sql_of(parts: list[str]) -> str:
    """The name as SQL writes it. One without a schema is of ``public``: nothing is looked up in anybody's search path."""
    return _joined(parts if len(parts) > 1 else ["public", *parts])


def _joined(parts: list[str]) -> str:
    return ".".join(quoted(part) for part in parts)


def sql_of_text(table: str) -> str:
    """A configured name with every part in quotes, whether it was or not."""
    return re.sub(r'"((?:[^"]|"")+)"|([^."]+)', lambda match: match[0] if match[1] else f'"{match[2]}"', table)


def exists(connection: Connection, name: str) -> bool:
    """Whether there is a table of a name, as SQL writes it."""
    row = connection.execute("SELECT to_regclass(%s) IS NOT NULL", [name]).fetchone()
    return row is not None and bool(row[0])


def find(connection: Connection, table: str) -> Table | None:
    """Look a table up, or None if there is none."""
    row = connection.execute(TABLE + "to_regclass(%s)", [sql_of(parts_of(table))]).fetchone()
    return _described(connection, row) if row else None


def by_number(connection: Connection, oid: int) -> Table | None:
    """Look a table up by its number, whatever its name is now."""
    row = connection.execute(TABLE + "%s", [oid]).fetchone()
    return _described(connection, row) if row else None


def find_and_lock(connection: Connection, table: str) -> str:
    """Keep a table from being truncated or changed in its form while this transaction reads it; its name in SQL."""
    name = sql_of(parts_of(table))
    connection.execute(f"LOCK TABLE {name} IN ACCESS SHARE MODE")
    return name


def refuse_hidden_rows(connection: Connection, table: Table, place: str) -> None:
    """Refuse a table of which this role may not see every row.

    Raises:
        Refused: rows may be hidden from it.
    """
    if not table.hides_rows:
        return
    row = connection.execute("SELECT current_user").fetchone()
    role = str(row[0]) if row else ""
    raise Refused(
        f"A row-level policy decides which rows of {place} the role {role} sees.",
        "Rows that it does not see would be missing, or be taken for deleted ones.",
        f"Connect as a role that sees every row: the table's owner, or ALTER ROLE {quoted(role)} BYPASSRLS;",
    )


def refuse_inherited(table: Table, place: str) -> None:
    """Refuse a table that others inherit from.

    Raises:
        Refused: they do.
    """
    if table.inherited:
        raise Refused(
            f"Other tables inherit from {place}, so that it shows their rows too.",
            "What changes in them fires none of its triggers, and once it is published, they could not be updated.",
            "Capture each of those tables by itself; or read this one with changes = 'diff'.",
        )


def _described(connection: Connection, row: tuple[Any, ...]) -> Table:
    """A table with everything about it, from its row of ``TABLE``."""
    oid, schema, name, kind, identity, owner, identity_columns, hides_rows, guarded, inherited = row
    found = connection.execute(COLUMNS, {"oid": oid}).fetchall()
    uniques = [(primary, tuple(names)) for primary, names in connection.execute(UNIQUES, {"oid": oid}).fetchall()]
    return Table(
        oid,
        schema,
        name,
        kind,
        identity,
        owner,
        tuple(identity_columns),
        hides_rows,
        guarded,
        inherited,
        columns=tuple(
            Column(name, kind, arrow_type(kind), native, made, number)
            for name, _, _, kind, _, _, native, made, number in found
        ),
        layout=tuple((name, number, told) for name, _, _, _, told, number, *_ in found),
        not_null=frozenset(name for name, not_null, *_ in found if not_null),
        generated=frozenset(name for name, _, generated, *_ in found if generated),
        uniques=tuple(names for _, names in uniques),
        primary=next((names for primary, names in uniques if primary), ()),
        partition_names=_partitions(connection, oid) if kind == "p" else {},
    )


def _partitions(connection: Connection, oid: int) -> dict[str, str]:
    rows = connection.execute(
        "SELECT p.relid::oid::text, n.nspname, c.relname FROM pg_partition_tree(%s) p JOIN pg_class c ON c.oid = p.relid "
        "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.isleaf ORDER BY c.oid",
        [oid],
    ).fetchall()
    return {number: sql_of([schema, name]) for number, schema, name in rows}


def tables(connection: Connection) -> list[tuple[str, str]]:
    """The schema and name of all tables that are not our own; of partitioned ones, the whole."""
    return connection.execute(
        "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
        "WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.nspname NOT LIKE 'pg\\_%' "
        "AND n.nspname NOT IN ('information_schema', 'plainstep') ORDER BY 1, 2"
    ).fetchall()


def missing(connection: Connection, table: str, store: str) -> ConfigError:
    """The error for a table that is not there, with the nearest that is."""
    rows = tables(connection)
    known = {f"{schema}.{name}": f"{schema}.{name}" for schema, name in rows}
    known |= {name: name for schema, name in rows if schema == "public"}
    near = difflib.get_close_matches(table, known, 1)
    return ConfigError(
        f"There is no table {table} in {store}.",
        f"Did you mean {near[0]!r}?" if near else f"Its tables: {', '.join(sorted(set(known))[:8]) or 'none'}.",
    )


def key_of(table: Table, asked: tuple[str, ...] | None, place: str) -> tuple[str, ...]:
    """The key by which a table's changes are told apart: its primary key, the columns asked for, or none where None is asked.

    Raises:
        Refused: there is none, or nothing makes those columns unique and not null.
    """
    if asked is None:
        if not table.primary:
            return ()
        raise Refused(
            f"{table.name} has the primary key {', '.join(table.primary)}.",
            "",
            "Leave --no-key out: capture goes by that key.",
        )
    if not asked:
        if table.primary:
            return table.primary
        usable = [names for names in table.uniques if set(names) <= table.not_null]
        raise Refused(
            f"{table.name} has no primary key.",
            "Without a key, the changes of one row cannot be told from those of another.",
            f"Name columns that are unique and never null: plainstep capture on {place} --key "
            + (",".join(usable[0]) if usable else "COLUMN[,COLUMN]")
            + "; or --no-key, for a journal or events.",
        )
    unknown = [name for name in asked if name not in table.names]
    if unknown:
        raise Refused(f"{table.name} has no column {unknown[0]!r}.", "", f"Its columns: {', '.join(table.names)}.")
    lacking, first = [], []
    if not any(set(names) == set(asked) for names in table.uniques):
        lacking.append("nothing makes them unique, at once and for every row")
        first.append(f"CREATE UNIQUE INDEX ON {table.sql} ({', '.join(quoted(name) for name in asked)});")
    nullable = [name for name in asked if name not in table.not_null]
    if nullable:
        lacking.append(f"{', '.join(nullable)} may be null")
        first += [f"ALTER TABLE {table.sql} ALTER {quoted(name)} SET NOT NULL;" for name in nullable]
    if lacking:
        raise Refused(
            f"The rows of {table.name} cannot be told apart by {', '.join(asked)}: {'; '.join(lacking)}.",
            "Two rows with one key would be taken for one row, and one with a null in its key could not be found again.",
            f"Choose other columns with --key; or first: {' '.join(first)}",
        )
    return asked


def typed(columns: tuple[Column, ...], types: dict[str, str], table: str) -> list[Column]:
    """The columns, with the types that a load gives some of them instead of their own.

    Raises:
        DataError: a type is given for a column that is not there.
    """
    unknown = [name for name in types if name not in {column.name for column in columns}]
    if unknown:
        raise DataError(
            f"types names the column {unknown[0]!r}, which {table} does not have.",
            "",
            f"Its columns: {', '.join(column.name for column in columns)}.",
        )
    return [
        Column(
            column.name,
            spelled(types[column.name]),
            arrow_type(spelled(types[column.name])),
            column.native,
            column.made,
        )
        if column.name in types
        else column
        for column in columns
    ]
