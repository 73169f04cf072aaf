"""The log of MySQL 8, which cannot be run here: its bytes as the documentation has them, and some that MySQL 5.6 sent."""

from __future__ import annotations

import contextlib
import json
import struct
import unittest
from collections.abc import Iterator, Sequence
from typing import Any
from uuid import UUID

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.errors import PlainStepError, Refused
from plainstep.stores.mysql.log.decoder import Decoder
from plainstep.stores.mysql.log.gtid_sets import SetState, SetTransaction
from plainstep.stores.mysql.log.json_values import text_of
from plainstep.stores.mysql.log.mysql import MysqlLog
from plainstep.stores.mysql.log.reader import events_in
from plainstep.stores.mysql.types import Column, arrow_type
from plainstep.stores.mysql.wire import Packets
from tests.support import examples

ONE, OTHER = "1eef6886-e592-11e4-a12f-84a6c8c6729e", "0aaf6886-e592-11e4-a12f-84a6c8c6729e"
QUERY, XID, TABLE_MAP, WRITE, UPDATE, XA_PREPARE, ANONYMOUS, GTID, PARTIAL, PAYLOAD = (
    2,
    16,
    19,
    30,
    31,
    38,
    34,
    33,
    39,
    40,
)
# What a server sent of an insert and an update: the table, and its rows. Its log does not name columns: that is put behind.
TREE = bytes.fromhex("620000000000010004746f776e000474726565000703030ff6120d0305a0000a03037e")
NAMED = b"\x01\x01\x10" + b"\x04\x0e" + b"".join(b"\x01" + name.encode() for name in "kabdtyu")
PLANTED = bytes.fromhex("6200000000000100020007ff800100000001000000036f616b8000000101f499b8c431051a7c7800286bee")
GREW = bytes.fromhex(
    "6200000000000100020007ffff800100000001000000036f616b8000000101f499b8c431051a7c7800286bee"
    "80010000000100000005c3a96c616e7ffffffdff0599b8c431051a7c7800286bee"
)
DECLARED = {
    "k": "int", "a": "int", "b": "varchar(40)", "d": "decimal(10,3)", "t": "datetime(3)", "y": "year", "u": "int unsigned",
}  # fmt: skip

Sent = tuple[int, bytes]


def columns(declared: dict[str, str]) -> list[Column]:
    return [Column(name, kind, arrow_type(kind)) for name, kind in declared.items()]


def gtid(number: int, source: str = ONE) -> Sent:
    return GTID, b"\x01" + UUID(source).bytes + struct.pack("<q", number)


def query(sql: str) -> Sent:
    return QUERY, struct.pack("<IIBHH", 1, 0, 4, 0, 0) + b"town\0" + sql.encode()


def event(kind: int, body: bytes, summed: bool) -> bytes:
    size = 19 + len(body) + 4 * summed
    return struct.pack("<IBIIIH", 1_790_000_000, kind, 17, size, 0, 0) + body + bytes(4) * summed


def packets(*sent: Sent) -> Iterator[Packets]:
    data, starts, ends = b"", list[int](), list[int]()
    for kind, body in sent:
        starts.append(len(data))
        data += b"\0" + event(kind, body, True)
        ends.append(len(data))
    yield Packets(data, starts, ends)


def packed(*sent: Sent, how: int = 0) -> Sent:
    """A transaction that is packed as a whole."""
    data = b"".join(event(kind, body, False) for kind, body in sent)
    inner = bytes(pa.Codec("zstd").compress(data, asbytes=True)) if how == 0 else data
    size = b"\xfc" + len(data).to_bytes(2, "little")
    head = (
        (b"\x02\x01\0" if how == 0 else b"\x02\x03\xfc\xff\0")
        + b"\x03\x03"
        + size
        + b"\x01\x03\xfc"
        + len(inner).to_bytes(2, "little")
        + b"\0"
    )
    return PAYLOAD, head + inner


def changed(number: int, *rows: Sent) -> list[Sent]:
    return [gtid(number), query("BEGIN"), (TABLE_MAP, TREE + NAMED), *rows, (XID, bytes(8))]


