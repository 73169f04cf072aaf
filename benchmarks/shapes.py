"""Each shape's step beside hand-written SQL for the same result on the same store: DuckDB, SQLite and PostgreSQL.

python -m benchmarks.shapes [ROWS [STORE.SHAPE...]]

Both read the same captured changes of a SQLite register with one row in a hundred changed, taking turns at being first.
The peer (benchmarks/shapes_by_hand.py) keeps a watermark, but no ledger, and checks nothing. A rollup is also computed anew.
"""

from __future__ import annotations

import shutil
import sqlite3
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import duckdb
import psycopg

import plainstep
from benchmarks import best_of, in_pairs, row, seconds, shapes_by_hand
from benchmarks.postgres import fresh
from benchmarks.shapes_by_hand import Rows

ROWS = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
TURNS = 10
TABLE = """CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER NOT NULL, species TEXT NOT NULL,
height_mm INTEGER NOT NULL, status TEXT NOT NULL)"""
CONFIG = """
[stores.town]
url = "sqlite:///town.db"
[stores.house]
url = "{house}"
[loads.flagged]
from = "town.tree"
into = "house.flagged"
deletes = "flag"
[loads.history]
from = "town.tree"
into = "house.history"
shape = "history"
[loads.journal]
from = "town.tree"
into = "house.journal"
shape = "journal"
first = "head"
[loads.rollup]
from = "town.tree"
into = "house.rollup"
shape = "rollup"
by = ["ward_id"]
measures = { trees = "count(*)", total = "sum(height_mm)", mean = "avg(height_mm)", tallest = "max(height_mm)" }
[loads.events]
from = "town.tree"
into = "house.events"
shape = "events"
first = "head"
rules = { felled = "was.status <> 'felled' and now.status = 'felled'" }
"""
# What both must agree on in the end.
RESULTS = {
    "flagged": "tree_id, ward_id, height_mm, status, removed_at IS NULL",
    "history": "tree_id, ward_id, height_mm, status, valid_to IS NULL, from_position, upto_position",
    "journal": "position, op, was_height_mm, now_height_mm",
    "rollup": "ward_id, trees, total, mean, tallest",
    "events": "type, subject, position",
}
WIDTHS = (26, 14, 14, 12)
Agree = Callable[[str], int]
Work = Callable[[Path, str, Rows], None]


def register(folder: Path) -> sqlite3.Connection:
    """The register of trees."""
    connection = sqlite3.connect(folder / "town.db")
    connection.execute("PRAGMA journal_mode = wal")
    connection.execute(TABLE)
    rows = ((n, n % 12, "oak", 1000 + n * 7919 % 20000, "mature") for n in range(ROWS))
    connection.executemany("INSERT INTO tree VALUES (?, ?, ?, ?, ?)", rows)
    connection.commit()
    return connection


def change(connection: sqlite3.Connection, turn: int) -> None:
    """Change one row in a hundred: measure, fell, plant, take out."""
    part = max(ROWS // 100, 10)
    start = turn * part
    connection.execute("UPDATE tree SET height_mm = height_mm + 7 WHERE tree_id % 100 = ?", [turn % 100])
    connection.execute(f"UPDATE tree SET status = 'felled' WHERE tree_id BETWEEN {start} AND {start + part // 20}")
    connection.execute(
        f"DELETE FROM tree WHERE tree_id BETWEEN {start + part // 2} AND {start + part // 2 + part // 20}"
    )
    base = ROWS * 2 + start
    connection.execute(
        f"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {part // 20}) "
        f"INSERT INTO tree SELECT {base} + i, i % 12, 'rowan', 1500 + i % 100, 'young' FROM n"
    )
    connection.commit()


@contextmanager
def beside_duckdb(folder: Path, shape: str, watermark: int) -> Iterator[tuple[Work, Agree]]:
    """The hand's copy of the target."""
    shutil.copy(folder / "house.duckdb", folder / "hand.duckdb")
    with duckdb.connect(str(folder / "hand.duckdb")) as hand:
        hand.execute("CREATE TABLE watermark AS SELECT ?::BIGINT AS position", [watermark])

    def agree(differing: str) -> int:
        with duckdb.connect() as both:
            both.execute(f"ATTACH '{folder}/house.duckdb' AS ours (READ_ONLY)")
            both.execute(f"ATTACH '{folder}/hand.duckdb' AS hand (READ_ONLY)")
            return int(both.execute(differing.format(ours="ours.", hand="hand.")).fetchall()[0][0])

    yield shapes_by_hand.into_duckdb, agree


@contextmanager
def beside_sqlite(folder: Path, shape: str, watermark: int) -> Iterator[tuple[Work, Agree]]:
    """The hand's copy of the target."""
    with closing(sqlite3.connect(folder / "house.db")) as house:
        house.execute("VACUUM INTO ?", [str(folder / "hand.db")])
    with closing(sqlite3.connect(folder / "hand.db")) as hand:
        hand.execute("CREATE TABLE watermark AS SELECT ? AS position", [watermark])
        hand.commit()

    def agree(differing: str) -> int:
        with closing(sqlite3.connect(folder / "house.db")) as both:
            both.execute("ATTACH ? AS hand", [str(folder / "hand.db")])
            return int(both.execute(differing.format(ours="main.", hand="hand.")).fetchone()[0])

    yield shapes_by_hand.into_sqlite, agree


@contextmanager
def beside_postgresql(folder: Path, shape: str, watermark: int) -> Iterator[tuple[Work, Agree]]:
    """The hand's copy of the target, in a schema of its own."""
    url = (folder / "url").read_text()
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"CREATE SCHEMA hand; CREATE TABLE hand.watermark AS SELECT {watermark}::bigint AS position")
        for [name] in connection.execute(
            "SELECT tablename FROM pg_tables WHERE schemaname = 'public' AND starts_with(tablename, %s)", [shape]
        ).fetchall():
            connection.execute(f"CREATE TABLE hand.{name} (LIKE public.{name} INCLUDING ALL)")
            connection.execute(f"INSERT INTO hand.{name} SELECT * FROM public.{name}")
        connection.execute("VACUUM ANALYZE")

        def agree(differing: str) -> int:
            found = connection.execute(differing.format(ours="public.", hand="hand.")).fetchall()
            return int(found[0][0])

        yield shapes_by_hand.into_postgresql(connection), agree


