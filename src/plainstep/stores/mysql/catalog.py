"""What is in a database: its tables, their columns, and what makes rows unique."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from typing import TYPE_CHECKING

from plainstep.errors import DataError, Refused
from plainstep.stores import declared_types
from plainstep.stores.mysql.dialect import DIALECT
from plainstep.stores.mysql.types import SPATIAL, Column, arrow_type, base_of

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Wire

# What Plain Step keeps beside the tables of others.
OURS = "plainstep_"


@dataclass(frozen=True)
class Found:
    """A table or view as it stands.

    Attributes:
        schema, name: where it is, and what it is called.
        is_table: whether it is a table that holds rows of its own.
        columns: its columns.
        uniques: the columns that are unique together; the primary key first, if there is one.
        other_uniques: whether some are unique by their beginnings, or only in part.
        primary: the primary key, or nothing.
        comment: what was said of it.
        engine: what keeps its rows.
        folds: whether names of tables are the same in large and in small letters.
    """

    schema: str
    name: str
    is_table: bool
    columns: list[Column]
    uniques: list[tuple[str, ...]]
    other_uniques: bool
    primary: tuple[str, ...]
    comment: str
    engine: str
    folds: bool

    @property
    def sql(self) -> str:
        """Its name, as SQL writes it."""
        return f"{DIALECT.quoted(self.schema)}.{DIALECT.quoted(self.name)}"

    @property
    def names(self) -> list[str]:
        """Its columns' names."""
        return [column.name for column in self.columns]


COLUMNS = """
SELECT c.column_name, c.column_type, c.collation_name, c.character_set_name, c.is_nullable = 'NO', c.extra
FROM information_schema.columns c WHERE c.table_schema = %s AND c.table_name = %s ORDER BY c.ordinal_position
"""
UNIQUES = """
SELECT s.index_name, s.column_name, s.sub_part IS NULL FROM information_schema.statistics s
WHERE s.table_schema = %s AND s.table_name = %s AND s.non_unique = 0 ORDER BY s.index_name <> 'PRIMARY', s.index_name, s.seq_in_index
"""


def find(connection: Wire, name: str) -> Found | None:
    """A table of the connection's own database, or None if there is none."""
    _, rows = connection.run(
        "SELECT table_schema, table_name, table_type, table_comment, engine, @@lower_case_table_names "
        "FROM information_schema.tables WHERE table_schema = database() AND table_name = %s",
        [name],
    )
    # The catalogue does not tell large letters from small ones; the server's tables may be told apart by them.
    fitting = [row for row in rows if row[1] == name or row[5]]
    if not fitting:
        return None
    schema, exact, kind, comment, engine, folds = fitting[0]
    _, rows = connection.run(COLUMNS, [schema, exact])
    columns = [_column(*row) for row in rows]
    uniques: dict[str, list[str]] = {}
    cut = set()
    for index, column, whole in connection.run(UNIQUES, [schema, exact])[1]:
        uniques.setdefault(index, []).append(column)
        cut |= set() if whole else {index}
    primary = tuple(uniques.get("PRIMARY", ()))
    sound = [tuple(names) for index, names in uniques.items() if index not in cut]
    is_table = kind in ("BASE TABLE", "SYSTEM VERSIONED")
    return Found(schema, exact, is_table, columns, sound, bool(cut), primary, comment or "", engine or "", bool(folds))


def _column(name: str, declared: str, collation: str | None, charset: str | None, not_null: int, extra: str) -> Column:
    plain = declared if declared.startswith(("enum", "set")) else declared.lower()
    generated = "GENERATED" in (extra or "") and "DEFAULT_GENERATED" not in extra
    return Column(name, plain, arrow_type(plain), collation or "", charset or "", bool(not_null), generated)


def existing(connection: Wire, name: str, store: str) -> Found:
    """A table or view.

    Raises:
        Refused: it is not there.
    """
    found = find(connection, name)
    if found is not None:
        return found
    known = tables(connection)
    near = difflib.get_close_matches(name, known, 1)
    raise Refused(
        f"There is no table {name!r} in {store}.",
        f"Did you mean {near[0]!r}?" if near else "",
        f"Its tables: {', '.join(known[:20]) or 'none'}.",
    )


def tables(connection: Wire) -> list[str]:
    """The tables of the connection's own database, without Plain Step's own."""
    _, rows = connection.run(
        "SELECT table_name FROM information_schema.tables WHERE table_schema = database() "
        "AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') ORDER BY table_name"
    )
    return [name for (name,) in rows if not name.startswith(OURS)]


def role(connection: Wire) -> str:
    """The role of a connection, as SQL writes it."""
    row = connection.first("SELECT current_user()")
    name, _, host = str(row[0]).rpartition("@") if row else ("", "", "")
    return f"{DIALECT.string(name)}@{DIALECT.string(host)}"


def typed(columns: list[Column], types: dict[str, str], place: str) -> list[Column]:
    """Columns as they are read: some as something else than they are declared as.

    Raises:
        DataError: one of them holds what has no equivalent in other stores.
    """
    found = []
    for column in columns:
        kind = (
            declared_types.arrow_type(place, column.name, types[column.name]) if column.name in types else column.kind
        )
        if base_of(column.declared) in SPATIAL and column.name not in types:
            raise DataError(
                f"The column {column.name} of {place} is {column.declared}, which has no equivalent in other stores.",
                "Merging it would change it.",
                f'Leave it out with a view, or take it as text: types = {{ "{column.name}" = "TEXT" }} in the load.',
            )
        found.append(
            Column(
                column.name, column.declared, kind, column.collation, column.charset, column.not_null, column.generated
            )
        )
    return found