class Log(unittest.TestCase):
    def read(
        self, *sent: Sent, upto: str = f"{ONE}:1-99", after: str = "", declared: dict[str, str] | None = None
    ) -> list[dict[str, Any]]:
        """The changes of a table out of what a server sends."""
        server = MysqlLog(contextlib.nullcontext)  # type: ignore[arg-type]
        start = server.parse(after)
        decoder = Decoder(server, "town", "tree", columns(declared or DECLARED), start, "town.tree")
        found = events_in(server, packets(*sent), start, server.parse(upto), "town.tree")
        return [row for some in decoder.decoded(found) for row in some.table.to_pylist()]

    def upto(self, *numbers: int) -> str:
        return f"{ONE}:{':'.join(map(str, numbers))}"

    def test_what_a_server_sent(self) -> None:
        for form in (lambda *some: some, lambda *some: (packed(*some),), lambda *some: (packed(*some, how=255),)):
            first, *rest = changed(7, (WRITE, PLANTED), (UPDATE, GREW))
            rows = self.read(first, *form(*rest), upto=self.upto(7))
            self.assertEqual([row["op"] for row in rows], [1, 2])
            self.assertEqual(rows[0]["position"], f"{ONE}:7")
            now = {name: rows[1][f"now.{name}"] for name in DECLARED}
            told = now | {"d": str(now["d"]), "t": now["t"].isoformat()}
            self.assertEqual(
                told,
                {"k": 1, "a": 1, "b": "élan", "d": "-2.250", "t": "2026-01-02T03:04:05.678000", "y": 2020, "u": 4_000_000_000},
            )  # fmt: skip
            self.assertEqual((rows[1]["was.b"], str(rows[1]["was.d"])), ("oak", "1.500"))

    def test_what_is_not_included_is_left_out_and_what_lacks_is_refused(self) -> None:
        """A transaction may stand in the log before one that is executed, and not be executed yet."""
        sent = [*changed(8, (WRITE, PLANTED)), *changed(7, (UPDATE, GREW))]
        self.assertEqual([row["op"] for row in self.read(*sent, upto=self.upto(7))], [2])
        self.assertEqual([row["op"] for row in self.read(*sent, upto=self.upto(7, 8))], [1, 2])
        with self.assertRaisesRegex(Refused, "reload"):
            self.read(*sent, upto=f"{ONE}:7-9")
        with self.assertRaisesRegex(Refused, "after .* comes"):
            self.read(*sent, after=self.upto(7), upto=f"{ONE}:7-8")

    def test_transactions_of_a_manager(self) -> None:
        name = "X'67',X'62',1"
        begun = [
            gtid(1),
            query(f"XA START {name}"),
            (TABLE_MAP, TREE + NAMED),
            (WRITE, PLANTED),
            query(f"XA END {name}"),
        ]
        prepared = [*begun, (XA_PREPARE, b"\0" + bytes(12))]
        other = changed(2, (UPDATE, GREW))
        commit = [gtid(3), query(f"XA COMMIT {name}")]
        self.assertEqual([row["op"] for row in self.read(*prepared, *other, *commit, upto=f"{ONE}:1-3")], [2, 1])
        rollback = [gtid(3), query(f"XA ROLLBACK {name}")]
        self.assertEqual([row["op"] for row in self.read(*prepared, *other, *rollback, upto=f"{ONE}:1-3")], [2])
        at_once = [*begun, (XA_PREPARE, b"\1" + bytes(12))]
        self.assertEqual([row["op"] for row in self.read(*at_once, *other, upto=f"{ONE}:1-2")], [1, 2])
        with self.assertRaisesRegex(Refused, "XA RECOVER"):
            self.read(*prepared, *other, upto=f"{ONE}:1-2")
        with self.assertRaisesRegex(Refused, "prepared before"):
            self.read(*commit, after=f"{ONE}:1-2", upto=f"{ONE}:1-3")

    def test_what_is_not_told_in_full_is_refused(self) -> None:
        for words, sent in (
            ("no name", [(ANONYMOUS, bytes(25))]),
            ("a name with a tag", [(42, bytes(40))]),
            ("some parts of its documents", changed(1, (PARTIAL, PLANTED))),
            ("does not name the columns", [gtid(1), (TABLE_MAP, TREE), (WRITE, PLANTED)]),
            ("binlog_format", [gtid(1), query("UPDATE tree SET a = 1")]),
            ("cannot be unpacked", [gtid(1), (PAYLOAD, b"\x02\x01\x07\x00" + bytes(20))]),
            ("cannot be unpacked", [gtid(1), (PAYLOAD, b"\x02\x01\x00\x03\x01\x40\x00" + b"no zstd")]),
        ):
            with self.subTest(words), self.assertRaisesRegex(Refused, words):
                self.read(*sent, upto=f"{ONE}:1")

    def test_documents(self) -> None:
        declared = {"k": "int", "doc": "json"}
        table = (
            (9).to_bytes(6, "little") + b"\x01\0" + b"\x04town\0" + b"\x04tree\0" + b"\x02\x03\xf5" + b"\x01\x04" + b"\x02"
            + b"\x01\x01\x00" + b"\x04\x06\x01k\x03doc"
        )  # fmt: skip
        head = (9).to_bytes(6, "little") + b"\x01\0" + b"\x02\0" + b"\x02\xff"
        rows = b""
        for key, value in ((1, {"height": 2}), (2, None)):
            body = document(value)
            rows += b"\0" + key.to_bytes(4, "little") + len(body).to_bytes(4, "little") + body
        rows += b"\x02" + (3).to_bytes(4, "little")
        found = self.read(gtid(1), (TABLE_MAP, table), (WRITE, head + rows), upto=f"{ONE}:1", declared=declared)
        self.assertEqual([row["now.doc"] for row in found], ['{"height": 2}', "null", None])
        spoiled = head + b"\0" + (1).to_bytes(4, "little") + (2).to_bytes(4, "little") + b"\x00\xff"
        with self.assertRaisesRegex(PlainStepError, "no equivalent"):
            self.read(gtid(1), (TABLE_MAP, table), (WRITE, spoiled), upto=f"{ONE}:1", declared=declared)


