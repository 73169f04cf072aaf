"""From a window of a load's source to its net changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.changes.key_moves import MovedRows
from plainstep.core.changes.ops import NOW, ROW, WAS, Op
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.repeats import Repeats
from plainstep.core.changes.unkeyed import each_a_row
from plainstep.core.diff import difference
from plainstep.core.layouts.plausibility import swapped
from plainstep.core.positions import Window
from plainstep.core.shapes.base import WindowParts
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.commit import refuse_doubt
from plainstep.loads.parted import ChangesByKey, PartedCollapser, ordered, settled
from plainstep.loads.readiness import refuse_untold
from plainstep.loads.states import LoadState
from plainstep.loads.windows import moved_by_hand
from plainstep.progress import counted
from plainstep.stores.api import LeanSource
from plainstep.stores.records import Batches, LeftOut
from plainstep.stores.spool import Spool

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.changes.parts import NetParts
    from plainstep.core.layouts.plausibility import Doubt

    Takers = Sequence[Callable[[Changes], None]]


@dataclass(frozen=True)
class WindowRead:
    """What reading a window came to.

    Attributes:
        found: what a shape is made of.
        left_out: what the reading left out, and whether it is to be doubted.
    """

    found: WindowParts
    left_out: LeftOut

    @property
    def net(self) -> NetParts:
        """The net changes."""
        return self.found.net


@dataclass(frozen=True)
class NetRead:
    """The net changes of a window, and what reading them left out."""

    net: NetParts
    left_out: LeftOut


def read_net(state: LoadState, window: Window, total: int | None = None) -> NetRead:
    """The net changes of a window, collapsed batch by batch; ``total`` says how many changes there are, if known."""
    return _collapsed(state, state.load.source.read(window), total)


def _collapsed(state: LoadState, batches: Batches, total: int | None, takers: Takers = ()) -> NetRead:
    """The net changes of some batches; each is handed to some others, too."""
    collapser = PartedCollapser(state.key or (ROW,), total)
    with closing(batches):
        for changes in counted(batches, f"{state.load.name}: changes", total):
            for take in takers:
                take(changes)
            collapser.add(changes if state.key else each_a_row(changes))
    return NetRead(collapser.result(), batches.left_out())


def _read_lean(state: LoadState, window: Window, total: int | None, takers: Takers) -> NetRead:
    """The net changes of a window, without old values where the source is quicker without them."""
    source = state.load.source
    if not isinstance(source, LeanSource):
        return _read_undoubted(state, window, total, takers)

    repeats = Repeats(source.key(), "at")
    read = _collapsed(state, source.read_lean(window), total, [*takers, repeats.add])
    if repeats.numbers and not source.in_order(repeats.numbers):
        return _collapsed(state, source.read(window), total)
    return replace(read, net=settled(read.net, lambda net: _made_sure(source, net)))


def _made_sure(source: LeanSource, net: NetChanges) -> NetChanges:
    """Net changes of which it is known whether the rows came back as they were."""
    unsure = net.unsure
    return net.made_sure(unsure, source.unchanged(*net.ends(unsure))) if len(unsure) else net


def read_window(state: LoadState, window: Window, total: int | None) -> WindowRead:
    """What a load's shape is made of: the net changes of a window, and all of them where it needs them.

    Raises:
        Refused: the shape needs old values, and the source does not tell them.
    """
    moved = MovedRows(state.key)
    read = _read_for(state, window, total, [moved.add] if state.key else [], _read_lean, _read_undoubted)
    if not moved.partial:
        return read

    def filled(state: LoadState, window: Window, total: int | None, takers: Takers) -> NetRead:
        changes = state.load.source.read(window)
        batches = Batches(moved.filled(iter(changes), _held(state, moved)), changes.left_out)
        return _collapsed(state, batches, total, takers)

    return _read_for(state, window, total, [], filled, filled)


# Reads a window's net changes, and hands its changes to others.
Reading = Callable[["LoadState", Window, "int | None", "Takers"], NetRead]


def _read_for(
    state: LoadState, window: Window, total: int | None, takers: Takers, lean: Reading, whole: Reading
) -> WindowRead:
    """What a shape is made of, read with old values only where it needs them."""
    shape = state.shape
    numbering, spool = PositionIndex(), Spool()
    takers = [*takers, numbering.add] if shape.placed else takers
    if not shape.every_change and not shape.old_values:
        read = lean(state, window, total, takers)
        return WindowRead(WindowParts(read.net, partial(ordered, read.net), None, numbering), read.left_out)
    refuse_untold(state)
    if shape.every_change:
        read = whole(state, window, total, [*takers, spool.add])
        among = ChangesByKey(spool, read.net, state.key)
        return WindowRead(WindowParts(read.net, spool, among, numbering), read.left_out)
    read = whole(state, window, total, takers)
    net = _with_old_values(state, read.net)
    return WindowRead(WindowParts(net, partial(ordered, net), None, numbering), read.left_out)


def _held(state: LoadState, moved: MovedRows) -> pa.Table | None:
    """The rows that a target holds of the keys that rows moved from, if it holds rows by their key."""
    if state.load.config.shape not in ("mirror", "history"):
        return None
    return _rows_held(state, moved.keys.select(list(state.shape.key)))


def _rows_held(state: LoadState, keys: pa.Table) -> pa.Table | None:
    """The rows of some keys that a target holds, or None if its table lacks one of their columns."""
    shape, info = state.shape, state.held.found("")
    if info is None or not {*shape.schema.names} <= {*info.schema.names}:
        return None
    return state.held.rows("", shape.schema.names, keys, shape.gone)


def _read_undoubted(state: LoadState, window: Window, total: int | None, takers: Takers) -> NetRead:
    """The net changes of a window, if they do not contradict their layout; its changes are handed to some others, too."""
    read = _collapsed(state, state.load.source.read(window), total, takers)
    if state.load.config.strict is None:
        refuse_doubtful(state, read)
    return read


def _with_old_values(state: LoadState, net: NetParts) -> NetParts:
    """Net changes with old values from the mirror that has them, where the source does not tell them.

    Raises:
        Refused: the mirror does not stand where the load stands.
    """
    load = state.load
    mirror = load.old_values
    if load.source.has_before_images or mirror is None:
        return net
    mine, other = state.watermark, mirror.target.watermark(mirror.name)
    if (mine.reached if mine else None) != (other.reached if other else None):
        raise Refused(
            f"{load.name} takes old values from {mirror.name}, whose watermark is another: they are not those before this window.",
            "",
            f"Put both in a group, so that they step together; then plainstep reload {mirror.name}, "
            f"plainstep watermark {load.name} --to head --yes, plainstep reload {load.name}.",
        )

    there = LoadState(mirror, other, state.span)
    names, gone = there.shape.schema.names, there.shape.gone
    return settled(net, lambda one: one.with_old(there.held.rows("", names, one.keys_of(one.every), gone)))


def drop_applied(state: LoadState, net: NetParts, always: bool = False) -> NetParts:
    """Of net changes that may be merged already, what is not: each is compared with the row at the target.

    Args:
        state: the load's state.
        net: the net changes.
        always: compare, even if the source never reads again what was merged.
    """
    overlaps = state.load.source.overlaps
    if not (overlaps or always) or (net.partial and not net.whole) or net.truncated or not state.shape.keeps_rows:
        return net
    told = replace(net.told, read=0) if overlaps else net.told  # what was read before is not read now
    return settled(replace(net, told=told), lambda one: _not_applied(state, one, overlaps))


def _not_applied(state: LoadState, net: NetChanges, overlaps: bool) -> NetChanges:
    held = _rows_held(state, net.keys_of(net.every))
    if held is None:
        return net
    rows = net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(held.schema.names).cast(held.schema)
    found, _ = difference(net.key, held.schema, held.to_batches(), rows.to_batches())
    table = found.state
    ones = pa.array([1] * table.num_rows, pa.int64())
    table = table.set_column(table.schema.get_field_index("count"), "count", ones)
    return replace(found, state=table, read=len(found) if overlaps else net.read)


def refuse_doubtful(state: LoadState, read: NetRead) -> None:
    """Refuse a window of a feed whose layout does not fit it.

    Raises:
        Refused: its changes do not follow on each other, or do not find at the target what they say.
    """
    load = state.load
    if load.source.is_managed or load.source.overlaps:
        return
    found = read.left_out.doubt
    if not found and not moved_by_hand(load):
        found = _unlike_the_target(state, read.net.first)
    refuse_doubt(load, found)


# Rows that are looked up at the target to see whether a feed's old values are what is there.
LOOKED_UP = 1000


def _unlike_the_target(state: LoadState, net: NetChanges) -> Doubt | None:
    rows = net.rows(Op.UPDATE)[:LOOKED_UP]
    if not state.load.source.has_before_images or net.partial or net.truncated or not len(rows):
        return None
    held = _rows_held(state, net.keys_of(rows))
    if held is None:
        return None
    was, now = (net.images(side, rows).select(held.schema.names).cast(held.schema) for side in (WAS, NOW))
    return swapped(was, now, held, net.key)
