"""Statements that bring rows back to what they were before some changes. Nothing here runs them."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from itertools import count
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import pa
from plainstep.display import html
from plainstep.display.text import many
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
            f"-- Restores {many(self.inserts + self.updates, 'row')} of {self.table}, as before the changes after "
            f"{self.after} up to {self.upto}.\n-- Nothing was changed by writing this. Read it, then run it in the store "
            f"{self.table.partition('.')[0]}; what it changes is captured like any other change.\n"
        )
        return "\n".join([head + "BEGIN;", *self.statements, "COMMIT;", ""])


@dataclass(frozen=True)
class _Undone:
    """A row that is brought back.

    Attributes:
        was: what it was before its first change that is undone.
        left: what the last one left of it; None where that deleted it.
        old, key: its keys in these, in ``was`` and in ``left``.
    """

    was: Row
    left: Row | None
    old: Key
    key: Key | None


def restore(load: Load, after: Point, upto: Point | None, only: Filter, over_later: bool = False) -> RestoreResult:
    """The statements that bring rows back to what they were before their updates and deletes in a window.

    Args:
        load: the load whose source the rows are of; its filter and columns do not matter.
        after, upto: the window; see ``plainstep.core.points``.
        only: which changes are undone; inserts never are.
        over_later: whether rows that changed again since are brought back, too.

    Raises:
        Refused: the changes have no before images, rows changed again since, or several had one key.
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
    _refuse_one_key(state.key, undone)
    result = RestoreResult(load.name, load.config.source, *ends(load, asked))
    there = _there(state, table, undone)
    live = {one.key for one in undone}
    later = [
        one.key or one.old
        for one in undone
        if (one.key and not _same(there.get(one.key), one.left))
        or (one.old != one.key and one.old in there and one.old not in live)
    ]
    if later and not over_later:
        raise _changed_again(state.key, later)
    waiting = _bring_back(result, table, state.key, undone, there)
    blocked = [one for one in waiting if one.old not in {other.key for other in waiting}]
    if blocked:
        raise _taken(state.key, blocked)
    for one in waiting:  # they have each other's keys: each becomes what had its key
        _state(result, table, one, dict(zip(state.key, one.old, strict=True)), there[one.old])
    return result


def _undone(state: LoadState, asked: Window, only: Filter) -> list[_Undone]:
    """The rows that some changes changed, in the order of the last of these."""
    undone: dict[int, _Undone] = {}
    # Which of them has a key, and which had it when it was deleted: another one may have it by now.
    standing: dict[Key, int] = {}
    gone: dict[Key, int] = {}
    names, numbers = state.schema.names, count()
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
            comes = change["op"] in (Op.INSERT, Op.PUT)
            old = _key_of(state.key, now if comes and now else was)
            number = standing.pop(old, gone.get(old))
            if number is None:
                if comes:
                    continue  # a row that is new is left there
                number = next(numbers)
            elif gone.get(old) == number:
                del gone[old]  # it was deleted before, and came back
            before = undone.pop(number, None)
            was, first = (before.was, before.old) if before else (was, old)
            new = _key_of(state.key, now) if now else None
            undone[number] = _Undone(was, now, first, new)
            (gone if new is None else standing)[old if new is None else new] = number
    return list(undone.values())


def _refuse_one_key(names: Key, undone: list[_Undone]) -> None:
    """Refuse where several rows had one key, each at its time."""
    times = Counter(one.old for one in undone)
    several = [key for key, count in times.items() if count > 1]
    if several:
        raise Refused(
            f"{times[several[0]]} of these rows had one key before their changes, each at its time: {_shown(names, several[0])}.",
            "Only one of them can have it again.",
            "Choose fewer with --key, --op, --where, --after or --upto.",
        )


def _there(state: LoadState, table: Table, undone: list[_Undone]) -> dict[Key, Row]:
    """The rows as they stand in the table now, of all keys that they have or had."""
    keys = {key for one in undone for key in (one.old, one.key) if key is not None}
    kinds = pa.schema([state.schema.field(name) for name in state.key])
    columns = [pa.array([key[place] for key in keys], kind.type) for place, kind in enumerate(kinds)]
    found = matching(table, state.schema, pa.table(columns, schema=kinds)).to_pylist() if keys else []
    return {_key_of(state.key, row): row for row in found}


def _bring_back(
    result: RestoreResult, table: Table, names: Key, undone: list[_Undone], there: dict[Key, Row]
) -> list[_Undone]:
    """The statements, those for what changed last first; the rows that cannot be brought back, for others have their keys."""
    waiting, moving = undone[::-1], {one.key for one in undone}
    while True:  # some wait for others to make room
        before, waiting = waiting, []
        for one in before:
            key = _standing(one, there, moving)
            if key is None:
                waiting.append(one)
                continue
            _state(result, table, one, dict(zip(names, key, strict=True)), there.pop(key, None))
            there[one.old] = one.was
            moving.discard(one.key)
        if not waiting or len(waiting) == len(before):
            return waiting


def _standing(one: _Undone, there: dict[Key, Row], moving: set[Key | None]) -> Key | None:
    """Which key the row has now that is brought back; None where another row has to be first, which makes room for it."""
    if one.key is not None and one.key in there:
        return None if one.old != one.key and one.old in there else one.key
    # It is gone. A row that has its key and does not make room came later: that one becomes what it was.
    return None if one.old in there and one.old in moving else one.old


def _state(result: RestoreResult, table: Table, one: _Undone, key: Row, now: Row | None) -> None:
    """Add the statement that brings a row back."""
    if now is None:
        result.statements.append(table.insertion(one.was))
        result.inserts += 1
        return
    changed = {name: value for name, value in one.was.items() if not _equal(value, now[name])}
    if not changed:
        result.already += 1
        return
    result.statements.append(table.updating(key, changed))
    result.updates += 1


def _key_of(names: Key, row: Row) -> Key:
    return tuple(row[name] for name in names)


def _same(one: Row | None, other: Row | None) -> bool:
    if one is None or other is None:
        return one is other
    return all(_equal(value, other[name]) for name, value in one.items())


def _equal(one: Any, other: Any) -> bool:
    """Whether two values are the same; NaN is itself."""
    return one == other or (one != one and other != other)


def _changed_again(names: Key, later: list[Key]) -> Refused:
    return Refused(
        f"{len(later):,} of these rows changed again since, or their keys are taken; the first has {_shown(names, later[0])}.",
        "Restoring them would undo later changes, too.",
        "Choose fewer with --key, --op, --where or --upto; or add --over-later.",
    )


def _taken(names: Key, blocked: list[_Undone]) -> Refused:
    return Refused(
        f"{len(blocked):,} of these rows had keys that rows have now which came later, the first of them {_shown(names, blocked[0].old)}.",
        "Two rows cannot have one key.",
        "Choose fewer with --key, --op, --where, --after or --upto, or delete what came later.",
    )


def _shown(names: Key, key: Key) -> str:
    return ", ".join(f"{name} {value_shown(value)}" for name, value in zip(names, key, strict=True))
