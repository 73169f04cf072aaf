"""Collapsing a window that may be larger than memory: what does not fit goes to disk, and is gone through key range by key range.

Batches are collapsed in memory for as long as their keys fit. Then they are put aside as a run, in the order of their keys' ranks,
and the next run begins. In the end, the runs' pieces of one range of keys after the other are collapsed, each range no larger than
what fits. Collapsing is associative, so a run is what any other window is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial

from plainstep.copying import replace
from plainstep.core.arrays import flat
from plainstep.core.changes import keys, ranks
from plainstep.core.changes.batch import Changes, gathered
from plainstep.core.changes.collapse import Collapser, merged
from plainstep.core.changes.events import keys_of
from plainstep.core.changes.key_moves import moves_apart
from plainstep.core.changes.net import KEY, NetChanges
from plainstep.core.changes.ops import Op
from plainstep.core.changes.parts import AT_ONCE, EVERY, NetPart, NetParts, Totals, in_batches, in_order
from plainstep.core.changes.ranks import Range
from plainstep.deferred import np, pa
from plainstep.errors import DataError
from plainstep.stores.spool import Kept, Shelf
from plainstep.workspace import workspace

# A run is put aside in pieces, of which so many fit in memory. A range holds a part of a piece of every run, so that these are to be
# small; and so many parts of each are told apart, as if its keys were spread evenly.
PIECES, SPREAD = 128, 4
# Beside a row that is put aside: its key's rank.
RANK = "plainstep.rank"


@dataclass(frozen=True)
class _Piece:
    """Some rows of a run, and the ranks of the first and the last of them."""

    kept: Kept
    first: int
    last: int


@dataclass(frozen=True)
class _Run:
    """What was collapsed in memory, put aside: without its rows, and these in pieces by rank."""

    bare: NetChanges
    pieces: list[_Piece]


class PartedCollapser:
    """Collapses a window batch by batch, in memory for no more keys than fit.

    Args:
        key: the columns that tell rows apart.
        total: how many changes there are, if known: for the room that they need.
    """

    def __init__(self, key: Sequence[str], total: int | None = None) -> None:
        self._collapser = Collapser(key, workspace.rows)
        self._runs: list[_Run] = []
        self._shelf = Shelf()
        self._total, self._seen = total, 0
        self._told = Totals()

    def add(self, changes: Changes) -> None:
        """Add the next batch, in reading order.

        Raises:
            DataError: see ``Collapser.add``.
            Refused: there is no room for what does not fit in memory.
        """
        self._seen += len(changes)
        self._collapser.add(changes)
        if self._collapser.is_full:
            self._put_aside()

    def result(self) -> NetParts:
        """The net changes of all batches."""
        if not self._runs:
            return NetParts.of(self._collapser.result())
        if not self._collapser.is_empty:
            self._put_aside()
        return shelved(self._collapsed(), self._told)

    def _collapsed(self) -> Iterator[tuple[Range, NetChanges]]:
        for which in _ranges([piece for run in self._runs for piece in run.pieces]):
            yield which, merged([replace(run.bare, state=self._rows(run, which)) for run in self._runs])

    def _put_aside(self) -> None:
        net = self._collapser.taken()
        self._told = self._told.after(net)
        if net.truncated:  # every key before it is gone
            self._runs, self._shelf = [], Shelf()
        elif not self._runs:
            self._expect(net)
        else:
            _refuse_other_types(self._runs[0].bare, net)
        found = ranks.ranks([flat(net.state[KEY + name]) for name in net.key])
        order = np.argsort(found)
        columns = dict(zip(net.state.column_names, net.state.columns, strict=True))
        table, found = pa.table(keys.take_all(columns, pa.array(order))), found[order]
        table = table.append_column(RANK, pa.array(found))
        pieces = []
        size = max(1, min(AT_ONCE, len(found) * workspace.rows // PIECES // max(table.nbytes, 1)))
        for start in range(0, len(found), size):
            some = table.slice(start, size)
            pieces.append(_Piece(self._shelf.put(some), int(found[start]), int(found[start + some.num_rows - 1])))
        bare = replace(net, state=net.state.schema.empty_table(), read=0, contradictions=0, truncated=False)
        self._runs.append(_Run(bare, pieces))

    def _expect(self, net: NetChanges) -> None:
        """Refuse at once what there will be no room for, as far as that shows: twice, for runs are collapsed into parts."""
        left = max((self._total or 0) / max(self._seen, 1), 1)
        self._shelf.expect(int(2 * net.state.nbytes * left))

    def _rows(self, run: _Run, which: Range) -> pa.Table:
        """The rows of a run whose ranks lie in a range."""
        low, high = which
        found = [run.bare.state]
        for piece in run.pieces:
            if piece.first < high and piece.last >= low:
                table = self._shelf.get(piece.kept)
                inside = ranks.within(table[RANK].to_numpy(), which)
                found.append((table if inside.all() else table.filter(pa.array(inside))).drop_columns(RANK))
        return pa.concat_tables(found)


def _refuse_other_types(before: NetChanges, net: NetChanges) -> None:
    """Refuse keys of other types than before: one may stand in two ranges then.

    Raises:
        DataError: they are.
    """
    for name in net.key:
        was, now = (one.state.schema.field(KEY + name).type for one in (before, net))
        if was != now:
            raise DataError(f"The key column {name!r} holds {was} in some changes of the window, and {now} in others.")


def _ranges(pieces: list[_Piece]) -> Iterator[Range]:
    """Ranges of ranks that together are all, each with pieces that fit in memory, as far as ranks tell keys apart."""
    low, held = 0, 0.0
    begins = (
        (piece.first + (piece.last - piece.first) * part // SPREAD, piece.kept.nbytes / SPREAD)
        for piece in pieces
        for part in range(SPREAD)
    )
    for begin, nbytes in sorted(begins):
        if held + nbytes > workspace.rows and begin > low and held:
            yield low, begin
            low, held = begin, 0.0
        held += nbytes
    yield low, ranks.END


def shelved(nets: Iterable[tuple[Range, NetChanges]], told: Totals) -> NetParts:
    """Net changes by ranges of keys, put aside one after the other.

    Args:
        nets: these.
        told: what is told of the whole window, beside what its parts tell.
    """
    shelf, parts = Shelf(), list[NetPart]()

    def put() -> Iterator[NetChanges]:
        for which, net in nets:
            parts.append(NetPart(which, _reader(shelf, replace(net, truncated=told.truncated))))
            yield net

    return NetParts.among(parts, put(), told)


def _reader(shelf: Shelf, net: NetChanges) -> Callable[[], NetChanges]:
    kept, bare = shelf.put(net.state), replace(net, state=net.state.schema.empty_table())
    return lambda: replace(bare, state=shelf.get(kept))


def settled(parts: NetParts, settle: Callable[[NetChanges], NetChanges]) -> NetParts:
    """The net changes that a function makes of each part."""
    if len(parts.parts) == 1:
        net = settle(parts.first)
        return NetParts.among([NetPart(EVERY, lambda: net)], [net], parts.told)
    return shelved(((part.ranks, settle(part.read())) for part in parts.parts), parts.told)


def ordered(parts: NetParts) -> Iterator[Changes]:
    """The net changes as changes, in the order in which they came about. A truncate is not among them."""
    if len(parts.parts) == 1:
        yield parts.first.as_changes()
        return
    shelf = Shelf()
    kept = [[shelf.put(some.table) for some in in_batches(net.as_changes())] for net in parts]
    yield from in_order([partial(_each, shelf, some) for some in kept])


def _each(shelf: Shelf, kept: list[Kept]) -> Iterator[Changes]:
    return (Changes(shelf.get(one)) for one in kept)


class ChangesByKey:
    """All changes of a window, by ranges of keys.

    Args:
        changes: gives them, in reading order.
        net: their net changes, whose parts the ranges are.
        key: the columns that tell rows apart.
    """

    def __init__(self, changes: Callable[[], Iterator[Changes]], net: NetParts, key: Sequence[str]) -> None:
        self._changes, self._key = changes, list(key)
        self._ranges = [part.ranks for part in net.parts]
        self._shelf = Shelf()
        self._kept: dict[Range, list[Kept]] = {}

    def __call__(self, which: Range) -> Iterator[Changes]:
        """The changes of the keys of a range, in reading order; one that moves a row to another key is a delete and an insert."""
        if len(self._ranges) == 1:
            return self._changes()
        if not self._kept:
            self._put_aside()
        return _each(self._shelf, self._kept[which])

    def _put_aside(self) -> None:
        self._kept = {which: [] for which in self._ranges}
        for changes in gathered(self._changes(), AT_ONCE):
            apart = moves_apart(changes, self._key)
            everywhere = apart.op() == Op.TRUNCATE
            found = np.zeros(len(apart), dtype=np.uint64)
            found[~everywhere] = ranks.ranks([one.filter(pa.array(~everywhere)) for one in keys_of(apart, self._key)])
            for which, kept in self._kept.items():
                mine = ranks.within(found, which) | everywhere
                kept.append(self._shelf.put(apart.table.filter(pa.array(mine))))