numbers = st.integers(1, 12)


class Sets(unittest.TestCase):
    @settings(max_examples=examples(100), deadline=None)
    @given(st.lists(st.tuples(st.sampled_from([ONE, OTHER]), numbers)), st.lists(st.tuples(st.just(ONE), numbers)))
    def test_as_sets(self, some: list[tuple[str, int]], others: list[tuple[str, int]]) -> None:
        def state(members: Sequence[tuple[str, int]]) -> SetState:
            found = SetState()
            for source, number in dict.fromkeys(members):
                found = found.after(SetTransaction(source, number))
            return found

        made = state(some)
        self.assertEqual(SetState.parse(made.gtids.replace(",", ",\n")), made)
        named = made.within("bin.000007", 1_790_000_000, OTHER)
        self.assertEqual(SetState.parse(named.token), named)
        self.assertEqual(made.number, len(set(some)))
        self.assertEqual(made.holds(state(others)), set(others) <= set(some))
        for source in (ONE, OTHER):
            for number in range(14):
                self.assertEqual(made.includes(SetTransaction(source, number)), (source, number) in some)
        self.assertEqual(unpacked(made.packed), set(some))

    def test_what_is_no_set(self) -> None:
        for text in ("0-17-24", ONE, f"{ONE}:x", f"{ONE}:tag:1-5", "x:1"):
            with self.subTest(text), self.assertRaises(ValueError):
                SetState.parse(text)


def unpacked(data: bytes) -> set[tuple[str, int]]:
    """A set as it is sent to a server."""
    [count], at, found = struct.unpack_from("<Q", data), 8, set()
    for _ in range(count):
        source, [parts] = str(UUID(bytes=data[at : at + 16])), struct.unpack_from("<Q", data, at + 16)
        at += 24
        for _ in range(parts):
            first, end = struct.unpack_from("<QQ", data, at)
            found |= {(source, number) for number in range(first, end)}
            at += 16
    assert at == len(data)
    return found


def document(value: Any) -> bytes:
    """JSON as MySQL keeps it, after json_binary.h."""
    kind, body = _kept(value)
    return bytes([kind]) + body


def _length(size: int) -> bytes:
    found = b""
    while size > 0x7F:
        found += bytes([size & 0x7F | 0x80])
        size >>= 7
    return found + bytes([size])


def _kept(value: Any) -> tuple[int, bytes]:
    if value is None or isinstance(value, bool):
        return 4, bytes([{None: 0, True: 1, False: 2}[value]])
    if isinstance(value, int):
        fitting = ((5, "<h"), (6, "<H"), (7, "<i"), (8, "<I"), (9, "<q"), (10, "<Q"))
        for kind, form in fitting:
            with contextlib.suppress(struct.error):
                return kind, struct.pack(form, value)
    if isinstance(value, float):
        return 11, struct.pack("<d", value)
    if isinstance(value, str):
        return 12, _length(len(value.encode())) + value.encode()
    small = _members(value, 2)
    return (
        (0 if isinstance(value, dict) else 2, small)
        if small
        else (1 if isinstance(value, dict) else 3, _members(value, 4))
    )


