"""Running it unattended: what is forgotten, who keeps it, and stepping until told to stop."""

from __future__ import annotations

import json
import unittest
from datetime import timedelta

import plainstep
from tests.support import TREE, Town


class Trimming(unittest.TestCase):
    def test_only_what_every_reader_has_merged_goes(self) -> None:
        """Readers in other configuration files count, and nothing is forgotten without being told to."""
        with Town(TREE) as town:
            other = town.path / "other.toml"
            other.write_text(
                town.config.read_text().split("[loads.house]")[0]
                + '[loads.late]\nfrom = "town.tree"\ninto = "shed.late"\n'
            )
            town.run("capture", "on", "town.tree")
            self.assertIn("no reader is known yet", town.run("trim", "town", "--yes").output)
            town.project.step("house")
            plainstep.load_project(other).step("late")
            for number in range(10):
                town.sql(f"INSERT INTO tree VALUES ({number}, 0, 'oak')")
            town.project.step("house")
            before = town.fingerprint()
            [found] = json.loads(town.run("trim", "town", "--json").output)
            self.assertEqual((found["held"], found["gone"], found["done"]), (10, 0, False))
            self.assertEqual([one["waiting"] for one in found["readers"]], [0, 10])
            plainstep.load_project(other).step("late")
            before = town.fingerprint()
            self.assertIn("--yes does it", town.run("trim", "town").output)
            self.assertIn("10         0    10", town.run("trim", "town", "--keep", "1h").output)
            self.assertEqual(town.fingerprint() | {"shed.db": ""}, before | {"shed.db": ""})
            [done] = town.project.trim("town", really=True)
            self.assertEqual((done.gone, done.done), (9, True))
            town.sql("INSERT INTO tree VALUES (11, 0, 'oak')")
            self.assertEqual(town.project.step("house")[0].changes, 1)
            self.assertTrue(all(one.ok for one in town.project.check("house")))
            late = next(one.name for one in done.readers if one.name.startswith("late"))
            town.project.trim("town", keep=timedelta(0), really=True)
            self.assertEqual(town.project.forget("town", late), 1)
            [found] = town.project.trim("town.tree", really=True)
            self.assertEqual([one.name.split(",")[0] for one in found.readers], ["house"])
            refused = plainstep.load_project(other).status("late")
            self.assertEqual(refused[0].health, "refuses")  # it was struck out, and what it merged last is gone

    def test_a_reader_that_fell_away_is_named(self) -> None:
        with Town(TREE) as town:
            town.run("capture", "on", "town.tree")
            town.project.step()
            town.sql(
                "INSERT INTO tree VALUES (1, 0, 'oak')",
                "UPDATE plainstep_readers SET seen = 0 WHERE reader LIKE 'shed%'",
            )
            town.project.step("house")
            told = town.run("trim", "town").output
            self.assertIn("shed, into tree of sqlite:///shed.db seems to have fallen away, and keeps 1 change", told)
            self.assertIn("plainstep trim town --forget 'shed, into tree of sqlite:///shed.db'", told)
            self.assertIn("No reader is called 'nobody'", town.run("trim", "town", "--forget", "nobody").output)
