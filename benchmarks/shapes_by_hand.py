"""What a careful hand writes for each shape, in the SQL of each store: the peers of ``benchmarks.shapes``.

Every statement reads the changes of a window, ``c``, and merges them into the shape's tables; no ledger, no checks.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import psycopg
import pyarrow as pa

COLUMNS = ("tree_id", "ward_id", "species", "height_mm", "status")
SIDES = [f"{side}.{name}" for side in ("was", "now") for name in COLUMNS]
Rows = list[tuple[Any, ...]]

# The newest change of each key in the window, with the state before the first.
DUCKDB_NET = """CREATE TEMP TABLE net AS SELECT tree_id, arg_max(op, seq) AS op, max(seq) AS seq, max("at") AS "at",
arg_max("now.ward_id", seq) AS ward_id, arg_max("now.species", seq) AS species, arg_max("now.height_mm", seq) AS height_mm,
arg_max("now.status", seq) AS status, arg_min(was_there, seq) AS was_there, arg_min("was.ward_id", seq) AS was_ward_id,
arg_min("was.height_mm", seq) AS was_height_mm
FROM (SELECT *, coalesce("now.tree_id", "was.tree_id") AS tree_id, op <> 'insert' AS was_there FROM c) GROUP BY tree_id"""
NET = """CREATE TEMP TABLE net AS SELECT k.tree_id, l.op, l.seq, l."at", l."now.ward_id" AS ward_id, l."now.species" AS species,
l."now.height_mm" AS height_mm, l."now.status" AS status, f.op <> 'insert' AS was_there, f."was.ward_id" AS was_ward_id,
f."was.height_mm" AS was_height_mm FROM (SELECT coalesce("now.tree_id", "was.tree_id") AS tree_id, min(seq) AS first_seq,
max(seq) AS last_seq FROM c GROUP BY 1) k JOIN c l ON l.seq = k.last_seq JOIN c f ON f.seq = k.first_seq"""
# How each store tells the time of a change, what differs though null, and a document.
DIALECTS = {
    "duckdb": {
        "time": 'to_timestamp("at" / 1000.0)',
        "differs": "IS DISTINCT FROM",
        "json": "to_json({{'op': op, 'was': {{{was}}}, 'now': {{{now}}}}})",
        "pair": "'{name}': {value}",
        "text": "VARCHAR",
    },
    "sqlite": {
        "time": "strftime('%Y-%m-%d %H:%M:%f+00:00', \"at\" / 1000.0, 'unixepoch')",
        "differs": "IS NOT",
        "json": "json_object('op', op, 'was', json_object({was}), 'now', json_object({now}))",
        "pair": "'{name}', {value}",
        "text": "TEXT",
    },
    "postgresql": {
        "time": 'to_timestamp("at" / 1000.0)',
        "differs": "IS DISTINCT FROM",
        "json": "json_build_object('op', op, 'was', json_build_object({was}), 'now', json_build_object({now}))",
        "pair": "'{name}', {value}",
        "text": "TEXT",
    },
}
SUMS = """(SELECT ward_id, sum(sign) AS n, sum(sign * v) AS s FROM d GROUP BY ward_id) x"""
ADD_UP = (
    "UPDATE rollup SET trees = trees + x.n, total = total + x.s, mean = CAST(total + x.s AS DOUBLE PRECISION) / (trees + x.n), "
    "tallest = m.top, row_count = row_count + x.n, mean_sum = total + x.s, total_count = trees + x.n, "
    f"mean_count = trees + x.n FROM {SUMS}, "
)


def statements(store: str, shape: str) -> list[str]:
    """A shape's step in the SQL of a store."""
    say = DIALECTS[store]
    images = {
        side: ", ".join(say["pair"].format(name=name, value=f'"{side}.{name}"') for name in COLUMNS)
        for side in ("was", "now")
    }
    now, document = say["time"], say["json"].format(**images)
    net = DUCKDB_NET if store == "duckdb" else NET
    row = "tree_id, ward_id, species, height_mm, status"
    if shape == "flagged":
        put = [
            f"INSERT INTO flagged SELECT {row}, NULL FROM net WHERE op <> 'delete' ON CONFLICT (tree_id) DO UPDATE SET "
            + ", ".join(f"{name} = excluded.{name}" for name in (*COLUMNS[1:], "removed_at"))
        ]
        if store == "duckdb":  # quicker there than a conflict
            put = [
                "DELETE FROM flagged USING net WHERE flagged.tree_id = net.tree_id AND net.op <> 'delete'",
                f"INSERT INTO flagged SELECT {row}, NULL FROM net WHERE op <> 'delete'",
            ]
        gone = (
            f"UPDATE flagged SET removed_at = {now} FROM net WHERE flagged.tree_id = net.tree_id AND net.op = 'delete'"
        )
        return [net, *put, gone]
    if shape == "history":  # of every change that changed anything
        was, then = (", ".join(f'"{side}.{name}"' for name in COLUMNS) for side in ("was", "now"))
        fresh = ", ".join(f'"now.{name}" AS {name}' for name in COLUMNS[1:])
        upto = now.replace('"at"', "next_at")
        return [
            f'CREATE TEMP TABLE v AS SELECT coalesce("now.tree_id", "was.tree_id") AS tree_id, {fresh}, op, seq, "at", row_number() OVER w AS nth, '
            f'lead(seq) OVER w AS next_seq, lead("at") OVER w AS next_at FROM c WHERE ({was}) {say["differs"]} ({then}) '
            'WINDOW w AS (PARTITION BY coalesce("now.tree_id", "was.tree_id") ORDER BY seq)',
            f"UPDATE history SET valid_to = {now}, upto_position = seq FROM v WHERE nth = 1 AND history.tree_id = v.tree_id AND valid_to IS NULL",
            f"INSERT INTO history SELECT {row}, seq + 1, {now}, {upto}, 'change', seq, next_seq FROM v WHERE op <> 'delete'",
        ]
    if shape == "journal":
        images_of = ", ".join(f'"{name}"' for name in SIDES)
        return [
            f"INSERT INTO journal SELECT 1, CURRENT_TIMESTAMP, row_number() OVER (ORDER BY seq), seq, op, {now}, NULL, NULL, {images_of} FROM c ORDER BY seq"
        ]
    if shape == "events":
        return [
            f"INSERT INTO events SELECT 'felled-' || seq, 'felled', 'town', CAST(\"now.tree_id\" AS {say['text']}), {now}, seq, seq, "
            f"{document}, 1, 'waiting', 0, CURRENT_TIMESTAMP, NULL, NULL FROM c "
            "WHERE \"was.status\" <> 'felled' AND \"now.status\" = 'felled'"
        ]
    apart = (
        "CREATE TEMP TABLE d AS SELECT ward_id, height_mm AS v, 1 AS sign FROM net WHERE op <> 'delete' "
        "UNION ALL SELECT was_ward_id, was_height_mm, -1 FROM net WHERE was_there"
    )
    counted = "(SELECT ward_id, v, sum(sign) AS n FROM d GROUP BY ward_id, v)"
    values = "rollup_tallest_values"
    if store == "duckdb":
        return [
            net,
            apart,
            f"UPDATE {values} t SET row_count = t.row_count + x.n FROM {counted} x WHERE t.ward_id = x.ward_id AND t.value = x.v",
            f"INSERT INTO {values} SELECT ward_id, v, n FROM {counted} x WHERE n > 0 AND NOT EXISTS "
            f"(SELECT 1 FROM {values} t WHERE t.ward_id = x.ward_id AND t.value = x.v)",
            f"DELETE FROM {values} WHERE row_count = 0",
            f"{ADD_UP} (SELECT ward_id, max(value) AS top FROM {values} GROUP BY ward_id) m "
            "WHERE rollup.ward_id = x.ward_id AND rollup.ward_id = m.ward_id",
        ]
    tops = f"(SELECT ward_id, (SELECT max(value) FROM {values} t WHERE t.ward_id = r.ward_id) AS top FROM rollup r) m"
    return [
        net,
        apart,
        f"INSERT INTO {values} SELECT ward_id, v, n FROM {counted} x WHERE n <> 0 ON CONFLICT (ward_id, value) "
        f"DO UPDATE SET row_count = {values}.row_count + excluded.row_count",
        f"DELETE FROM {values} WHERE row_count = 0 AND (ward_id, value) IN (SELECT ward_id, v FROM d WHERE sign < 0)",
        f"{ADD_UP} {tops} WHERE rollup.ward_id = x.ward_id AND rollup.ward_id = m.ward_id",
    ]


