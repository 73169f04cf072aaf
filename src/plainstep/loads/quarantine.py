"""Rows that were set aside: putting back those that the layout, or the feed, has been mended for."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from plainstep.core.changes.collapse import Collapser
from plainstep.core.positions import Place, Span, Window
from plainstep.core.shapes.base import WindowChanges
from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.loads.commit import commit_to, entry_of
from plainstep.loads.delivery import deliver as delivering
from plainstep.loads.delivery import outbox
from plainstep.loads.planning import moment_of, window_parts
from plainstep.loads.reading import drop_applied
from plainstep.loads.state import LoadState
from plainstep.loads.step import step_together
from plainstep.loads.windows import refuse_unless_continuous, span_of
from plainstep.stores.api import LooselyTyped
from plainstep.stores.records import LeftOut

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.net import NetChanges
    from plainstep.loads.delivery.deliver import Delivery
    from plainstep.loads.load import Load
    from plainstep.stores.records import Aside, LedgerEntry


@dataclass
class PutBack:
    """What became of rows that were set aside.

    Attributes:
        load: the load's name.
        back: how many were put back.
        left: how many still contradict the layout.
        gone: how many the feed does not hold any more.
        entry: the ledger row, if there is a new one.
        delivery: what became of events, where there are any.
    """

    load: str
    back: int
    left: int
    gone: int
    entry: LedgerEntry | None = None
    delivery: Delivery | None = None


def rows_of(load: Load) -> list[Aside]:
    """The rows of a load that are set aside: rows that contradict its layout, and events that could not be sent."""
    if load.config.deliver:
        return [*load.target.aside(load.name), *outbox.set_aside(load)]
    return load.target.aside(load.name)


def put_back(load: Load) -> PutBack:
    """Read rows that were set aside once more, and merge what they say.

    Later changes of the same keys are merged already, and older values must not replace them. So the keys of such rows
    are collapsed anew, from all their changes up to the mark.

    Raises:
        PlainStepError: it could not be done; nothing was written.
    """
    if load.config.deliver:
        count, delivery = delivering.send_again(load)
        return PutBack(load.name, count, 0, 0, delivery=delivery)
    if isinstance(load.source, LooselyTyped):
        return _stepped(load)
    began = time.perf_counter()
    mark = load.target.mark(load.name)
    waiting = {row.place for row in load.target.aside(load.name)}
    if mark is None or not waiting:
        return PutBack(load.name, 0, 0, 0)
    state = LoadState(load, mark, span_of(load, mark))
    refuse_unless_continuous(load, mark, state.span)
    window = Window.between(Place(0), mark.place)
    keys = _keys_at(load, window, waiting)
    left = waiting & keys.bad
    found = {place for place in waiting - keys.bad if place in keys.places}
    if not found:
        return PutBack(load.name, 0, len(left), len(waiting) - len(left))
    net = _net_of(load, window, keys.table)
    if net.partial and not net.whole:
        raise Refused(
            f"Rows of {load.name} that were set aside came in parts, and their keys were never sent whole.",
            "Later values could not be told from those that they replaced.",
            f"plainstep reload {load.name}",
        )
    span = Span(mark.identity, 0, mark.position, mark.at, mark.token)
    entry = entry_of(load, "back", span, mark, f"rows put back: {len(found):,}")
    net = drop_applied(state, net, always=True)
    counts = net.counts
    entry.inserts, entry.updates, entry.deletes = counts["insert"], counts["update"], counts["delete"]
    net = net.standing_at(mark.position, mark.at)
    parts = window_parts(state, WindowChanges(net), moment_of(entry, mark.at), sure=False)
    commit_to(state, parts, span, entry, began, lambda: LeftOut(back=sorted(found)))
    return PutBack(load.name, len(found), len(left), len(waiting) - len(left) - len(found), entry)


def _stepped(load: Load) -> PutBack:
    """Rows that were set aside for a value come back with the change that mends it: a step reads that."""
    before = {row.place for row in load.target.aside(load.name)}
    [outcome] = step_together([load])
    if outcome.error:
        raise outcome.error
    left = {row.place for row in load.target.aside(load.name)}
    return PutBack(load.name, len(before - left), len(before & left), 0, outcome.entry)


@dataclass
class _Keys:
    """The keys of some changes, where these stand, and where rows stand that still contradict the layout."""

    table: pa.Table
    places: set[str]
    bad: set[str]


def _keys_at(load: Load, window: Window, wanted: set[str]) -> _Keys:
    places = pa.array(sorted(wanted), pa.string())
    parts: list[pa.Table] = []
    found: set[str] = set()
    read = load.source.read(window)
    for changes in read:
        there = pc.is_in(changes.table["place"].cast(pa.string()), value_set=places)
        picked = changes.table.filter(there)
        found.update(map(str, picked["place"]))
        parts += [_keys_of(load, replace(changes, table=picked), side) for side in ("was.", "now.")]
    keys = pa.concat_tables(parts).group_by(list(load.source.key())).aggregate([])
    return _Keys(keys, found, {row.place for row in read.left_out().aside})


def _keys_of(load: Load, changes: Changes, side: str) -> pa.Table:
    columns = {name: changes.image(side, name) for name in load.source.key()}
    return pa.table(columns).drop_null()


def _net_of(load: Load, window: Window, keys: pa.Table) -> NetChanges:
    """The net changes of some keys."""
    collapser = Collapser(load.source.key())
    for changes in load.source.read(window):
        collapser.add(changes.among(keys))
    return replace(collapser.result(), truncated=False)
