"""Forms of feeds beside the plain ones: partitions, pairs in any order, several records, patches, positions that are texts."""

from __future__ import annotations

import contextlib
import json
import pkgutil
import random
import sqlite3
import unittest
from typing import Any
from unittest import mock

import duckdb
import pyarrow as pa

from plainstep.core.layouts.patches import SENT, Patches, unpatched
from plainstep.core.layouts.records import by_record
from plainstep.core.layouts.rows import DOCUMENT, WRONG
from tests import layouts
from tests.feed_town import HISTORY, Refusing, Town, run


class Forms(Refusing):
    """Each mistake is refused, and nothing is merged; what lags loses nothing."""

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

    def test_a_row_in_two_partitions_and_what_mends_it(self) -> None:
        """Whatever the column of the partition is called."""
        layout = 'position = ["n"]\noperation = "what"\nput = ["set"]\npartition = "partition"\n'
        text = layouts.STORES + '[loads.tree]\nfrom = "town.moved"\ninto = "house.tree"\n'
        with Town(config=text + 'key = ["k"]\n[loads.tree.layout]\n' + layout) as town:
            with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                connection.execute("CREATE TABLE moved (partition TEXT, n INTEGER, what TEXT, k INTEGER)")
                connection.execute("INSERT INTO moved VALUES ('east', 1, 'set', 7), ('west', 1, 'set', 7)")
            said = str(town.project.step(raise_errors=False)[0].error)
            self.assertIn("in several partitions", said)
            self.assertIn("Add the partition to 'key'", said)
            town.config.write_text(town.config.read_text().replace('key = ["k"]', 'key = ["partition", "k"]'))
            self.assertEqual(town.project.step()[0].edits["put"], 2)
            self.assertEqual(town.project.status()[0].health, "ok")

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
            (((patch, 'patch = "doc.chagned"'),), "has no new values, and no field was removed"),
        ):
            self.assertRegex(self.refused("patched", *turns), said)
        without = ('patch = "changed"\nremoved = "removed"\n', 'patch = "what"\nbookkeeping = ["changed", "removed"]\n')
        self.assertRegex(self.refused("amended", without), "is .* which is not")
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
            ({"set": '{"b": 1, "b": 2}'}, "has the field b twice"),
            ({"set": "{"}, "which is not JSON"),
        ):
            found = read_patch(paths, {"old": old, **told})
            if isinstance(expected, str):
                self.assertIn(expected, found[WRONG])
            else:
                self.assertEqual((json.loads(found[DOCUMENT]), found[WRONG]), (expected, None))
                self.assertEqual(len(json.loads(found[SENT])), len(expected))
        # A column within a column: both are told.
        within = Patches("doc", "set", "gone", "old", ("size", "size.a"), False)
        found = read_patch(within, {"set": '{"size": {"a": 2}}'})
        self.assertEqual(json.loads(found[DOCUMENT]), {"size": {"a": 2}})
        self.assertEqual(json.loads(found[SENT]), ["size", "size.a"])


