"""The server's log, decoded: held against messages that are put together here as the manual lays them out."""

from __future__ import annotations

import struct
import unittest
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

import plainstep
from plainstep.core.changes.ops import Op
from plainstep.stores.postgresql import pgoutput
from plainstep.stores.postgresql.binary_form import EPOCH
from plainstep.stores.postgresql.capture.snapshots import Snapshot
from plainstep.stores.postgresql.pgoutput import Begin, Decoder, Rows, begin_of, relation_of
from plainstep.stores.postgresql.row_images import TextNeeded

COLUMNS = ("k", "a", "b")
UNSENT = "unsent"


def begin(position: int, at: int, xid: int) -> bytes:
    return b"B" + struct.pack(">qqI", position, at - EPOCH, xid)


def relation(columns: tuple[str, ...], oid: int = 7, identity: str = "d") -> bytes:
    parts = b"".join(
        bytes([place == 0]) + name.encode() + b"\0" + struct.pack(">Ii", 25, -1) for place, name in enumerate(columns)
    )
    return (
        b"R" + struct.pack(">I", oid) + b"public\0tree\0" + identity.encode() + struct.pack(">H", len(columns)) + parts
    )


def row(values: list[Any]) -> bytes:
    def one(value: Any) -> bytes:
        if value is None:
            return b"n"
        return b"u" if value == UNSENT else b"t" + struct.pack(">I", len(value.encode())) + value.encode()

    return struct.pack(">H", len(values)) + b"".join(map(one, values))


def change(op: Op, was: list[Any] | None, now: list[Any] | None, oid: int = 7, whole: bool = False) -> bytes:
    number = struct.pack(">I", oid)
    if op is Op.TRUNCATE:
        return b"T" + struct.pack(">IB", 1, 0) + number
    old = b"" if was is None else (b"O" if whole else b"K") + row(was)
    new = b"" if now is None else b"N" + row(now)
    return {Op.INSERT: b"I", Op.UPDATE: b"U", Op.DELETE: b"D"}[op] + number + old + new


texts = st.none() | st.text(max_size=5).filter(lambda text: "\0" not in text and text != UNSENT)
rows = st.lists(texts, min_size=3, max_size=3)
changes = st.one_of(
    st.tuples(st.just(Op.INSERT), st.none(), rows, st.just(False)),
    st.tuples(st.just(Op.UPDATE), st.none() | rows, rows, st.booleans()),
    st.tuples(st.just(Op.DELETE), rows, st.none(), st.booleans()),
    st.tuples(st.just(Op.TRUNCATE), st.none(), st.none(), st.just(False)),
)
transactions = st.lists(st.tuples(st.integers(0, 9), st.lists(changes, max_size=4)), max_size=6)


def encoded(values: list[Any]) -> list[bytes | None]:
    return [None if value is None else value.encode() for value in values]


def decoded(decoder: Decoder, messages: list[bytes]) -> list[Rows]:
    """The changes in some messages, in columns."""
    return [run.rows() for run in decoder.runs(messages)]


def told(decoder: Decoder, messages: list[bytes]) -> list[tuple[Any, ...]]:
    """The changes in some messages, a tuple each."""
    found = []
    for gone in decoded(decoder, messages):
        made_by = [gone.begins[place] for place in gone.made_by]
        images = [zip(*(column.raw.to_pylist() for column in side), strict=True) for side in (gone.was, gone.now)]
        for op, by, was, now, whole in zip(gone.op, made_by, *images, gone.whole, strict=True):
            found.append((op, by.xid, by.position, by.at, was, now, whole))
    return found


