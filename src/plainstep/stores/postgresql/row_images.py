"""Rows in the messages of PostgreSQL's built-in output plugin: where their values are, and the values. No I/O.

Rows of many messages are gone through at a time, a column of all of them after the other.

Source: the manual's chapter on the logical replication message formats (``TupleData``).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from plainstep.core.arrays import Bools, Numbers
from plainstep.deferred import np, pa
from plainstep.errors import DataError
from plainstep.properties import cached_property

# Kinds of values: none, one that was not sent, and one in either of the two forms in which the server writes values.
NULL, UNSENT, TEXT, BINARY = ord("n"), ord("u"), ord("t"), ord("b")
# Room behind the last message, so that a value may be read where there is none: the widest is a uuid.
PADDING = bytes(16)


class TextNeeded(Exception):
    """A value is not as it was expected where it was asked for in binary form: as text it is known what it is."""


@dataclass(frozen=True)
class Values:
    """One column of some rows, in a buffer of messages.

    Attributes:
        buffer: the messages.
        given: in which rows there is a value.
        start, length: of the value; where there is none, the start is somewhere in the row's own message.
    """

    buffer: Numbers
    given: Bools
    start: Numbers
    length: Numbers

    def __len__(self) -> int:
        return len(self.given)

    @property
    def missing(self) -> Bools | None:
        """In which rows there is none, as Arrow takes it; nothing where there is one in each."""
        return None if self.given.all() else ~self.given

    @cached_property
    def raw(self) -> pa.Array:
        """The values' bytes."""
        if not self.given.any():  # of old rows it is mostly all columns but the key's
            return pa.nulls(len(self), pa.binary())
        # The buffer as it is, cut where a value begins and where it ends: every other piece is one. Rows stand in it in
        # their order. (Arrow copies values of some bytes twice as fast as numpy gathers the bytes one by one.)
        cuts = np.empty(2 * len(self) + 1, np.int32)
        cuts[:-1:2] = self.start
        np.add(self.start, self.length, out=cuts[1::2])
        cuts[-1] = cuts[-2]
        pieces = pa.Array.from_buffers(
            pa.binary(), len(cuts) - 1, [None, pa.py_buffer(cuts), pa.py_buffer(self.buffer)]
        )
        return pieces.take(pa.array(np.arange(0, len(cuts) - 1, 2, dtype=np.int32), mask=self.missing))

    def numbers(self, dtype: str, at: Numbers | int = 0) -> Numbers:
        """Of each value the number that begins so many bytes into it, as the machine writes numbers; 0 where there is no value."""
        found = numbers_in(self.buffer, dtype)[self.start + at]
        found = found.astype(found.dtype.newbyteorder("="))
        return found if self.given.all() else np.where(self.given, found, found.dtype.type(0))


def numbers_in(buffer: Numbers, dtype: str) -> Numbers:
    """The number that begins at each byte: a view."""
    kind = np.dtype(dtype)
    return np.ndarray(len(buffer) - kind.itemsize + 1, kind, buffer, strides=(1,))


@dataclass
class Images:
    """Rows in a buffer of messages: for each column (the first axis) and row, where its value is.

    Attributes:
        kind: one of the four above.
        start, length: of the value. Where there is none, the start is somewhere in the row's own message.
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
        """Set some of the rows."""
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

    def columns(self, buffer: Numbers, form: int) -> list[Values]:
        """Its columns, whose values are all in one form."""
        return [Values(buffer, *column) for column in zip(self.kind == form, self.start, self.length, strict=True)]


def images_at(buffer: Numbers, at: Numbers, widths: Sequence[int], form: int) -> tuple[Images, Numbers]:
    """The rows that begin at some places, and where the messages go on: column by column, all rows at a time.

    Args:
        widths: for each column, how many bytes each of its values has, 0 where that differs.
        form: the form that was asked for. A type that has no binary form comes as text all the same.
    """
    shape = len(widths), len(at)
    found = Images(np.empty(shape, np.uint8), np.empty(shape, np.int32), np.empty(shape, np.int32))
    lengths = numbers_in(buffer, ">u4")
    at = at.astype(np.int32) + 2
    for column, width in enumerate(widths):
        kind, length = buffer.take(at, out=found.kind[column]), found.length[column]
        given = kind == form
        if given.all():  # as in most columns: nothing needs to be left out
            length[:] = width or lengths[at + 1]
            at = np.add(at, 5, out=found.start[column])
        else:
            given |= kind == TEXT
            length[:] = np.where(given, lengths[at + 1], 0)
            at = np.add(at, np.where(given, 5, 1), out=found.start[column], casting="same_kind")
        at = at + length
    known = (found.kind == form) | (found.kind == NULL) | (found.kind == UNSENT) | (found.kind == TEXT)
    if not known.all():
        raise DataError(f"The server's log holds a value of the unknown kind {chr(found.kind[~known][0])!r}.")
    return found, at
