"""Values that are not written as what they are."""

from __future__ import annotations

import base64
import json
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.core.arrays import utc_time
from plainstep.core.layouts import documents
from plainstep.core.layouts.encodings import decoded, raw_kind
from plainstep.core.layouts.interpret import interpret
from plainstep.core.layouts.layout import Layout
from plainstep.core.layouts.patches import SENT, Patches
from plainstep.core.layouts.patches_at_once import asked_at_once
from plainstep.core.layouts.paths import Path
from plainstep.core.layouts.records import prepared
from plainstep.core.layouts.rows import DOCUMENT, POSITION, WRONG
from plainstep.formats.columns import in_columns
from plainstep.settings.layout import LayoutConfig
from plainstep.stores.document_fields import read_fields
from tests.support import examples


def _shortest(data: bytes) -> bytes:
    """A number in two's complement in as few bytes as hold it."""
    while len(data) > 1 and data[0] == (255 if data[1] >= 128 else 0):
        data = data[1:]
    return data


TIMES = (
    None,
    "2026-01-02T03:04:05Z",
    "2026-01-02 03:04:05.25",
    "2026-01-02",
    "1969-12-31T23:59:59+02:00",
    "2026-01-02T03:04-07:30",
)
NO_TIMES = ("", "x", "2026-02-30", 5, True, " 2026-01-02T03:04:05Z", "2026-01-02T03:04:05.123456789Z")


def _instant(text: str) -> datetime:
    """A time as Python reads it, in UTC where it names no zone."""
    read = datetime.fromisoformat(text)
    return read.astimezone(UTC) if read.tzinfo else read.replace(tzinfo=UTC)


