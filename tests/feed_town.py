"""A folder with every feed of one table, a warehouse and a plainstep.toml."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any, Self

from click.testing import CliRunner, Result

import plainstep
from plainstep.cli.main import cli
from plainstep.stores.duckdb.connection import opened
from tests import layouts
from tests.histories import Model


class Town:
    """A folder with every feed of one table, a warehouse and a plainstep.toml."""

    def __init__(self, *only: str, config: str = "") -> None:
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-test-"))
        self.config = self.path / "plainstep.toml"
        self.config.write_text(config or layouts.config(*only))
        self.writers = layouts.Writers(self.path)
        self.model = Model()

    def __enter__(self) -> Self:
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
        with opened(self.path / "house.duckdb", read_only=True, wait=5.0) as connection:
            return {row[0]: row for row in connection.execute(f'SELECT k, a, b FROM "{table}"').fetchall()}

    @property
    def truth(self) -> dict[int, tuple[Any, ...]]:
        return {key: (key, row["a"], row["b"]) for key, row in self.model.rows.items()}


# Every operation, some of them twice on one row.
HISTORY = (
    [("insert", key, {"a": key, "b": "oak"}) for key in range(6)]
    + [("update", key, {"a": key + 7, "b": "elm"}) for key in range(5)]
    + [("delete", 1, None), ("delete", 2, None), ("insert", 1, {"a": 5, "b": "ash"})]
    + [("update", key, {"a": key + 20, "b": "elm"}) for key in (0, 1, 3)]
)


class Refusing(unittest.TestCase):
    """Mistakes in a layout: each is refused, and nothing is merged."""

    def refused(self, load: str, *turns: tuple[str, str]) -> str:
        """Step with a layout in which some words are replaced; what it says."""
        text = layouts.config(load)
        for old, new in turns:
            self.assertIn(old, text)
            text = text.replace(old, new)
        with Town(config=text) as town:
            town.play(list(HISTORY))
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn(outcome.outcome, ("refused", "failed"), f"{load} {turns}: {outcome}")
            self.assertIsNone(town.project.load(load).target.watermark(load))
            return str(outcome.error)


def run(town: Town, *words: str) -> Result:
    with contextlib.chdir(town.path):
        return CliRunner().invoke(cli, words)
