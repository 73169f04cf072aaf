"""The life of one row: its changes, the steps that merged them, and the row as it was."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.changes.row_history import life
from plainstep.core.json_values import ready
from plainstep.core.position_labels import lies_within, shown_as
from plainstep.core.positions import Position, Window
from plainstep.core.shapes.history import stood
from plainstep.deferred import pa
from plainstep.display import html, records
from plainstep.display.records import changes as as_rows
from plainstep.display.text import many, row_told, what_changed
from plainstep.display.text import shown as value_shown
from plainstep.errors import PlainStepError, Refused
from plainstep.loads.asked_key import asked_key
from plainstep.loads.states import LoadState, state_of
from plainstep.loads.windows import label, resolve
from plainstep.sources.projected import scope_of
from plainstep.stores.records import LedgerEntry
from plainstep.stores.rows_by_key import matching
from plainstep.views.changes import read_changes, with_bad_values

if TYPE_CHECKING:
    from plainstep.core.points import Point
    from plainstep.loads.load import Load
    from plainstep.stores.api import Table


# The shapes whose targets hold the source's rows by their key.
ROWS_BY_KEY = ("mirror", "history")
# The kinds of steps after which a mirror is its source as it stood at the watermark.
MERGING = ("snapshot", "changes", "reload", "repair")


@dataclass
class Event:
    """One change of the row.

    Attributes:
        change: the change, as ``look`` shows it: position, op, at, txn, by, key, was, now, changed.
        step: the step that merged it, or None if it is waiting (or was never merged), or if that is not known.
        is_placed: whether its position tells whether a step merged it: of texts, only reading in order would.
    """

    change: dict[str, Any]
    step: LedgerEntry | None
    is_placed: bool = True

    @property
    def merged_by(self) -> int | str:
        """The number of the step that merged it, or what is known instead."""
        if self.step:
            return self.step.step
        return "waiting" if self.is_placed else "-"


@dataclass
class TraceResult:
    """The life of one row.

    Attributes:
        load: the load's name.
        key: its key, by column.
        events: its changes, oldest first, as far as they are held. A row that moved to another key is followed.
        since: changes are held after this position; what came before is not known.
        at: the position or time that was asked for, or empty.
        row: the row as it was then, or as it is at the source now; None if it was not there.
        known: whether ``row`` is known: before its first change that is held, only what that change tells is.
        target: the row as it stands at the target, or None: now, or as it stood at what was asked for, where the target keeps its versions.
        target_step: the step that had merged last then; None where it is not known, or nothing was asked for.
        holds_rows: whether the target holds rows by this key at all.
        targets: the row as it stands at the target of every other load of the same table, by the load's name.
        restore: an INSERT statement that brings the row back as it was last, where it is gone; else empty.
    """

    load: str
    key: dict[str, Any]
    events: list[Event] = field(default_factory=list)
    since: int | str = 0
    at: str = ""
    row: dict[str, Any] | None = None
    known: bool = True
    target: dict[str, Any] | None = None
    target_step: LedgerEntry | None = None
    holds_rows: bool = True
    targets: dict[str, dict[str, Any] | None] = field(default_factory=dict)
    restore: str = ""

    def __repr__(self) -> str:
        return f"<TraceResult of {self._caption}>"

    @property
    def _caption(self) -> str:
        name = ", ".join(f"{column} {value_shown(value)}" for column, value in self.key.items())
        row = row_told(self.row) if self.known else "not known"
        return f"{self.load}, {name}: {many(len(self.events), 'change')} since {self.since}. {self.at or 'Now'}: {row}"

    def _repr_html_(self) -> str:
        cells = []
        for one in self.events:
            seen, step = one.change, one.merged_by
            cells.append((seen["position"], seen["at"], seen["op"], step, what_changed(seen, tuple(self.key))))
        return html.table(self._caption, ["position", "time", "op", "step", "what changed"], cells)

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready(
            {
                "load": self.load,
                "key": self.key,
                "since": self.since,
                "events": [
                    records.change(one.change)
                    | {"step": one.step.step if one.step else None, "merged_at": one.step.at if one.step else None}
                    for one in self.events
                ],
                "at": self.at or None,
                "row": self.row,
                "known": self.known,
                "target": self.target,
                "target_step": self.target_step.step if self.target_step else None,
                "targets": self.targets,
                "restore": self.restore,
            }
        )


def trace(load: Load, key: tuple[str, ...], at: Point | None = None, beside: Sequence[Load] = ()) -> TraceResult:
    """The life of one row.

    Args:
        load: the load.
        key: the values of its key columns, in their order, as text.
        at: a position or time: the row as it was then.
        beside: other loads of the same table, whose targets are looked at, too.

    A column that holds a value that is none of its type is shown as text.

    Raises:
        ConfigError: it is not a key of this load.
    """
    state = state_of(load)
    span, columns = state.span, state.key
    wanted = asked_key(state, key)
    start = Position(span.oldest)
    upto = resolve(load, span, at) if at is not None else span.end
    if load.config.shape == "history" and upto.number < start.number:  # the history knows what was trimmed
        row, known = _in_history(state, wanted, upto)
        return TraceResult(
            load.name,
            wanted.to_pylist()[0],
            since=label(load, start),
            at="" if at is None else str(at),
            row=row,
            known=known,
        )
    if upto.number < start.number:
        result = TraceResult(load.name, wanted.to_pylist()[0], since=label(load, start), at=str(at), known=False)
        if _at_its_step(result, state, wanted, upto):  # the target keeps its versions
            return result
        raise Refused(
            f"What {load.config.source} held at {at} is not known: changes are held only after {label(load, start)}.",
            "Those before it were trimmed.",
            "--at start shows the row as it was then. A load of the shape history keeps every version.",
        )
    window = Window.between(start, upto)
    found, _ = with_bad_values(lambda one: life(lambda: read_changes(one, window, whole=False), wanted), state)
    result = TraceResult(load.name, wanted.to_pylist()[0], since=label(load, start), at="" if at is None else str(at))
    rows = as_rows(found, columns)
    steps = load.target.ledger(load.name)
    result.events = [_event(row, steps) for row in rows]
    last = _own(reversed(rows), result.key)
    if last:
        result.row = last["now"] if _of(last["now"], result.key) else None
    else:
        result.row, result.known = _before_its_changes(state, wanted, upto)
    result.holds_rows = load.config.shape in ROWS_BY_KEY
    result.target = _at_target(state, wanted)
    if at is not None:
        _at_its_step(result, state, wanted, upto)
    for other in beside:
        if other.config.shape in ROWS_BY_KEY:
            with suppress(PlainStepError):  # what is wrong with another load is not for here
                result.targets[other.name] = _at_target(LoadState(other, None, span), wanted)
    table = load.table
    # A part of a row would bring back something else.
    if table and last and last["op"] == "delete" and load.source.has_before_images and not load.narrows:
        result.restore = table.insertion(last["was"])
    return result


def _own(rows: Iterable[dict[str, Any]], key: dict[str, Any]) -> dict[str, Any] | None:
    """The first of some changes that is of this very key: others may be of keys that its row came from, or went to."""
    own = (row for row in rows if row["op"] == "truncate" or _of(row["was"], key) or _of(row["now"], key))
    return next(own, None)


def _of(image: dict[str, Any] | None, key: dict[str, Any]) -> bool:
    return image is not None and all(image.get(name) == value for name, value in key.items())


def _event(row: dict[str, Any], steps: list[LedgerEntry]) -> Event:
    """A change, with the step in whose window it lies. By numbers: where a transaction committed late, a later one may have merged it."""
    position = row["position"]
    for step in steps:
        if isinstance(position, int) and isinstance(shown_as(step.upto_shown), str):
            merged: bool | None = position <= step.upto
        else:
            merged = lies_within(str(position), step.upto_shown)
        if merged is None:
            return Event(row, None, is_placed=False)
        if merged and step.kind != "watermark":
            return Event(row, step)
    return Event(row, None)


def _before_its_changes(state: LoadState, wanted: pa.Table, upto: Position) -> tuple[dict[str, Any] | None, bool]:
    """A row of which no change is held up to a place, and whether that is known: it is as the next change found it."""
    load, head = state.load, state.span.end
    columns = tuple(wanted.column_names)
    later = as_rows(life(lambda: read_changes(state, Window.between(upto, head), whole=False), wanted), columns)
    key = wanted.to_pylist()[0]
    first = _own(later, key)
    if first:
        was = first["was"] if _of(first["was"], key) else None
        return was, load.source.has_before_images or first["op"] == "insert"
    if load.config.shape == "history" and upto.number < head.number:
        return _in_history(state, wanted, upto)
    table = load.table
    return (_row(load, table, wanted), True) if table else (None, False)


def _at_target(state: LoadState, wanted: pa.Table) -> dict[str, Any] | None:
    """The row as it stands at a load's target, if this holds rows by their key."""
    shape = state.shape
    if state.load.config.shape not in ROWS_BY_KEY or tuple(wanted.column_names) != shape.key:
        return None
    rows: list[dict[str, Any]] = state.held.rows("", shape.schema.names, wanted, shape.gone).to_pylist()
    return rows[0] if rows else None


