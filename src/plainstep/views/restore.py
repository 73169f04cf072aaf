"""Statements that bring rows back to what they were before some changes. Nothing here runs them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import pa
from plainstep.display import html
from plainstep.display.text import shown as value_shown
from plainstep.errors import Refused
from plainstep.loads.states import state_of
from plainstep.loads.windows import ends
from plainstep.stores.rows_by_key import matching
from plainstep.views.changes import read_changes

if TYPE_CHECKING:
    from plainstep.core.changes.filter import Filter
    from plainstep.core.points import Point
    from plainstep.core.positions import Window
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.stores.api import Table

Row = dict[str, Any]
Key = tuple[Any, ...]


@dataclass
class RestoreResult:
    """How rows are brought back to what they were.

    Attributes:
        load: the load's name.
        table: the table at the source, as ``STORE.TABLE``.
        after, upto: the window that the changes were made in, ``(after, upto]``.
        statements: INSERT and UPDATE statements, in the order in which foreign keys accept them.
        inserts, updates: how many rows are inserted, and updated.
        already: how many rows are as they were already.
    """

    load: str
    table: str
    after: int | str
    upto: int | str
    statements: list[str] = field(default_factory=list)
    inserts: int = 0
    updates: int = 0
    already: int = 0

    def _repr_html_(self) -> str:
        caption = f"{self.table}: {self.inserts:,} rows to insert, {self.updates:,} to update"
        return html.table(caption, ["statement"], [[one] for one in self.statements[: html.SHOWN]])

    def to_sql(self) -> str:
        """A script of one transaction."""
        head = (
            f"-- Restores {self.inserts + self.updates:,} rows of {self.table} to what they were before their changes after "
            f"{self.after} up to {self.upto}.\n-- Nothing was changed by writing this. Read it, then run it in the store "
            f"{self.table.partition('.')[0]}; what it changes is captured like any other change.\n"
        )
        return "\n".join([head + "BEGIN;", *self.statements, "COMMIT;", ""])


@dataclass
class _Undone:
    """A row that is brought back: what it was before its first change that is undone, and what its last one left."""

    was: Row
    left: Row | None


def restore(load: Load, after: Point, upto: Point | None, only: Filter, over_later: bool = False) -> RestoreResult:
    """The statements that bring rows back to what they were before their updates and deletes in a window.

    Args:
        load: the load whose source the rows are of; its filter and columns do not matter.
        after, upto: the window; see ``plainstep.core.points``.
        only: which changes are undone; inserts never are.
        over_later: whether rows that changed again since are brought back, too.

    Raises:
        Refused: the changes have no before images, or rows changed again since.
    """
    load = load.unfiltered if load.narrows else load
    state = state_of(load)
    table = load.table
    if table is None or not load.source.has_before_images:
        raise Refused(
            f"Rows of {load.config.source} cannot be restored: "
            + ("the table itself is not known." if table is None else "its changes have no before images."),
            "",
            "Name it with 'rows' in the load."
            if table is None
            else "Have the source send them (PostgreSQL's log: REPLICA IDENTITY FULL).",
        )
    if not state.key:
        raise Refused(
            f"Rows of {load.config.source} cannot be restored: it is captured without a key.",
            "Nothing tells which row a change is of.",
            f"plainstep look {load.name} shows the old values.",
        )
    asked = state.window(after, upto)
    undone = _undone(state, asked, only)
    result = RestoreResult(load.name, load.config.source, *ends(load, asked))
    there = _there(state, table, undone)
    later = [
        key for key, one in undone.items() if not _same(there.get(key), one.left) or _taken(state.key, key, one, there)
    ]
    if later and not over_later:
        raise _changed_again(state.key, later)
    for key, one in reversed(undone.items()):
        _bring_back(result, table, state.key, key, one, there.get(key))
    return result


def _undone(state: LoadState, asked: Window, only: Filter) -> dict[Key, _Undone]:
    """The rows that some changes changed, by the key that the last of them left them with, in the order of these."""
    undone: dict[Key, _Undone] = {}
    names = state.schema.names
    for batch in read_changes(state, asked, whole=False):
        if (batch.op() == Op.TRUNCATE).any():
            raise Refused(
                f"{state.load.config.source} was truncated in this window, and a truncate has no before images.",
                "",
                "Choose a window before or after it: plainstep look shows its position.",
            )
        for change in only.of(batch, state.key).table.to_pylist():
            was = {name: change[WAS + name] for name in names}
            now = {name: change[NOW + name] for name in names} if change["op"] != Op.DELETE else None
            old = tuple((now if change["op"] in (Op.INSERT, Op.PUT) else was)[name] for name in state.key)  # type: ignore[index]
            if change["op"] in (Op.INSERT, Op.PUT) and old not in undone:
                continue  # a row that is new is left there; one that was deleted before came back
            before = undone.pop(old, None)
            new = old if now is None else tuple(now[name] for name in state.key)
            undone[new] = _Undone(before.was if before else was, now)
    return undone


def _there(state: LoadState, table: Table, undone: dict[Key, _Undone]) -> dict[Key, Row]:
    """The rows as they stand in the table now, of all keys that they have or had."""
    keys = {*undone, *(tuple(one.was[name] for name in state.key) for one in undone.values())}
    kinds = pa.schema([state.schema.field(name) for name in state.key])
    columns = [pa.array([key[place] for key in keys], kind.type) for place, kind in enumerate(kinds)]
    found = matching(table, state.schema, pa.table(columns, schema=kinds)).to_pylist() if keys else []
    return {tuple(row[name] for name in state.key): row for row in found}


def _taken(names: Key, key: Key, one: _Undone, there: dict[Key, Row]) -> bool:
    """Whether another row has the key that a row is brought back to."""
    old = tuple(one.was[name] for name in names)
    return old != key and old in there


def _bring_back(result: RestoreResult, table: Table, names: Key, key: Key, one: _Undone, now: Row | None) -> None:
    if now is None:
        result.statements.append(table.insertion(one.was))
        result.inserts += 1
        return
    changed = {name: value for name, value in one.was.items() if not _equal(value, now[name])}
    if not changed:
        result.already += 1
        return
    result.statements.append(table.updating(dict(zip(names, key, strict=True)), changed))
    result.updates += 1


def _same(one: Row | None, other: Row | None) -> bool:
    if one is None or other is None:
        return one is other
    return all(_equal(value, other[name]) for name, value in one.items())


def _equal(one: Any, other: Any) -> bool:
    """Whether two values are the same; NaN is itself."""
    return one == other or (one != one and other != other)


def _changed_again(names: Key, later: list[Key]) -> Refused:
    first = ", ".join(f"{name} {value_shown(value)}" for name, value in zip(names, later[0], strict=True))
    return Refused(
        f"{len(later):,} of these rows changed again since, or their keys are taken; the first has {first}.",
        "Restoring them would undo later changes, too.",
        "Choose fewer with --key, --op, --where or --upto; or add --over-later.",
    )
