"""The change table of a captured table, and the triggers that write it, as SQL text.

A number that is given to each change, such as an AUTO_INCREMENT, does not rise in the order in which transactions commit, and
nothing tells which lower ones are yet to come. So the change table is versioned by transactions: the server itself writes the
number of the transaction beside each change (``rs``), and below the lowest number of those that are open, all have ended.

Changes of one row are in order by ``n``: it is drawn while the transaction holds the row's lock.
"""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import sha256

from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.stores.mysql.dialect import DIALECT
from plainstep.stores.mysql.types import Column

quoted, text = DIALECT.quoted, DIALECT.string
# Letters of a name that the server takes at most.
LONGEST = 64
# Bytes that a row of one table may have beside its texts and blobs.
WIDEST = 60_000
LARGE = {"char": "longtext", "varchar": "longtext", "binary": "longblob", "varbinary": "longblob"}


@dataclass(frozen=True)
class Captured:
    """What is captured of one table.

    Attributes:
        table: its name.
        key: the columns that tell rows apart.
        columns: the columns captured, with the types that they have.
    """

    table: str
    key: tuple[str, ...]
    columns: dict[str, str]

    @property
    def changes(self) -> str:
        """The change table's name."""
        return named("changes", self.table)

    @property
    def triggers(self) -> dict[str, str]:
        """The names of the triggers, by the operation that each records."""
        return {op: named(op, self.table) for op in ("insert", "update", "delete")}


def named(what: str, table: str) -> str:
    """The name of something that belongs to a table."""
    name = f"plainstep_{what}_{table}"
    if len(name) <= LONGEST:
        return name
    return f"{name[: LONGEST - 13]}_{sha256(table.encode()).hexdigest()[:12]}"


def table_sql(what: Captured, columns: list[Column]) -> list[str]:
    """Statements that make and begin the change table."""
    known = {column.name: column for column in columns}
    kinds = {name: known[name].native for name in what.columns}
    if sum(map(_bytes, kinds.values())) * 2 > WIDEST:  # what lies outside of the row does not count
        kinds = {name: _large(kind) for name, kind in kinds.items()}
    images = [f"{quoted(side + name)} {kind} NULL" for side in (WAS, NOW) for name, kind in kinds.items()]
    return [
        f"CREATE TABLE {quoted(what.changes)} (n BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, op TINYINT NOT NULL, "
        f"at DATETIME(6) NOT NULL, {', '.join(images)}, rs BIGINT UNSIGNED GENERATED ALWAYS AS ROW START INVISIBLE, "
        "re BIGINT UNSIGNED GENERATED ALWAYS AS ROW END INVISIBLE, PERIOD FOR SYSTEM_TIME (rs, re), KEY (rs)) "
        "ENGINE = InnoDB WITH SYSTEM VERSIONING",
        # It is never empty: one that was cleared by hand is known by the row that is missing.
        f"INSERT INTO {quoted(what.changes)} (op, at) VALUES (0, UTC_TIMESTAMP(6))",
    ]


def _bytes(kind: str) -> int:
    """How many bytes a value takes in its row, at most."""
    base, _, rest = kind.partition("(")
    size = int(rest.partition(")")[0]) if base in LARGE and rest[:1].isdigit() else 0
    return size * (1 if "binary" in base else 4) if size else 12


def _large(kind: str) -> str:
    base, bracket, rest = kind.partition("(")
    return LARGE[base] + rest.partition(")")[2] if base in LARGE and bracket else kind


def trigger_sql(what: Captured) -> dict[str, str]:
    """What each trigger does, by its name."""
    made = {"insert": (Op.INSERT, "", "NEW"), "update": (Op.UPDATE, "OLD", "NEW"), "delete": (Op.DELETE, "OLD", "")}
    return {what.triggers[op]: _record(what, *rest) for op, rest in made.items()}


def _record(what: Captured, op: Op, old: str, new: str) -> str:
    """Write one change, with the images it has."""
    names, values = [], []
    for side, row in ((WAS, old), (NOW, new)):
        if row:
            names += [quoted(side + name) for name in what.columns]
            values += [f"{row}.{quoted(name)}" for name in what.columns]
    return f"INSERT INTO {quoted(what.changes)} (op, at, {', '.join(names)}) VALUES ({int(op)}, UTC_TIMESTAMP(6), {', '.join(values)})"


def create_sql(what: Captured, name: str) -> str:
    """The statement that makes a trigger."""
    moment = next(op for op, one in what.triggers.items() if one == name)
    on = quoted(what.table)
    return f"CREATE OR REPLACE TRIGGER {quoted(name)} AFTER {moment.upper()} ON {on} FOR EACH ROW {trigger_sql(what)[name]}"
