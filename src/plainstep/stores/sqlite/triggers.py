"""The triggers that write SQLite's change tables, as SQL text.

Three things are less simple than they look.

* INSERT OR REPLACE (and UPDATE OR REPLACE) removes rows without firing their delete triggers, unless the
  connection has recursive triggers on. So a BEFORE trigger notes the rows that stand in the new row's way in a
  table of *displaced* rows; an AFTER trigger writes a delete for those that are gone. An insert that was
  ignored or became an update leaves its note behind; the row's own next change takes it away.
* SQLite fires the youngest trigger first, so deletes of displaced rows are recorded before what displaced
  them. A trigger of the user's that changes the same row again must come
  after ours, or its change would be recorded before the one that caused it: see ``capture.inspect``.
* A key may be compared without regard to case: comparing with NEW or OLD on the left takes over its collation.
"""

from __future__ import annotations

from dataclasses import dataclass

from plainstep.core.words import NOW, WAS
from plainstep.stores.sql import quoted
from plainstep.stores.sqlite.catalog import Table, Unique

# Milliseconds since 1970, UTC. Cheaper than text by a third of the whole trigger.
CLOCK = "CAST((julianday('now') - 2440587.5) * 86400000 + 0.5 AS INTEGER)"


@dataclass(frozen=True)
class Captured:
    """What is captured of one table.

    Attributes:
        table: its name.
        key: the columns that tell rows apart.
        columns: the columns captured.
    """

    table: str
    key: tuple[str, ...]
    columns: tuple[str, ...]

    def called(self, names: dict[str, str]) -> Captured:
        """The same, some columns under new names."""
        key, columns = (tuple(names.get(name, name) for name in part) for part in (self.key, self.columns))
        return Captured(self.table, key, columns)

    @property
    def changes(self) -> str:
        """The change table's name."""
        return f"plainstep_changes_{self.table}"

    @property
    def displaced(self) -> str:
        """The name of the table of rows that may be replaced."""
        return f"plainstep_displaced_{self.table}"

    def trigger(self, moment: str) -> str:
        """The name of one of the triggers."""
        return f"plainstep_{moment}_{self.table}"


def tables_sql(what: Captured) -> list[str]:
    """Statements that make and begin the change table, and make the table of displaced rows.

    The columns have no declared types, so that every value is kept exactly as it stood in its row. ``seq`` is
    not AUTOINCREMENT, which makes a written row half as dear again. Instead the table is never empty: it begins
    with a row at position 0, and trimming leaves the newest row. So numbers are not given out twice, and a table
    that was cleared by hand is known by the row that is missing at a load's mark.
    """
    images = [quoted(side + name) for side in (WAS, NOW) for name in what.columns]
    plain = [quoted(name) for name in what.columns]
    return [
        f"CREATE TABLE {quoted(what.changes)} (seq INTEGER PRIMARY KEY, op TEXT NOT NULL, "
        f"at INTEGER NOT NULL, {', '.join(images)})",
        f"INSERT INTO {quoted(what.changes)} (seq, op, at) VALUES (0, 'begin', {CLOCK})",
        f"CREATE TABLE {quoted(what.displaced)} ({', '.join(plain)})",
    ]


