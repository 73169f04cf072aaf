"""What capture costs the one who writes: beside no trigger, and beside the barest audit trigger with both images.

The barest audit trigger keeps a number, the operation, the time and both images, and is wrong about INSERT OR
REPLACE, whose hidden deletes it does not see. Each statement writes many rows in one transaction on a file, where
triggers cost most; with a commit a row, the disk costs far more than either.
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from benchmarks import row
from plainstep.demo.town import trees
from plainstep.stores.capabilities import with_capture
from plainstep.stores.registry import open_store

ROWS = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
RUNS = 15
COLUMNS = ["tree_id", "ward_id", "species", "planted", "height_m", "girth_cm", "status"]
CREATE = "CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER, species TEXT, planted DATE, height_m REAL, girth_cm INTEGER, status TEXT)"
WORK = {
    "insert": "INSERT INTO tree SELECT * FROM fresh",
    "update": "UPDATE tree SET height_m = height_m + 1",
    "delete": "DELETE FROM tree",
}


def no_trigger(path: Path) -> None:
    pass


def barest_audit(path: Path) -> None:
    images = {side: [f"{side}_{name}" for name in COLUMNS] for side in ("was", "now")}
    with closing(sqlite3.connect(path)) as town:
        town.execute(
            f"CREATE TABLE audit (id INTEGER PRIMARY KEY, op TEXT, at TEXT, {', '.join(images['was'] + images['now'])})"
        )
        for op, sides in (
            ("insert", {"now": "NEW"}),
            ("update", {"was": "OLD", "now": "NEW"}),
            ("delete", {"was": "OLD"}),
        ):
            names = ", ".join(name for side in sides for name in images[side])
            values = ", ".join(f"{alias}.{name}" for alias in sides.values() for name in COLUMNS)
            town.execute(
                f"CREATE TRIGGER audit_{op} AFTER {op} ON tree BEGIN INSERT INTO audit (op, at, {names}) "
                f"VALUES ('{op}', CURRENT_TIMESTAMP, {values}); END"
            )
        town.commit()


def capture(path: Path) -> None:
    with_capture(open_store("town", f"sqlite:///{path.name}", path.parent)).capture_on("tree", (), "capture", False)


def measured(prepare: Callable[[Path], None], folder: Path) -> list[float]:
    path = folder / "town.db"
    for file in folder.iterdir():
        file.unlink()
    with closing(sqlite3.connect(path)) as town:
        town.execute(CREATE)
        town.execute(CREATE.replace("TABLE tree", "TABLE fresh"))
        town.executemany("INSERT INTO fresh VALUES (?, ?, ?, ?, ?, ?, ?)", trees(ROWS))
        town.commit()
    prepare(path)
    times = []
    with closing(sqlite3.connect(path, isolation_level=None)) as town:
        for statement in WORK.values():
            began = time.perf_counter()
            town.execute(statement)
            times.append(time.perf_counter() - began)
    return times


def main() -> None:
    print(
        f"\ncapture: writing {ROWS:,} rows, microseconds a row (best of {RUNS}; ratio: with capture to with the barest audit trigger)\n"
    )
    row("work", "no trigger", "barest audit", "capture", "ratio")
    ways = (no_trigger, barest_audit, capture)
    runs: dict[str, list[list[float]]] = {way.__name__: [] for way in ways}
    with tempfile.TemporaryDirectory() as name:
        for _ in range(RUNS):
            for way in ways:
                runs[way.__name__].append(measured(way, Path(name)))
    best = [[min(column) for column in zip(*runs[way.__name__], strict=True)] for way in ways]
    for index, work in enumerate(WORK):
        cells = [one[index] for one in best]
        row(work, *(f"{cell / ROWS * 1e6:.2f}" for cell in cells), f"{cells[2] / cells[1]:.2f} x")
    sums = [sum(one) for one in best]
    row("all three", *(f"{cell / ROWS / 3 * 1e6:.2f}" for cell in sums), f"{sums[2] / sums[1]:.2f} x")


if __name__ == "__main__":
    main()
