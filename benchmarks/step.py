"""A whole step, SQLite into DuckDB and into SQLite, beside a hand-written script with the same drivers.

The script does what the step does (read the change table after a stored number, keep the first and last change of
each key, merge, store the number in the same transaction), with no ledger, no checks and no care for a source
that was restored or trimmed. The full reload drops the target and copies the table.
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from statistics import median
from typing import Any

import duckdb
import pyarrow as pa

import plainstep
from benchmarks import row, seconds
from plainstep.demo.town import trees

RUNS = 16
ROWS = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
COLUMNS = ["tree_id", "ward_id", "species", "planted", "height_m", "girth_cm", "status"]
KINDS = [pa.int64(), pa.int64(), pa.string(), pa.date32(), pa.float64(), pa.int64(), pa.string()]
CREATE = "CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER, species TEXT, planted DATE, height_m REAL, girth_cm INTEGER, status TEXT)"
WIDE = "CREATE TABLE tree (tree_id BIGINT NOT NULL, ward_id BIGINT, species VARCHAR, planted DATE, height_m DOUBLE, girth_cm BIGINT, status VARCHAR)"


def prepare(folder: Path) -> plainstep.Project:
    loads = "".join(f'[loads.{name}]\nfrom = "town.tree"\ninto = "{name}.tree"\n' for name in ("house", "shed"))
    urls = {"town": "sqlite:///town.db", "house": "duckdb:///house.duckdb", "shed": "sqlite:///shed.db"}
    stores = "".join(f'[stores.{name}]\nurl = "{url}"\n' for name, url in urls.items())
    (folder / "plainstep.toml").write_text(stores + loads)
    with closing(sqlite3.connect(folder / "town.db")) as town:
        town.execute("PRAGMA journal_mode = wal")
        town.execute(CREATE)
        sample = trees(10_000)
        town.executemany(
            "INSERT INTO tree VALUES (?, ?, ?, ?, ?, ?, ?)",
            ((number, *sample[number % 10_000][1:]) for number in range(ROWS)),
        )
        town.commit()
    project = plainstep.load_project(folder / "plainstep.toml")
    project.capture_on("town.tree")
    project.step()
    for store in ("house", "shed"):
        reload_by_hand(folder, store)
    return project


def change(folder: Path, share: float, turn: int) -> int:
    """Update a share of the rows (a tenth of them twice), delete and insert a few; how many changes that is."""
    step = round(1 / share)
    part = turn % step
    with closing(sqlite3.connect(folder / "town.db")) as town:
        town.execute("UPDATE tree SET height_m = height_m + 0.1 WHERE tree_id % ? = ?", [step, part])
        town.execute("UPDATE tree SET girth_cm = girth_cm + 1 WHERE tree_id % ? = ?", [step * 10, part])
        town.execute("DELETE FROM tree WHERE tree_id % ? = ?", [step * 20, part])
        town.execute(
            f"INSERT INTO tree SELECT tree_id + {ROWS * (turn + 2) * step}, ward_id, species, planted, height_m, girth_cm, status "
            "FROM tree WHERE tree_id % ? = ? AND tree_id < ?",
            [step * 20, part + step, ROWS],
        )
        town.commit()
        return int(town.execute("SELECT max(seq) FROM plainstep_changes_tree").fetchone()[0])


def read_by_hand(folder: Path, after: int) -> tuple[int, dict[int, tuple[Any, ...]]]:
    """The last change of each key after a number, and the number to store."""
    now = ", ".join(f'"now.{name}"' for name in COLUMNS)
    last: dict[int, tuple[Any, ...]] = {}
    upto = after
    with closing(sqlite3.connect(folder / "town.db")) as town:
        for change in town.execute(
            f'SELECT seq, op, "was.tree_id", {now} FROM plainstep_changes_tree WHERE seq > ? ORDER BY seq', [after]
        ):
            last[change[2] if change[1] == "delete" else change[3]] = change
            upto = change[0]
    return upto, last


def step_into_duckdb_by_hand(folder: Path) -> None:
    with closing(duckdb.connect(str(folder / "hand.duckdb"))) as house:
        [[after]] = house.execute("SELECT position FROM watermark").fetchall()
        upto, last = read_by_hand(folder, after)
        gone = pa.table({"tree_id": pa.array(list(last), pa.int64())})
        kept = [change[3:] for change in last.values() if change[1] != "delete"]
        arrays = [pa.array(column) for column in zip(*kept, strict=True)]
        rows = pa.table([array.cast(kind) for array, kind in zip(arrays, KINDS, strict=True)], COLUMNS)
        house.register("gone", gone)
        house.register("fresh", rows)
        house.execute("BEGIN")
        house.execute("DELETE FROM tree USING gone WHERE tree.tree_id = gone.tree_id")
        house.execute("INSERT INTO tree SELECT * FROM fresh")
        house.execute("UPDATE watermark SET position = ?", [upto])
        house.execute("COMMIT")


def step_into_sqlite_by_hand(folder: Path) -> None:
    with closing(sqlite3.connect(folder / "hand.db")) as shed:
        [after] = shed.execute("SELECT position FROM watermark").fetchone() or (0,)
        upto, last = read_by_hand(folder, after)
        keys = sorted(last)
        shed.executemany("DELETE FROM tree WHERE tree_id = ?", [(key,) for key in keys if last[key][1] == "delete"])
        sets = ", ".join(f"{name} = excluded.{name}" for name in COLUMNS[1:])
        shed.executemany(
            f"INSERT INTO tree VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (tree_id) DO UPDATE SET {sets}",
            [last[key][3:] for key in keys if last[key][1] != "delete"],
        )
        shed.execute("UPDATE watermark SET position = ?", [upto])
        shed.commit()


def reload_by_hand(folder: Path, store: str) -> None:
    """Copy the whole table, and note where the changes stood."""
    names = ", ".join(COLUMNS)
    with closing(sqlite3.connect(folder / "town.db")) as town:
        town.execute("BEGIN")
        head = town.execute("SELECT coalesce(max(seq), 0) FROM plainstep_changes_tree").fetchone()[0]
        if store == "shed":
            with closing(sqlite3.connect(folder / "hand.db")) as shed:
                shed.executescript(
                    "DROP TABLE IF EXISTS tree; DROP TABLE IF EXISTS watermark; CREATE TABLE watermark (position INTEGER);"
                    + CREATE
                )
                shed.executemany(
                    "INSERT INTO tree VALUES (?, ?, ?, ?, ?, ?, ?)", town.execute(f"SELECT {names} FROM tree")
                )
                shed.execute("INSERT INTO watermark VALUES (?)", [head])
                shed.commit()
            return
        with closing(duckdb.connect(str(folder / "hand.duckdb"))) as house:
            house.execute(
                "BEGIN; DROP TABLE IF EXISTS tree; DROP TABLE IF EXISTS watermark; CREATE TABLE watermark (position BIGINT)"
            )
            house.execute(WIDE)
            cursor = town.execute(f"SELECT {names} FROM tree")
            while rows := cursor.fetchmany(50_000):
                arrays = [
                    pa.array(column).cast(kind) for column, kind in zip(zip(*rows, strict=True), KINDS, strict=True)
                ]
                house.register("part", pa.table(arrays, COLUMNS))
                house.execute("INSERT INTO tree SELECT * FROM part")
            house.execute("INSERT INTO watermark VALUES (?)", [head])
            house.execute("COMMIT")


def timed(work: Callable[[], Any]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def same(folder: Path) -> None:
    """Both ways came to the same rows."""
    with closing(sqlite3.connect(folder / "shed.db")) as ours, closing(sqlite3.connect(folder / "hand.db")) as theirs:
        sql = "SELECT count(*), sum(height_m), sum(girth_cm) FROM tree"
        left, right = ours.execute(sql).fetchone(), theirs.execute(sql).fetchone()
        assert left == right, (left, right)
    with duckdb.connect() as both:
        both.execute(f"ATTACH '{folder}/house.duckdb' AS ours; ATTACH '{folder}/hand.duckdb' AS theirs")
        [differ] = both.execute("SELECT count(*) FROM (FROM ours.tree EXCEPT FROM theirs.tree)").fetchone() or (0,)
        assert differ == 0, differ


def main() -> None:
    print(f"\nstep: a table of {ROWS:,} rows (medians of {RUNS}; by hand: the same drivers, no ledger, no checks)\n")
    widths = (30, 14, 14, 14, 12, 14)
    row("changed, into", "Plain Step", "by hand", "full reload", "ours/hand", "reload/ours", widths=widths)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        project = prepare(folder)
        hands = {"house": step_into_duckdb_by_hand, "shed": step_into_sqlite_by_hand}
        reloads = {store: timed(lambda store=store: reload_by_hand(folder, store)) for store in hands}
        turn = 0
        for share in (0.01, 0.1):
            times: dict[str, list[tuple[float, float]]] = {"house": [], "shed": []}
            for _ in range(RUNS):
                change(folder, share, turn)
                turn += 1
                for store, by_hand in hands.items():
                    both = [lambda store=store: project.step(store), lambda by_hand=by_hand: by_hand(folder)]
                    order = (0, 1) if turn % 2 else (1, 0)  # who comes second finds the file in the cache
                    taken = {which: timed(both[which]) for which in order}
                    times[store].append((taken[0], taken[1]))
                same(folder)
            for store, pairs in times.items():
                ours, hand = (median(pair[which] for pair in pairs) for which in (0, 1))
                label = f"{share:.0%}, {'DuckDB' if store == 'house' else 'SQLite'}"
                row(
                    label,
                    seconds(ours),
                    seconds(hand),
                    seconds(reloads[store]),
                    f"{median(ours / hand for ours, hand in pairs):.2f} x",
                    f"{reloads[store] / ours:.1f} x",
                    widths=widths,
                )


if __name__ == "__main__":
    main()
