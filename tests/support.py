"""A town in a folder of its own: a SQLite source, a DuckDB and a SQLite target, and the real sqlite3 shell."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any, Self

from click.testing import CliRunner, Result
from hypothesis import Phase

import plainstep
from plainstep.cli.main import cli
from plainstep.stores.duckdb.connection import opened
from plainstep.testing.processes import Script
from tests.histories import Model

TARGETS = ("house", "shed")

# Shrinking an example that starts processes and opens files takes minutes, and tells little more.
WITHOUT_SHRINKING = (Phase.explicit, Phase.reuse, Phase.generate)


def examples(count: int) -> int:
    """How many examples a property tries: as many times more as PLAINSTEP_SOAK says, for its long form (make soak).

    Less than 1 makes a short form, as other Pythons run it in CI.
    """
    return max(1, round(count * float(os.environ.get("PLAINSTEP_SOAK", "1"))))


# For a script that is run in a process of its own. What the system calls its maximum (ru_maxrss) begins with its parent's.
PEAK = """
def peak():
    'The most memory that this process has taken itself, in MiB.'
    with open("/proc/self/status") as told:
        return next(int(line.split()[1]) / 1024 for line in told if line.startswith("VmHWM"))
"""

TREE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)"

CONFIG = """
[stores.town]
url = "sqlite:///town.db"
[stores.house]
url = "duckdb:///house.duckdb"
[stores.shed]
url = "sqlite:///shed.db"
"""


class Town:
    """A folder with a source, two targets and a plainstep.toml."""

    def __init__(self, *statements: str, loads: str = "", table: str = "tree") -> None:
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-test-"))
        self.config = self.path / "plainstep.toml"
        for into in ("house", "shed"):
            loads += f"\n[loads.{into}]\nfrom = {quote('town.' + table)}\ninto = {quote(into + '.' + table)}\n"
        self.config.write_text(CONFIG + loads)
        if statements:
            self.sql(*statements)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        shutil.rmtree(self.path, ignore_errors=True)

    @property
    def project(self) -> plainstep.Project:
        return plainstep.load_project(self.config)

    def sql(self, *statements: str, store: str = "town") -> None:
        """Run statements on a connection of this process."""
        connection = sqlite3.connect(self.path / f"{store}.db", isolation_level=None)
        for statement in statements:
            connection.execute(statement)
        connection.close()

    def shell(self, script: str) -> str:
        """Run a script in the real sqlite3 shell, as any other client would; errors of statements are let pass."""
        done = subprocess.run(
            ["sqlite3", str(self.path / "town.db")], input=script, capture_output=True, text=True, timeout=60
        )
        return done.stdout + done.stderr

    def rows(self, store: str = "town", table: str = "tree") -> list[tuple[Any, ...]]:
        """All rows of a table, sorted."""
        sql = f'SELECT * FROM "{table}"'
        if store == "house":
            with opened(self.path / "house.duckdb", read_only=True, wait=5.0) as connection:
                found = [tuple(row.values()) for row in connection.sql(sql).to_arrow_table().to_pylist()]
        else:
            file = sqlite3.connect(self.path / f"{store}.db")
            found = file.execute(sql).fetchall()
            file.close()
        return sorted(found, key=repr)

    def run(self, *words: str) -> Result:
        """Run a command in this process, as from the town's own folder."""
        with contextlib.chdir(self.path):
            return CliRunner().invoke(cli, words)

    def child(self, script: str, *words: str) -> Script:
        """Run a Python script in another process, in this folder."""
        return Script(script, words, self.path, os.environ)

    def fresh(self, script: str, *words: str) -> subprocess.Popen[str]:
        """The same in a Python that has imported nothing yet."""
        environment = {**os.environ, "PYTHONPATH": str(Path(plainstep.__file__).parents[1])}
        return subprocess.Popen(
            [sys.executable, "-c", script, *words],
            cwd=self.path,
            env=environment,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def fingerprint(self) -> dict[str, str]:
        """Every file's content, so that a write anywhere shows."""
        return {
            file.name: hashlib.sha256(file.read_bytes()).hexdigest()
            for file in sorted(self.path.iterdir())
            # The index of a write-ahead log holds readers' marks, no data; readers make an empty log where there is none.
            if not file.name.endswith("-shm") and not (file.name.endswith("-wal") and file.stat().st_size == 0)
        }


def quote(value: str) -> str:
    """A string as TOML writes it."""
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


def act(town: Town, model: Model, acts: list[Any], store: str = "town") -> None:
    """Make the model's acts in the town's database, in one transaction each."""
    connection = sqlite3.connect(town.path / f"{store}.db", isolation_level=None)
    for what, key, value in acts:
        if what == "truncate":
            what, changed = "delete all", model.act("truncate", None, None)
        else:
            changed = model.act(what, key, value)
        if not changed:
            continue
        if what == "insert":
            connection.execute("INSERT INTO tree VALUES (?, ?, ?)", [key, value["a"], value["b"]])
        elif what == "update":
            connection.execute("UPDATE tree SET a = ?, b = ? WHERE k = ?", [value["a"], value["b"], key])
        elif what == "rekey":
            connection.execute("UPDATE tree SET k = ? WHERE k = ?", [value, key])
        else:
            connection.execute(
                "DELETE FROM tree" + ("" if what == "delete all" else " WHERE k = ?"),
                [key][: what == "delete"],
            )
    connection.close()
