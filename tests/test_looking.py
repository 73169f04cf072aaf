"""Looking: every filter, page and file says the same of the same changes, and nothing is touched."""

from __future__ import annotations

import csv
import io
import json
import unittest
from typing import Any

import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep import Filter
from tests.histories import Model, histories
from tests.support import TREE, WITHOUT_SHRINKING, Town
from tests.test_steps import act


class Looks(unittest.TestCase):
    @given(histories, st.sampled_from(["insert", "update", "delete"]), st.integers(0, 4))
    @settings(max_examples=15, deadline=None, phases=WITHOUT_SHRINKING)
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
    @settings(max_examples=30, deadline=None, phases=WITHOUT_SHRINKING)
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

    def test_what_cannot_be_asked(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            wrong = {
                ("--op", "grow"): "There is no operation 'grow'",
                ("--key", "oak"): "'oak' is no value of the key column k",
                ("--key", "1", "--key", "2"): "2 values came",
                ("--changed", "height"): "There is no column 'height'",
                ("--txn", "7"): "do not tell their transactions",
                ("--where", "was.a >"): "is no condition on these changes",
                ("--where", "now.height > 1"): "is no condition on these changes",
                ("--where", "a; DROP TABLE tree"): "is no condition on these changes",
                ("--where", "(SELECT count(*) FROM read_csv('/etc/passwd')) > 0"): "is no condition on these changes",
            }
            for words, said in wrong.items():
                found = town.run("look", "house", *words)
                self.assertEqual(found.exit_code, 2, words)
                self.assertIn(said, found.output)