class Encodings(unittest.TestCase):
    """What is written is read as what it is, and what is not of the encoding is told, row by row."""

    @settings(max_examples=examples(60), deadline=None)
    @given(
        st.lists(st.none() | st.decimals(-(10**17), 10**17, places=3, allow_nan=False), max_size=5),
        st.lists(st.none() | st.binary(max_size=9), max_size=5),
        st.lists(st.none() | st.datetimes(datetime(1700, 1, 1), datetime(2200, 1, 1)), max_size=5),
    )
    def test_round_trips(self, numbers: list[Any], blobs: list[Any], times: list[Any]) -> None:
        cases: list[tuple[str, list[Any], list[Any], pa.DataType]] = []
        wide = [None if one is None else int(one.scaleb(3)).to_bytes(12, "big", signed=True) for one in numbers]
        scaled = [None if one is None else _shortest(one) for one in wide]
        coded = [None if one is None else base64.b64encode(one).decode() for one in scaled]
        cases += [("decimal_bytes", numbers, written, pa.decimal128(24, 3)) for written in (scaled, coded, wide)]
        cases.append(
            ("base64", blobs, [None if one is None else base64.b64encode(one).decode() for one in blobs], pa.binary())
        )
        cases.append(("hex", blobs, [None if one is None else one.hex().upper() for one in blobs], pa.binary()))
        since = [None if one is None else one - datetime(1970, 1, 1) for one in times]
        for name, parts in (("seconds", 10**6), ("milliseconds", 1000), ("microseconds", 1)):
            whole = [None if one is None else one // timedelta(microseconds=parts) for one in since]
            meant = [
                None if one is None else datetime(1970, 1, 1) + one * timedelta(microseconds=parts) for one in whole
            ]
            cases.append((name, meant, whole, pa.timestamp("us")))
        nanos = [None if one is None else one // timedelta(microseconds=1) * 1000 + 999 for one in since]
        cases.append(
            (
                "nanoseconds",
                [None if one is None else datetime(1970, 1, 1) + one for one in since],
                nanos,
                pa.timestamp("us"),
            )
        )
        days = [None if one is None else one.days for one in since]
        cases.append(
            (
                "days",
                [None if one is None else (datetime(1970, 1, 1) + timedelta(one)).date() for one in days],
                days,
                pa.date32(),
            )
        )
        tagged = [None if one is None else json.dumps({"text": one.hex()}) for one in blobs]
        cases.append(("tagged", [None if one is None else one.hex() for one in blobs], tagged, pa.string()))
        for encoding, meant, written, kind in cases:
            raw = pa.array(written, pa.binary() if written is scaled or written is wide else raw_kind(encoding))
            for some in (raw, pa.concat_arrays([raw, raw]).slice(len(raw))):  # a slice begins within its buffers
                found, bad = decoded(encoding, some, kind)
                self.assertEqual((found.to_pylist(), bad.tolist()), (meant, []), encoding)

    def test_what_is_not_of_the_encoding(self) -> None:
        for encoding, good, wrong, kind in (
            ("hex", "0a", "0", pa.binary()), ("base64", "AA==", "A", pa.binary()), ("tagged", '{"text": "7"}', "{", pa.int64()),
            ("tagged", '{"number": "7"}', '{"number": "seven"}', pa.int64()), ("decimal_bytes", "AA==", "?", pa.decimal128(4, 2)),
            ("decimal_bytes", "AA==", "f/////8=", pa.decimal128(4, 2)), ("days", 1, 2**40, pa.date32()),
        ):  # fmt: skip
            column = pa.array([good, wrong, None, good], raw_kind(encoding))
            found, bad = decoded(encoding, column, kind)
            self.assertEqual((bad.tolist(), found.null_count), ([1], 2), (encoding, wrong))

    def test_a_number_keeps_its_digits(self) -> None:
        text = '{"number": 12345678901234567890.123456789}'
        found, bad = decoded("tagged", pa.array([text]), pa.decimal128(38, 9))
        self.assertEqual((str(found[0].as_py()), bad.tolist()), ("12345678901234567890.123456789", []))

    @settings(max_examples=examples(60), deadline=None)
    @given(st.lists(st.sampled_from([*TIMES, *NO_TIMES]), min_size=1, max_size=4))
    def test_times_in_documents_are_what_their_texts_are(self, written: list[Any]) -> None:
        """With a zone, without, dates alone, in any mixture; what is none is told, and spoils no other."""
        lines = pa.array([json.dumps({"at": value}) + "\n" for value in written])
        found, wrong = documents.read(lines, {("at",): utc_time()})
        self.assertEqual([row for row, value in enumerate(written) if value in NO_TIMES], sorted(wrong))
        meant = [None if value in NO_TIMES or value is None else _instant(value) for value in written]
        self.assertEqual(meant, found["at",].to_pylist())

    def test_nested_values_are_unwrapped_as_a_whole(self) -> None:
        text = json.dumps({"map": {"a": {"list": [{"number": "1.50"}, {"text": "x"}]}, "b": None}})
        one = json.dumps({"map": {"street": {"text": "x"}}})  # a map with one entry, which is no tag
        self.assertEqual(decoded("tagged", pa.array([one]), pa.string())[0].to_pylist(), ['{"street": "x"}'])
        found, bad = decoded("tagged", pa.array([text]), pa.string())
        self.assertEqual((found.to_pylist(), bad.tolist()), (['{"a": ["1.50", "x"], "b": null}'], []))


VALUES = (
    st.none()
    | st.booleans()
    | st.integers(-9, 9)
    | st.sampled_from([2**70, 1.5, "", "null", 'a"b', "7", [1], {"x": 1}, {}])
)
TAGGED = VALUES | st.dictionaries(st.sampled_from(["text", "number"]), VALUES, min_size=1, max_size=1)
COLUMNS = {"a": pa.int64(), "b": pa.string()}
WORDS = st.sampled_from(["", "null", "oak", 'an "elm"'])
PLAIN = st.fixed_dictionaries({}, optional={"a": st.none() | st.integers(-9, 9), "b": st.none() | WORDS})
ODD = st.dictionaries(st.sampled_from(["a", "b", "b.c", "d"]), VALUES)
REMOVED = st.sampled_from([None, [], ["a"], ["b", "a"]])


class AtOnce(unittest.TestCase):
    """What is read of all documents at once is what is read of each by itself."""

    @settings(max_examples=examples(40), deadline=None)
    @given(
        st.lists(st.fixed_dictionaries({"n": st.integers(0, 9), "v": TAGGED}), min_size=1, max_size=5),
        st.integers(1, 3),
    )
    def test_tagged_values(self, written: list[Any], times: int) -> None:
        lines = pa.array([json.dumps(one) + "\n" for one in written * times])
        path: Path = ("v",)
        kinds: dict[Path, pa.DataType] = {("n",): pa.int64(), path: pa.string()}
        at_once, by_itself = (documents.read(lines, kinds, *where)[0] for where in (((), {path}), ({path}, ())))
        self.assertEqual(at_once["n",], by_itself["n",])
        for kind in COLUMNS.values():
            one, other = (decoded("tagged", found[path], kind) for found in (at_once, by_itself))
            self.assertEqual((one[0].to_pylist(), one[1].tolist()), (other[0].to_pylist(), other[1].tolist()))

    @settings(max_examples=examples(50), deadline=None)
    @given(
        st.lists(
            st.fixed_dictionaries(
                {"n": st.integers(0, 9)},
                optional={"tree": st.none() | PLAIN, "changed": PLAIN | st.none(), "removed": REMOVED},
            ),
            min_size=1, max_size=4,
        ),
        st.lists(st.fixed_dictionaries({"n": st.integers(0, 9)}, optional={"tree": ODD, "changed": ODD, "removed": REMOVED}), max_size=3),
        st.booleans(),
    )  # fmt: skip
    def test_documents_and_patches(self, plain: list[Any], odd: list[Any], chosen: bool) -> None:
        """Batches that can be read at once, batches that cannot, and both as one."""
        patches = Patches("tree", "changed", "removed", "", tuple(COLUMNS), chosen)
        layout = Layout(
            ("n",), pa.schema([("n", pa.int64()), *COLUMNS.items()]), now=f"{DOCUMENT}.*", sent_columns=SENT, missing_field="null",
            codes={}, patches=patches, once=frozenset({"n"}),
        )  # fmt: skip
        config = LayoutConfig(now="tree.*", patch="changed", removed="removed", missing_field="null")
        beside = {"n": pa.int64()} | dict.fromkeys(("tree", "changed", "removed"), pa.string())
        asked = beside | asked_at_once(layout, {"n": None})
        self.assertGreater(len(asked), len(beside))

        def changes(batches: list[list[Any]], wanted: dict[str, pa.DataType]) -> Any:
            schema = pa.schema([*wanted.items(), (WRONG, pa.string())])
            tables = []
            for batch in filter(None, batches):
                found = pa.table(read_fields(pa.array([json.dumps(one) + "\n" for one in batch]), wanted, config))
                tables.append(in_columns(found, schema))
            rows = pa.concat_tables(tables).combine_chunks()
            found = interpret(layout, prepared(rows.append_column(POSITION, pa.array(range(len(rows)))), layout), True)
            return found.table.to_pylist(), found.bad.keys()

        self.assertEqual(changes([plain, odd], asked), changes([plain, odd], beside))
        self.assertEqual(changes([plain + odd], asked), changes([plain + odd], beside))


if __name__ == "__main__":
    unittest.main()
