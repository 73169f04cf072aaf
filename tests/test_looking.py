"""Looking: every filter, page and file says the same of the same changes, and nothing is touched."""

from __future__ import annotations

import csv
import io
import json
import unittest
from datetime import UTC, date, datetime
from datetime import time as clock
from decimal import Decimal
from typing import Any
from unittest import mock

import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep import Filter
from plainstep.stores.duckdb import connection
from tests import layouts
from tests.feed_town import HISTORY, run
from tests.feed_town import Town as FeedTown
from tests.histories import Model, histories
from tests.support import TREE, WITHOUT_SHRINKING, Town, act, examples


class Looks(unittest.TestCase):
    def test_up_to_a_time_is_with_what_was_made_at_it(self) -> None:
        """Of changes that were made at one time, all lie up to it: in our own capture, in a feed, in files."""
        times = [f"2026-05-04 10:00:0{second}" for second in (0, 1, 1, 1, 2)]
        layout = 'position = ["n"]\noperation = "what"\ninsert = ["in"]\ntime = "made"\n'
        loads = "[stores.landing]\nurl = 'file:///landing'\n" + "".join(
            f"[loads.{name}]\nfrom = '{source}'\ninto = 'shed.{name}'\nkey = ['k']\n[loads.{name}.layout]\n{layout}"
            for name, source in (("feed", "town.feed"), ("files", "landing.*.csv"))
        )
        with Town(
            TREE, "CREATE TABLE feed (n INTEGER PRIMARY KEY, what TEXT, made TEXT, k INTEGER)", loads=loads
        ) as town:
            town.project.capture_on("town.tree")
            (town.path / "landing").mkdir()
            lines = ["n,what,made,k"]
            for number, time in enumerate(times):
                lines.append(f"{number},in,{time},{number}")
                at = datetime.fromisoformat(time).replace(tzinfo=UTC).timestamp() * 1000
                town.sql(f"INSERT INTO tree VALUES ({number}, 0, 'oak')", f"INSERT INTO feed VALUES ({number}, 'in', '{time}', {number})",
                         f"UPDATE plainstep_changes_tree SET at = {int(at)} WHERE seq = (SELECT max(seq) FROM plainstep_changes_tree)")  # fmt: skip
            (town.path / "landing" / "1.csv").write_text("\n".join([*lines, ""]))
            town.sql(
                "UPDATE plainstep_captures SET since = 0", "UPDATE plainstep_changes_tree SET at = 0 WHERE op = ''"
            )
            for name in ("house", "feed", "files"):
                found = [len(town.project.net(name, upto=f"{time}Z").net) for time in times]
                self.assertEqual(found, [1, 4, 4, 4, 5], name)

    def test_the_status_of_many_loads_attaches_their_file_once(self) -> None:
        loads = "".join(f"[loads.{name}]\nfrom = 'town.tree'\ninto = 'house.{name}'\n" for name in "pqr")
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("UPDATE tree SET a = 2")
            with mock.patch.object(connection, "_attached", side_effect=connection._attached) as attached:
                self.assertEqual({one.health for one in town.project.status()}, {"behind"})
            self.assertEqual(attached.call_count, 1)
            town.project.step()  # it was let go of
            self.assertEqual(town.rows("house"), town.rows())

    @given(histories, st.sampled_from(["insert", "update", "delete"]), st.integers(0, 4))
    @settings(max_examples=examples(15), deadline=None, phases=WITHOUT_SHRINKING)
    def test_a_filter_keeps_what_its_words_say(self, history: list[Any], op: str, key: int) -> None:
        with Town(TREE) as town:
            project = town.project
            project.capture_on("town.tree")
            act(town, Model(), history)
            every = json.loads(town.run("look", "house", "--all", "--json").output)["changes"]

            def asked(*words: str) -> list[object]:
                return [
                    one["position"]
                    for one in json.loads(town.run("look", "house", *words, "--all", "--json").output)["changes"]
                ]

            def positions(keep: object) -> list[object]:
                return [one["position"] for one in every if keep(one)]  # type: ignore[operator]

            def side(one: dict[str, dict[str, object] | None], name: str, column: str) -> object:
                return (one[name] or {}).get(column)

            self.assertEqual(asked("--op", op), positions(lambda one: one["op"] == op))
            of_key = positions(lambda one: key in (side(one, "was", "k"), side(one, "now", "k")))
            self.assertEqual(asked("--key", str(key)), of_key)
            self.assertEqual(asked("--changed", "a"), positions(lambda one: "a" in one["changed"]))
            where = positions(lambda one: side(one, "was", "k") is not None and side(one, "now", "a") is None)
            self.assertEqual(asked("--where", "was is not null and now.a is null"), where)
            found = project.look("house", limit=2, skip=1, only=Filter(ops=(op,)))
            self.assertEqual(found.changes.seq().tolist(), positions(lambda one: one["op"] == op)[1:3])
            self.assertEqual(found.total, len(every))

    @given(histories, st.integers(0, 5), st.integers(0, 30))
    @settings(max_examples=examples(15), deadline=None, phases=WITHOUT_SHRINKING)
    def test_a_row_as_it_was(self, history: list[Any], key: int, position: int) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            act(town, Model(), history)
            rows: dict[Any, Any] = {}
            states = [None]
            for one in json.loads(town.run("look", "house", "--all", "--json").output)["changes"]:
                if one["was"]:
                    del rows[one["was"]["k"]]
                if one["now"]:
                    rows[one["now"]["k"]] = one["now"]
                states.append(rows.get(key))
            at = min(position, len(states) - 1)
            then = town.project.trace("house", str(key), at=str(at))
            self.assertEqual((then.row, then.known), (states[at], True))
            town.project.step()
            now = town.project.trace("house", str(key))
            self.assertEqual((now.row, now.target), (states[-1], states[-1]))
            self.assertTrue(all(one.step and one.step.step == 1 for one in now.events))
            if now.restore:
                self.assertIsNone(now.row)
                town.sql(now.restore)
                again = town.project.trace("house", str(key))
                self.assertIn(again.row, [one.change["was"] for one in now.events if one.change["op"] == "delete"])
                self.assertIsNone(again.events[-1].step)
                self.assertEqual(town.run("trace", "house", str(key)).exit_code, 0)

    def test_the_same_changes_as_data(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 5, 'a \"quoted\" oak')") as town:
            town.run("capture", "on", "town.tree")
            town.sql(
                "UPDATE tree SET b = NULL", "INSERT INTO tree VALUES (2, NULL, 'ash\nand elm')", "DELETE FROM tree"
            )
            lines = [json.loads(line) for line in town.run("look", "house", "--format", "jsonl").stdout.splitlines()]
            rows = list(csv.DictReader(io.StringIO(town.run("look", "house", "--format", "csv").output)))
            self.assertEqual(town.run("look", "house", "-o", str(town.path / "out.parquet")).exit_code, 0)
            table = pq.read_table(town.path / "out.parquet").to_pylist()
            self.assertEqual([row["op"] for row in table], ["update", "insert", "delete", "delete"])
            for name in ("position", "was.k", "now.b", "was.b"):
                self.assertEqual([row[name] for row in table], [line[name] for line in lines])
                told = ["" if row[name] is None else str(row[name]) for row in table]
                self.assertEqual(told, [row[name] for row in rows])
            self.assertEqual(town.run("look", "house", "-o", str(town.path / "no" / "out.csv")).exit_code, 1)
            self.assertEqual(town.run("look", "house", "-o", "out.xls").exit_code, 2)

    def test_every_type_as_data(self) -> None:
        """What is written out reads back as what was recorded: Parquet in its own types, the others as text."""
        columns = "k INTEGER PRIMARY KEY, r REAL, d DECIMAL(9,2), b BOOLEAN, day DATE, at TIMESTAMP, t TIME, x BLOB"
        with Town(f"CREATE TABLE tree ({columns})") as town:
            town.run("capture", "on", "town.tree")
            town.sql(
                "INSERT INTO tree VALUES (1, 1.5, '12.30', 1, '2026-05-04', '2026-05-04 09:30:00', '09:30:00', x'00ff')",
                "INSERT INTO tree (k) VALUES (2)",
                "UPDATE tree SET r = 1e300, d = '0.10' WHERE k = 1",
            )
            names = ["k", "r", "d", "b", "day", "at", "t", "x"]
            whole = [
                1, 1.5, Decimal("12.30"), True, date(2026, 5, 4), datetime(2026, 5, 4, 9, 30), clock(9, 30), b"\x00\xff"
            ]  # fmt: skip
            town.run("look", "shed", "-o", str(town.path / "out.parquet"))
            table = pq.read_table(town.path / "out.parquet").to_pylist()
            self.assertEqual([table[0][f"now.{name}"] for name in names], whole)
            self.assertEqual([table[1][f"now.{name}"] for name in names], [2] + [None] * 7)
            self.assertEqual((table[2]["changed"], table[2]["was.d"]), (["r", "d"], Decimal("12.30")))
            [first, *_] = map(json.loads, town.run("look", "shed", "--format", "jsonl").stdout.splitlines())
            texts = [1, 1.5, "12.30", True, "2026-05-04", "2026-05-04T09:30:00", "09:30:00", "AP8="]
            self.assertEqual([first[f"now.{name}"] for name in names], texts)
            rows = list(csv.DictReader(io.StringIO(town.run("look", "shed", "--format", "csv").stdout)))
            self.assertEqual(
                [rows[0][f"now.{name}"] for name in ("k", "d", "day", "x")], ["1", "12.30", "2026-05-04", "AP8="]
            )
            self.assertEqual(rows[2]["changed"], "r d")
            self.assertEqual([row["now.r"] for row in rows], ["1.5", "", "1e+300"])
            self.assertEqual([file.name for file in town.path.iterdir() if file.suffix == ".part"], [])

    def test_a_feed_is_looked_at_like_a_capture(self) -> None:
        """Filters, lives, files, pages and the report of changes that something else wrote, at positions of its own."""
        config = layouts.config("sides").replace('key = ["k"]', 'key = ["k"]\nrows = "town.tree"')
        with FeedTown(config=config) as town:
            town.play(list(HISTORY))
            every = json.loads(run(town, "look", "sides", "--after", "start", "--all", "--json").stdout)["changes"]
            self.assertEqual(every[0]["position"], "0/10")
            for op in ("insert", "update", "delete"):
                found = json.loads(run(town, "look", "sides", "--after", "start", "--op", op, "--json").stdout)
                self.assertEqual(found["changes"], [one for one in every if one["op"] == op])
                self.assertEqual(found["matching"].get(op, 0), len(found["changes"]))
            pages = [
                json.loads(run(town, "look", "sides", "--after", "start", *words, "--json").stdout)
                for words in (["--limit", "3"], ["--limit", "3", "--page", "2"])
            ]
            self.assertEqual([row for page in pages for row in page["changes"]], every[:6])
            self.assertEqual(pages[1]["more"], len(every) - 6)
            self.assertEqual(run(town, "step").exit_code, 0)
            for key in {one["key"]["k"] for one in every}:
                told = json.loads(run(town, "trace", "sides", str(key), "--json").stdout)
                own = [one for one in every if key in ((one["was"] or {}).get("k"), (one["now"] or {}).get("k"))]
                for one in own:
                    self.assertIn(one["position"], [event["position"] for event in told["events"]])
                self.assertEqual(told["row"], told["target"])
            lines = run(town, "look", "sides", "--after", "start", "--format", "jsonl").stdout.splitlines()
            self.assertEqual([json.loads(line)["position"] for line in lines], [one["position"] for one in every])
            self.assertEqual(run(town, "status").exit_code, 0)
            self.assertEqual(run(town, "report", "-o", str(town.path / "out.html")).exit_code, 0)
            self.assertIn("up to", run(town, "net", "sides", "--after", "start", "--limit", "1").stdout)

    def test_what_cannot_be_asked(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            wrong = {
                ("--op", "grow"): "There is no operation 'grow'",
                ("--key", "oak"): "'oak' is not a value of the key column k",
                ("--key", "1", "--key", "2"): "2 values came",
                ("--changed", "height"): "There is no column 'height'",
                ("--txn", "7"): "have no transactions",
                ("--where", "was.a >"): "is not SQL",
                ("--where", "now.height > 1"): "is not a condition on these changes",
                ("--where", "a; DROP TABLE tree"): "is not SQL",
                ("--where", "(SELECT count(*) FROM read_csv('/etc/passwd')) > 0"): "looks at more than the row",
            }
            for words, said in wrong.items():
                found = town.run("look", "house", *words)
                self.assertEqual(found.exit_code, 2, words)
                self.assertIn(said, found.output)
