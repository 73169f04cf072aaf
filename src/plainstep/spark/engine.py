"""A step whose window is read, collapsed and merged by Spark's executors."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from plainstep.copying import replace
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.parts import NetPart, NetParts, Totals
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.ranks import Range
from plainstep.core.positions import Window
from plainstep.core.shapes.base import TargetReader, WindowChanges, WindowParts
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.spread import SpreadEdits, SpreadRounds
from plainstep.deferred import deferred, np
from plainstep.errors import DataError, Refused
from plainstep.loads.load import Load
from plainstep.loads.parted import ordered
from plainstep.loads.readiness import refuse_untold
from plainstep.loads.reading import NetRead, WindowRead, refuse_doubtful
from plainstep.loads.states import LoadState
from plainstep.spark.session import session, told_as_ours
from plainstep.spark.work import Collapsed, Failure, Job, PieceRead, attempted, collapsed, read, sampled
from plainstep.stores.api import SpreadSource
from plainstep.stores.capabilities import TakesSpreadEdits
from plainstep.stores.records import LeftOut

(pyspark,) = deferred("pyspark", "storagelevel")

# Pieces that a window is read in, and ranges of keys that it is collapsed in, for each core of the cluster: few enough that each is
# worth its start, enough that a slow one holds up little.
PIECES, RANGES = 4, 2
# Pieces that are looked at to see where ranges may begin.
SAMPLED = 8

Make = Callable[[WindowChanges, TargetReader], list[Edits]]


class SparkEngine:
    """Steps on Spark; see ``plainstep.loads.load.Engine``.

    Args:
        master: Spark's master.
        options: what is said to it besides.
        memory: bytes that a process of an executor may take; 0 for a share of its machine's.
    """

    def __init__(self, master: str, options: Mapping[str, str], memory: int = 0) -> None:
        self.master, self.options, self.memory = master, dict(options), memory

    def refuse_unable(self, load: Load) -> None:
        """Refuse a load that cannot be stepped on Spark, by what cannot."""
        config, why = load.config, ""
        into = load.into_store
        if not isinstance(into, TakesSpreadEdits) or not into.takes_spread_edits():
            why = f"{config.into} is not a table of a lake: {load.into_store.name} is written by one process."
        elif config.shape in ("journal", "events"):
            why = f"The rows of its shape ({config.shape}) are one ordered stream, which one process writes."
        elif config.at_most is not None:
            why = "at_most cuts a window, for which one process reads it."
        elif config.old_values:
            why = "old_values are looked up in another load's target, by one process."
        elif load.rows_store is not None:
            why = f"rows names {config.rows}, which one process reads."
        elif load.source.overlaps or not isinstance(load.source, SpreadSource) or not load.source.is_spread():
            why = f"{config.source} cannot be read by several machines at once: files, landed streams and tables of a lake can."
        if why:
            raise Refused(
                f"The load {load.name} cannot be stepped on Spark.",
                why,
                f"plainstep step {load.name} --engine local",
            )

    def read_window(self, state: LoadState, window: Window) -> WindowRead:
        """The net changes of a window, in parts that stay on the executors."""
        if state.shape.old_values:
            refuse_untold(state)
        found = self._read(state, lambda source, most: source.pieces(window, most))
        if state.load.config.strict is None:
            refuse_doubtful(state, NetRead(found.found.net, found.left_out))
        return found

    def read_whole(self, state: LoadState) -> WindowRead:
        """All rows as they stand, as inserts.

        Raises:
            Refused: parts of rows came, and some never came whole.
            DataError: several rows have one key.
        """
        found = self._read(state, lambda source, most: source.pieces_of_all(state.span, most))
        net = found.found.net
        if net.partial and not net.whole:
            raise Refused(
                f"{state.load.config.source} sends parts of rows, and some rows were never sent whole.",
                "Their other values are not known.",
                f"plainstep step {state.load.name} --engine local",
            )
        source: Any = state.load.source
        if source.replays():
            left_out = replace(found.left_out, rows=net.read, contradictions=net.contradictions)
            return replace(found, left_out=left_out)
        if net.contradictions and source.has_exact_operations:
            raise DataError(
                f"Rows of {state.load.config.source} that have a key which another row has: {net.contradictions:,}.",
                "Which of them is meant, nothing tells.",
                "Name columns that tell its rows apart (key in the load), or remove all but one of them.",
            )
        return found

    def _read(self, state: LoadState, pieces: Callable[[SpreadSource, int], list[Any]]) -> WindowRead:
        with told_as_ours(self.master):
            return self._read_there(state, pieces)

    def _read_there(self, state: LoadState, pieces: Callable[[SpreadSource, int], list[Any]]) -> WindowRead:
        spark = session(self.master, self.options)
        cores = spark.defaultParallelism
        source: Any = state.load.source
        found = list(enumerate(pieces(source, PIECES * cores)))
        job = Job(_looked_up(state), (), state.shape.placed, state.shape.every_change, self.memory)
        job = replace(job, begins=self._begins(spark, job, [piece for _, piece in found], RANGES * cores))
        spark.setJobDescription(f"{state.load.name}: read and collapse")
        sent = spark.broadcast(job)
        rows = spark.parallelize(found, len(found)).mapPartitions(lambda some: read(sent.value, some))
        # One range a partition, and one more for what is told of pieces.
        parted = rows.partitionBy(job.parts + 1, int)
        nets = parted.mapPartitionsWithIndex(lambda number, some: collapsed(sent.value, number, some))
        nets = nets.persist(pyspark.StorageLevel.MEMORY_AND_DISK)
        told = nets.map(_told).collect()
        _raise_first(told)
        reads = sorted((one for one in told if isinstance(one, PieceRead)), key=lambda one: one.number)
        parts = sorted((one for one in told if isinstance(one, Collapsed)), key=lambda one: one.part)
        held = _Held(spark, state.load.name, nets, parts, spark.broadcast(_numbering(reads)))
        return WindowRead(held.found(_totals(reads)), _left_out(reads))

    def _begins(self, spark: Any, job: Job, pieces: list[Any], most: int) -> tuple[int, ...]:
        """Ranks that part the keys of some pieces into ranges of about as many."""
        spark.setJobDescription(f"{job.state.load.name}: look at keys")
        some = pieces[:: max(len(pieces) // SAMPLED, 1)]
        sent = spark.broadcast(job)
        look = spark.parallelize(some, len(some)).mapPartitions(
            lambda these: attempted(partial(sampled, sent.value), these)
        )
        told = look.collect()
        _raise_first(told)
        ranks = np.array(sorted(rank for one in told for rank in one), dtype=np.uint64)
        if not len(ranks):
            return ()
        chosen = np.unique(ranks[[len(ranks) * number // most for number in range(1, most)]])
        return tuple(int(one) for one in chosen)


def _looked_up(state: LoadState) -> LoadState:
    """A state with what executors need of it looked up, so that all of them have the same."""
    for name in ("schema", "key", "shape"):
        getattr(state, name)
    return state


def _told(one: Any) -> Any:
    """What is told of a part, without its rows."""
    if isinstance(one, Collapsed):
        return replace(one, chunk=replace(one.chunk, data=b""), changes=())
    return one


def _raise_first(told: Sequence[Any]) -> None:
    for one in told:
        if isinstance(one, Failure):
            raise one.error


def _totals(reads: Sequence[PieceRead]) -> Totals:
    last = [one.told.last_seq for one in reads if one.told.last_seq is not None]
    return Totals(
        sum(one.told.read for one in reads),
        any(one.told.truncated for one in reads),
        sum(one.told.contradictions for one in reads),
        max(last, default=None),
    )


def _left_out(reads: Sequence[PieceRead]) -> LeftOut:
    found = [one.left_out for one in reads]
    return LeftOut(
        [row for one in found for row in one.quarantined],
        [place for one in found for place in one.released],
        list(dict.fromkeys(note for one in found for note in one.notes)),
        sum(one.rows for one in found),
        next((one.doubt for one in found if one.doubt), None),
    )


def _numbering(reads: Sequence[PieceRead]) -> PositionIndex:
    return PositionIndex.joined([one.numbering for one in reads if one.numbering is not None])


@dataclass(frozen=True)
class _Held:
    """The net changes of a window, where they were collapsed.

    Attributes:
        spark: Spark's context.
        load: the load's name, for Spark's list of jobs.
        nets: the parts, one a partition.
        parts: what is told of each.
        numbering: where changes stand, sent to all executors.
    """

    spark: Any
    load: str
    nets: Any
    parts: Sequence[Collapsed]
    numbering: Any

    def found(self, told: Totals) -> WindowParts:
        """What a shape is made of."""
        parts = [NetPart(one.ranks, partial(self.fetched, one.part, told.truncated)) for one in self.parts]
        net = NetParts.among(parts, [one.summary for one in self.parts], told)
        return _SpreadParts(net, partial(ordered, net), self.changes, self.numbering.value, held=self)

    def changes(self, which: Range) -> Iterator[Changes]:
        """All changes of the keys of a part, fetched; none where the shape is made of net changes."""
        return self._fetched(next(one.part for one in self.parts if one.ranks == which)).each_change()

    def fetched(self, part: int, truncated: bool) -> NetChanges:
        """The net changes of a part, fetched."""
        return replace(self._fetched(part).chunk.net(), truncated=truncated)

    def _fetched(self, part: int) -> Collapsed:
        with told_as_ours(self.spark.master):
            [found] = self.spark.runJob(self.nets, _parts_of, [part])
        return found


def _parts_of(some: Iterator[Any]) -> list[Collapsed]:
    return [one for one in some if isinstance(one, Collapsed)]


@dataclass(frozen=True)
class _SpreadParts(WindowParts):
    """What a step read, each part of which is on an executor."""

    held: Any = None

    def by_key(self, edits: Make, held: TargetReader) -> Iterator[list[Edits]]:
        """What each part asks of each table, made where it is."""
        return _Rounds(self, edits, held)

    def fetched_by_key(self, edits: Make, held: TargetReader) -> Iterator[list[Edits]]:
        """The same, made here."""
        return super().by_key(edits, held)


class _Rounds(SpreadRounds):
    """What each part asks of each table."""

    def __init__(self, parts: _SpreadParts, edits: Make, held: TargetReader) -> None:
        self.parts, self.edits, self.held = parts, edits, held
        self._fetched: Iterator[list[Edits]] | None = None

    def __next__(self) -> list[Edits]:
        if self._fetched is None:
            self._fetched = self.parts.fetched_by_key(self.edits, self.held)
        return next(self._fetched)

    def tables(self, sure: bool) -> list[SpreadEdits]:
        """The same by tables: a lake's commit is one of one table."""
        return [_Edits(self.parts, self.edits, self.held, sure)]