def read(folder: Path, after: int) -> Rows:
    """The changes after a position, by Python's sqlite3."""
    with closing(sqlite3.connect(folder / "town.db")) as town:
        names = ", ".join(f'"{name}"' for name in SIDES)
        found: Rows = town.execute(
            f"SELECT seq, op, at, {names} FROM plainstep_changes_tree WHERE seq > ?", [after]
        ).fetchall()
        return found


def into_duckdb(folder: Path, shape: str, rows: Rows) -> None:
    """The step in one transaction of DuckDB."""
    with duckdb.connect(str(folder / "hand.duckdb")) as connection:
        connection.register(
            "c", pa.table([pa.array(column) for column in zip(*rows, strict=True)], ["seq", "op", "at", *SIDES])
        )
        connection.execute("BEGIN")
        for statement in [*statements("duckdb", shape), f"UPDATE watermark SET position = {rows[-1][0]}"]:
            connection.execute(statement)
        connection.execute("COMMIT")


def into_sqlite(folder: Path, shape: str, rows: Rows) -> None:
    """The step in one transaction of SQLite."""
    with closing(sqlite3.connect(folder / "hand.db", isolation_level=None)) as connection:
        connection.execute("PRAGMA temp_store = memory")
        connection.execute("BEGIN")
        names = ", ".join(f'"{name}"' for name in SIDES)
        connection.execute(f'CREATE TEMP TABLE c (seq INTEGER PRIMARY KEY, op TEXT, "at" INTEGER, {names})')
        connection.executemany(f"INSERT INTO c VALUES ({', '.join('?' * (3 + len(SIDES)))})", rows)
        for statement in [*statements("sqlite", shape), f"UPDATE watermark SET position = {rows[-1][0]}"]:
            connection.execute(statement)
        connection.execute("COMMIT")


