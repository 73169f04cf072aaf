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


def tuple_of(data: bytes, at: int) -> tuple[list[bytes | None], int]:
    """The values of a row as text, and where its message goes on."""
    [count] = SHORT.unpack_from(data, at)
    at += 2
    values: list[bytes | None] = []
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
            at += 1
        else:
            raise DataError(f"The server's log holds a value of the unknown kind {chr(kind)!r}.")
    return values, at


@dataclass
class Rows:
    """Changes in columns, values as the server writes them.

    Attributes:
        op, at, xid, position: one each a change: its operation, and its transaction's commit time, number and place.
        was, now: for each of the table's columns, one value a change.
        given: for each change, the columns that were sent, or None for all.
        old: for each change, whether ``was`` is the whole row.
    """

    op: list[int] = field(default_factory=list)
    at: list[int] = field(default_factory=list)
    xid: list[int] = field(default_factory=list)
    position: list[int] = field(default_factory=list)
    was: list[list[bytes | None]] = field(default_factory=list)
    now: list[list[bytes | None]] = field(default_factory=list)
    given: list[list[str] | None] = field(default_factory=list)
    old: list[bool] = field(default_factory=list)

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
        self._rows = self._fresh()

    def _fresh(self) -> Rows:
        return Rows(was=[[] for _ in self.columns], now=[[] for _ in self.columns])

    def __len__(self) -> int:
        return len(self._rows)

    def take(self) -> Rows:
        """The changes gathered so far; the next ones start anew."""
        rows, self._rows = self._rows, self._fresh()
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
            relation, places = self._at(data)
            now, _ = tuple_of(data, 6)
            self._row(Op.INSERT, relation, places, None, now, False)
        elif kind == b"U":
            self._update(data)
        elif kind == b"D":
            relation, places = self._at(data)
            was, _ = tuple_of(data, 6)
            self._row(Op.DELETE, relation, places, was, None, data[5] == OLD)
        elif kind == b"T":
            self._row(Op.TRUNCATE, None, [], None, None, False)

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
            was, at = tuple_of(data, at + 1)
        now, _ = tuple_of(data, at + 1)
        if was is not None and whole:  # a large value that did not change is in the old row
            now = [old if new is MISSING else new for old, new in zip(was, now, strict=True)]
        self._row(Op.UPDATE, relation, places, was, now, whole)

    def _row(
        self,
        op: Op,
        relation: Relation | None,
        places: list[int],
        was: list[bytes | None] | None,
        now: list[bytes | None] | None,
        whole: bool,
    ) -> None:
        begin, rows = self._begin, self._rows
        assert begin is not None
        rows.op.append(int(op))
        rows.at.append(begin.at)
        rows.xid.append(begin.xid)
        rows.position.append(begin.position)
        rows.old.append(whole)
        if op is Op.UPDATE and was is None:  # the key did not change: the old one is the new one
            assert relation is not None and now is not None
            was = [value if key else None for value, key in zip(now, relation.key, strict=True)]
        for side, image in ((rows.was, was), (rows.now, now)):
            if image is None:
                for values in side:
                    values.append(None)
            else:
                for values, place in zip(side, places, strict=True):
                    value = image[place] if place >= 0 else None
                    values.append(None if value is MISSING else value)
        if now is not None and MISSING in now:
            sent = [
                name for name, place in zip(self.columns, places, strict=True) if place < 0 or now[place] is not MISSING
            ]
            rows.given.append(sent)
        else:
            rows.given.append(None)
