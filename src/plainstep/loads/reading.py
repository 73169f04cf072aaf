"""From a window of a load's source to its net changes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from plainstep.core.changes.collapse import Collapser
from plainstep.core.changes.key_moves import MovedRows
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.repeats import Repeats
from plainstep.core.diff import difference
from plainstep.core.layouts.plausibility import swapped
from plainstep.core.positions import Window
from plainstep.core.shapes.base import WindowChanges
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.keys import key_of
from plainstep.loads.planning import held_by, shape_of
from plainstep.progress import counted
from plainstep.stores.api import LeanSource, LeavesOut
from plainstep.stores.records import LeftOut
from plainstep.stores.spool import Spool

if TYPE_CHECKING:
    from plainstep.core.changes.batch import Changes
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.layouts.plausibility import Doubt
    from plainstep.core.shapes.base import Shape
    from plainstep.loads.load import Load

    Takers = Sequence[Callable[[Changes], None]]


def read_net(load: Load, window: Window, total: int | None = None) -> NetChanges:
    """The net changes of a window, collapsed batch by batch; ``total`` says how many changes there are, if known."""
    return _collapsed(load, load.source.read(window), total)


def _collapsed(load: Load, batches: Iterable[Changes], total: int | None, takers: Takers = ()) -> NetChanges:
    """The net changes of some batches; each is handed to some others, too."""
    collapser = Collapser(key_of(load, load.source.schema()))
    for changes in counted(batches, f"{load.name}: changes", total):
        for take in (*takers, collapser.add):
            take(changes)
    return collapser.result()


def _read_lean(load: Load, window: Window, total: int | None, takers: Takers) -> NetChanges:
    """The net changes of a window, without old values where the source is quicker without them."""
    source = load.source
    if not isinstance(source, LeanSource):
        return _read_surely(load, window, total, takers)

    repeats = Repeats(source.key(), "at")
    net = _collapsed(load, source.read_lean(window), total, [*takers, repeats.add])
    if repeats.numbers and not source.in_order(repeats.numbers):
        return _collapsed(load, source.read(window), total)
    unsure = net.unsure
    if not len(unsure):
        return net
    return net.made_sure(unsure, source.unchanged(*net.ends(unsure)))


def read_found(load: Load, shape: Shape, window: Window, total: int | None) -> WindowChanges:
    """What a load's shape is made of: the net changes of a window, and all of them where it needs them.

    Raises:
        Refused: the shape needs old values, and the source does not tell them.
    """
    moved = MovedRows(key_of(load, load.source.schema()))
    found = _read_for(load, shape, window, total, [moved.add], None)
    if moved.partial:
        return _read_for(
            load, shape, window, total, [], lambda: moved.filled(load.source.read(window), _held(load, shape, moved))
        )
    return found


Batches = Callable[[], Iterator["Changes"]]


def _read_for(
    load: Load, shape: Shape, window: Window, total: int | None, takers: Takers, again: Batches | None
) -> WindowChanges:
    """What a shape is made of; from changes that were read before, where these are given."""
    numbering, spool = PositionIndex(), Spool()
    takers = [*takers, numbering.add] if shape.placed else takers
    read = _read_surely if again is None else partial(_collapsed_again, again)
    if not shape.every_change and not shape.old_values:
        read = _read_lean if again is None else read
        return WindowChanges(read(load, window, total, takers), None, numbering)
    _refuse_untold(load, shape)
    if shape.every_change:
        net = read(load, window, total, [*takers, spool.add])
        spool.done()
        return WindowChanges(net, spool, numbering)
    return WindowChanges(_with_old_values(load, read(load, window, total, takers)), None, numbering)


def _collapsed_again(again: Batches, load: Load, window: Window, total: int | None, takers: Takers) -> NetChanges:
    return _collapsed(load, again(), total, takers)


def _held(load: Load, shape: Shape, moved: MovedRows) -> pa.Table | None:
    """The rows that a target holds of the keys that rows moved from, if it holds rows by their key."""
    schema = shape.schema
    info = load.target.table(load.into_table, ())
    if load.config.shape not in ("mirror", "history") or info is None:
        return None
    if any(name not in info.schema.names for name in schema.names):
        return None
    return held_by(load, shape).rows("", schema.names, moved.keys.select(list(shape.key)), shape.gone)


def _read_surely(load: Load, window: Window, total: int | None, takers: Takers) -> NetChanges:
    """The net changes of a window, if they do not speak against their layout; its changes are handed to some others, too."""
    net = _collapsed(load, load.source.read(window), total, takers)
    if load.config.strict is None:
        refuse_doubtful(load, window, net)
    return net


def _refuse_untold(load: Load, shape: Shape) -> None:
    """Refuse a shape that needs old values where nothing tells them. A journal writes what there is."""
    if load.source.has_before_images or load.config.shape == "journal" or load.old_values is not None:
        return
    if shape.old_values:
        raise Refused(
            f"{load.config.source} tells no old values, and {load.name} ({load.config.shape}) is made of them.",
            "What a row was before it changed is not known.",
            'Have the source tell them (PostgreSQL\'s log: REPLICA IDENTITY FULL); or, for a rollup, old_values = "LOAD".',
        )


def _with_old_values(load: Load, net: NetChanges) -> NetChanges:
    """Net changes with old values from the mirror that has them, where the source does not tell them.

    Raises:
        Refused: the mirror does not stand where the load stands.
    """
    mirror = load.old_values
    if load.source.has_before_images or mirror is None:
        return net
    mine, other = load.target.mark(load.name), mirror.target.mark(mirror.name)
    if (mine.place if mine else None) != (other.place if other else None):
        raise Refused(
            f"{load.name} takes old values from {mirror.name}, whose mark is another: they are not those before this window.",
            "",
            f"Put both in a group, so that they step together; then plainstep reload {mirror.name}, "
            f"plainstep mark {load.name} --to head --yes, plainstep reload {load.name}.",
        )

    shape = shape_of(mirror)
    held = held_by(mirror, shape).rows("", shape.schema.names, net.keys_of(net.every), shape.gone)
    return net.with_old(held)


def drop_applied(load: Load, net: NetChanges, always: bool = False) -> NetChanges:
    """Of net changes that may be merged already, what is not: each is compared with the row at the target.

    Args:
        load: the load.
        net: the net changes.
        always: compare, even if the source never reads again what was merged.
    """

    if not (load.source.overlaps or always) or (net.partial and not net.whole) or net.truncated:
        return net
    shape = shape_of(load)
    schema = shape.schema
    info = load.target.table(load.into_table, ())
    if not shape.keeps_rows or info is None or any(name not in info.schema.names for name in schema.names):
        return net
    held = held_by(load, shape).rows("", schema.names, net.keys_of(net.every), shape.gone)
    rows = net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(schema.names).cast(held.schema)
    found, _ = difference(net.key, held.schema, held.to_batches(), rows.to_batches())
    state = found.state
    ones = pa.array([1] * state.num_rows, pa.int64())
    state = state.set_column(state.schema.get_field_index("count"), "count", ones)
    return replace(found, state=state, read=len(found) if load.source.overlaps else net.read)


def left_out(load: Load) -> LeftOut:
    """What the last reading of a load's source left out, and whether it is to be doubted."""
    return load.source.left_out() if isinstance(load.source, LeavesOut) else LeftOut()


