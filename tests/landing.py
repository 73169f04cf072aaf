"""A folder into which files land, and a load of it."""

from __future__ import annotations

import gzip
import json
import os
import shutil
from pathlib import Path
from typing import Any

import duckdb

from tests.feed_town import Town

CONFIG = """
[stores.landing]
url = "file:///landing"
[stores.house]
url = "duckdb:///house.duckdb"
[loads.tree]
from = "landing.{files}"
into = "house.tree"
key = ["k"]
types = {{ k = "INTEGER", a = "INTEGER", b = "TEXT" }}
{more}
[loads.tree.layout]
{layout}
"""
BY_SEQ = 'position = ["seq"]\nmissing_field = "null"'


class Landing(Town):
    """A folder into which files land, of rows that are the latest state of their key."""

    def __init__(self, files: str = "*.jsonl*", layout: str = BY_SEQ, more: str = "") -> None:
        super().__init__("sides", config=CONFIG.format(files=files, layout=layout, more=more))
        shutil.rmtree(self.path / "landing")
        self.folder = self.path / "landing"
        self.folder.mkdir()

    def land(self, name: str, *rows: tuple[Any, ...], end: str = "", old: bool = False) -> Path:
        """Write, or go on writing, a file of (seq, k, a) rows."""
        path = self.folder / name
        lines = [json.dumps(dict(zip(("seq", "k", "a"), row, strict=True)) | {"b": "oak"}) + "\n" for row in rows]
        if name.endswith(".csv"):
            lines = ["seq,k,a,b\n"] * (not path.exists()) + [f'{seq},{k},{a},"oak"\n' for seq, k, a in rows]
        text = ("".join(lines) + end).encode()
        with path.open("ab") as stream:
            stream.write(gzip.compress(text) if name.endswith(".gz") else text)
        if old:
            os.utime(path, (0, 0))
        return path

    def step(self) -> str:
        """One step; what became of it."""
        [outcome] = self.project.step(raise_errors=False)
        return f"{outcome.outcome} {outcome.changes} {outcome.error or ''}"

    def rows(self) -> dict[int, int]:
        with duckdb.connect(str(self.path / "house.duckdb"), read_only=True) as house:
            return dict(house.execute("SELECT k, a FROM tree").fetchall())