class _Edits(SpreadEdits):
    """What each part asks of a table."""

    def __init__(self, parts: _SpreadParts, edits: Make, held: TargetReader, sure: bool) -> None:
        self.parts = parts
        self._make = _Make(edits, held, sure, parts.net.truncated)

    def __len__(self) -> int:
        return len(self.parts.net.parts)

    def __getitem__(self, place: Any) -> Any:
        if isinstance(place, slice):
            return [self[one] for one in range(*place.indices(len(self)))]
        part = self.parts.net.parts[place]
        return self._make(part.ranks, part.read(), partial(self.parts.held.changes, part.ranks), self.parts.numbering)

    def each(self, work: Callable[[Edits], Any]) -> list[Any]:
        """What a function makes of each, on the executors."""
        held, make = self.parts.held, self._make
        numbering = held.numbering

        def made(one: Collapsed) -> Any:
            net = replace(one.chunk.net(), truncated=make.truncated)
            return work(make(one.ranks, net, one.each_change, numbering.value))

        with told_as_ours(held.spark.master):
            held.spark.setJobDescription(f"{held.load}: merge")
            found = held.nets.mapPartitions(lambda some: attempted(made, _parts_of(some))).collect()
        _raise_first(found)
        return list(found)

    def every(self, work: Callable[[Any], Any], items: Sequence[Any]) -> list[Any]:
        """What a function makes of each of some items, on the executors."""
        if not items:
            return []
        held = self.parts.held
        spark = held.spark
        with told_as_ours(spark.master):
            spark.setJobDescription(f"{held.load}: write what is left of files")
            spread = spark.parallelize(list(items), len(items))
            found = spread.mapPartitions(lambda some: attempted(work, some)).collect()
        _raise_first(found)
        return list(found)


@dataclass(frozen=True)
class _Make:
    """Makes a part's edits, wherever it is."""

    edits: Make
    held: TargetReader
    sure: bool
    truncated: bool

    def __call__(
        self, which: Range, net: NetChanges, changes: Callable[[], Iterator[Changes]], numbering: PositionIndex
    ) -> Edits:
        [made] = self.edits(WindowChanges(net, changes, numbering), self.held.within(which))
        made.strict = made.strict and self.sure
        return made
