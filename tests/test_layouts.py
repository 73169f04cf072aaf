"""Feeds that something else wrote: every layout, read right and read wrong."""

from __future__ import annotations

import base64
import contextlib
import json
import sqlite3
import unittest
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.layouts.encodings import decoded, raw_kind
from plainstep.core.layouts.patches import DOCUMENT, SENT, Patches, unpatched
from plainstep.core.layouts.plausibility import doubt
from plainstep.core.layouts.records import by_record
from plainstep.core.layouts.rows import WRONG
from tests import layouts
from tests.feed_town import HISTORY, Town, run
from tests.histories import histories
from tests.support import WITHOUT_SHRINKING, examples

ROOT = Path(__file__).parents[1]


class Laws(unittest.TestCase):
    """One history, in every layout, cut anywhere: always the same rows."""

    @settings(
        max_examples=examples(5), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(st.lists(histories, min_size=1, max_size=3))
    def test_every_layout_ends_in_the_same_rows(self, cuts: list[list[tuple[str, Any, Any]]]) -> None:
        with Town() as town:
            town.project.capture_on("town.tree")
            town.play([("insert", 0, {"a": 1, "b": "oak"})])
            for number, cut in enumerate(cuts):
                # A window of nothing but truncates would be doubted.
                town.play([("insert", 10 + number, {"a": 1, "b": "oak"}), *cut])
                for outcome in town.project.step(raise_errors=False):
                    self.assertIsNone(outcome.error, f"{outcome.load}: {outcome.error}")
                    found = town.target(outcome.load)
                    if outcome.load in layouts.BLIND:
                        found = {key: row for key, row in found.items() if key in town.truth}
                    self.assertEqual(found, town.truth, outcome.load)
            for outcome in town.project.step():
                self.assertEqual(outcome.outcome, "nothing", outcome.load)
            for check in town.project.check():
                self.assertTrue(check.ok or check.load in layouts.BLIND, check.load)


def _shortest(data: bytes) -> bytes:
    """A number in two's complement in as few bytes as hold it."""
    while len(data) > 1 and data[0] == (255 if data[1] >= 128 else 0):
        data = data[1:]
    return data


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

    def test_nested_values_are_unwrapped_as_a_whole(self) -> None:
        text = json.dumps({"map": {"a": {"list": [{"number": "1.50"}, {"text": "x"}]}, "b": None}})
        one = json.dumps({"map": {"street": {"text": "x"}}})  # a map with one entry, which is no tag
        self.assertEqual(decoded("tagged", pa.array([one]), pa.string())[0].to_pylist(), ['{"street": "x"}'])
        found, bad = decoded("tagged", pa.array([text]), pa.string())
        self.assertEqual((found.to_pylist(), bad.tolist()), (['{"a": ["1.50", "x"], "b": null}'], []))


class Wrong(unittest.TestCase):
    """Each mistake that a person would make in a layout is refused, and nothing is merged."""

    def refused(self, load: str, *turns: tuple[str, str]) -> str:
        """Step with a layout in which some words are replaced; what it says."""
        text = layouts.config(load)
        for old, new in turns:
            self.assertIn(old, text)
            text = text.replace(old, new)
        with Town(config=text) as town:
            town.play(list(HISTORY))
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn(outcome.outcome, ("refused", "failed"), f"{load} {turns}: {outcome}")
            self.assertIsNone(town.project.load(load).target.watermark(load))
            return str(outcome.error)

    def swap(self, one: str, other: str) -> tuple[tuple[str, str], ...]:
        return (one, "#1#"), (other, one), ("#1#", other)

    def test_swapped_codes(self) -> None:
        for one, other in (("planted", "felled"), ("planted", "grew"), ("grew", "felled")):
            said = self.refused("parts", *self.swap(f'"{one}"', f'"{other}"'))
            self.assertRegex(said, "may be swapped|contradict what is there|is null|was never|not sent")
        said = self.refused("sides", ("insert = [1, 11]", "insert = [3]"), ("delete = [3]", "delete = [1, 11]"))
        self.assertIn("a delete without old values", said)

    def test_old_and_new_swapped(self) -> None:
        self.assertIn("is not before it", self.refused("pairs", *self.swap('"before"', '"after"')))
        self.assertIn("without new values", self.refused("sides", *self.swap('"old_*"', '"new_*"')))

    def test_old_and_new_swapped_where_only_updates_come(self) -> None:
        with Town("sides") as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(6)])
            town.project.step()
            text = town.config.read_text()
            town.config.write_text(
                text.replace('"old_*"', '"#"').replace('"new_*"', '"old_*"').replace('"#"', '"new_*"')
            )
            self.assertIn("`layout` was", str(town.project.step(raise_errors=False)[0].error))
            town.config.write_text(text)
            town.play([("update", key, {"a": key + 7, "b": "elm"}) for key in range(6)])
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:  # as if these were merged before
                connection.execute("UPDATE sides SET a = k + 7, b = 'elm'")
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("already hold the new values", str(outcome.error))
            town.project.reload("sides")
            self.assertEqual(town.target("sides"), town.truth)

    def test_a_wrong_order_or_key(self) -> None:
        self.assertIn(
            "do not begin with the values",
            self.refused("sides", ('["batch", "line"]', '["new_b", "line"]'), ('new_b"', 'what"')),
        )
        self.assertIn("its order is not plain", self.refused("news", ('["at", "n"]', '["what", "n"]')))
        self.assertRegex(self.refused("sides", ('key = ["k"]', 'key = ["b"]')), "key|was never|no value")

    def test_nothing_but_truncates(self) -> None:
        """E21: a code taken for that of truncates would empty the target."""
        said = self.refused("news", ('insert = ["planted"]', "insert = []"), ('["grew"]', "[]"), ('["felled"]', "[]"),
                            ('["cleared"]', '["cleared", "planted", "grew", "felled"]'))  # fmt: skip
        self.assertIn("changes are truncates", said)

    def test_sql_over_the_feeds_fields(self) -> None:
        skip = "skip = \"kind <> 'tree'\""
        for sql, words in (
            ("knid <> 'tree'", "'knid', which is not a field of the feed.*Did you mean 'kind'"),
            ("kind <>", "is not SQL"),
            ("max(kind) = 'tree'", "looks at many rows"),
            ("kind <> 'tree' or random() < 0.5", "does not give the same"),
            ("n + 1", "Convert them"),  # a text, in SQLite
        ):
            said = self.refused("mixed", (skip, f'skip = "{sql}"')).replace("\n", " ")
            self.assertRegex(said, words)
        said = self.refused("mixed", ("action || coalesce(half, '0')", "upper(action)"))
        self.assertRegex(said, "operation_sql is '?REMOVE'?|operation_sql is '?ADD'?, which is not a code")
        said = self.refused("mixed", (skip + "\n", ""))  # what should have been skipped has no code
        self.assertIn("which is not a code of the layout", said)

    def test_pairs_at_one_position_that_sql_tells(self) -> None:
        """The store does not evaluate it, so what comes first at one position is for a further column to say."""
        with Town("docs") as town:
            town.play(list(HISTORY))
            with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.executescript(
                    "CREATE TABLE tied AS SELECT CASE WHEN action = 'add' AND half THEN n - 1 ELSE n END AS n, n AS row, kind, action, "
                    "half, k, a, b FROM mixed ORDER BY 1, 2 DESC"
                )
            text = layouts.config("mixed").replace("town.mixed", "town.tied").replace('["kind"', '["row", "kind"')
            town.config.write_text(text)
            with self.assertRaisesRegex(plainstep.DataError, "half|before it|after it"):
                town.project.step()
            town.config.write_text(text.replace('["n"]', '["n", "row"]'))
            town.project.step()
            self.assertEqual(town.target("mixed"), town.truth)

    def test_messages_of_a_kind_that_has_not_come_yet(self) -> None:
        skip = "skip = \"doc.kind = 'beat'\""
        text = layouts.config("coded").replace(skip, "skip = \"doc.progress is not null or doc.kind = 'beat'\"")
        with Town(config=text) as town:
            for _ in range(2):
                town.play(list(HISTORY[:9]))
                town.project.step()
                self.assertEqual(town.target("coded"), town.truth)
                with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                    connection.execute('INSERT INTO coded SELECT max(n) + 3, \'{"progress": {"done": 7}}\' FROM coded')
                town.project.step()
        self.assertIn(
            "Did you mean 'doc.kind'", self.refused("coded", (skip, "skip = \"doc.knd = 'beat'\"")).replace("\n", " ")
        )

    def test_halves_of_an_update_in_any_order(self) -> None:
        pair = 'pair = ["change"]'
        self.assertIn("not before it", self.refused("marked", (pair, "")))
        self.assertIn("Did you mean 'change'", self.refused("marked", (pair, 'pair = ["chagne"]')).replace("\n", " "))
        self.assertIn("no codes of such rows", self.refused("puts", ('put = ["set"]', 'put = ["set"]\npair = ["n"]')))
        for spoiled, words in (
            ("UPDATE marked SET change = 0 WHERE what = 'after'", "same values in what pairs it"),
            ("UPDATE marked SET change = NULL WHERE what = 'after'", "has no value in change"),
            (
                "DELETE FROM marked WHERE what = 'before' AND n = (SELECT max(n) FROM marked)",
                "its other half is not there",
            ),
        ):
            with Town("marked") as town:
                town.play(list(HISTORY))
                with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                    connection.execute(spoiled)
                self.assertRegex(str(town.project.step(raise_errors=False)[0].error), words)

    def test_messages_of_several_records(self) -> None:
        self.assertIn("no such field", self.refused("alike", ('each = "doc.trees"', 'each = "doc.tress"')))
        self.assertIn("is not a list of records", self.refused("alike", ('each = "doc.trees"', 'each = "doc.what"')))
        self.assertIn(
            "is not a valid",
            self.refused(
                "alike", ('k = "trees"', 'k = "what"'), ('key = ["k"]', 'key = ["k"]\ntypes = { k = "INTEGER" }')
            ),
        )
        rows = pa.table({"n": [1, 2, 3, 4], "x": pa.array([[{"k": 7}, {"k": 8}], [], None, [{"k": 9}]])})
        found = by_record(rows, "x")
        self.assertEqual(
            (found["n"].to_pylist(), [bool(one) for one in found["x"].to_pylist()]),
            ([1, 1, 3, 4], [True, True, False, True]),
        )
        self.assertEqual([bool(why) for why in found[WRONG].to_pylist()], [False, False, True, False])
        texts = pa.table({"x": ['["a", null, 12345678901234567890.10, {"b": [1.50]}]', "[]", "{}", "7"]})
        found = by_record(texts, "x")["x"].to_pylist()
        self.assertEqual(found, ["a", None, "12345678901234567890.10", '{"b": [1.50]}', None, None])

    def test_partitions(self) -> None:
        part = 'partition = "shard"'
        self.assertIn("'shrad', which town.shards does not have", self.refused("shards", (part, 'partition = "shrad"')))
        self.assertIn("by 'folder' only", self.refused("folders", ('"folder"', '"shard"')))
        self.assertIn(
            "codes of truncates",
            self.refused("shards", ('delete = ["felled"]', 'delete = ["felled"]\ntruncate = ["cleared"]')),
        )
        for spoiled, words in (
            ("UPDATE shards SET shard = 'north' WHERE k = 1 AND what = 'grew'", "k 1 in several partitions .shard a=b,c/d%, north"),
            ("CREATE TABLE s AS SELECT * FROM shards; DROP TABLE shards; ALTER TABLE s RENAME TO shards; UPDATE shards SET shard = NULL WHERE n = 2", "is in no partition: shard is null"),
        ):  # fmt: skip
            with Town("shards") as town:
                town.play(list(HISTORY))
                with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                    connection.executescript(spoiled)
                self.assertRegex(str(town.project.step(raise_errors=False)[0].error), words)

    def test_a_partition_that_lags_or_is_new_loses_nothing(self) -> None:
        for rows in ("", 'rows = "town.tree"\n'):
            text = layouts.config("shards").replace('key = ["k"]\n', f'key = ["k"]\n{rows}')
            with Town("docs", config=text) as town:
                town.play([("insert", 0, {"a": 1, "b": "oak"})])
                town.project.step()
                town.play(
                    [("insert", key, {"a": 1, "b": "oak"}) for key in (3, 6, 1)] + [("update", 0, {"a": 7, "b": "elm"})]
                )
                town.project.step()
                before = json.loads(run(town, "status", "--json").output)[0]["watermark"]["position"]
                self.assertEqual(before, "a%3Db%2Cc/d%25=101,north=4")
                [outcome] = town.project.step()
                self.assertEqual(outcome.outcome, "nothing")
                town.play([("insert", 2, {"a": 1, "b": "ash"}), ("delete", 1, None)])
                self.assertIn("come to 2 net changes", run(town, "net", "shards").output)
                town.project.step()
                self.assertEqual(town.target("shards"), town.truth)
                looked = run(town, "look", "shards", "--after", before, "--json").output
                self.assertEqual(
                    {one["position"] for one in json.loads(looked)["changes"]}, {"a%3Db%2Cc/d%25=102", "west=201"}
                )
                self.assertEqual(run(town, "look", "shards", "--after", "17").exit_code, 2)

    def test_hexadecimal_positions(self) -> None:
        hexed = 'hexadecimal = ["lsn"]\n'
        self.assertIn("its order is not plain", self.refused("logged", (hexed, "")))
        for load in ("logged", "lines"):
            self.assertRegex(
                self.refused(load, (hexed, 'hexadecimal = ["what"]\n')),
                "is not a text of the position|does not name it",
            )
        with Town("logged", "lines") as town:
            town.play(list(HISTORY))
            town.project.step()
            self.assertEqual(run(town, "look", "logged", "--after", "7").exit_code, 2)
            with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                connection.execute("INSERT INTO logged VALUES ('FF', 'grew', 1, 1, 'oak')")
            (town.path / "landing/lines/0009.jsonl").write_text(
                '{"lsn": "FF/x", "what": "grew", "k": 1, "a": 1, "b": "x"}\n'
            )
            for outcome in town.project.step(raise_errors=False):
                self.assertRegex(
                    str(outcome.error), "not all of them are 2 hexadecimal numbers|which is not 2 hexadecimal numbers"
                )

    def test_texts_as_positions(self) -> None:
        """Some look like numbers, and others between them do not."""
        with Town("docs") as town:
            with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                connection.execute(
                    "CREATE TABLE coded_log (p TEXT PRIMARY KEY, what TEXT, k INTEGER, a INTEGER, b TEXT)"
                )
                rows = [(f"{16 * n + 8:04X}", "planted", n, n, "oak") for n in range(20)]
                connection.executemany("INSERT INTO coded_log VALUES (?, ?, ?, ?, ?)", rows)
            town.config.write_text(
                layouts.config("parts")
                .replace("town.parts", "town.coded_log")
                .replace('sent_columns = "fields"\n', "")
                .replace('["n"]', '["p"]')
            )
            self.assertIn("20 changes up to 0138 came", run(town, "step").output)
            looked = run(town, "look", "parts", "--after", "0098", "--upto", "00D8").output
            self.assertIn("4 changes after 0098 up to 00D8", looked)

    def test_patches(self) -> None:
        patch = 'patch = "doc.changed"'
        for turns, said in (
            (((patch, patch + '\nmissing_field = "unsent"'),), "missing_field = 'unsent'"),
            ((('now = "doc.tree.*"', 'now = "*"'),), "do not lie at one place|not at"),
            ((('k = "doc.key"', 'k = "b"'), ("columns = { k", 'columns = { q = "b", k')), "lies in the document"),
            (((patch, 'patch = "doc.what"'),), "not an object of paths|it is"),
            ((('removed = "doc.removed"', 'removed = "doc.changed"'),), "not a list of paths"),
        ):
            self.assertRegex(self.refused("patched", *turns), said)
        paths = Patches("doc", "set", "gone", "old", ("size.a", "tags", "b"), False)
        old = '{"tags": ["x", {"y": 1.50}], "b": 12345678901234567890.10}'
        for told, expected in (
            ({"set": '{"tags.1.y": 2, "b.c": 1}'}, "which has no place in what was there before"),
            ({"set": '{"tags.1.y": 2}'}, {"tags": ["x", {"y": 2}]}),
            (
                {"set": '{"tags.2": "z"}', "gone": '["tags.0", "size"]'},
                {"tags": [None, {"y": 1.5}, "z"], "size": {"a": None}},
            ),
            ({"set": '{"tags.1.y": 2}', "old": None}, "lies within the column 'tags', and no old value is there"),
            ({"set": '{"tags.7": 2}'}, "which has no place"),
            ({"set": '{"size": {"a": 7, "unit": "m"}}'}, {"size": {"a": 7}}),
            ({"set": '{"colour": 7}'}, "'colour', which is no column's"),
            ({"gone": '["colour.depth"]'}, "'colour.depth', which is no column's"),
            ({"set": "[]"}, "not an object of paths"),
            ({"gone": "[7]"}, "not a list of paths"),
        ):
            row = {"doc": [None], "set": [None], "gone": [None], "old": [old]} | {
                name: [text] for name, text in told.items()
            }
            found = unpatched(
                pa.table({name: pa.array(column, pa.string()) for name, column in row.items()}), paths
            ).to_pylist()[0]
            if isinstance(expected, str):
                self.assertIn(expected, found[WRONG])
            else:
                self.assertEqual((json.loads(found[DOCUMENT]), found[WRONG]), (expected, None))
                self.assertEqual(len(json.loads(found[SENT])), len(expected))

    def test_operations_by_images(self) -> None:
        said = self.refused("images", ('only_new = "insert"', 'only_new = "insert"\noperation = "n"'))
        self.assertIn("has both operation and only_new", said)
        self.assertIn("only_new, and no 'was'", self.refused("images", ('was = "old_*"\n', "")))
        self.assertRegex(self.refused("images", *self.swap('"old_*"', '"new_*"')), "was never|contradict|do not begin")
        self.assertIn("two meanings", self.refused("puts", ('delete = ["unset"]', 'delete = ["set"]')))

    def test_a_key_that_stands_once_for_both_images(self) -> None:
        with Town("docs") as town:
            town.play(list(HISTORY))
            with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.executescript(
                    """CREATE TABLE once (n INTEGER PRIMARY KEY, k INTEGER, old_a INTEGER, old_b TEXT, new_a INTEGER, new_b TEXT);
                    INSERT INTO once SELECT n, coalesce(new_k, old_k), old_a, old_b, new_a, new_b FROM images;"""
                )
            text = layouts.config("images").replace("town.images", "town.once")
            town.config.write_text(text)
            town.project.step()
            self.assertEqual(town.target("images"), town.truth)

    def test_values_that_are_not_of_their_encoding(self) -> None:
        self.assertIn(
            "how many places",
            self.refused("coded", ('a = "INTEGER", b', "b"), ("types = { k", 'types = { a = "TEXT", k')),
        )
        self.assertIn("Did you mean 'b'?", self.refused("coded", ('b = "tagged"', 'b = "tagged", bb = "hex"')))
        for old, new in (('"decimal_bytes"', '"hex"'), ('b = "tagged"', 'b = "base64"'), ('"decimal_bytes"', '"days"')):
            self.assertRegex(self.refused("coded", (old, new)), "is not a valid|does not fit|is not valid")

    def test_one_sign_in_ten_may_be_chance(self) -> None:
        """F22: what the page of layouts promises, at its very bounds."""
        for changes, signs, doubtful in (
            (30, 3, False),
            (30, 4, True),
            (20, 2, False),
            (20, 3, True),
            (2, 1, False),
            (2, 2, True),
        ):
            with self.subTest(changes=changes, signs=signs):
                ops = [int(Op.INSERT)] + [int(Op.UPDATE)] * changes
                was = [None] + [row - (row <= signs) for row in range(1, changes + 1)]
                table = {"op": pa.array(ops, pa.int8()), "seq": range(changes + 1), "position": [str(row) for row in range(changes + 1)],
                         "at": pa.nulls(changes + 1, utc_time()), WAS + "k": [None] + [1] * changes, NOW + "k": [1] * (changes + 1),
                         WAS + "a": pa.array(was, pa.int64()), NOW + "a": range(1, changes + 2)}  # fmt: skip
                self.assertEqual(doubt(Changes(pa.table(table)), ("k",), True) is not None, doubtful)

    def test_names_that_are_not_there(self) -> None:
        for turns, said in (
            ((('"what"', '"waht"'),), "Did you mean 'what'?"),
            ((('["n"]', '["m"]'),), "position names the column 'm'"),
            ((('key = ["k"]', 'key = ["q"]'),), "'q'"),
            ((('delete = ["felled"]', 'delete = ["planted"]'),), "two meanings"),
            ((('delete = ["felled"]', "delete = []"),), "is not a code of the layout"),
        ):
            with Town(config=self.changed("flags", turns)) as town:
                town.play(list(HISTORY))
                try:
                    town.project.step()
                except plainstep.PlainStepError as error:
                    self.assertIn(said, str(error))
                else:
                    self.fail(f"{turns} was not refused")

    def changed(self, load: str, turns: tuple[tuple[str, str], ...]) -> str:
        text = layouts.config(load)
        for old, new in turns:
            text = text.replace(old, new)
        return text


