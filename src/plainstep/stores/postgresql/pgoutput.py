"""The messages of PostgreSQL's built-in output plugin, decoded: bytes in, rows out. No I/O.

Many messages are decoded at a time, a column of all of them after the other: that is several times as fast as one
message after the other.

Source: the manual's chapter on the logical replication message formats (protocol version 1).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from struct import Struct

from plainstep.core.arrays import Bools, Numbers
from plainstep.core.changes.ops import Op
from plainstep.deferred import np, pa
from plainstep.errors import DataError

# Times are microseconds since 2000-01-01; ours since 1970-01-01.
EPOCH = 946_684_800_000_000

BEGIN = Struct(">qqI")
OID = Struct(">I")
SHORT = Struct(">H")
TYPE = Struct(">Ii")

NULL, UNSENT, TEXT = ord("n"), ord("u"), ord("t")
NEW, OLD = ord("N"), ord("O")
OPS = {ord("I"): Op.INSERT, ord("U"): Op.UPDATE, ord("D"): Op.DELETE, ord("T"): Op.TRUNCATE}
# Bytes of messages that are decoded together, but for the last of them, which the server keeps below as many: places in them are
# numbers of 32 bits.
TOGETHER = (1 << 30) - 64
# Room behind the last message, so that a length may be read where there is none.
PADDING = bytes(8)


@dataclass(frozen=True)
class Begin:
    """The beginning of a transaction; they come in the order in which they committed.

    Attributes:
        position: where in the log its commit is written.
        at: when it committed, in microseconds since 1970 (UTC).
        xid: the low 32 bits of its number.
    """

    position: int
    at: int
    xid: int


@dataclass(frozen=True)
class Relation:
    """A table as the messages after it are laid out.

    Attributes:
        oid: its number.
        schema, name: its name.
        identity: its replica identity: ``d``, ``n``, ``f`` or ``i``.
        columns: its columns' names.
        key: for each, whether it is in the replica identity.
    """

    oid: int
    schema: str
    name: str
    identity: str
    columns: tuple[str, ...]
    key: tuple[bool, ...]


# In place of a transaction whose changes are not wanted.
UNWANTED = Begin(0, 0, 0)


def begin_of(data: bytes) -> Begin:
    """A Begin message."""
    position, at, xid = BEGIN.unpack_from(data, 1)
    return Begin(position, at + EPOCH, xid)


def relation_of(data: bytes) -> Relation:
    """A Relation message."""
    [oid] = OID.unpack_from(data, 1)
    schema, at = _string(data, 5)
    name, at = _string(data, at)
    identity = chr(data[at])
    [count] = SHORT.unpack_from(data, at + 1)
    at += 3
    columns, key = [], []
    for _ in range(count):
        key.append(data[at] == 1)
        column, at = _string(data, at + 1)
        columns.append(column)
        at += TYPE.size
    return Relation(oid, schema or "pg_catalog", name, identity, tuple(columns), tuple(key))


def _string(data: bytes, at: int) -> tuple[str, int]:
    end = data.index(0, at)
    return data[at:end].decode(), end + 1


@dataclass
class Images:
    """Rows in a buffer of messages: for each column (the first axis) and row, where its value is.

    Attributes:
        kind: ``n``, ``u`` or ``t``.
        start, length: of the value's text. Where there is none, the start is somewhere in the row's own message.
    """

    kind: Numbers
    start: Numbers
    length: Numbers

    @staticmethod
    def nothing(columns: int, at: Numbers) -> Images:
        """Rows of nulls, in messages that begin at some places."""
        shape = columns, len(at)
        start = np.broadcast_to(at.astype(np.int32), shape).copy()
        return Images(np.full(shape, NULL, np.uint8), start, np.zeros(shape, np.int32))

    def put(self, rows: Numbers, other: Images) -> None:
        """Set some of the rows; mostly it is all of them."""
        if len(rows) == self.kind.shape[1]:
            self.kind, self.start, self.length = other.kind, other.start, other.length
        else:
            self.kind[:, rows], self.start[:, rows], self.length[:, rows] = other.kind, other.start, other.length

    def pick(self, where: Bools, other: Images) -> None:
        """Take values from the same places of other rows."""
        for mine, theirs in ((self.kind, other.kind), (self.start, other.start), (self.length, other.length)):
            mine[where] = theirs[where]

    def placed(self, places: list[int], at: Numbers) -> Images:
        """The columns in another order; nulls for -1."""
        if places == list(range(len(self.kind))):
            return self
        found = Images.nothing(len(places), at)
        known = np.array(places) >= 0
        there = np.array(places)[known]
        found.kind[known], found.start[known], found.length[known] = (
            self.kind[there],
            self.start[there],
            self.length[there],
        )
        return found

    def values(self, column: int, buffer: Numbers) -> pa.Array:
        """One column's values, as the server writes them."""
        given = self.kind[column] == TEXT
        if not given.any():  # of old rows it is mostly all columns but the key's
            return pa.nulls(len(given), pa.binary())
        # The buffer as it is, cut where a value begins and where it ends: every other piece is one. Rows stand in it in
        # their order. (Arrow copies values of some bytes twice as fast as numpy gathers the bytes one by one.)
        cuts = np.empty(2 * len(given) + 1, np.int32)
        cuts[:-1:2] = self.start[column]
        np.add(self.start[column], self.length[column], out=cuts[1::2])
        cuts[-1] = cuts[-2]
        pieces = pa.Array.from_buffers(pa.binary(), len(cuts) - 1, [None, pa.py_buffer(cuts), pa.py_buffer(buffer)])
        values = np.arange(0, len(cuts) - 1, 2, dtype=np.int32)
        return pieces.take(pa.array(values, mask=None if given.all() else ~given))


