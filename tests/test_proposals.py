"""What ``init --changes`` proposes for feeds that something else wrote."""

from __future__ import annotations

import contextlib
import re
import sqlite3
import tomllib
import unittest
from pathlib import Path

import plainstep
from tests import layouts
from tests.feed_town import HISTORY, Town
from tests.histories import story

ROOT = Path(__file__).parents[1]


class Proposals(unittest.TestCase):
    """What init proposes can be stepped as it is, and is right."""

    def test_scoreboard(self) -> None:
        """Proposed from a first window and stepped untouched, every window comes out right; or the proposal asks."""
        acts = story(7, keys=30, changes=400)
        with Town() as town:
            town.play(acts[:100])
            names = [name for name in layouts.LOADS if name not in ("capture", "column", "diff")]
            texts = {name: town.project.propose(layouts.LOADS[name][0], "house", ("k",)) for name in names}
            asking = {name for name, text in texts.items() if "\nguessed = " in text}
            told = (ROOT / "docs/layouts.md").read_text(encoding="utf-8")
            table = dict(re.findall(r"^\|[^|]*\| `(\w+)` \| (right|asks)", told, re.M))
            self.assertEqual({name: "asks" if name in asking else "right" for name in names}, table)
            town.config.write_text(layouts.STORES + "".join(text for name, text in texts.items() if name not in asking))
            for start in range(0, 400, 100):
                town.play(acts[start : start + 100] if start else [])
                for outcome in town.project.step():
                    self.assertEqual(town.target(outcome.load), town.truth, texts[outcome.load])
            self.assertRegex(texts["images"], 'only_new = "insert" *# sure')
            self.assertIn('sent_columns = "has_*"', texts["flags"])
            self.assertIn('missing_field = "unsent"  # sure', texts["json"])
            self.assertIn("skip = \"kind = 'beat'\"  # sure", texts["mixed"])
            self.assertIn('pair = ["change"]', texts["marked"])

    def test_what_a_proposal_asks_is_right_once_it_is_answered(self) -> None:
        with Town("keys", "alike") as town:
            town.play(list(HISTORY))
            for name, said in (("keys", 'rows = "town.tree"\n[loads.keys.layout]'), ("alike", "[loads.alike.layout]")):
                text = town.project.propose(layouts.LOADS[name][0], "house", ("k",))
                town.config.write_text(layouts.STORES + text)
                self.assertIn(
                    "guessed", str(town.project.step(raise_errors=False)[0].error) if name == "alike" else text
                )
                answered = re.sub("\nguessed = .*", "", text).replace(f"[loads.{name}.layout]", said)
                town.config.write_text(layouts.STORES + answered)
                town.project.step()
                self.assertEqual(town.target(name), town.truth, text)

    def test_rows_that_their_key_pairs_need_no_number_for_it(self) -> None:
        """The old rows of two updates, and then the new ones: no column of the row is taken for what pairs them."""
        feed = (ROOT / "examples/layouts/two_rows/feed.sql").read_text(encoding="utf-8")
        with Town("docs") as town:
            with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.executescript(feed)
            text = town.project.propose("town.tree_log", "house")
            self.assertNotIn("pair =", text)
            self.assertIn("2 of 2 rows with stood repeat", text)
            self.assertIn(
                "#   update: tree_id 1; species oak; height_m 1.5 -> tree_id 1; species oak; height_m 1.7", text
            )

    def test_codes_whose_words_say_nothing(self) -> None:
        """By the lives of rows, where these leave one reading; or the proposal asks."""
        acts = story(3, keys=12, changes=120, rekeys=False)
        for many, sure in ((120, True), (9, False)):
            with Town("capture") as town:
                town.play(acts[:many])
                words = {"insert": "angelegt", "update": "geaendert", "delete": "weg"}
                rows = [
                    (n, words[one["op"]], *((one["now"] or one["was"])[x] for x in "kab"))
                    for n, one in enumerate(town.model.changes, 1)
                ]
                with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection, connection:
                    connection.execute(
                        "CREATE TABLE told (n INTEGER PRIMARY KEY, was_heisst TEXT, k INTEGER, a INTEGER, b TEXT)"
                    )
                    connection.execute("CREATE TABLE renamed AS SELECT n, was_heisst AS op, k, a, b FROM told")
                    connection.executemany("INSERT INTO renamed VALUES (?, ?, ?, ?, ?)", rows)
                text = town.project.propose("town.renamed", "house", ("k",))
                self.assertEqual('delete = ["weg"]  # sure' in text, sure, text)
                self.assertEqual("\nguessed = " in text, not sure, text)
                if sure:
                    town.config.write_text(layouts.STORES + text)
                    town.project.step()
                    self.assertEqual(town.target("renamed"), town.truth)

    def test_whatever_the_rows_hold(self) -> None:
        """E21: a proposal is TOML, is never sure of what tells nothing, and is not merged before somebody looked at it."""
        odd = (
            "CREATE TABLE feed (n INTEGER PRIMARY KEY, tab TEXT, watermark TEXT, id INTEGER, b TEXT)",
            "INSERT INTO feed VALUES (1, 't', 'N', 2, 'a\nkey = [\"b\"]'), (2, 't', 'N', 1, char(127, 0x2028)), (3, 't', 'E', 1, 'x')",
            'CREATE TABLE "grün" (n INTEGER, "new\nline" INTEGER)',
            'INSERT INTO "grün" VALUES (1, NULL), (2, NULL)',
        )
        with Town() as town:
            with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                for statement in odd:
                    connection.execute(statement)
            text = town.project.propose("town.feed", "house")
            load = tomllib.loads(text)["loads"]["feed"]
            self.assertEqual((load["key"], load["layout"]["guessed"]), (["id"], ["operation", "key"]))
            self.assertIn("might tell it: watermark (E, N)", text)
            empty = town.project.propose("town.grün", "house", ("new\nline",))
            self.assertIn("guessed", tomllib.loads(empty)["loads"]["grün"]["layout"])
            self.assertIn("2 rows contradict it", empty)
            town.config.write_text(layouts.STORES + text)
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("guessed in part: operation, key", str(outcome.error))
            self.assertEqual(town.project.net("feed").counts["put"], 2)
            repaired = text.replace(
                'guessed = ["operation", "key"]', 'operation = "watermark"\ninsert = ["N"]\ndelete = ["E"]'
            )
            town.config.write_text(layouts.STORES + repaired)
            town.project.step()
            self.assertEqual([one.health for one in town.project.status()], ["ok"])
            town.config.write_text(layouts.STORES + text)
            self.assertRaisesRegex(plainstep.PlainStepError, "guessed in part", town.project.reload, "feed")


if __name__ == "__main__":
    unittest.main()
