"""What runs on the executors: pieces of a window are read and parted by key; what comes to one part is collapsed.

Between the two, rows cross the network as Arrow tables, packed; so their types stay as they are, whatever Spark knows of them. Each piece
is collapsed where it is read, as far as its keys fit in memory: of many changes of one key, one crosses.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.arrays import flat
from plainstep.core.changes import ranks
from plainstep.core.changes.batch import Changes, gathered
from plainstep.core.changes.collapse import Collapser, collapse, merged
from plainstep.core.changes.events import keys_of
from plainstep.core.changes.key_moves import MovedRows, moves_apart
from plainstep.core.changes.net import KEY, NetChanges
from plainstep.core.changes.ops import Op
from plainstep.core.changes.parts import NetParts, Totals
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.ranks import Range
from plainstep.deferred import np, pa
from plainstep.errors import DataError, PlainStepError, Refused
from plainstep.loads.states import LoadState
from plainstep.stores.records import LeftOut
from plainstep.workspace import workspace

if TYPE_CHECKING:
    from plainstep.stores.api import SpreadSource

# The changes of a piece are numbered from here on, times the piece's number: so they stay in order, whoever reads them.
BEGIN = 1 << 40
# Changes of a piece that are looked at to see where the ranges of keys may begin.
SAMPLE = 1 << 16


@dataclass(frozen=True)
class Job:
    """What executors are told of a window.

    Attributes:
        state: the load's state.
        begins: the ranks at which ranges of keys begin, but for the first.
        numbers: whether it is told where changes stand.
        whole: whether all changes are wanted, beside the net ones.
        memory: bytes that a process may take; 0 for a share of its machine's.
    """

    state: LoadState
    begins: tuple[int, ...] = ()
    numbers: bool = False
    whole: bool = False
    memory: int = 0

    @property
    def parts(self) -> int:
        """How many ranges there are."""
        return len(self.begins) + 1

    def range(self, part: int) -> Range:
        """One of them."""
        return (0, *self.begins)[part], (*self.begins, ranks.END)[part]

    def opened(self) -> SpreadSource:
        """The load's source, as this process sees it.

        Raises:
            Refused: its columns are not those that the step was planned with.
        """
        workspace.memory = self.memory
        source: Any = self.state.load.source
        if source.schema() != self.state.schema:
            raise Refused(
                f"The columns of {self.state.load.config.source} changed while it was read.",
                "Nothing was merged.",
                "Run the command again.",
            )
        found: SpreadSource = source
        return found


def _packed(table: pa.Table) -> bytes:
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, table.schema, options=pa.ipc.IpcWriteOptions(compression="lz4")) as writer:
        writer.write_table(table)
    return sink.getvalue().to_pybytes()


def _unpacked(data: bytes) -> pa.Table:
    return pa.ipc.open_stream(data).read_all()


@dataclass(frozen=True)
class Chunk:
    """Net changes of some keys: without their rows, and these, packed; and by what they are put in order."""

    order: tuple[int, int]
    bare: NetChanges
    data: bytes

    @staticmethod
    def of(order: tuple[int, int], net: NetChanges) -> Chunk:
        """Pack them."""
        return Chunk(order, replace(net, state=net.state.schema.empty_table()), _packed(net.state))

    def net(self) -> NetChanges:
        """Unpack them."""
        return replace(self.bare, state=_unpacked(self.data))


@dataclass(frozen=True)
class ChangesChunk:
    """Changes of some keys, packed, and by what they are put in order."""

    order: tuple[int, int]
    data: bytes

    def changes(self) -> Changes:
        """Unpack them."""
        return Changes(_unpacked(self.data))


@dataclass(frozen=True)
class PieceRead:
    """What is told of a piece that was read."""

    number: int
    told: Totals
    left_out: LeftOut
    numbering: PositionIndex | None


@dataclass(frozen=True)
class Collapsed:
    """The net changes of a range of keys, what is told of them, and all changes, where they are wanted."""

    part: int
    ranks: Range
    chunk: Chunk
    summary: NetParts
    changes: Sequence[ChangesChunk] = ()

    def each_change(self) -> Iterator[Changes]:
        """All changes, in order."""
        return (one.changes() for one in self.changes)


@dataclass(frozen=True)
class Failure:
    """What an executor raised. (Spark would do again what raises, and tell of it as text.)"""

    error: PlainStepError


def attempted(work: Callable[[Any], Any], items: Iterable[Any]) -> Iterator[Any]:
    """What a function makes of each item, or the error that it raised."""
    for item in items:
        try:
            yield work(item)
        except PlainStepError as error:
            yield Failure(error)
            return


def sampled(job: Job, piece: Any) -> list[int]:
    """The ranks of some of a piece's keys."""
    key = list(job.state.key)
    batches = job.opened().read_piece(piece)
    with closing(batches):
        first = next(gathered(batches, SAMPLE))
        found = np.sort(_ranks(collapse(first.table, key)))
    return [int(one) for one in found[:: max(len(found) // 256, 1)]]


def read(job: Job, pieces: Iterable[tuple[int, Any]]) -> Iterator[tuple[int, Any]]:
    """Read pieces. Beside the parts stands one more, for what is told of each piece.

    Yields:
        The number of a part, and a chunk of it, a ``PieceRead`` or a ``Failure``.
    """
    for number, piece in pieces:
        try:
            yield from _read(job, number, piece)
        except PlainStepError as error:
            yield job.parts, Failure(error)


def _read(job: Job, number: int, piece: Any) -> Iterator[tuple[int, Any]]:
    state = job.state
    collapser, moved = Collapser(state.key, workspace.rows), MovedRows(state.key)
    numbering = PositionIndex() if job.numbers else None
    told, count, turn = Totals(), 0, 0
    batches = job.opened().read_piece(piece)
    with closing(batches):
        for changes in batches:
            if numbering is not None:
                changes = _numbered(changes, number)
                numbering.add(changes)
            moved.add(changes)
            if moved.partial:
                raise _unfilled(state)
            count += len(changes)
            if job.whole:
                told = told.after(_told_of(changes))
                yield from _whole_chunks(job, (number, turn), changes)
                turn += 1
                continue
            collapser.add(changes)
            if collapser.is_full:
                net = collapser.taken()
                told = told.after(net)
                yield from _chunks(job, (number, turn), net)
                turn += 1
    if not collapser.is_empty:
        net = collapser.result()
        told = told.after(net)
        yield from _chunks(job, (number, turn), net)
    yield job.parts, PieceRead(number, replace(told, read=count), batches.left_out(), numbering)


def _unfilled(state: LoadState) -> Refused:
    return Refused(
        f"{state.load.config.source} sends parts of rows, and some of them moved to another key.",
        "What was left out stands in changes before them, which other executors read.",
        f"plainstep step {state.load.name} --engine local",
    )


def _numbered(changes: Changes, piece: int) -> Changes:
    """The changes of a piece, numbered as those of the whole window."""
    table = changes.table
    place = table.schema.get_field_index("seq")
    return Changes(table.set_column(place, "seq", pa.array(changes.seq() + BEGIN * piece)))


def _ranks(net: NetChanges) -> Any:
    return ranks.ranks([flat(net.state[KEY + name]) for name in net.key])


def _chunks(job: Job, order: tuple[int, int], net: NetChanges) -> Iterator[tuple[int, Chunk]]:
    """Net changes by the parts that they belong to. A truncate belongs to all; the first part has a chunk in any case."""
    bare = replace(net, read=0, contradictions=0)
    part = np.searchsorted(np.array(job.begins, dtype=np.uint64), _ranks(net), "right")
    rows = net.state.take(pa.array(np.argsort(part, kind="stable")))
    ends = np.cumsum(np.bincount(part, minlength=job.parts))
    for number, (start, end) in enumerate(zip([0, *ends[:-1]], ends, strict=True)):
        if end > start or net.truncated or number == 0:
            yield number, Chunk.of(order, replace(bare, state=rows.slice(start, end - start)))


def _told_of(changes: Changes) -> NetParts:
    """What is told of changes that are not collapsed yet."""
    last = int(changes.seq()[-1]) if len(changes) else None
    told = Totals(0, bool((changes.op() == Op.TRUNCATE).any()), 0, last)
    return NetParts((), told, told, {}, False, True, True)


def _whole_chunks(job: Job, order: tuple[int, int], changes: Changes) -> Iterator[tuple[int, ChangesChunk]]:
    """Changes by the parts that they belong to, of which those that move a row to another key are two. A truncate belongs to all."""
    key = list(job.state.key)
    apart = moves_apart(changes, key)
    everywhere = apart.op() == Op.TRUNCATE
    found = np.zeros(len(apart), dtype=np.uint64)
    found[~everywhere] = ranks.ranks([one.filter(pa.array(~everywhere)) for one in keys_of(apart, key)])
    part = np.searchsorted(np.array(job.begins, dtype=np.uint64), found, "right")
    for number in range(job.parts):
        mine = (part == number) | everywhere
        if mine.any() or number == 0:
            yield number, ChangesChunk(order, _packed(apart.table.filter(pa.array(mine))))


def collapsed(job: Job, part: int, found: Iterable[tuple[int, Any]]) -> Iterator[Any]:
    """Collapse what came to a part, in order; what is told of pieces, and what was raised, passes through.

    Yields:
        A ``Collapsed``, or any number of ``PieceRead`` and ``Failure``.
    """
    if part >= job.parts:
        yield from (one for _, one in found)
        return
    workspace.memory = job.memory
    chunks = sorted((one for _, one in found), key=lambda one: one.order)
    if not chunks:
        return
    whole = list(chunks) if job.whole else []
    try:
        net = _collapsed(job, whole) if job.whole else _merged(chunks)
    except PlainStepError as error:
        yield Failure(error)
        return
    yield Collapsed(part, job.range(part), Chunk.of((0, 0), net), replace(NetParts.of(net), parts=()), whole)


def _collapsed(job: Job, chunks: Sequence[ChangesChunk]) -> NetChanges:
    """The net changes of chunks of changes. That they were read is told where that was."""
    collapser = Collapser(job.state.key, workspace.rows)
    for chunk in chunks:
        collapser.add(chunk.changes())
    return replace(collapser.result(), read=0)


def _merged(chunks: list[Chunk]) -> NetChanges:
    """The net changes of chunks, of which no more are unpacked at a time than fit."""
    kinds = {tuple(chunk.bare.state.schema.field(KEY + name).type for name in chunk.bare.key) for chunk in chunks}
    if len(kinds) > 1:
        first, second, *_ = sorted(str(kind) for kind in kinds)
        raise DataError(f"The key holds {first} in some changes of the window, and {second} in others.")
    held, size = list[NetChanges](), 0
    while chunks:
        net = chunks.pop(0).net()
        held.append(net)
        size += int(net.state.nbytes)
        if size > workspace.rows:
            held = [merged(held)]
            size = int(held[0].state.nbytes) // 2  # so that little is added to much not too often
    return merged(held)