BESIDE = {"duckdb": beside_duckdb, "sqlite": beside_sqlite, "postgresql": beside_postgresql}


def compare(store: str, shape: str, folder: Path, house: str) -> None:
    """Step both ways, see that they agree, and print a line."""
    (folder / "plainstep.toml").write_text(CONFIG.replace("{house}", house))
    (folder / "url").write_text(house)
    with closing(register(folder)) as town:
        project = plainstep.load_project(folder / "plainstep.toml")
        project.capture_on("town.tree")
        [outcome] = project.step(shape)
        watermark = int(outcome.upto or 0)
        with BESIDE[store](folder, shape, watermark) as (work, agree):

            def by_hand() -> None:
                nonlocal watermark
                rows = shapes_by_hand.read(folder, watermark)
                work(folder, shape, rows)
                watermark = rows[-1][0]

            mine, hand, ratio = in_pairs(TURNS, lambda: project.step(shape), by_hand, lambda turn: change(town, turn))
            row(f"{store}, {shape}", seconds(mine), seconds(hand), f"{ratio:.2f} x", widths=WIDTHS)
            names = RESULTS[shape]
            sides = [f"SELECT {names} FROM {{{side}}}{shape}" for side in ("ours", "hand")]
            each = [f"SELECT * FROM ({one} EXCEPT {other}) x" for one, other in (sides, sides[::-1])]
            assert agree(f"SELECT count(*) FROM ({each[0]} UNION ALL {each[1]}) y") == 0, (store, shape)
        if shape == "rollup":
            anew(project, town, mine)


def anew(project: plainstep.Project, town: sqlite3.Connection, step: float) -> None:
    """Compute a rollup anew: as ``reload`` does, and by the bare queries that fill its two tables."""
    whole = "SELECT ward_id, count(*), sum(height_mm), avg(height_mm), max(height_mm) FROM tree GROUP BY ward_id"
    values = "SELECT ward_id, height_mm, count(*) FROM tree GROUP BY ward_id, height_mm"
    ways = {
        "reload": lambda: project.reload("rollup"),
        "both bare queries, nothing written": lambda: [town.execute(one).fetchall() for one in (whole, values)],
        "the query for the groups alone": lambda: town.execute(whole).fetchall(),
    }
    for what, work in ways.items():
        [took] = best_of(1 if what == "reload" else 3, work)
        row(f"  {what}", seconds(took), f"{took / step:.1f} times the step", widths=(38, 14, 24))


def main() -> None:
    """Run, and print a table."""
    print(f"\n{ROWS:,} rows, one in a hundred changed (medians of {TURNS} pairs)\n")
    row("into, shape", "Plain Step", "by hand", "ours/hand", widths=WIDTHS)
    for store in BESIDE:
        for shape in RESULTS:
            if sys.argv[2:] and f"{store}.{shape}" not in sys.argv[2:]:
                continue
            with tempfile.TemporaryDirectory(prefix="plainstep-shapes-") as text:
                folder = Path(text)
                if store == "postgresql":
                    with fresh() as database:
                        compare(store, shape, folder, database.url)
                else:
                    compare(store, shape, folder, f"{store}:///house.{'db' if store == 'sqlite' else store}")


if __name__ == "__main__":
    main()
