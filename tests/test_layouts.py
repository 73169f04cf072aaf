"""Feeds that something else wrote: every layout, read right and read wrong."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import duckdb
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from tests import layouts
from tests.histories import Model, histories
from tests.support import WITHOUT_SHRINKING


class Town:
    """A folder with every feed of one table, a warehouse and a plainstep.toml."""

    def __init__(self, *only: str, config: str = "") -> None:
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-test-"))
        self.config = self.path / "plainstep.toml"
        self.config.write_text(config or layouts.config(*only))
        self.writers = layouts.Writers(self.path)
        self.model = Model()

    def __enter__(self) -> Town:
        return self

    def __exit__(self, *_: object) -> None:
        shutil.rmtree(self.path, ignore_errors=True)

    @property
    def project(self) -> plainstep.Project:
        return plainstep.load_project(self.config)

    def play(self, history: list[tuple[str, Any, Any]]) -> None:
        known = len(self.model.changes)
        self.model.play(history)
        self.writers.write(self.model.changes[known:])

    def target(self, table: str) -> dict[int, tuple[Any, ...]]:
        with duckdb.connect(str(self.path / "house.duckdb"), read_only=True) as connection:
            return {row[0]: row for row in connection.execute(f'SELECT k, a, b FROM "{table}"').fetchall()}

    @property
    def truth(self) -> dict[int, tuple[Any, ...]]:
        return {key: (key, row["a"], row["b"]) for key, row in self.model.rows.items()}


class Laws(unittest.TestCase):
    """One history, in every layout, cut anywhere: always the same rows."""

    @settings(max_examples=8, deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck))
    @given(st.lists(histories, min_size=1, max_size=3))
    def test_every_layout_ends_in_the_same_rows(self, cuts: list[list[tuple[str, Any, Any]]]) -> None:
        with Town() as town:
            town.project.capture_on("town.tree")
            town.play([("insert", 0, {"a": 1, "b": "oak"})])
            for cut in cuts:
                town.play(cut)
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


if __name__ == "__main__":
    unittest.main()