class QuarantinedRow(unittest.TestCase):
    """Rows that contradict the layout are quarantined, kept, listed and put back."""

    def test_a_row_is_put_back_without_putting_older_values_over_newer_ones(self) -> None:
        text = layouts.config("news").replace('key = ["k"]', 'key = ["k"]\non_bad_row = "quarantine"')
        with Town(config=text) as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(9)])
            self.spoil(town, "UPDATE news SET what = 'Planted' WHERE k IN (3, 4)")
            [outcome] = town.project.step()
            self.assertIn("rows quarantined: 2", outcome.entry.note if outcome.entry else "")
            town.play([("update", 3, {"a": 70, "b": "elm"})])
            town.project.step()
            self.assertEqual([row.step for _, row in town.project.quarantine()], [1, 1])
            self.assertEqual(town.project.retry("news").left, 2)
            town.config.write_text(text.replace('["planted"]', '["planted", "Planted"]'))
            found = town.project.retry("news")
            self.assertEqual((found.merged, found.left, found.gone), (2, 0, 0))
            self.assertEqual(town.target("news"), town.truth)
            self.assertEqual(town.project.quarantine(), [])
            self.assertEqual(town.project.retry("news").merged, 0)

    def test_most_rows_are_never_quarantined(self) -> None:
        text = layouts.config("news").replace('key = ["k"]', 'key = ["k"]\non_bad_row = "quarantine"')
        with Town(config=text.replace('"planted"', '"sown"')) as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(9)])
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("Most rows", str(outcome.error))

    def spoil(self, town: Town, sql: str) -> None:
        connection = sqlite3.connect(town.path / "town.db")
        connection.execute(sql)
        connection.commit()
        connection.close()


class Examples(unittest.TestCase):
    """The page of layouts is what the examples print."""

    def test_the_page_is_true(self) -> None:
        import runpy

        made = runpy.run_path(str(ROOT / "examples/layouts/show.py"))["page"]()
        self.assertEqual((ROOT / "docs/layouts.md").read_text(encoding="utf-8"), made)


if __name__ == "__main__":
    unittest.main()
