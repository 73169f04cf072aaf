"""What a person sees and says of feeds: init, look, status, watermark, quarantined; every kind of position; every target."""

from __future__ import annotations

import json
import os
import sqlite3
import tomllib
import unittest
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings

import plainstep
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.inference import guess
from plainstep.formats.lines import kind_of
from plainstep.stores.capabilities import with_tables
from plainstep.stores.files.folders import LocalFolder
from plainstep.stores.files.listing import Seen, copies, listed, packed, unpacked
from tests import layouts
from tests.feed_town import HISTORY, Town, run
from tests.histories import histories
from tests.postgres import Database
from tests.support import WITHOUT_SHRINKING, examples

import pyarrow as pa  # isort: skip


class Commands(unittest.TestCase):
    def town(self, load: str, bad: str = "") -> Town:
        town = Town(config=layouts.config(load).replace('key = ["k"]', f'key = ["k"]\n{bad}'))
        town.play(list(HISTORY))
        return town

    def test_positions_are_shown_as_the_feed_has_them(self) -> None:
        with self.town("sides") as town:
            self.assertIn("up to 11/330", run(town, "step").output)
            [status] = json.loads(run(town, "status", "--json").output)
            self.assertEqual(
                (status["watermark"]["position"], status["head"], status["health"]), ("11/330", "11/330", "ok")
            )
            self.assertEqual(status["limitations"], ["when changes were made"])
            look = json.loads(run(town, "look", "sides", "--after", "start", "--upto", "1/30", "--json").output)
            self.assertEqual([row["position"] for row in look["changes"]], ["0/10", "1/30"])
            [entry] = json.loads(run(town, "ledger", "--json").output)
            self.assertEqual((entry["after"], entry["upto"]), (None, "11/330"))
            moved = run(town, "watermark", "sides", "--to", "1/99", "--yes")
            self.assertIn("merged up to 1/50", moved.output)
            self.assertIn("after 1/50 up to 11/330", run(town, "step").output)
            self.assertEqual(town.target("sides"), town.truth)
            self.assertIn("is not a position here", run(town, "look", "sides", "--after", "7").stderr)

    def test_positions_of_every_kind(self) -> None:
        for load, after in (("news", None), ("csv", "0001.csv"), ("json", "20"), ("avro", "10")):
            with self.subTest(load), self.town(load) as town:
                self.assertEqual(run(town, "step").exit_code, 0)
                look = json.loads(run(town, "look", load, "--after", "start", "--json").output)
                first = look["changes"][0]["position"]
                if after:
                    self.assertIn(after, str(first))
                rest = json.loads(run(town, "look", load, "--after", str(first), "--json").output)
                self.assertEqual(sum(rest["counts"].values()), sum(look["counts"].values()) - 1)
                run(town, "watermark", load, "--to", str(first), "--yes")
                self.assertEqual(run(town, "step").exit_code, 0)
                self.assertEqual(town.target(load), town.truth)

    def test_quarantine_is_listed_and_put_back(self) -> None:
        with self.town("flags", 'on_bad_row = "quarantine"') as town:
            connection = sqlite3.connect(town.path / "town.db")
            connection.execute("UPDATE flags SET what = 'Felled' WHERE what = 'felled'")
            connection.commit()
            connection.close()
            self.assertIn("would be quarantined: 2", run(town, "look", "flags").output)
            self.assertIn("rows quarantined: 2", run(town, "step").output)
            told = json.loads(run(town, "quarantine", "--json").output)
            self.assertEqual({row["row"]["what"] for row in told}, {"Felled"})
            self.assertIn("is not a code of the layout", run(town, "quarantine", "flags").output)
            self.assertIn("still quarantined: 2", run(town, "quarantine", "--retry").output)
            town.config.write_text(town.config.read_text().replace('["felled"]', '["felled", "Felled"]'))
            self.assertEqual(json.loads(run(town, "quarantine", "flags", "--retry", "--json").output)[0]["merged"], 2)
            self.assertEqual(town.target("flags"), town.truth)
            self.assertIn("No rows are quarantined", run(town, "quarantine").output)
            self.assertIn("quarantined rows merged: 2", run(town, "ledger").output)

    def test_init_is_toml_and_says_what_it_guessed(self) -> None:
        with self.town("sides") as town:
            told = run(town, "init", "--changes", "town.sides", "--into", "house").output
            load = tomllib.loads(told)["loads"]["sides"]
            self.assertEqual(
                (load["into"], load["layout"]["was"], load["layout"]["delete"]), ("house.sides", "old_*", ["3"])
            )
            self.assertRegex(told, r'key = \["k"\]  # guessed: .*\n(.*\n)*.*# sure: ')
            self.assertIn("# Codes in what: ", told)
            self.assertIn("#   delete: k ", told)
            for words, said in (
                (["town.none"], "no table 'none'"),
                (["nowhere.x"], "no store 'nowhere'"),
                (["landing.*.csv"], "no file"),
            ):
                done = run(town, "init", "--changes", *words)
                self.assertIn(said, done.stderr)
                self.assertNotEqual(done.exit_code, 0)

    def test_what_cannot_be_said(self) -> None:
        for turns, said in (
            (('position = ["n"]\n', ""), "names no position"),
            (('operation = "what"', 'operaton = "what"'), "Did you mean 'operation'?"),
            (('key = ["k"]', ""), "names no key"),
            (('key = ["k"]', 'key = ["k"]\noverlap = "soon"'), "is not a valid overlap"),
            (('key = ["k"]', 'key = ["k"]\nchanges = "column"'), "layout does nothing here"),
            (('sent_columns = "has_*"', "lookup = true"), 'rows = "STORE.TABLE"'),
            (('from = "town.flags"', 'from = "landing.flags"'), "no file"),
            (('into = "house.flags"', 'into = "landing.flags"'), "rows in files are never changed"),
        ):
            with self.subTest(said), Town(config=layouts.config("flags").replace(*turns)) as town:
                town.play(list(HISTORY))
                done = run(town, "step")
                self.assertIn(said, done.stderr)
                self.assertIn(done.exit_code, (2, 4))

    def test_deletes_that_carry_their_key_alone(self) -> None:
        text = layouts.config("sides").replace('now = "new_*"', 'now = "new_*"\ndelete_carries = "key"')
        with Town(config=text) as town:
            town.play(list(HISTORY[:11]))
            connection = sqlite3.connect(town.path / "town.db")
            town.project.step()
            town.play(list(HISTORY[11:]))
            connection.execute("UPDATE sides SET old_a = NULL, old_b = NULL WHERE what = 3")
            connection.commit()
            connection.close()
            [check] = town.project.check()  # what waits cannot be undone, and is left out instead
            self.assertTrue(check.ok and check.waiting, check)
            town.project.step()
            self.assertEqual(town.target("sides"), town.truth)


