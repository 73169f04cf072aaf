"""What ``init --changes`` proposes for feeds that something else wrote."""

from __future__ import annotations

import contextlib
import re
import sqlite3
import tomllib
import unittest

import plainstep
from tests import layouts
from tests.feed_town import HISTORY, Town


class Proposals(unittest.TestCase):
    """What init proposes can be stepped as it is, and is right."""

    def test_every_feed_is_understood(self) -> None:
        with Town() as town:
            town.play(list(HISTORY[:9]))
            town.play(list(HISTORY[9:]))
            asking = (
                "mixed",
                "coded",
                "marked",
                "alike",
                "many",
            )  # nothing is merged before somebody has looked at what was guessed
            for name in asking:
                self.assertIn("\nguessed = ", town.project.propose(layouts.LOADS[name][0], "house", ("k",)))
            others = ("capture", "column", "diff", "keys", "many", *asking)
            names = [name for name in layouts.LOADS if name not in others]
            found = {name: town.project.propose(layouts.LOADS[name][0], "house", ("k",)) for name in names}
            for text in found.values():
                town.config.write_text(layouts.STORES + text)
                self.assertEqual(town.project.status()[0].health, "refuses" if "\nguessed = " in text else "new", text)
                town.config.write_text(layouts.STORES + re.sub("\nguessed = .*", "", text))
                [load] = town.project.loads
                town.project.step()
                self.assertEqual(town.target(load), town.truth, text)
            self.assertIn('guessed = ["deleted"]', found["latest"])
            self.assertIn("sure: its rows hold old values only", found["sides"])
            self.assertRegex(found["images"], 'only_new = "insert" *# sure')
            self.assertIn('sent_columns = "has_*"', found["flags"])
            self.assertIn('missing_field = "unsent"', found["json"])

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