def triggers_sql(what: Captured, table: Table) -> dict[str, str]:
    """The triggers, by name, in the order in which they are made: the last made fires first."""
    on, gone = quoted(what.table), quoted(what.displaced)
    noted = f"EXISTS (SELECT 1 FROM {gone})"
    forget_old = f"DELETE FROM {gone} WHERE {_same(what.key, 'OLD', gone)}"
    in_the_way = _in_the_way(what.table, table.uniques)
    other_in_the_way = f"({in_the_way}) AND NOT ({_same(what.key, 'OLD', on)})"
    identifying = sorted({name for unique in table.uniques for name in unique.columns} | set(what.key))
    moves = " OR ".join(f"NEW.{quoted(name)} IS NOT OLD.{quoted(name)}" for name in identifying)
    parts = [
        ("insert", "AFTER INSERT", "", [_record(what, "insert", None, "NEW")]),
        ("update", "AFTER UPDATE", "", [_record(what, "update", "OLD", "NEW")]),
        ("delete", "AFTER DELETE", "", [_record(what, "delete", "OLD", None)]),
        ("replaced_by_insert", "AFTER INSERT", noted, _record_displaced(what)),
        ("replaced_by_update", "AFTER UPDATE", noted, [forget_old, *_record_displaced(what)]),
        ("not_replaced", "AFTER DELETE", noted, [forget_old]),
        ("before_insert", "BEFORE INSERT", _exists(on, in_the_way), _note(what, in_the_way)),
        (
            "before_update",
            "BEFORE UPDATE",
            f"({moves}) AND {_exists(on, other_in_the_way)}",
            _note(what, other_in_the_way),
        ),
    ]
    return {
        what.trigger(name): _trigger(what.trigger(name), moment, on, body, when) for name, moment, when, body in parts
    }


def _trigger(name: str, moment: str, on: str, body: list[str], when: str) -> str:
    condition = f" WHEN {when}" if when else ""
    return f"CREATE TRIGGER {quoted(name)} {moment} ON {on}{condition} BEGIN {'; '.join(body)}; END"


def _record(what: Captured, op: str, old: str | None, new: str | None) -> str:
    """Write one change, with the images it has."""
    names, values = [], []
    for side, row in ((WAS, old), (NOW, new)):
        if row:
            names += [quoted(side + name) for name in what.columns]
            values += [f"{row}.{quoted(name)}" for name in what.columns]
    into = f"INSERT INTO {quoted(what.changes)} (op, at, {', '.join(names)})"
    return f"{into} VALUES ('{op}', {CLOCK}, {', '.join(values)})"


def _exists(on: str, condition: str) -> str:
    return f"EXISTS (SELECT 1 FROM {on} WHERE {condition})"


def _in_the_way(table: str, uniques: tuple[Unique, ...]) -> str:
    """Whether a row of the table stands in the way of NEW, by any unique set of columns."""
    on = quoted(table)
    sets = [
        " AND ".join(
            f"{on}.{quoted(name)} = NEW.{quoted(name)} COLLATE {collation}" for name, collation in unique.terms
        )
        for unique in uniques
    ]
    return " OR ".join(f"({terms})" for terms in sets) or "0"


def _note(what: Captured, condition: str) -> list[str]:
    """Note the rows that may be replaced. One statement replaces at a time, so older notes go."""
    names = ", ".join(quoted(name) for name in what.columns)
    return [
        f"DELETE FROM {quoted(what.displaced)}",
        f"INSERT INTO {quoted(what.displaced)} ({names}) SELECT {names} FROM {quoted(what.table)} WHERE {condition}",
    ]


def _record_displaced(what: Captured) -> list[str]:
    """Write a delete for every noted row that is gone, its key perhaps taken by the new row."""
    gone = quoted(what.displaced)
    on = quoted(what.table)
    still_there = " AND ".join(f"{on}.{quoted(name)} = {gone}.{quoted(name)}" for name in what.key)
    condition = f"({_same(what.key, 'NEW', gone)}) OR NOT EXISTS (SELECT 1 FROM {on} WHERE {still_there})"
    names = ", ".join(quoted(WAS + name) for name in what.columns)
    values = ", ".join(quoted(name) for name in what.columns)
    return [
        f"INSERT INTO {quoted(what.changes)} (op, at, {names}) "
        f"SELECT 'delete', {CLOCK}, {values} FROM {gone} WHERE {condition}",
        f"DELETE FROM {gone} WHERE {condition}",
    ]


def _same(key: tuple[str, ...], row: str, other: str) -> str:
    return " AND ".join(f"{row}.{quoted(name)} = {other}.{quoted(name)}" for name in key)