def _members(value: Any, width: int) -> bytes:
    """An object or an array; empty where it does not fit into offsets of so many bytes."""
    form = "<I" if width == 4 else "<H"
    names = [name.encode() for name in value] if isinstance(value, dict) else []
    members = list(value.values()) if isinstance(value, dict) else value
    entries, rest = b"", b""
    at = 2 * width + len(names) * (width + 2) + len(members) * (width + 1)
    try:
        for name in names:
            entries += struct.pack(form + "H", at + len(rest), len(name))
            rest += name
        for one in members:
            kind, body = _kept(one)
            if kind in (4, 5, 6) or (width == 4 and kind in (7, 8)):
                entries += bytes([kind]) + body.ljust(width, b"\0")
            else:
                entries += bytes([kind]) + struct.pack(form, at + len(rest))
                rest += body
        return struct.pack(form, len(members)) + struct.pack(form, at + len(rest)) + entries + rest
    except struct.error:
        return b""


leaves = st.one_of(st.none(), st.booleans(), st.integers(-(2**63), 2**64 - 1), st.text(max_size=200))
values = st.recursive(
    leaves, lambda inner: st.lists(inner, max_size=5) | st.dictionaries(st.text(max_size=9), inner, max_size=5)
)


class Documents(unittest.TestCase):
    @settings(max_examples=examples(200), deadline=None)
    @given(values)
    def test_as_the_server_writes_it(self, value: Any) -> None:
        self.assertEqual(text_of(document(value)), json.dumps(value, ensure_ascii=False))

    def test_large_ones(self) -> None:
        value = {
            "a": ["x" * 70_000, 2**31 - 1, 2**32 - 1, -5],
            "b": {"c": list(range(30_000))},
            "d": 70_000,
            "e": 2**40,
        }
        self.assertEqual(text_of(document(value)), json.dumps(value))

    def test_numbers_as_the_server_writes_them(self) -> None:
        """As MySQL 5.6 wrote them, with the point that its JSON has beside."""
        for value, text in (
            (1.0, "1.0"), (0.0, "0.0"), (-0.0, "-0.0"), (1e14, "100000000000000.0"), (1e15, "1e15"), (1.5e15, "1.5e15"), (1e20, "1e20"),
            (1234567890123456.0, "1.234567890123456e15"), (1.25e-15, "0.00000000000000125"), (1e-16, "1e-16"), (0.1 + 0.2, "0.30000000000000004"),
            (-2.5e-300, "-2.5e-300"), (100 / 3, "33.333333333333336"),
        ):  # fmt: skip
            self.assertEqual(text_of(document(value)), text)
        decimal = b"\x0f\xf6\x08\x0a\x03" + bytes.fromhex("800000010 1f4".replace(" ", ""))
        self.assertEqual(text_of(decimal[:2] + bytes([len(decimal) - 3]) + decimal[3:]), "1.500")

    def test_values_of_other_types(self) -> None:
        day = (2026 * 13 + 1) << 5 | 2
        moment = (day << 17 | 3 << 12 | 4 << 6 | 5) << 24 | 678_000
        for kind, packed_value, text in (
            (12, moment, '"2026-01-02 03:04:05.678000"'),
            (7, moment, '"2026-01-02 03:04:05.678000"'),
            (10, day << 41, '"2026-01-02"'),
            (11, -((3 << 12 | 4 << 6 | 5) << 24), '"-03:04:05.000000"'),
        ):
            body = struct.pack("<q", packed_value)
            self.assertEqual(text_of(bytes([15, kind, 8]) + body), text)
        self.assertEqual(text_of(bytes([15, 252, 3]) + b"oak"), '"base64:type252:b2Fr"')

    @settings(max_examples=examples(200), deadline=None)
    @given(values, st.data())
    def test_what_is_spoiled_ends_in_an_error_or_a_text(self, value: Any, data: st.DataObject) -> None:
        whole = document(value)
        at = data.draw(st.integers(0, len(whole) - 1))
        spoiled = whole[:at] + data.draw(st.binary(max_size=2)) + whole[at + 1 :]
        with contextlib.suppress(ValueError):
            self.assertIsInstance(text_of(spoiled), str)


if __name__ == "__main__":
    unittest.main()