def images_at(buffer: Numbers, at: Numbers, columns: int) -> tuple[Images, Numbers]:
    """The rows that begin at some places, and where the messages go on: column by column, all rows at a time."""
    shape = columns, len(at)
    found = Images(np.empty(shape, np.uint8), np.empty(shape, np.int32), np.empty(shape, np.int32))
    numbers = _numbers(buffer)
    at = at.astype(np.int32) + 2
    for column in range(columns):
        kind, length = buffer.take(at, out=found.kind[column]), found.length[column]
        text = kind == TEXT
        if text.all():  # as in most columns: nothing needs to be left out
            length[:] = numbers[at + 1]
            at = np.add(at, 5, out=found.start[column])
        else:
            length[:] = np.where(text, numbers[at + 1], 0)
            at = np.add(at, np.where(text, 5, 1), out=found.start[column], casting="same_kind")
        at = at + length
    unknown = ~((found.kind == NULL) | (found.kind == UNSENT) | (found.kind == TEXT))
    if unknown.any():
        raise DataError(f"The server's log holds a value of the unknown kind {chr(found.kind[unknown][0])!r}.")
    return found, at


def _numbers(buffer: Numbers) -> Numbers:
    """The number of four bytes, the highest first, that begins at each byte: a view."""
    return np.ndarray(len(buffer) - 3, np.dtype(">u4"), buffer, strides=(1,))


@dataclass
class Rows:
    """Changes in columns.

    Attributes:
        op: their operations.
        begins: the transactions they were made in.
        made_by: for each, which of these.
        was, now: for each of the table's columns its values, as the server writes them.
        sent: for each of the table's columns, for which changes its new value was sent; none where all were.
        whole: for which changes ``was`` is the whole row.
        identifying: the columns that were in the table's replica identity when these changes were made.
    """

    op: Numbers
    begins: list[Begin]
    made_by: Numbers
    was: list[pa.Array]
    now: list[pa.Array]
    sent: list[Bools]
    whole: Bools
    identifying: frozenset[str] = frozenset()

    def __len__(self) -> int:
        return len(self.op)


@dataclass(frozen=True)
class Run:
    """Messages with changes of rows that are laid out alike, not yet decoded. Runs know nothing of each other: several can be decoded at once.

    Attributes:
        buffer: the messages.
        at, kinds: where each begins, and its kind.
        begins: the transactions that the changes were made in.
        made_by: for each, which of these.
        relation: how their rows are laid out.
        columns: the columns that are wanted.
    """

    buffer: Numbers
    at: Numbers
    kinds: Numbers
    begins: list[Begin]
    made_by: Numbers
    relation: Relation
    columns: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.at)

    def rows(self) -> Rows:
        """The changes.

        Raises:
            DataError: a message is none that the manual describes.
        """
        buffer, at, kinds, relation = self.buffer, self.at, self.kinds, self.relation
        op = np.zeros(len(at), np.int8)
        for kind, code in OPS.items():
            op[kinds == kind] = code
        width = len(relation.columns)
        was, now = Images.nothing(width, at), Images.nothing(width, at)
        has_old = (op == Op.DELETE) | ((op == Op.UPDATE) & (buffer[at + 5] != NEW))
        whole = has_old & (buffer[at + 5] == OLD)
        place = at + 6
        old = np.flatnonzero(has_old)
        if len(old):
            images, end = images_at(buffer, place[old], width)
            was.put(old, images)
            place[old] = end + 1
        new = np.flatnonzero((op == Op.INSERT) | (op == Op.UPDATE))
        if len(new):
            now.put(new, images_at(buffer, place[new], width)[0])
        now.pick((now.kind == UNSENT) & whole, was)  # a large value that did not change is in the old row
        key = np.array(relation.key, np.bool_)[:, None]
        was.pick(key & ((op == Op.UPDATE) & ~has_old), now)  # the key did not change: the old one is the new one
        known = {name: place for place, name in enumerate(relation.columns)}
        places = [known.get(name, -1) for name in self.columns]
        was, now = was.placed(places, at), now.placed(places, at)
        unsent = now.kind == UNSENT
        return Rows(
            op,
            self.begins,
            self.made_by,
            [was.values(column, buffer) for column in range(len(places))],
            [now.values(column, buffer) for column in range(len(places))],
            list(~unsent) if unsent.any() else [],
            whole,
            frozenset(name for name, inside in zip(relation.columns, relation.key, strict=True) if inside),
        )