class Shared(unittest.TestCase):
    """Several tables in one feed, a load for each: where they step together, the feed is read once."""

    def test_one_feed_of_several_tables_is_read_once(self) -> None:
        for place, feed in (("landing.feed", "stores.files.feed.FileFeed"), ("town.feed", "sources.sql_feed.SqlFeed")):
            for partition in ("", 'partition = "folder"\n' if place.startswith("landing") else 'partition = "part"\n'):
                with self.subTest(place, partition=partition), Town(config=shared_config(place, partition)) as town:
                    self._follow(town, f"plainstep.{feed}.read")

    def _follow(self, town: Town, read: str) -> None:
        chance = random.Random(7)
        truth: dict[str, dict[int, tuple[object, ...]]] = {"tree": {}, "ward": {}}
        (town.path / "landing/feed/east").mkdir(parents=True)
        n = 0
        with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
            connection.execute("CREATE TABLE feed (n INTEGER PRIMARY KEY, part TEXT, kind TEXT, what TEXT, row TEXT)")
            for window in range(4):
                messages = []
                for _ in range(60):
                    n += 1
                    kind, k = chance.choice(["tree", "ward", "beat"]), chance.randrange(9)
                    gone = chance.random() < 0.3
                    row = {"k": k} | ({} if gone else {"a": n, "b": "oak"} if kind == "tree" else {"name": f"w{n}"})
                    messages.append({"n": n, "kind": kind, "what": "unset" if gone else "set", "row": row})
                    if kind in truth and gone:
                        truth[kind].pop(k, None)
                    elif kind in truth:
                        truth[kind][k] = tuple(row.values())
                (town.path / f"landing/feed/east/{window}.jsonl").write_text(
                    "".join(json.dumps(one) + "\n" for one in messages)
                )
                connection.executemany(
                    "INSERT INTO feed VALUES (?, 'east', ?, ?, ?)",
                    [(one["n"], one["kind"], one["what"], json.dumps(one["row"])) for one in messages],
                )
                module, _, name = read.rpartition(".")
                owner = pkgutil.resolve_name(module.replace(".FileFeed", ":FileFeed").replace(".SqlFeed", ":SqlFeed"))
                with (
                    mock.patch("plainstep.stores.spool.IN_MEMORY", 1000),
                    mock.patch.object(owner, name, autospec=True, side_effect=getattr(owner, name)) as reading,
                ):
                    self.assertEqual([one.outcome for one in town.project.step()], ["stepped"] * 2)
                self.assertEqual(reading.call_count, 1)
                with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
                    for table, rows in truth.items():
                        found = house.execute(f"SELECT * FROM {table} ORDER BY k").fetchall()
                        self.assertEqual(found, [rows[k] for k in sorted(rows)], table)

    def test_what_is_wrong_for_one_of_them_only(self) -> None:
        """A value that does not fit one load's column, in a row that is another's, is nothing to either."""
        with Town(config=shared_config("landing.feed", "")) as town:
            (town.path / "landing/feed").mkdir(parents=True)
            rows = [
                {"n": 1, "kind": "tree", "what": "set", "row": {"k": 1, "a": 1, "b": "oak"}},
                {"n": 2, "kind": "ward", "what": "set", "row": {"k": 1, "name": "north", "a": "is a text here"}},
                {"n": 3, "kind": "tree", "what": "set", "row": {"k": 2, "a": 2, "b": "elm"}},
            ]
            (town.path / "landing/feed/1.jsonl").write_text("".join(json.dumps(one) + "\n" for one in rows))
            self.assertEqual([one.outcome for one in town.project.step()], ["stepped"] * 2)
            with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
                self.assertEqual(house.execute("FROM tree ORDER BY k").fetchall(), [(1, 1, "oak"), (2, 2, "elm")])
                self.assertEqual(house.execute("FROM ward").fetchall(), [(1, "north")])


def shared_config(place: str, partition: str) -> str:
    """Two loads of one feed, in a group."""
    text = layouts.STORES + '[groups.register]\nloads = ["tree", "ward"]\n'
    for table, columns in (
        ("tree", {"k": "INTEGER", "a": "INTEGER", "b": "TEXT"}),
        ("ward", {"k": "INTEGER", "name": "TEXT"}),
    ):
        types, paths = (", ".join(f"{name} = {json.dumps(one)}" for name, one in told.items()) for told in
                        (columns, {name: f"row.{name}" for name in columns}))  # fmt: skip
        text += f'[loads.{table}]\nfrom = "{place}"\ninto = "house.{table}"\nkey = ["k"]\ntypes = {{ {types} }}\n'
        text += f'[loads.{table}.layout]\nposition = ["n"]\nskip = "kind <> \'{table}\'"\noperation = "what"\nput = ["set"]\n'
        text += f'delete = ["unset"]\nnow = "row.*"\ncolumns = {{ {paths} }}\nmissing_field = "null"\n{partition}'
    return text


def read_patch(paths: Patches, told: dict[str, Any]) -> dict[str, Any]:
    """One row, of nothing but what it tells, as `unpatched` makes it."""
    row = {name: pa.array([told.get(name)], pa.string()) for name in ("doc", "set", "gone", "old")}
    found: dict[str, Any] = unpatched(pa.table(row), paths).to_pylist()[0]
    return found


if __name__ == "__main__":
    unittest.main()