def refuse_doubtful(load: Load, window: Window, net: NetChanges) -> None:
    """Refuse a window of a feed whose layout does not fit it.

    Raises:
        Refused: its changes do not follow on each other, or do not find at the target what they say.
    """
    source = load.source
    if source.is_managed or source.overlaps:
        return
    found = left_out(load).doubt
    if not found and not moved_by_hand(load):
        found = _unlike_the_target(load, net)
    if found:
        raise Refused(
            found.what,
            found.likely,
            f"plainstep look {load.name} shows what the layout makes of the rows; strict = false merges them all the same.",
        )


def moved_by_hand(load: Load) -> bool:
    """Whether the mark was moved by hand before this step: then what it finds at the target may well be otherwise."""
    steps = load.target.ledger(load.name, 1)
    return bool(steps) and steps[-1].kind == "mark"


# Rows that are looked up at the target to see whether a feed's old values are what is there.
LOOKED_UP = 1000


def _unlike_the_target(load: Load, net: NetChanges) -> Doubt | None:
    rows = net.rows(Op.UPDATE)[:LOOKED_UP]
    if not load.source.has_before_images or net.partial or net.truncated or not len(rows):
        return None
    shape = shape_of(load)
    schema = shape.schema
    info = load.target.table(load.into_table, net.key)
    if info is None or any(name not in info.schema.names for name in schema.names):
        return None
    held = held_by(load, shape).rows("", schema.names, net.keys_of(rows), shape.gone)
    was, now = (net.images(side, rows).select(schema.names).cast(held.schema) for side in (WAS, NOW))
    return swapped(was, now, held, net.key)