class Targets(unittest.TestCase):
    """The same history into every kind of target."""

    NAMES = ("pairs", "sides", "parts", "keys", "docs", "latest", "diff", "json")

    @settings(
        max_examples=examples(2), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(histories, histories)
    def test_sqlite_and_postgresql(self, one: list[Any], other: list[Any]) -> None:
        with Database() as database:
            for url in ("sqlite:///house.db", database.url):
                text = layouts.config(*self.NAMES).replace("duckdb:///house.duckdb", url)
                with Town(config=text) as town:
                    for number, history in enumerate(([], one, other)):
                        # A window of nothing but truncates would be doubted.
                        town.play([("insert", 10 + number, {"a": 1, "b": "oak"}), *history])
                        town.project.step()
                        for name in self.NAMES:
                            self.assertEqual(self.rows(town, database, url, name), town.truth, (url, name))
                    self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})
                    for check in town.project.check():
                        self.assertTrue(check.ok, check)

    def rows(self, town: Town, database: Database, url: str, table: str) -> dict[int, Any]:
        sql = f'SELECT k, a, b FROM "{table}"'
        if url.startswith("postgres"):
            return {row[0]: row for row in database.rows(sql)}
        connection = sqlite3.connect(town.path / "house.db")
        found = {row[0]: row for row in connection.execute(sql)}
        connection.close()
        return found