def into_postgresql(connection: psycopg.Connection[Any]) -> Callable[[Path, str, Rows], None]:
    """The step in one transaction of PostgreSQL, on a connection that stays open."""
    kinds = {"tree_id": "bigint", "ward_id": "bigint", "height_mm": "bigint"}
    columns = ", ".join(f'"{name}" {kinds.get(name.split(".")[1], "text")}' for name in SIDES)

    def step(folder: Path, shape: str, rows: Rows) -> None:
        lines = "".join("\t".join("\\N" if value is None else str(value) for value in row) + "\n" for row in rows)
        connection.execute("BEGIN; SET LOCAL search_path = hand")
        connection.execute(
            f'CREATE TEMP TABLE c (seq bigint PRIMARY KEY, op text, "at" bigint, {columns}) ON COMMIT DROP'
        )
        with connection.cursor().copy("COPY c FROM STDIN") as copy:
            copy.write(lines)
        connection.execute("ANALYZE c")
        for statement in [*statements("postgresql", shape), f"UPDATE watermark SET position = {rows[-1][0]}"]:
            connection.execute(statement)
            if statement.startswith("CREATE TEMP TABLE"):
                connection.execute("ANALYZE " + statement.split()[3])
        connection.execute("DROP TABLE IF EXISTS pg_temp.net, pg_temp.d, pg_temp.v; COMMIT")

    return step
