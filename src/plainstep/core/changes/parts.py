"""The net changes of a window that may be larger than memory: in parts by key, of which one is held at a time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.ops import Op
from plainstep.core.changes.ranks import END, Range
from plainstep.deferred import np, pa

EVERY: Range = (0, END)
# Changes that are put in order at a time.
AT_ONCE = 1 << 16


@dataclass(frozen=True)
class NetPart:
    """The net changes of the keys of one range of ranks.

    Attributes:
        ranks: the range.
        read: gives them.
    """

    ranks: Range
    read: Callable[[], NetChanges]


@dataclass(frozen=True)
class Totals:
    """What is told of a whole window.

    Attributes:
        read, truncated, contradictions, last_seq: as those of ``NetChanges``.
    """

    read: int = 0
    truncated: bool = False
    contradictions: int = 0
    last_seq: int | None = None

    def after(self, net: NetChanges | NetParts) -> Totals:
        """The totals with those of what follows."""
        return Totals(
            self.read + net.read,
            self.truncated or net.truncated,
            self.contradictions + net.contradictions,
            self.last_seq if net.last_seq is None else net.last_seq,
        )


@dataclass(frozen=True, eq=False)
class NetParts:
    """The net changes of a window, in parts by key; of most windows, one.

    Attributes:
        parts: these; every key's net change is in one of them.
        told: what is told of the whole window, beside what its parts tell.
        totals: both.
        counts: how many net changes there are of each operation, by word.
        partial, whole, has_before_images: as those of ``NetChanges``, of all parts.
    """

    parts: Sequence[NetPart]
    told: Totals
    totals: Totals
    counts: dict[str, int]
    partial: bool
    whole: bool
    has_before_images: bool

    @staticmethod
    def of(net: NetChanges) -> NetParts:
        """The net changes of a window, which are in memory."""
        return NetParts.among([NetPart(EVERY, lambda: net)], [net], Totals())

    @staticmethod
    def among(parts: Sequence[NetPart], nets: Iterable[NetChanges | NetParts], told: Totals) -> NetParts:
        """Some parts.

        Args:
            parts: these.
            nets: the same, read, each gone through once; or what is told of each.
            told: what is told of the whole window, beside what they tell.
        """
        totals, counts = told, Counter[str]()
        partial, whole, images = False, True, True
        for net in nets:
            counts.update(net.counts)
            totals = totals.after(net)
            partial, whole, images = partial or net.partial, whole and net.whole, images and net.has_before_images
        if totals.truncated:
            counts[Op.TRUNCATE.word] = 1
        return NetParts(parts, told, totals, dict(counts), partial, whole, images and not totals.truncated)

    @property
    def read(self) -> int:
        """How many changes were collapsed."""
        return self.totals.read

    @property
    def truncated(self) -> bool:
        """Whether the table was truncated in the window."""
        return self.totals.truncated

    @property
    def contradictions(self) -> int:
        """How many changes cannot follow on what came before them."""
        return self.totals.contradictions

    @property
    def last_seq(self) -> int | None:
        """The last change."""
        return self.totals.last_seq

    def __len__(self) -> int:
        """How many keys have a net change."""
        return sum(number for word, number in self.counts.items() if word != Op.TRUNCATE.word)

    def __iter__(self) -> Iterator[NetChanges]:
        """Each part, read when it is reached."""
        for part in self.parts:
            yield part.read()

    @property
    def first(self) -> NetChanges:
        """The first part."""
        return self.parts[0].read()

    def joined(self) -> NetChanges:
        """All parts as one, in memory."""
        nets = list(self)
        if len(nets) == 1:
            state = nets[0].state
        else:
            state = pa.concat_tables([net.state for net in nets], promote_options="default")
        told = self.totals
        return NetChanges(
            nets[0].key,
            nets[0].columns,
            state,
            told.read,
            told.truncated,
            told.contradictions,
            told.last_seq,
        )


def in_order(parts: Sequence[Callable[[], Iterator[Changes]]]) -> Iterator[Changes]:
    """Changes of several parts, each of which is in order, in the order of all.

    Args:
        parts: each gives its changes, batch by batch; at least one batch, which may be empty.

    Yields:
        At least one batch, which may be empty.
    """
    readers = [part() for part in parts]
    held = [next(reader) for reader in readers]
    given = False
    while True:
        for place, reader in enumerate(readers):
            while not len(held[place]) and (more := next(reader, None)) is not None:
                held[place] = more
        waiting = [one for one in held if len(one)]
        if not waiting:
            break
        # Nothing that comes later lies before the end of the batch that ends first.
        end = min(int(one.seq()[-1]) for one in waiting)
        ready, left = list[pa.Table](), list[Changes]()
        for one in held:
            count = int(np.searchsorted(one.seq(), end, "right"))
            ready.append(one.table.slice(0, count))
            left.append(Changes(one.table.slice(count)))
        held, given = left, True
        yield _sorted(pa.concat_tables(ready, promote_options="default"))
    if not given:
        yield held[0]


def _sorted(table: pa.Table) -> Changes:
    """Changes by their numbers; a row leaves its old key before it comes to a new one."""
    found = Changes(table)
    order = np.lexsort((found.op() != Op.DELETE, found.seq()))
    return Changes(table.take(pa.array(order)))


def in_batches(changes: Changes) -> Iterator[Changes]:
    """Changes, so many at a time; at least one batch."""
    for start in range(0, max(len(changes), 1), AT_ONCE):
        yield Changes(changes.table.slice(start, AT_ONCE))
