"""First loads and reloads that are made of all changes: what is refused, quarantined and counted of a window is so of these."""

from __future__ import annotations

import json
import unittest
from typing import Any
from unittest import mock

from plainstep.stores.spool import Shelf
from plainstep.testing.conformance import little_memory
from tests.feed_town import Town, run

FIRST = """
[stores.land]
url = "file:///sent"
[stores.house]
url = "duckdb:///house.duckdb"
[loads.tree]
from = "land.*.jsonl"
into = "house.tree"
key = ["k"]
first = "{first}"
{more}
[loads.tree.layout]
operation = "op"
insert = ["insert"]
update = ["update"]
delete = ["delete"]
{sides}
"""
SIDES, SWAPPED = 'was = "was.*"\nnow = "now.*"', 'was = "now.*"\nnow = "was.*"'


def inserted() -> list[dict[str, Any]]:
    """Ten rows that come."""
    return [{"op": "insert", "was": None, "now": {"k": number, "a": 0}} for number in range(10)]


def grown(count: int) -> list[dict[str, Any]]:
    """The ten rows grow again and again."""
    rows = [{"k": number % 10, "a": number // 10} for number in range(count + 10)]
    return [{"op": "update", "was": was, "now": now} for was, now in zip(rows[:-10], rows[10:], strict=True)]


class First(unittest.TestCase):
    """With ``first = "snapshot"``, and with ``"start"``, which reads the same as one window."""

    def town(self, changes: list[dict[str, Any]], more: str = "", sides: str = SIDES, first: str = "snapshot") -> Town:
        town = Town("sides", config=FIRST.format(first=first, more=more, sides=sides))
        self.addCleanup(town.__exit__)
        (town.path / "sent").mkdir()
        (town.path / "sent" / "1.jsonl").write_text("".join(json.dumps(one) + "\n" for one in changes))
        return town

    def test_a_layout_that_misreads_everything(self) -> None:
        for first in ("snapshot", "start"):
            town = self.town(grown(100), first=first, sides=SWAPPED)
            done = run(town, "step")
            self.assertEqual(done.exit_code, 4, done.output)
            self.assertIsNone(town.project.load("tree").target.table("tree", ()))
            self.assertIn("old and new values may be swapped", done.output)
            town.config.write_text(FIRST.format(first=first, more="strict = false", sides=SWAPPED))
            self.assertEqual(run(town, "step").exit_code, 0)  # as it says

    def test_rows_that_are_quarantined(self) -> None:
        odd = [{"op": "?", "was": None, "now": {"k": number, "a": 0}} for number in range(30)]
        for count, exit_code in ((100, 0), (20, 4)):
            for first in ("snapshot", "start"):
                town = self.town(grown(count) + odd, 'on_bad_row = "quarantine"', first=first)
                done = run(town, "step")
                self.assertEqual(done.exit_code, exit_code, done.output)
                self.assertIn("Most rows" if exit_code else "rows quarantined: 30", done.output)

    def test_more_rows_than_fit(self) -> None:
        """They go to disk, range by range of keys, and what is told of all of them is the same."""
        many = [{"op": "insert", "was": None, "now": {"k": number, "a": 0}} for number in range(5000)]
        town = self.town(many + grown(100) + inserted()[:5])
        with little_memory(), mock.patch.object(Shelf, "put", autospec=True, side_effect=Shelf.put) as put:
            self.assertIn("first load: 5,000 rows", (done := run(town, "step")).output)
            self.assertIn("5 contradictions", done.output)
            self.assertTrue(town.project.check()[0].ok)
        self.assertGreater(put.call_count, 3)

    def test_contradictions(self) -> None:
        changes = inserted() + grown(100) + inserted()[:5]
        for first in ("snapshot", "start"):
            town = self.town(changes, first=first)
            self.assertIn("5 contradictions", run(town, "step").output)
            self.assertIn("5 contradictions", run(town, "reload", "tree").output)
            self.assertTrue(town.project.check()[0].ok)
        town = self.town(changes, "strict = true")
        done = run(town, "step")
        self.assertEqual(done.exit_code, 4)
        self.assertIn("5 of the 115 changes of land.*.jsonl contradict", done.output)
        town.config.write_text(FIRST.format(first="snapshot", more="strict = false", sides=SIDES))
        self.assertEqual(run(town, "step").exit_code, 0)  # as it says


if __name__ == "__main__":
    unittest.main()
