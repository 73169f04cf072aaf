"""A check of a large table in bounded memory, beside a comparison by hand; and the status of a hundred loads.

By hand, both sides are read in the order of the key with the same drivers and compared row by row.
"""

from __future__ import annotations

import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

import duckdb

import plainstep
from benchmarks import row, seconds

ROWS = int(sys.argv[1]) if sys.argv[1:] and sys.argv[1].isdigit() else 5_000_000
TREE = "CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER, species TEXT, height_m REAL, girth_cm INTEGER)"
FILL = """INSERT INTO tree WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?)
SELECT i, i % 12, CASE i % 3 WHEN 0 THEN 'oak' WHEN 1 THEN 'elm' ELSE 'small-leaved lime' END, i % 300 / 10.0, i % 97 FROM n"""
STORES = '[stores.town]\nurl = "sqlite:///town.db"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'


def by_hand(folder: Path) -> int:
    """How many keys differ."""
    differ = 0
    with closing(sqlite3.connect(folder / "town.db")) as town, duckdb.connect(str(folder / "house.duckdb")) as house:
        sql = "SELECT * FROM tree ORDER BY tree_id"
        left, right = town.execute(sql), house.execute(sql)
        mine, theirs = left.fetchmany(50_000), right.fetchmany(50_000)
        while mine or theirs:
            if mine == theirs:
                mine, theirs = left.fetchmany(50_000), right.fetchmany(50_000)
                continue
            ours, held = {one[0]: one for one in mine}, {one[0]: one for one in theirs}
            differ += sum(ours.get(key) != held.get(key) for key in {*ours, *held})
            mine, theirs = left.fetchmany(50_000), right.fetchmany(50_000)
    return differ


def hundred(folder: Path) -> plainstep.Project:
    """A hundred loads, each with a change waiting."""
    loads = ""
    with closing(sqlite3.connect(folder / "town.db")) as town:
        for number in range(100):
            town.execute(f"CREATE TABLE ward_{number} (ward_id INTEGER PRIMARY KEY, name TEXT)")
            loads += f'[loads.ward_{number}]\nfrom = "town.ward_{number}"\ninto = "house.ward_{number}"\n'
        town.commit()
        (folder / "plainstep.toml").write_text(STORES + loads)
        project = plainstep.load_project(folder / "plainstep.toml")
        for number in range(100):
            project.capture_on(f"town.ward_{number}")
        project.step()
        for number in range(100):
            town.execute(f"INSERT INTO ward_{number} VALUES (1, 'Harbour')")
        town.commit()
    return project


def check(folder: Path) -> None:
    """The check alone, for a process of its own."""
    began = time.perf_counter()
    [found] = plainstep.load_project(folder / "plainstep.toml").check()
    took = time.perf_counter() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{took} {peak} {found.missing + found.extra + found.different}")


def main() -> None:
    """Print the times."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "plainstep.toml").write_text(STORES + '[loads.tree]\nfrom = "town.tree"\ninto = "house.tree"\n')
        with closing(sqlite3.connect(folder / "town.db")) as town:
            town.execute(TREE)
            town.execute(FILL, [ROWS])
            town.commit()
        project = plainstep.load_project(folder / "plainstep.toml")
        project.capture_on("town.tree")
        project.step()
        with duckdb.connect(str(folder / "house.duckdb")) as house:
            house.execute("UPDATE tree SET height_m = -1 WHERE tree_id % 1000000 = 7")
        words = [sys.executable, "-m", "benchmarks.check", "--alone", str(folder)]
        done = subprocess.run(words, capture_output=True, text=True, check=True)
        ours, peak, differ = done.stdout.split()
        began = time.perf_counter()
        assert by_hand(folder) == int(differ) == ROWS // 1_000_000
        hand = time.perf_counter() - began
        print(f"\ncheck of {ROWS:,} rows, SQLite against DuckDB\n")
        row("", "Plain Step", "by hand", "ours/hand", "peak memory")
        row(
            "every column",
            seconds(float(ours)),
            seconds(hand),
            f"{float(ours) / hand:.2f} x",
            f"{float(peak):,.0f} MiB",
        )
    with tempfile.TemporaryDirectory() as place:
        project = hundred(Path(place))
        times = []
        for _ in range(5):
            began = time.perf_counter()
            assert {one.health for one in project.status()} == {"behind"}
            times.append(time.perf_counter() - began)
        print(f"\nstatus of 100 loads, best of 5: {min(times):.2f} s")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--alone"]:
        check(Path(sys.argv[2]))
    else:
        main()
