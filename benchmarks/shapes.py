"""Each shape's step beside hand-written SQL for the same result on the same store, in DuckDB.

python -m benchmarks.shapes [ROWS [SHAPE...]]

Both read the same captured changes of a SQLite register with one row in a hundred changed, taking turns. The peer reads them
with Python's sqlite3 and does in one transaction what the shape does; it keeps a mark, but no ledger, and checks nothing.
"""

from __future__ import annotations

import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa

import plainstep

ROWS = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
TURNS = 7
TABLE = """CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER NOT NULL, species TEXT NOT NULL,
height_mm INTEGER NOT NULL, status TEXT NOT NULL)"""
COLUMNS = ("tree_id", "ward_id", "species", "height_mm", "status")
CONFIG = """
[stores.town]
url = "sqlite:///town.db"
[stores.house]
url = "duckdb:///house.duckdb"
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
# The newest change of each key in the window, with the state before the first.
NET = """CREATE TEMP TABLE net AS SELECT tree_id, arg_max(op, seq) AS op, max(seq) AS seq, max("at") AS "at",
arg_max("now.ward_id", seq) AS ward_id, arg_max("now.species", seq) AS species, arg_max("now.height_mm", seq) AS height_mm,
arg_max("now.status", seq) AS status, arg_min(was_there, seq) AS was_there, arg_min("was.ward_id", seq) AS was_ward_id,
arg_min("was.height_mm", seq) AS was_height_mm
FROM (SELECT *, coalesce("now.tree_id", "was.tree_id") AS tree_id, op <> 'insert' AS was_there FROM c) GROUP BY tree_id"""
LAST = 'to_timestamp("at" / 1000.0)'
SQL = {
    "flagged": [
        NET,
        "DELETE FROM flagged USING net WHERE flagged.tree_id = net.tree_id AND net.op <> 'delete'",
        "INSERT INTO flagged SELECT tree_id, ward_id, species, height_mm, status, NULL FROM net WHERE op <> 'delete'",
        f"UPDATE flagged SET removed_at = {LAST} FROM net WHERE flagged.tree_id = net.tree_id AND net.op = 'delete'",
    ],
    "history": [
        NET,
        f"UPDATE history SET valid_upto = {LAST}, upto_position = seq FROM net "
        "WHERE history.tree_id = net.tree_id AND valid_upto IS NULL AND (net.op = 'delete' OR "
        "(history.ward_id, history.species, history.height_mm, history.status) IS DISTINCT FROM "
        "(net.ward_id, net.species, net.height_mm, net.status))",
        f"INSERT INTO history SELECT tree_id, ward_id, species, height_mm, status, {LAST}, NULL, 'change', seq, NULL FROM net "
        "WHERE op <> 'delete' AND NOT EXISTS (SELECT 1 FROM history h WHERE h.tree_id = net.tree_id AND h.valid_upto IS NULL)",
    ],
    "journal": [
        'INSERT INTO journal SELECT 1, now(), seq, op, to_timestamp("at" / 1000.0), NULL, NULL, "was.tree_id", "was.ward_id", '
        '"was.species", "was.height_mm", "was.status", "now.tree_id", "now.ward_id", "now.species", "now.height_mm", '
        '"now.status" FROM c ORDER BY seq',
    ],
    "rollup": [
        NET,
        "CREATE TEMP TABLE d AS SELECT ward_id, height_mm AS v, 1 AS sign FROM net WHERE op <> 'delete' "
        "UNION ALL SELECT was_ward_id, was_height_mm, -1 FROM net WHERE was_there",
        "UPDATE rollup_tallest_values t SET row_count = t.row_count + x.n FROM "
        "(SELECT ward_id, v, sum(sign) AS n FROM d GROUP BY ALL) x WHERE t.ward_id = x.ward_id AND t.value = x.v",
        "INSERT INTO rollup_tallest_values SELECT ward_id, v, n FROM (SELECT ward_id, v, sum(sign) AS n FROM d GROUP BY ALL) x "
        "WHERE n > 0 AND NOT EXISTS (SELECT 1 FROM rollup_tallest_values t WHERE t.ward_id = x.ward_id AND t.value = x.v)",
        "DELETE FROM rollup_tallest_values WHERE row_count = 0",
        "UPDATE rollup r SET trees = r.trees + x.n, total = r.total + x.s, mean = (r.total + x.s) / (r.trees + x.n), "
        "tallest = m.top, row_count = r.row_count + x.n, mean_sum = r.total + x.s, total_count = r.trees + x.n, "
        "mean_count = r.trees + x.n FROM (SELECT ward_id, sum(sign) AS n, sum(sign * v) AS s FROM d GROUP BY ward_id) x, "
        "(SELECT ward_id, max(value) AS top FROM rollup_tallest_values GROUP BY ward_id) m "
        "WHERE r.ward_id = x.ward_id AND r.ward_id = m.ward_id",
    ],
    "events": [
        "INSERT INTO events SELECT 'felled-' || seq, 'felled', 'town', \"now.tree_id\"::VARCHAR, to_timestamp(\"at\" / 1000.0), seq, "
        "to_json({'op': op, 'was': {'tree_id': \"was.tree_id\", 'ward_id': \"was.ward_id\", 'species': \"was.species\", "
        "'height_mm': \"was.height_mm\", 'status': \"was.status\"}, 'now': {'tree_id': \"now.tree_id\", "
        "'ward_id': \"now.ward_id\", 'species': \"now.species\", 'height_mm': \"now.height_mm\", 'status': \"now.status\"}}), "
        "1, 'waiting', 0, now(), NULL, NULL FROM c WHERE \"was.status\" <> 'felled' AND \"now.status\" = 'felled'",
    ],
}


def changes(connection: sqlite3.Connection, turn: int) -> None:
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


def read_by_hand(folder: Path, after: int) -> pa.Table:
    """The changes after a position."""
    with closing(sqlite3.connect(folder / "town.db")) as town:
        columns = [f"{side}.{name}" for side in ("was", "now") for name in COLUMNS]
        names = ", ".join(f'"{name}"' for name in columns)
        rows = town.execute(
            f"SELECT seq, op, at, {names} FROM plainstep_changes_tree WHERE seq > ?", [after]
        ).fetchall()
    arrays = [pa.array(column) for column in zip(*rows, strict=True)]
    return pa.table(arrays, ["seq", "op", "at", *columns])


def by_hand(folder: Path, name: str, after: int) -> int:
    """The hand-written step; where its mark moves to."""
    with duckdb.connect(str(folder / "hand.duckdb")) as connection:
        connection.register("c", read_by_hand(folder, after))
        connection.execute("BEGIN")
        for statement in SQL[name]:
            connection.execute(statement)
        [[upto]] = connection.execute("SELECT max(seq) FROM c").fetchall()
        connection.execute("CREATE TABLE IF NOT EXISTS mark (name TEXT, position BIGINT)")
        connection.execute("DELETE FROM mark WHERE name = ?; ", [name])
        connection.execute("INSERT INTO mark VALUES (?, ?)", [name, upto])
        connection.execute("COMMIT")
        return int(upto)


def timed(work: Callable[..., Any], *args: Any) -> tuple[float, Any]:
    """How long some work takes, and what it gives."""
    began = time.perf_counter()
    found = work(*args)
    return time.perf_counter() - began, found


def aggregated(folder: Path, query: str) -> list[Any]:
    """What a query on the source gives."""
    with closing(sqlite3.connect(folder / "town.db")) as town:
        return town.execute(query).fetchall()


def main() -> None:
    """Run, and print a table."""
    print(f"{ROWS:,} rows, one in a hundred changed; medians of {TURNS} turns")
    print(f"{'shape':10s} {'step':>8s} {'by hand':>8s} {'ratio':>6s}")
    for name in sys.argv[2:] or SQL:
        with tempfile.TemporaryDirectory(prefix="plainstep-shapes-") as text:
            folder = Path(text)
            (folder / "plainstep.toml").write_text(CONFIG)
            connection = sqlite3.connect(folder / "town.db")
            connection.execute("PRAGMA journal_mode = wal")
            connection.execute(TABLE)
            rows = ((n, n % 12, "oak", 1000 + n * 7919 % 20000, "mature") for n in range(ROWS))
            connection.executemany("INSERT INTO tree VALUES (?, ?, ?, ?, ?)", rows)
            connection.commit()
            project = plainstep.load_project(folder / "plainstep.toml")
            project.capture_on("town.tree")
            [outcome] = project.step(name)
            (folder / "hand.duckdb").write_bytes((folder / "house.duckdb").read_bytes())
            mark, ours, theirs = int(outcome.upto or 0), [], []
            for turn in range(TURNS):
                changes(connection, turn)
                ours.append(timed(project.step, name)[0])
                took, mark = timed(by_hand, folder, name, mark)
                theirs.append(took)
            agree(folder, name)
            mine, hand = statistics.median(ours), statistics.median(theirs)
            print(f"{name:10s} {mine:7.3f}s {hand:7.3f}s {mine / hand:6.2f}", flush=True)
            if name == "rollup":
                again, _ = timed(project.reload, "rollup")
                print(f"           reload {again:.2f}s, {again / mine:.1f} times as long as the step", flush=True)
                query = "SELECT ward_id, count(*), sum(height_mm), avg(height_mm), max(height_mm) FROM tree GROUP BY ward_id"
                asked, _ = timed(aggregated, folder, query)
                print(f"           the bare query on the source {asked:.2f}s, {asked / mine:.1f} times", flush=True)
            connection.close()


def agree(folder: Path, name: str) -> None:
    """Both must have come to the same."""
    columns = {
        "flagged": "tree_id, ward_id, height_mm, status, removed_at IS NULL",
        "history": "tree_id, ward_id, height_mm, status, valid_upto IS NULL, from_position, upto_position",
        "journal": "position, op, was_height_mm, now_height_mm",
        "rollup": "ward_id, trees, total, mean, tallest",
        "events": "type, subject, position",
    }[name]
    with duckdb.connect() as connection:
        connection.execute(
            f"ATTACH '{folder / 'house.duckdb'}' AS a (READ_ONLY); ATTACH '{folder / 'hand.duckdb'}' AS b (READ_ONLY)"
        )
        sides = [f"SELECT {columns} FROM {side}.{name}" for side in "ab"]
        [[count]] = connection.execute(
            f"SELECT count(*) FROM (({sides[0]} EXCEPT ALL {sides[1]}) UNION ALL ({sides[1]} EXCEPT ALL {sides[0]}))"
        ).fetchall()
        assert count == 0, f"{name}: {count} rows differ"


if __name__ == "__main__":
    main()