class Parks(unittest.TestCase):
    """Keys of two columns, looked up; a second table that maps positions to times."""

    LOADS = """
[stores.town]
url = "sqlite:///town.db"
[stores.house]
url = "duckdb:///house.duckdb"
[loads.touched]
from = "town.touched"
into = "house.touched"
rows = "town.place"
[loads.touched.layout]
position = ["n"]
lookup = true
[loads.moved]
from = "town.moved"
into = "house.moved"
key = ["ward", "spot"]
[loads.moved.layout]
position = ["day", "n"]
time = { table = "days", position = "day", time = "closed" }
operation = "what"
insert = ["new"]
update = ["moved"]
delete = ["gone"]
was = "from_*"
now = "to_*"
"""
    FEED = """
CREATE TABLE place (ward INTEGER, spot TEXT, tree TEXT, PRIMARY KEY (ward, spot));
CREATE TABLE touched (n INTEGER PRIMARY KEY, ward INTEGER, spot TEXT);
CREATE TABLE days (day INTEGER PRIMARY KEY, closed TEXT);
CREATE TABLE moved (day INTEGER, n INTEGER, what TEXT, from_ward INTEGER, from_spot TEXT, from_tree TEXT,
    to_ward INTEGER, to_spot TEXT, to_tree TEXT);
INSERT INTO days VALUES (1, '2026-05-04T17:00:00Z'), (2, '2026-05-05T17:00:00Z');
"""

    def sql(self, town: Town, script: str) -> None:
        connection = sqlite3.connect(town.path / "town.db")
        connection.executescript(script)
        connection.close()

    def rows(self, town: Town, table: str) -> set[Any]:
        import duckdb

        with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
            return set(house.execute(f"SELECT ward, spot, tree FROM {table}").fetchall())

    def test_looked_up_by_two_columns(self) -> None:
        with Town(config=self.LOADS) as town:
            self.sql(town, self.FEED + "INSERT INTO place VALUES (1, 'a', 'oak'), (1, 'b', 'elm'), (2, 'a', 'ash');")
            town.project.step("touched")
            self.sql(
                town,
                "UPDATE place SET tree = 'yew' WHERE spot = 'a'; DELETE FROM place WHERE spot = 'b';"
                "INSERT INTO place VALUES (2, 'it''s', 'fir');"
                "INSERT INTO touched VALUES (1, 1, 'a'), (2, 1, 'b'), (3, 2, 'it''s'), (4, 9, 'never'), (5, 1, 'a');",
            )
            [outcome] = town.project.step("touched")
            self.assertEqual(outcome.changes, 5)
            self.assertEqual(self.rows(town, "touched"), {(1, "a", "yew"), (2, "a", "ash"), (2, "it's", "fir")})
            [check] = town.project.check("touched")  # the feed did not say that 2 a changed: that is a true difference
            self.assertEqual((check.ok, check.different), (False, 1))
            town.project.reload("touched")
            self.assertTrue(town.project.check("touched")[0].ok)

    def test_moved_in_a_ring_and_told_by_the_day(self) -> None:
        with Town(config=self.LOADS) as town:
            self.sql(
                town,
                self.FEED + "INSERT INTO moved VALUES (1, 1, 'new', NULL, NULL, NULL, 1, 'a', 'oak'), "
                "(1, 2, 'new', NULL, NULL, NULL, 1, 'b', 'elm'), (2, 1, 'moved', 1, 'a', 'oak', 3, 'x', 'oak'), "
                "(2, 2, 'moved', 1, 'b', 'elm', 1, 'a', 'elm'), (2, 3, 'moved', 3, 'x', 'oak', 1, 'b', 'oak');",
            )
            first_day = run(town, "look", "moved", "--upto", "2026-05-05T09:00:00Z")
            self.assertIn("2 changes after start up to 1/2", first_day.output)
            second = json.loads(run(town, "net", "moved", "--after", "2026-05-05T09:00:00Z", "--json").output)
            self.assertEqual(
                {(row["op"], row["key"]["spot"]) for row in second["net"]}, {("update", "a"), ("update", "b")}
            )
            town.project.step("moved")
            self.assertEqual(self.rows(town, "moved"), {(1, "a", "elm"), (1, "b", "oak")})
            self.assertTrue(town.project.check("moved")[0].ok)
            self.assertNotIn("when changes were made", town.project.status("moved")[0].limitations)


class Refusals(unittest.TestCase):
    def test_what_a_folder_of_files_is_no_place_for(self) -> None:
        with Town("csv") as town:
            town.play(list(HISTORY))
            project = town.project
            for refused in (project.capture_on, project.capture_off, project.capture_refresh):
                for how in ("capture", "log"):
                    self.assertRaisesRegex(plainstep.Refused, "is a folder of files", refused, "landing.x", how=how)
            self.assertRaisesRegex(plainstep.Refused, "folder of files", with_tables, town.project.stores["landing"])
            self.assertEqual(town.project.captures("landing"), [])
            self.assertRaises(plainstep.PlainStepError, town.project.load("csv").source.trim, [])

    def test_settings_that_exclude_each_other(self) -> None:
        for load, turn, said in (
            ("pairs", ('key = ["k"]', 'key = ["k"]\noverlap = 5'), "come as two rows"),
            ("pairs", ('update_now = ["after"]', ""), "both update_was and update_now"),
            ("flags", ('operation = "what"', ""), "codes but no 'operation'"),
            ("column", ("overlap = 3", 'overlap = "1h"'), "The overlap is a time"),
            ("flags", ('operation = "what"', 'operation = "what"\ncsv = { separator = ";" }'), "Leave csv out"),
            ("csv", ('from = "landing.csv"', 'from = "landing.nothing"'), "There is no file"),
            ("diff", ('key = ["k"]', 'key = ["b"]'), "Two rows of town.tree have the key"),
        ):
            with self.subTest(said), Town(config=layouts.config(load).replace(*turn)) as town:
                town.play(list(HISTORY[:8]))
                done = run(town, "step")
                if done.exit_code == 0:  # an overlap shows with the second window
                    town.play(list(HISTORY[8:9]))
                    done = run(town, "step")
                self.assertIn(said, done.stderr)


