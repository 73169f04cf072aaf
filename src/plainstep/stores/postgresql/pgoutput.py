"""The messages of PostgreSQL's built-in output plugin, decoded: bytes in, rows out. No I/O.

Many messages are decoded at a time, a column of all of them after the other: that is several times as fast as one
message after the other.

Source: the manual's chapter on the logical replication message formats (protocol version 1).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import pairwise
from struct import Struct

from plainstep.core.arrays import Bools, Numbers
from plainstep.core.changes.ops import Op
from plainstep.deferred import np
from plainstep.errors import DataError
from plainstep.stores.postgresql.binary_form import EPOCH, WIDTHS
from plainstep.stores.postgresql.row_images import (
    BINARY,
    PADDING,
    TEXT,
    UNSENT,
    Images,
    TextNeeded,
    Values,
    images_at,
    numbers_in,
)

BEGIN = Struct(">qqI")
OID = Struct(">I")
SHORT = Struct(">H")
TYPE = Struct(">Ii")

NEW, OLD = ord("N"), ord("O")
OPS = {ord("I"): Op.INSERT, ord("U"): Op.UPDATE, ord("D"): Op.DELETE, ord("T"): Op.TRUNCATE}
# Bytes of messages that are decoded together, but for the last of them, which the server keeps below as many: places in them are
# numbers of 32 bits.
TOGETHER = (1 << 30) - 64


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
        types: for each, the number of its type.
    """

    oid: int
    schema: str
    name: str
    identity: str
    columns: tuple[str, ...]
    key: tuple[bool, ...]
    types: tuple[int, ...] = ()


# In place of a transaction whose changes are not wanted.
UNWANTED = Begin(0, 0, 0)


@cache
def _codes() -> Numbers:
    """The operation of each kind of message; 0 of those that tell of no change."""
    codes = np.zeros(256, np.int8)
    codes[list(OPS)] = list(OPS.values())
    return codes


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
    columns, key, types = [], [], []
    for _ in range(count):
        key.append(data[at] == 1)
        column, at = _string(data, at + 1)
        columns.append(column)
        types.append(TYPE.unpack_from(data, at)[0])
        at += TYPE.size
    return Relation(oid, schema or "pg_catalog", name, identity, tuple(columns), tuple(key), tuple(types))


def _string(data: bytes, at: int) -> tuple[str, int]:
    end = data.index(0, at)
    return data[at:end].decode(), end + 1


