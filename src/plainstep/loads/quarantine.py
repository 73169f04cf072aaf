"""Rows that were quarantined, and reading them again once the layout or the feed is right."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.changes.collapse import Collapser
from plainstep.core.changes.parts import NetParts
from plainstep.core.json_values import ready
from plainstep.core.positions import Position, Span, Window
from plainstep.core.shapes.base import WindowParts
from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.loads.commit import commit_to, entry_of
from plainstep.loads.delivery import deliver as delivering
from plainstep.loads.delivery import outbox
from plainstep.loads.planning import moment_of, window_parts
from plainstep.loads.reading import drop_applied
from plainstep.loads.states import LoadState
from plainstep.loads.step import step_together
from plainstep.loads.windows import refuse_unless_continuous, span_of
from plainstep.stores.api import LooselyTyped
from plainstep.stores.records import LeftOut

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.net import NetChanges
    from plainstep.loads.delivery.deliver import Delivery
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry, QuarantinedRow


@dataclass
class Retried:
    """What happened to rows that were quarantined.

    Attributes:
        load: the load's name.
        merged: how many fit now, and were merged; of events, how many wait to be sent again.
        left: how many still contradict the layout.
        gone: how many the feed does not hold any more.
        entry: the ledger row, if there is a new one.
        delivery: the delivery status of events, where there are any.
    """

    load: str
    merged: int
    left: int
    gone: int
    entry: LedgerEntry | None = None
    delivery: Delivery | None = None

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it: what the command line prints with ``--json``."""
        return ready({"load": self.load, "merged": self.merged, "left": self.left, "gone": self.gone})


def rows_of(load: Load) -> list[QuarantinedRow]:
    """The rows of a load that are quarantined: rows that contradict its layout, and events that could not be sent."""
    if load.config.deliver:
        return [*load.target.quarantined(load.name), *outbox.quarantined(load)]
    return load.target.quarantined(load.name)


def retry(load: Load) -> Retried:
    """Read rows that were quarantined once more, and merge what they say.

    Later changes of the same keys are merged already, and older values must not replace them. So the keys of such rows
    are collapsed anew, from all their changes up to the watermark.

    Raises:
        PlainStepError: it could not be done; nothing was written.
    """
    if load.config.deliver:
        count, delivery = delivering.send_again(load)
        return Retried(load.name, count, 0, 0, delivery=delivery)
    if isinstance(load.source, LooselyTyped):
        return _stepped(load)
    began = time.perf_counter()
    watermark = load.target.watermark(load.name)
    waiting = {row.place for row in load.target.quarantined(load.name)}
    if watermark is None or not waiting:
        return Retried(load.name, 0, 0, 0)
    state = LoadState(load, watermark, span_of(load, watermark))
    refuse_unless_continuous(load, watermark, state.span)
    window = Window.between(Position(0), watermark.reached)
    keys = _keys_at(load, window, waiting)
    left = waiting & keys.bad
    found = {place for place in waiting - keys.bad if place in keys.places}
    if not found:
        return Retried(load.name, 0, len(left), len(waiting) - len(left))
    net = _net_of(load, window, keys.table)
    if net.partial and not net.whole:
        raise Refused(
            f"Rows of {load.name} that were quarantined came in parts, and their keys were never sent whole.",
            "Later values could not be told from those that they replaced.",
            f"plainstep reload {load.name}",
        )
    span = Span(watermark.identity, 0, watermark.position, watermark.at, watermark.token)
    entry = entry_of(load, "retry", span, watermark, f"quarantined rows merged: {len(found):,}")
    net = drop_applied(state, NetParts.of(net), always=True).joined()
    counts = net.counts
    entry.inserts, entry.updates, entry.deletes = counts["insert"], counts["update"], counts["delete"]
    net = net.standing_at(watermark.position, watermark.at)
    parts = window_parts(state, WindowParts.of(net), moment_of(entry, watermark.at), strict=False)
    commit_to(state, parts, span, entry, began, lambda: LeftOut(released=sorted(found)))
    return Retried(load.name, len(found), len(left), len(waiting) - len(left) - len(found), entry)


def _stepped(load: Load) -> Retried:
    """Rows that were quarantined for a value come back with the change that fixes it: a step reads that."""
    before = {row.place for row in load.target.quarantined(load.name)}
    [outcome] = step_together([load])
    if outcome.error:
        raise outcome.error
    left = {row.place for row in load.target.quarantined(load.name)}
    return Retried(load.name, len(before - left), len(before & left), 0, outcome.entry)


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
        there = pc.is_in(changes.table["position"].cast(pa.string()), value_set=places)
        picked = changes.table.filter(there)
        found.update(map(str, picked["position"]))
        parts += [_keys_of(load, replace(changes, table=picked), side) for side in ("was.", "now.")]
    keys = pa.concat_tables(parts).group_by(list(load.source.key())).aggregate([])
    return _Keys(keys, found, {row.place for row in read.left_out().quarantined})


def _keys_of(load: Load, changes: Changes, side: str) -> pa.Table:
    columns = {name: changes.image(side, name) for name in load.source.key()}
    return pa.table(columns).drop_null()


def _net_of(load: Load, window: Window, keys: pa.Table) -> NetChanges:
    """The net changes of some keys."""
    collapser = Collapser(load.source.key())
    for changes in load.source.read(window):
        collapser.add(changes.among(keys))
    return replace(collapser.result(), truncated=False)