class Guesses(unittest.TestCase):
    def guessed(self, rows: pa.Table, ordered: bool = False) -> dict[str, Any]:
        found = guess(rows, fields_of(rows), ordered)
        return {one.name: one.value for one in found.guesses} | {"key": found.key.value if found.key else None}

    def test_codes_that_say_nothing(self) -> None:
        """Numbers for codes: what they mean is seen from where their rows stand."""
        rows = []
        for tree in range(8):
            rows += [(5, tree, 1.0), (8, tree, 1.0), (9, tree, 2.0), (8, tree, 2.0), (9, tree, 3.0)] + [
                (6, tree, 3.0)
            ] * (tree % 2)
        table = pa.table({"seq": range(len(rows)), "op": [row[0] for row in rows], "tree_id": [row[1] for row in rows],
                          "height_m": [row[2] for row in rows]})  # fmt: skip
        found = self.guessed(table)
        self.assertEqual((found["position"], found["operation"], found["key"]), (["seq"], "op", ["tree_id"]))
        self.assertEqual(
            (found["insert"], found["update_was"], found["update_now"], found["delete"]), (["5"], ["8"], ["9"], ["6"])
        )

    def test_nothing_but_rows(self) -> None:
        found = self.guessed(pa.table({"tree_id": [2, 1, 2], "height_m": [1.0, 2.0, 3.0]}), ordered=True)
        self.assertEqual((found["position"], found["key"], found.get("operation")), ([], ["tree_id"], None))

    def test_two_columns_order_and_one_says_when(self) -> None:
        table = pa.table({"batch": [1, 1, 2, 2], "line": [1, 2, 1, 2], "noted_at": ["2026-05-04T09:00:00Z"] * 4, "tree_id": [1, 2, 1, 2],
                          "ward": [3, 3, 3, 4], "removed": [False, False, True, False]})  # fmt: skip
        found = self.guessed(table)
        self.assertEqual(
            (found["position"], found["time"], found["deleted"]), (["batch", "line"], "noted_at", "removed")
        )


class Listings(unittest.TestCase):
    def test_names(self) -> None:
        for name, said in (("a.jsonl", ("json", "")), ("a.b.CSV.gz", ("csv", "gzip")), ("a.parquet", ("parquet", "")), ("a.txt", ("", "")),
                           ("a.avro.zst", ("avro", "zstd")), ("a", ("", "")), ("a.gz", ("", "gzip"))):  # fmt: skip
            kind = kind_of(name)
            self.assertEqual((kind.format, kind.compression), said, name)
        self.assertEqual(kind_of("a.tsv").delimiter, "\t")

    def test_what_is_kept_with_a_watermark(self) -> None:
        seen = {f"trees/{n}.csv": Seen(n, "ab", "cd", n, n % 2 == 0) for n in range(50)}
        self.assertEqual(unpacked(packed("41/7", seen)), ("41/7", seen))
        self.assertEqual(unpacked("41/7"), ("41/7", {}))

    def test_which_files_are_a_feeds(self) -> None:
        with Town() as town:
            folder = Path(town.path / "landing")
            for name in (
                "json/2.jsonl",
                "json/deep/1.jsonl",
                "json/.hidden.jsonl",
                "json/_done",
                "json/3.jsonl.tmp",
                "json/notes.txt",
            ):
                (folder / name).parent.mkdir(exist_ok=True)
                (folder / name).write_text("{}\n")
                os.utime(folder / name, (0, 0))
            (folder / "json/empty.jsonl").write_text("")
            place = LocalFolder(folder)
            found = listed(place, "json", 60)
            self.assertEqual([file.name for file in found.files], ["json/2.jsonl", "json/deep/1.jsonl"])
            self.assertEqual((found.ignored, found.waiting), (["json/notes.txt"], ""))
            self.assertEqual(copies(place, found.files, {}), {"json/deep/1.jsonl": "json/2.jsonl"})
            self.assertEqual([file.name for file in listed(place, "json/*.jsonl", 60).files], ["json/2.jsonl"])


if __name__ == "__main__":
    unittest.main()