@dataclass
class Rows:
    """Changes in columns.

    Attributes:
        op: their operations.
        begins: the transactions they were made in.
        made_by: for each, which of these.
        was, now: for each of the table's columns its values, as the server sends them.
        sent: for each of the table's columns, for which changes its new value was sent; none where all were.
        whole: for which changes ``was`` is the whole row.
        identifying: the columns that were in the table's replica identity when these changes were made.
    """

    op: Numbers
    begins: list[Begin]
    made_by: Numbers
    was: list[Values]
    now: list[Values]
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
        at, end, kinds: where each begins and ends, and its kind.
        begins: the transactions that the changes were made in.
        made_by: for each, which of these.
        relation: how their rows are laid out.
        columns: the columns that are wanted.
        form: the form in which values were asked for.
    """

    buffer: Numbers
    at: Numbers
    end: Numbers
    kinds: Numbers
    begins: list[Begin]
    made_by: Numbers
    relation: Relation
    columns: tuple[str, ...]
    form: int

    def __len__(self) -> int:
        return len(self.at)

    def rows(self) -> Rows:
        """The changes.

        Raises:
            DataError: a message is none that the manual describes.
            TextNeeded: a value came as text that was asked for in binary form.
        """
        buffer, at, kinds, relation = self.buffer, self.at, self.kinds, self.relation
        op = _codes().take(kinds)
        has_new = (op == Op.INSERT) | (op == Op.UPDATE)
        first = buffer.take(at + 5)
        has_old = (op == Op.DELETE) | ((op == Op.UPDATE) & (first != NEW))
        whole = has_old & (first == OLD)
        was, place = self._images(has_old, at + 6)
        now, place = self._images(has_new, np.where(has_old & has_new, place + 1, place))
        if ((place != self.end) & (has_old | has_new)).any():
            raise DataError("The server's log holds a row that does not end where its message does.")
        unsent = now.kind == UNSENT
        if unsent.any():
            now.pick(unsent & whole, was)  # a large value that did not change is in the old row
        key = np.array(relation.key, np.bool_)[:, None]
        told_once = (op == Op.UPDATE) & ~has_old
        if told_once.any():
            was.pick(key & told_once, now)  # the key did not change: the old one is the new one
        known = {name: place for place, name in enumerate(relation.columns)}
        places = [known.get(name, -1) for name in self.columns]
        was, now = was.placed(places, at), now.placed(places, at)
        if self.form == BINARY and ((was.kind == TEXT) | (now.kind == TEXT)).any():
            raise TextNeeded
        unsent = now.kind == UNSENT
        return Rows(
            op,
            self.begins,
            self.made_by,
            was.columns(buffer, self.form),
            now.columns(buffer, self.form),
            list(~unsent) if unsent.any() else [],
            whole,
            frozenset(name for name, inside in zip(relation.columns, relation.key, strict=True) if inside),
        )

    def _images(self, there: Bools, place: Numbers) -> tuple[Images, Numbers]:
        """The rows that begin at some places, nulls where there is none; and where the messages go on."""
        widths = [WIDTHS.get(number, 0) if self.form == BINARY else 0 for number in self.relation.types]
        if there.all():
            return images_at(self.buffer, place, widths, self.form)
        found, rows = Images.nothing(len(widths), self.at), np.flatnonzero(there)
        some, end = images_at(self.buffer, place[rows], widths, self.form)
        found.put(rows, some)
        place = place.copy()
        place[rows] = end
        return found, place


class Decoder:
    """Takes the changes of one table out of the messages.

    Args:
        columns: the table's columns that are wanted. One that a message does not have is null there.
        wanted: whether a transaction's changes are wanted.
        types: the numbers of the columns' types, where values were asked for in binary form.
    """

    def __init__(
        self, columns: Sequence[str], wanted: Callable[[Begin], bool], types: Mapping[str, int] | None = None
    ) -> None:
        self.columns = tuple(columns)
        self.wanted = wanted
        self.types = types
        self._relations: dict[int, Relation] = {}
        self._begin: Begin | None = None

    def runs(self, messages: Sequence[bytes]) -> Iterator[Run]:
        """The changes in the next messages, not yet decoded; nothing for messages without any.

        Raises:
            DataError: a message is none that the manual describes.
            TextNeeded: values came in binary form, and a column had another type when it changed.
        """
        ends = np.cumsum(np.fromiter(map(len, messages), np.int64, len(messages)))
        cuts = np.flatnonzero(np.diff(ends // TOGETHER)) + 1
        for first, last in pairwise([0, *cuts.tolist(), len(messages)]):
            yield from self._runs(messages[first:last], ends[first:last])

    def _runs(self, messages: Sequence[bytes], ends: Numbers) -> Iterator[Run]:
        """The same, of messages that are decoded together; where each of them ends."""
        buffer = np.frombuffer(b"".join([*messages, PADDING]), np.uint8)
        places = np.zeros(len(messages) + 1, np.int64)  # where each begins, and the last one ends
        places[1:] = ends - (ends[0] - len(messages[0]) if len(messages) else 0)
        starts = places[:-1]
        kinds = buffer.take(starts)
        # Within a run of messages between two descriptions of a table, every row of one table is laid out alike.
        cuts = np.flatnonzero(kinds == ord("R"))
        for first, last in pairwise([0, *cuts, len(messages)]):
            if first < last and kinds[first] == ord("R"):
                relation = relation_of(messages[first])
                self._relations[relation.oid] = relation
            yield from self._run(messages, buffer, places, kinds, first, last)

    def _run(
        self, messages: Sequence[bytes], buffer: Numbers, places: Numbers, kinds: Numbers, first: int, last: int
    ) -> Iterator[Run]:
        """The changes of a run of messages."""
        begins, these = [self._begin], kinds[first:last]
        begins_here = these == ord("B")
        for place in first + np.flatnonzero(begins_here):
            begin = begin_of(messages[int(place)])
            begins.append(begin if self.wanted(begin) else None)
        self._begin = begins[-1]
        which = np.cumsum(begins_here)
        wanted = np.array([begin is not None for begin in begins])
        change = (_codes().take(these) > 0) & wanted.take(which)
        if change.any():
            rows = first + np.flatnonzero(change)
            made_by = which[change]
            at, ends = places[rows], places[rows + 1]
            # A partitioned table is described as a whole and by its parts, whose columns may stand in another order.
            tables = np.where(kinds[rows] == ord("T"), 0, numbers_in(buffer, ">u4")[at + 1])
            cuts = np.flatnonzero(np.diff(tables)) + 1
            for begin_at, end in pairwise([0, *cuts.tolist(), len(rows)]):
                some = slice(begin_at, end)
                relation = self._described(int(tables[begin_at]))
                low, high = int(made_by[some][0]), int(made_by[some][-1])
                made_in = [begin or UNWANTED for begin in begins[low : high + 1]]
                form = TEXT if self.types is None else BINARY
                yield Run(
                    buffer,
                    at[some],
                    ends[some],
                    kinds[rows[some]],
                    made_in,
                    made_by[some] - low,
                    relation,
                    self.columns,
                    form,
                )

    def _described(self, oid: int) -> Relation:
        """A table as it was described; a truncate (0) has no rows that would be laid out."""
        if oid and oid not in self._relations:
            raise DataError(f"The server's log holds a row of the table number {oid}, which it did not describe.")
        relation = self._relations.get(oid, Relation(0, "", "", "", (), ()))
        if self.types is not None:
            for name, number in zip(relation.columns, relation.types, strict=True):
                if name in self.columns and self.types[name] != number:
                    raise TextNeeded
        return relation
