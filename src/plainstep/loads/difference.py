"""What differs between a load's source and its target, and what that asks of the target."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING, cast

from plainstep.core.changes.ops import ROW
from plainstep.core.changes.parts import NetParts
from plainstep.core.diff import changes_of, compared, keyed, net_of, told_apart
from plainstep.core.shapes.base import StepContext, WindowParts
from plainstep.core.shapes.mirror import merged
from plainstep.core.tolerance import rounded
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.parted import PartedCollapser, ordered, settled
from plainstep.loads.rounds import kept
from plainstep.progress import counted

if TYPE_CHECKING:
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.diff import Comparison, Scope
    from plainstep.core.positions import Watermark
    from plainstep.core.shapes.base import Shape, TargetTable
    from plainstep.core.shapes.edits import Edits
    from plainstep.core.shapes.rollup import Rollup
    from plainstep.loads.load import Load
    from plainstep.loads.states import LoadState
    from plainstep.loads.target_rows import TargetRows


def differences_of(
    state: LoadState, rows: Iterable[pa.RecordBatch], now: StepContext
) -> tuple[NetParts, list[Sequence[Edits]]]:
    """What must happen to a target so that it is what its shape makes of some rows.

    Returns:
        The differences, and the edits of each of the shape's tables, round after round.

    Raises:
        Refused: the shape keeps nothing that could be compared.
    """
    shape, held = state.shape, state.held
    if not shape.keeps_rows:
        return _groups_of(state, rows)
    with _both(state.load, shape, shape.living(held), rows) as found:
        net = net_parts(found)
    return net, _merging(state, net, now)


def net_parts(found: Comparison) -> NetParts:
    """All differences as net changes that make the target equal the source."""
    collapser = PartedCollapser(found.key)
    for changes in changes_of(found):
        collapser.add(changes)
    return collapser.result()


def _merging(state: LoadState, net: NetParts, now: StepContext) -> list[Sequence[Edits]]:
    """What merges differences, as if all of them had come about at one position."""
    there = settled(net, lambda one: one.standing_at(now.position, now.changed_at))
    found = WindowParts(there, partial(ordered, there))
    return kept(state.shape.rounds(found, now, state.held), sure=False)


def _both(
    load: Load,
    shape: Shape,
    target: Iterable[pa.RecordBatch],
    source: Iterable[pa.RecordBatch],
    waiting: NetParts | None = None,
    undo: bool = True,
    scope: Scope | None = None,
) -> AbstractContextManager[Comparison]:
    """What a target keeps beside its source, told apart by their key; or, where they have none, by what they hold.

    Raises:
        Refused: they have none, and changes wait.
    """
    if shape.key:
        return compared(shape.key, shape.schema, target, source, waiting, undo, scope)
    if waiting is not None and len(waiting):
        raise Refused(
            f"Changes wait, and {load.config.source} is captured without a key.",
            "Which rows they are of is not known, so the target cannot be compared as it stands.",
            f"plainstep step {load.name}, then plainstep check {load.name}",
        )
    target, source = (told_apart(rows, shape.schema) for rows in (target, source))
    return compared((ROW,), keyed(shape.schema), target, source, scope=scope)


def _groups_of(state: LoadState, rows: Iterable[pa.RecordBatch]) -> tuple[NetParts, list[Sequence[Edits]]]:
    """The differences of a rollup's tables, computed anew."""
    tables, whole = state.shape.tables(), _rollup(state).whole(rows)
    nets = [_difference(state.held, table, one) for table, one in zip(tables, whole, strict=True)]
    return NetParts.of(nets[0]), [[_as_computed(*one)] for one in zip(nets, tables, whole, strict=True)]


def _difference(held: TargetRows, table: TargetTable, whole: pa.Table) -> NetChanges:
    """What differs between one of a rollup's tables and the same computed anew."""
    schema = held.schema(table.suffix)
    there = map(rounded, held.stream(table.suffix, schema))
    with compared(table.key, schema, there, map(rounded, whole.to_batches())) as found:
        return net_of(found)


def _as_computed(net: NetChanges, table: TargetTable, whole: pa.Table) -> Edits:
    """What merges differences, with rows as they were computed: they were compared in fewer digits."""
    edits, key = merged(net), list(table.key)
    if edits.put is not None:
        put = whole.join(edits.put.select(key).cast(whole.select(key).schema), key, join_type="left semi")
        edits.put, edits.new = put.select(table.schema.names), 0
    return edits


def _rollup(state: LoadState) -> Rollup:
    load = state.load
    if load.config.shape != "rollup":
        raise Refused(
            f"{load.name} makes events from changes, and a table as it stands holds no changes.",
            "There is nothing to compare.",
            f"plainstep watermark {load.name} --to X sets where it goes on.",
        )
    return cast("Rollup", state.shape)


@contextmanager
def compared_at_watermark(
    state: LoadState, source: Iterable[pa.RecordBatch], waiting: NetParts, scope: Scope | None
) -> Iterator[Comparison]:
    """The target beside its source as this stood at the watermark: what waits is undone.

    Raises:
        Refused: the shape keeps nothing that could be compared.
        ConfigError: the scope makes no sense here.
    """
    load, shape, held = state.load, state.shape, state.held
    # Where old values are not told, the keys that wait are left out instead.
    undo = waiting.has_before_images and load.source.has_before_images
    if shape.keeps_rows:
        target = counted(shape.living(held), f"{load.name}: target rows")
        with _both(load, shape, target, source, waiting, undo, scope) as found:
            yield found
        return
    rollup, table = _rollup(state), shape.tables()[0]
    if not undo and len(waiting):
        raise Refused(
            f"Changes wait, and {load.config.source} has no before images to undo them with.",
            f"What the groups of {load.name} were without them is not known.",
            f"plainstep step {load.name}, then plainstep check {load.name}",
        )
    with compared(shape.key, shape.schema, iter(()), source, waiting, undo) as rows:
        whole = rollup.whole(rows.source())
    there = map(rounded, held.stream("", held.schema("")))
    with compared(table.key, held.schema(""), there, map(rounded, whole[0].to_batches()), scope=scope) as found:
        found.whole = whole
        if scope is None or scope.all:
            beside = zip(shape.tables()[1:], whole[1:], strict=True)
            found.beside = [_difference(held, table, one) for table, one in beside]
        yield found


def repairing_edits(state: LoadState, found: Comparison, watermark: Watermark) -> list[Sequence[Edits]]:
    """What merges exactly the differences that were found."""
    if state.shape.keeps_rows:
        now = StepContext(datetime.now(UTC), watermark.step + 1, watermark.position, watermark.at, watermark.identity)
        return _merging(state, net_parts(found), now)
    nets = [net_of(found), *found.beside]
    return [[_as_computed(*one)] for one in zip(nets, state.shape.tables(), found.whole, strict=True)]
