"""What the tests of versioned tables have in common, whichever format these have."""

from __future__ import annotations

import unittest
from collections.abc import Sequence
from typing import Any

from plainstep.testing import Act, Harness


class VersionedTables(Harness):
    """Somebody who writes versioned tables: each write is a version. Rows that are only added are appended; else the table is made anew."""

    method = "versions"
    has_keys = False

    def __init__(self, folder: Any) -> None:
        super().__init__(folder)
        self.rows: dict[str, dict[Any, dict[str, Any]]] = {}

    def write(self, table: str, acts: Sequence[Act]) -> None:
        rows, before = self.rows[table], dict(self.rows[table])
        for act in acts:
            if act.was is not None:
                del rows[act.was["k"]]
            if act.now is not None:
                rows[act.now["k"]] = act.now
        self.commit(table, before, rows)

    def commit(self, table: str, before: dict[Any, Any], rows: dict[Any, Any]) -> None:
        """Write a version."""
        is_more = all(rows.get(key) == row for key, row in before.items())
        self.put(table, [row for key, row in rows.items() if not is_more or key not in before], is_more)

    def put(self, table: str, rows: list[Any], is_more: bool) -> None:
        """Append rows, or put them in place of all."""
        raise NotImplementedError


class Following(unittest.TestCase):
    """Loads ``house`` and ``shed`` that follow the versions of a table."""

    def follow(self, town: Any, rows: list[dict[str, Any]], *loads: str) -> None:
        """After a step, the mirrors are the table, and status and check say so."""
        for outcome in town.project.step(*loads):
            self.assertIn(outcome.outcome, ("stepped", "nothing"))
            self.assertEqual(outcome.entry.contradictions if outcome.entry else 0, 0)
        for load in loads or ("house", "shed"):
            self.assertEqual(town.mirror(load), sorted(rows, key=lambda row: str(row["k"])), load)
        self.assertEqual({one.outcome for one in town.project.step(*loads)}, {"nothing"})
        self.assertTrue(all(one.ok for one in town.project.check(*loads)))
        self.assertEqual({one.health for one in town.project.status(*loads)}, {"ok"})

    def refused(self, town: Any, words: str, mends: bool = True) -> None:
        """The load is refused for a reason; the remedy mends it, where it is to."""
        [outcome] = town.project.step("house", raise_errors=False)
        self.assertEqual(outcome.outcome, "refused", outcome)
        self.assertRegex(" ".join(str(outcome.error).split()), words)
        if mends:
            self.assertIn("reload", str(outcome.error))
            town.project.reload("house")
            self.assertEqual(town.project.step("house")[0].outcome, "nothing")
            self.assertTrue(town.project.check("house")[0].ok)