class Messages(unittest.TestCase):
    @given(transactions, st.integers(0, 9), st.permutations(range(3)), st.integers(1, 5))
    def test_every_change_of_every_wanted_transaction(
        self, history: Any, least: int, order: list[int], taken: int
    ) -> None:
        """Whatever order the table's columns are in now, and however often the rows are taken out."""
        laid_out = tuple(COLUMNS[place] for place in order)
        messages, expected = [relation(laid_out)], []
        for position, (xid, parts) in enumerate(history):
            messages.append(begin(position, EPOCH + position, xid))
            for op, was, now, whole in parts:
                old, new = (image and [image[place] for place in order] for image in (was, now))
                messages.append(change(op, old, new, whole=whole))
                if op is Op.UPDATE and was is None:  # only the key is known of the old row
                    was = [value if COLUMNS[place] == laid_out[0] else None for place, value in enumerate(now)]
                    whole = False
                if xid >= least:
                    images = (tuple(encoded(image or [None] * 3)) for image in (was, now))
                    expected.append((op, xid, position, EPOCH + position, *images, whole))
            messages.append(b"C" + bytes(25))
        decoder = Decoder(COLUMNS, lambda begin: begin.xid >= least)
        found = [
            one for start in range(0, len(messages), taken) for one in told(decoder, messages[start : start + taken])
        ]
        self.assertEqual(found, expected)
        with mock.patch.object(pgoutput, "TOGETHER", 64):  # as of messages that are larger than one buffer
            self.assertEqual(told(Decoder(COLUMNS, lambda begin: begin.xid >= least), messages), expected)

    def test_what_was_not_sent_is_not_null(self) -> None:
        decoder = Decoder(("k", "a", "b", "later"), lambda begin: True)
        messages = [
            relation(COLUMNS),
            begin(1, EPOCH, 1),
            change(Op.UPDATE, None, ["1", UNSENT, None]),
            change(Op.UPDATE, ["1", "old", None], ["1", UNSENT, "x"], whole=True),
            relation(("k", "b", "later")),
            change(Op.INSERT, None, ["2", None, "new"]),
        ]
        first, second = decoded(decoder, messages)
        self.assertEqual([list(mask) for mask in first.sent], [[True, True], [False, True], [True, True], [True, True]])
        self.assertEqual(
            [column.raw.to_pylist() for column in first.now],
            [[b"1", b"1"], [None, b"old"], [None, b"x"], [None, None]],
        )
        self.assertEqual(
            ([column.raw.to_pylist() for column in second.now], second.sent), ([[b"2"], [None], [None], [b"new"]], [])
        )

    def test_the_single_messages(self) -> None:
        self.assertEqual(begin_of(begin(1 << 40, EPOCH + 5, 3)), Begin(1 << 40, EPOCH + 5, 3))
        found = relation_of(relation(("é", "b"), identity="f"))
        self.assertEqual(
            (found.schema, found.name, found.identity, found.columns, found.key),
            ("public", "tree", "f", ("é", "b"), (True, False)),
        )
        decoder = Decoder(COLUMNS, lambda begin: True)
        others = [relation(COLUMNS), b"Y" + bytes(9), b"O" + bytes(9), b"M" + bytes(9), begin(1, EPOCH, 1)]
        self.assertEqual((decoded(decoder, others), decoded(decoder, [])), ([], []))
        with self.assertRaises(plainstep.DataError):
            decoded(decoder, [b"I" + struct.pack(">I", 7) + b"N" + struct.pack(">H", 3) + b"???"])
        with self.assertRaises(plainstep.DataError):  # longer than its row
            decoded(decoder, [change(Op.INSERT, None, ["1", "2", "3"]) + b"n"])

    def test_what_was_asked_for_in_binary_form_and_comes_as_text(self) -> None:
        types = dict.fromkeys(COLUMNS, 25)
        sent = [relation((*COLUMNS, "other")), begin(1, EPOCH, 1)]
        decoder = Decoder(COLUMNS, lambda begin: True, types)
        decoded(decoder, [*sent, change(Op.INSERT, None, [None, None, None, "no matter"])])
        with self.assertRaises(TextNeeded):
            decoded(decoder, [change(Op.INSERT, None, ["1", None, None, None])])
        with self.assertRaises(TextNeeded):  # of another type than it has now
            decoded(
                Decoder(COLUMNS, lambda begin: True, types | {"a": 20}), [*sent, change(Op.INSERT, None, [None] * 4)]
            )


class Snapshots(unittest.TestCase):
    @given(st.integers(3, 50), st.sets(st.integers(3, 60)), st.sets(st.integers(3, 60)), st.integers(2, 60))
    def test_sets_of_transactions(self, more: int, open_: set[int], late: set[int], newest: int) -> None:
        xmax = 3 + more
        left = frozenset(xid for xid in open_ if xid < xmax)
        snapshot = Snapshot(min(left, default=xmax), xmax, left)
        self.assertEqual(Snapshot.parse(str(snapshot)), snapshot)
        fewer = snapshot.without(late, newest)
        self.assertEqual(Snapshot.parse(str(fewer)), fewer)
        for xid in range(1, 70):
            self.assertEqual(snapshot.includes(xid), xid < xmax and xid not in left)
            self.assertEqual(fewer.includes(xid), snapshot.includes(xid) and xid not in late and xid <= newest)

    @given(st.integers(3, 1 << 40), st.integers(-(1 << 30), 1 << 30))
    def test_the_rest_of_a_number(self, xmax: int, away: int) -> None:
        xid = max(3, xmax + away)
        self.assertEqual(Snapshot(xmax, xmax).widened(xid % (1 << 32)), xid)


if __name__ == "__main__":
    unittest.main()
