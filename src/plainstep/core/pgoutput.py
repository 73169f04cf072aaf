"""The messages of PostgreSQL's built-in output plugin, decoded: bytes in, rows out. No I/O.

Source: the manual's chapter on the logical replication message formats (protocol version 1).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from struct import Struct

from plainstep.core.words import Op
from plainstep.errors import DataError

# Times are microseconds since 2000-01-01; ours since 1970-01-01.
EPOCH = 946_684_800_000_000

BEGIN = Struct(">qqI")
COMMIT = Struct(">Bqqq")
OID = Struct(">I")
SHORT = Struct(">H")
COLUMN = Struct(">Ii")

NULL, UNSENT, TEXT = ord("n"), ord("u"), ord("t")
NEW, OLD, KEY = ord("N"), ord("O"), ord("K")

# What stands for a large value that did not change and was not sent.
MISSING = b"\0unsent"


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
        at += COLUMN.size
    return Relation(oid, schema or "pg_catalog", name, identity, tuple(columns), tuple(key))


def _string(data: bytes, at: int) -> tuple[str, int]:
    end = data.index(0, at)
    return data[at:end].decode(), end + 1


def tuple_of(data: bytes, at: int) -> tuple[list[bytes | None], int, bool]:
    """The values of a row as text, where its message goes on, and whether some value was not sent."""
    [count] = SHORT.unpack_from(data, at)
    at += 2
    values: list[bytes | None] = []
    unsent = False
    for _ in range(count):
        kind = data[at]
        if kind == TEXT:
            start = at + 5
            at = start + int.from_bytes(data[at + 1 : start], "big")
            values.append(data[start:at])
        elif kind == NULL:
            values.append(None)
            at += 1
        elif kind == UNSENT:
            values.append(MISSING)
            unsent = True
            at += 1
        else:
            raise DataError(f"The server's log holds a value of the unknown kind {chr(kind)!r}.")
    return values, at, unsent


Image = Sequence["bytes | None"]


@dataclass
class Rows:
    """Changes, values as the server writes them.

    Attributes:
        op: their operations.
        begin: the transactions they were made in.
        was, now: the rows, a value for each of the table's columns.
        given: the columns that were sent, or None for all.
        whole: whether ``was`` is the whole row.
    """

    op: list[int] = field(default_factory=list)
    begin: list[Begin] = field(default_factory=list)
    was: list[Image] = field(default_factory=list)
    now: list[Image] = field(default_factory=list)
    given: list[list[str] | None] = field(default_factory=list)
    whole: list[bool] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.op)


class Decoder:
    """Gathers the changes of one table out of the messages.

    Args:
        columns: the table's columns that are wanted. One that a message does not have is null there.
        wanted: whether a transaction's changes are wanted.
    """

    def __init__(self, columns: Sequence[str], wanted: Callable[[Begin], bool]) -> None:
        self.columns = tuple(columns)
        self.wanted = wanted
        self._relations: dict[int, tuple[Relation, list[int]]] = {}
        self._begin: Begin | None = None
        self._rows = Rows()
        self._nothing: Image = (None,) * len(self.columns)

    def __len__(self) -> int:
        return len(self._rows)

    def take(self) -> Rows:
        """The changes gathered so far; the next ones start anew."""
        rows, self._rows = self._rows, Rows()
        return rows

    def add(self, data: bytes) -> None:
        """Take in the next message."""
        kind = data[:1]
        if kind == b"B":
            begin = begin_of(data)
            self._begin = begin if self.wanted(begin) else None
        elif kind == b"R":
            self._relation(relation_of(data))
        elif self._begin is None:
            return
        elif kind == b"I":
            _, places = self._at(data)
            now, _, _ = tuple_of(data, 6)
            self._row(Op.INSERT, self._nothing, self._placed(now, places), None, False)
        elif kind == b"U":
            self._update(data)
        elif kind == b"D":
            _, places = self._at(data)
            was, _, _ = tuple_of(data, 6)
            self._row(Op.DELETE, self._placed(was, places), self._nothing, None, data[5] == OLD)
        elif kind == b"T":
            self._row(Op.TRUNCATE, self._nothing, self._nothing, None, False)

    def _relation(self, relation: Relation) -> None:
        known = {name: place for place, name in enumerate(relation.columns)}
        self._relations[relation.oid] = relation, [known.get(name, -1) for name in self.columns]

    def _at(self, data: bytes) -> tuple[Relation, list[int]]:
        return self._relations[OID.unpack_from(data, 1)[0]]

    def _update(self, data: bytes) -> None:
        relation, places = self._at(data)
        was, at, whole = None, 5, False
        if data[at] != NEW:
            whole = data[at] == OLD
            was, at, _ = tuple_of(data, at + 1)
        now, _, unsent = tuple_of(data, at + 1)
        given = None
        if unsent and was is not None and whole:  # a large value that did not change is in the old row
            now = [old if new is MISSING else new for old, new in zip(was, now, strict=True)]
        elif unsent:
            given = [name for name, at in zip(self.columns, places, strict=True) if at < 0 or now[at] is not MISSING]
            now = [None if value is MISSING else value for value in now]
        if was is None:  # the key did not change: the old one is the new one
            was = [value if key else None for value, key in zip(now, relation.key, strict=True)]
        self._row(Op.UPDATE, self._placed(was, places), self._placed(now, places), given, whole)

    @staticmethod
    def _placed(image: list[bytes | None], places: list[int]) -> Image:
        """A row's values in the order of the table's columns."""
        return [image[place] if place >= 0 else None for place in places]

    def _row(self, op: Op, was: Image, now: Image, given: list[str] | None, whole: bool) -> None:
        begin, rows = self._begin, self._rows
        assert begin is not None
        rows.op.append(op)
        rows.begin.append(begin)
        rows.was.append(was)
        rows.now.append(now)
        rows.given.append(given)
        rows.whole.append(whole)
