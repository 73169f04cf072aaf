"""The raw changes of a window."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

from plainstep.copying import replace
from plainstep.core.changes.batch import Changes, concat
from plainstep.core.changes.describe import positioned
from plainstep.core.changes.ops import Op
from plainstep.core.json_values import ready
from plainstep.core.positions import Window
from plainstep.deferred import pa, pd
from plainstep.display import html, records
from plainstep.display.text import many
from plainstep.errors import BadRow, BadValue, need_pandas
from plainstep.loads.reading import drop_applied, read_net
from plainstep.loads.states import state_of
from plainstep.loads.windows import ends, times
from plainstep.progress import counted
from plainstep.stores.api import LooselyTyped
from plainstep.stores.records import Batches

if TYPE_CHECKING:
    from plainstep.core.changes.filter import Filter
    from plainstep.core.points import Point
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.stores.records import LeftOut

Part = TypeVar("Part")


@dataclass
class LookResult:
    """The raw changes of a window.

    Attributes:
        load: the load's name.
        key: its key columns.
        after, upto: the window, ``(after, upto]``.
        changes: those that are shown, oldest first.
        counts: how many there are of each operation, in the whole window.
        matching: how many of these are asked for, of each operation; None if all of them are.
        skipped: how many of those come before the ones that are shown.
        after_at, upto_at: when the changes at the window's ends were made, where that is known.
        note: how well the window could be found, where there is something to say.
    """

    load: str
    key: tuple[str, ...]
    after: int | str
    upto: int | str
    changes: Changes
    counts: dict[str, int]
    matching: dict[str, int] | None = None
    skipped: int = 0
    after_at: datetime | None = None
    upto_at: datetime | None = None
    note: str = ""

    def __repr__(self) -> str:
        return f"<LookResult of {self._caption}>"

    def _repr_html_(self) -> str:
        return html.changes(self._caption, self.changes, self.key)

    @property
    def _caption(self) -> str:
        found = "" if self.matching is None else f"{sum(self.matching.values()):,} of "
        return f"{self.load}: {found}{many(self.total, 'change')} after {self.after} up to {self.upto}"

    @property
    def total(self) -> int:
        """How many changes the window holds."""
        return sum(self.counts.values())

    @property
    def more(self) -> int:
        """How many changes come after those that are shown."""
        asked = self.total if self.matching is None else sum(self.matching.values())
        return max(asked - self.skipped - len(self.changes), 0)

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        form: dict[str, Any] = {
            "load": self.load,
            "after": self.after,
            "upto": self.upto,
            "counts": self.counts,
            "changes": [records.change(row) for row in records.changes(self.changes, self.key)],
            "more": self.more,
        }
        if self.matching is not None:
            form["matching"] = self.matching
        return ready(form | ({"note": self.note} if self.note else {}))

    def to_arrow(self) -> pa.Table:
        """The changes that are shown, in the flat form: ``position``, ``op`` (a word), ``at``, ``was.*``, ``now.*``, ``changed``."""
        return positioned(self.changes, self.key)

    def to_pandas(self) -> pd.DataFrame:
        """The same as a pandas DataFrame."""
        need_pandas()
        return self.to_arrow().to_pandas()


def look(
    load: Load,
    after: Point | None = None,
    upto: Point | None = None,
    limit: int | None = 100,
    skip: int = 0,
    only: Filter | None = None,
) -> LookResult:
    """The raw changes of a window, oldest first.

    A column that holds a value that is none of its type is shown as text; of a feed, rows that contradict the layout are left out.
    """
    state = state_of(load)
    asked, whole = state.window(after, upto), after is None and upto is None
    found, refusal = with_bad_values(
        lambda one: _look(load, one, asked, whole, limit, skip, only), state, leaves_out=True
    )
    if not refusal:
        return found
    known = refusal.removesuffix(".") in found.note
    told = "a step would be refused" if known else f"a step would be refused. {refusal}"
    return replace(found, note="; ".join(filter(None, (found.note, told))))


def with_bad_values(read: Callable[[LoadState], Part], state: LoadState, leaves_out: bool = False) -> tuple[Part, str]:
    """What is read of a load, as text where a column holds a value that does not fit it.

    Args:
        read: reads it.
        state: the load's state.
        leaves_out: whether rows that contradict the layout may be left out.

    Returns:
        What was read, and why a step would be refused for such a value, or an empty text.
    """
    refusal = ""
    while True:
        try:
            return read(state), refusal
        except BadValue as error:
            if state.load.config.types.get(error.column) == "TEXT":
                raise
            refusal = refusal or error.what
            state = replace(state, load=state.load.with_text(error.column))
        except BadRow as error:
            if not leaves_out:
                raise
            refusal, state = error.what, replace(state, load=state.load.lenient)


def _look(
    load: Load, state: LoadState, asked: Window, whole: bool, limit: int | None, skip: int, only: Filter | None
) -> LookResult:
    every: Counter[str] = Counter()
    matching: Counter[str] = Counter()
    kept: list[Changes] = []
    before, room = skip, limit
    changes = read_changes(state, asked, whole)
    for batch in changes:
        every.update(batch.counts())
        if only:
            batch = only.of(batch, state.key)
            matching.update(batch.counts())
        found = Changes(batch.table.slice(before, room))
        before = max(before - len(batch), 0)
        if len(found) or not kept:
            kept.append(found)
            room = None if room is None else room - len(found)
    note = noted(load, asked, changes.left_out())
    told = dict(matching) if only else None
    return LookResult(
        load.name, state.key, *ends(load, asked), concat(kept), dict(every), told, skip, *times(load, asked), note
    )


def flat_changes(
    load: Load, after: Point | None = None, upto: Point | None = None, only: Filter | None = None
) -> Iterator[pa.Table]:
    """The changes of a window as tables of one schema, oldest first; at least one, which may be empty.

    Yields:
        ``position``, ``op`` (a word), ``at`` (UTC), ``txn`` and ``by`` where they are told, ``was.*``, ``now.*``, and
        ``changed`` (list of column names).
    """
    state = state_of(load)
    asked = state.window(after, upto)
    state = _with_readable_columns(state, asked)
    schema = None
    for batch in read_changes(state, asked, whole=after is None and upto is None):
        table = positioned(only.of(batch, state.key) if only else batch, state.key)
        schema = schema or table.schema
        yield table.cast(schema)


def _with_readable_columns(state: LoadState, asked: Window) -> LoadState:
    """The same load, with text for the columns that hold values that do not fit: a file has one type for each."""
    if not isinstance(state.load.source, LooselyTyped):
        return state

    def readable(one: LoadState) -> LoadState:
        for _ in read_changes(one, asked, whole=False):
            pass
        return one

    return with_bad_values(readable, state)[0]


def read_changes(state: LoadState, asked: Window, whole: bool) -> Batches:
    """The changes of a window, batch by batch.

    Args:
        state: the load's state.
        asked: the window.
        whole: whether it is the window of the next step, in which what is merged already is not a change.
    """
    fresh = _fresh_keys(state, asked) if whole else None
    read = state.load.source.read(asked)
    batches = counted(read, f"{state.load.name}: changes")
    return Batches((one if fresh is None else one.among(fresh) for one in batches), read.left_out)


def _fresh_keys(state: LoadState, asked: Window) -> pa.Table | None:
    """Where a window begins before the watermark: the keys that are not at the target as they are in it."""
    if not state.load.source.overlaps:
        return None

    found = drop_applied(state, read_net(state, asked).net)
    return pa.concat_tables([net.keys_of(net.rows(*Op)) for net in found])


def noted(load: Load, asked: Window, left_out: LeftOut) -> str:
    """What there is to say of a window that was read."""
    quarantined, found = left_out.quarantined, left_out.doubt
    doubt = (
        f"a step would be refused. {found.what} {found.likely.removesuffix('.')}"
        if found and load.config.strict is None
        else ""
    )
    quarantines = "quarantine" in (load.config.on_bad_row, load.config.on_bad_value)
    which = "would be quarantined" if quarantines else "contradict the layout"
    would = f"rows that {which}: {len(quarantined):,}"
    first = f" (the first, at {quarantined[0].place}: {quarantined[0].reason})" if quarantined else ""
    return "; ".join(part for part in (asked.note, would + first if quarantined else "", doubt) if part)