def _at_its_step(result: TraceResult, state: LoadState, wanted: pa.Table, upto: Position) -> bool:
    """Say how the target stood at a position, where it keeps its versions; whether that is known.

    What the source held is not told by that: rows may be kept where it deleted them, and others may have written the target.
    """
    load, shown = state.load, label(state.load, upto)
    if load.config.shape != "mirror":
        return False
    steps = [one for one in load.target.ledger(load.name) if one.kind in MERGING and _is_merged(one, upto, shown)]
    pinned = load.at_step(steps[-1].step) if steps else None
    if pinned is None:
        return False
    try:
        result.target, result.target_step = _at_target(replace(state, load=pinned), wanted), steps[-1]
    except Refused:  # its files are cleaned up
        return False
    return True


def _is_merged(step: LedgerEntry, upto: Position, shown: int | str) -> bool:
    """Whether a step merged nothing that lies after a position."""
    if isinstance(shown, int):
        return step.upto <= upto.number
    return bool(lies_within(str(step.upto_shown), shown))


def _in_history(state: LoadState, wanted: pa.Table, upto: Position) -> tuple[dict[str, Any] | None, bool]:
    """The row as it stood at a place, out of the history that a load keeps, and whether that is known."""
    shape = state.shape
    found = state.held.rows("", shape.tables()[0].schema.names, wanted)
    for row in found.to_pylist():
        if stood(row, upto):
            return {name: row[name] for name in shape.schema.names}, True
    return None, False


def _row(load: Load, table: Table, wanted: pa.Table) -> dict[str, Any] | None:
    """The row with a key, as it stands in the source's table, as far as the load takes it."""

    schema, own = load.whole_source.schema(), load.whole_source.key()
    keys = wanted.rename_columns(list(own)).cast(pa.schema([schema.field(name) for name in own]))
    found = matching(table, schema, keys)
    if load.narrows:
        found = pa.Table.from_batches(scope_of(load, schema, own).rows(found.to_batches()), load.source.schema())
    rows: list[dict[str, Any]] = found.to_pylist()
    return rows[0] if rows else None