class Decoder:
    """Takes the changes of one table out of the messages.

    Args:
        columns: the table's columns that are wanted. One that a message does not have is null there.
        wanted: whether a transaction's changes are wanted.
    """

    def __init__(self, columns: Sequence[str], wanted: Callable[[Begin], bool]) -> None:
        self.columns = tuple(columns)
        self.wanted = wanted
        self._relations: dict[int, Relation] = {}
        self._begin: Begin | None = None

    def runs(self, messages: Sequence[bytes]) -> Iterator[Run]:
        """The changes in the next messages, not yet decoded; nothing for messages without any.

        Raises:
            DataError: a message is none that the manual describes.
        """
        ends = np.cumsum(np.fromiter(map(len, messages), np.int64, len(messages)))
        cuts = np.flatnonzero(np.diff(ends // TOGETHER)) + 1
        for first, last in pairwise([0, *cuts.tolist(), len(messages)]):
            yield from self._runs(messages[first:last], ends[first:last])

    def _runs(self, messages: Sequence[bytes], ends: Numbers) -> Iterator[Run]:
        """The same, of messages that are decoded together; where each of them ends."""
        buffer = np.frombuffer(b"".join([*messages, PADDING]), np.uint8)
        starts = np.zeros(len(messages), np.int64)
        starts[1:] = ends[:-1] - (ends[0] - len(messages[0]) if len(messages) else 0)
        kinds = buffer[starts] if len(messages) else np.zeros(0, np.uint8)
        # Within a run of messages between two descriptions of a table, every row of one table is laid out alike.
        cuts = np.flatnonzero(kinds == ord("R"))
        for first, last in pairwise([0, *cuts, len(messages)]):
            if first < last and kinds[first] == ord("R"):
                relation = relation_of(messages[first])
                self._relations[relation.oid] = relation
            yield from self._run(messages, buffer, starts, kinds, first, last)

    def _run(
        self, messages: Sequence[bytes], buffer: Numbers, starts: Numbers, kinds: Numbers, first: int, last: int
    ) -> Iterator[Run]:
        """The changes of a run of messages."""
        begins = [self._begin]
        for place in first + np.flatnonzero(kinds[first:last] == ord("B")):
            begin = begin_of(messages[int(place)])
            begins.append(begin if self.wanted(begin) else None)
        self._begin = begins[-1]
        which = np.cumsum(kinds[first:last] == ord("B"))
        wanted = np.array([begin is not None for begin in begins])
        change = np.isin(kinds[first:last], list(OPS)) & wanted[which]
        if change.any():
            rows = first + np.flatnonzero(change)
            made_by = which[change]
            at = starts[rows]
            # A partitioned table is described as a whole and by its parts, whose columns may stand in another order.
            tables = np.where(kinds[rows] == ord("T"), 0, _numbers(buffer)[at + 1])
            cuts = np.flatnonzero(np.diff(tables)) + 1
            for begin_at, end in pairwise([0, *cuts.tolist(), len(rows)]):
                some = slice(begin_at, end)
                relation = self._described(int(tables[begin_at]))
                low, high = int(made_by[some][0]), int(made_by[some][-1])
                made_in = [begin or UNWANTED for begin in begins[low : high + 1]]
                yield Run(buffer, at[some], kinds[rows[some]], made_in, made_by[some] - low, relation, self.columns)

    def _described(self, oid: int) -> Relation:
        """A table as it was described; a truncate (0) has no rows that would be laid out."""
        if oid and oid not in self._relations:
            raise DataError(f"The server's log holds a row of the table number {oid}, which it did not describe.")
        return self._relations.get(oid, Relation(0, "", "", "", (), ()))
