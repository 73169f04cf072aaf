"""MariaDB beside hand-written peers: merging, reading its binary log, and whole steps. A server of its own is started.

Durable: every commit is written to the disk, in the log and in the engine's own.
"""

from __future__ import annotations

import contextlib
import functools
import io
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pymysql
from tests import mariadb
from tests.mariadb import Database, Server

import plainstep
from benchmarks import in_pairs, row, seconds
from benchmarks.postgres import NAMES, SAMPLE, taking_turns
from plainstep.core.positions import Window
from plainstep.stores.capabilities import with_target
from plainstep.stores.mysql.log.gtids import State
from plainstep.stores.mysql.log.mariadb import MariadbLog
from plainstep.stores.mysql.log.source import LogSource
from plainstep.stores.mysql.store import MysqlStore
from plainstep.stores.registry import open_store

COLUMNS = "tree_id bigint, ward_id bigint, species varchar(60), planted date, height_m double, girth_cm bigint, status varchar(20)"
TREE = f"CREATE TABLE tree ({COLUMNS}, PRIMARY KEY (tree_id))"
WIDTHS = (52, 14, 14, 12)


@functools.cache
def server() -> Server:
    """A server that is set up for work, not for tests."""
    mariadb.server()
    return Server(**{
        "innodb-flush-log-at-trx-commit": "1", "sync-binlog": "1", "innodb-buffer-pool-size": "1G", "innodb-log-file-size": "1G",
    })  # fmt: skip


def fresh(*statements: str) -> Database:
    """A database of its own on that server."""
    return Database(*statements, of=server())


def fill(database: Database, table: str, rows: int) -> None:
    """A table of so many trees, made by the server out of a sample."""
    names = ", ".join(NAMES[1:])
    with database.connect() as connection, connection.cursor() as cursor:
        cursor.execute(f"CREATE TEMPORARY TABLE sample ({COLUMNS}, PRIMARY KEY (tree_id))")
        cursor.executemany("INSERT INTO sample VALUES (%s, %s, %s, %s, %s, %s, %s)", [list(one) for one in SAMPLE])
        cursor.execute(
            f"INSERT INTO {table} SELECT seq, {names} FROM seq_1_to_{rows} JOIN sample ON tree_id = seq % 10000 + 1"
        )


def by_hand(connection: pymysql.Connection[Any], puts: pa.Table, drops: pa.Table) -> float:
    """LOAD DATA into a temporary table, one upsert, one delete, as a careful hand writes it; the file is written beforehand."""
    with tempfile.NamedTemporaryFile("w", suffix=".tsv") as file:
        lines = io.StringIO()
        for one in puts.to_pylist():
            lines.write("\t".join(str(value) if value is not None else "\\N" for value in one.values()) + "\t0\n")
        for one in drops.to_pylist():
            lines.write("\t".join([str(one["tree_id"]), *["\\N"] * 6]) + "\t1\n")
        file.write(lines.getvalue())
        file.flush()
        sets = ", ".join(f"{name} = VALUES({name})" for name in NAMES[1:])
        names = ", ".join(NAMES)
        began = time.perf_counter()
        with connection.cursor() as cursor:
            cursor.execute("START TRANSACTION")
            cursor.execute(f"CREATE TEMPORARY TABLE staged ({COLUMNS}, gone tinyint)")
            cursor.execute(f"LOAD DATA LOCAL INFILE '{file.name}' INTO TABLE staged CHARACTER SET utf8mb4")
            cursor.execute("DELETE t FROM hand t JOIN staged s ON t.tree_id = s.tree_id WHERE s.gone")
            cursor.execute(
                f"INSERT INTO hand ({names}) SELECT {names} FROM staged WHERE NOT gone ON DUPLICATE KEY UPDATE {sets}"
            )
            cursor.execute("UPDATE watermark SET position = position + 1")
            cursor.execute("COMMIT")
            taken = time.perf_counter() - began
            cursor.execute("DROP TEMPORARY TABLE staged")
        return taken


def merging(count: int, rows: int, runs: int) -> tuple[float, float]:
    """Best seconds of ours and of the hand's."""
    with fresh(TREE, TREE.replace("tree (", "hand ("), "CREATE TABLE watermark AS SELECT 0 AS position") as database:
        fill(database, "tree", rows)
        fill(database, "hand", rows)
        target = with_target(open_store("target", database.url, Path())).target()
        best = taking_turns(
            target, functools.partial(by_hand, database.connect(local_infile=True)), (count, rows, runs)
        )
        same = "SELECT count(*), sum(tree_id), sum(girth_cm) FROM {}"
        assert database.rows(same.format("tree")) == database.rows(same.format("hand"))
    return best


def reading(count: int) -> None:
    """So many changes in the log, beside the same events that are fetched only, and a plain SELECT of as many rows."""
    with fresh(TREE) as database:
        store = MysqlStore("town", database.url, Path(), 10)
        source = LogSource(store, "tree", {})
        begin = source.span()
        fill(database, "tree", count // 2)
        for start in range(0, count // 2, count // 20):  # as jobs write: some thousand rows a transaction
            database.sql(
                f"UPDATE tree SET girth_cm = girth_cm + 1 WHERE tree_id > {start} AND tree_id <= {start + count // 20}"
            )
        end = source.span()

        def mine() -> int:
            return sum(len(changes) for changes in source.read(Window(begin.head, end.head, begin.token, end.token)))

        def fetched() -> int:
            with store.opened() as connection:
                sent = MariadbLog().packets(connection, State.parse(begin.token), State.parse(end.token), "town")
                return sum(len(packets.starts) for packets in sent)

        def selected() -> int:
            with database.connect() as connection, connection.cursor(pymysql.cursors.SSCursor) as cursor:
                cursor.execute("SELECT * FROM tree UNION ALL SELECT * FROM tree")
                return sum(1 for _ in cursor)

        assert mine() == selected() == count, (mine(), selected())
        for name, peer in (("events fetched, not decoded", fetched), ("a plain SELECT, by PyMySQL", selected)):
            one, other, ratio = in_pairs(4, mine, peer)
            row(f"{count:,} changes beside {name}", seconds(one), seconds(other), f"{ratio:.2f} x", widths=WIDTHS)


AUDIT = "CREATE TABLE audit (id BIGINT AUTO_INCREMENT PRIMARY KEY, op VARCHAR(9), at DATETIME(6), was JSON, now JSON)"


def _as_json(row: str) -> str:
    return "json_object(" + ", ".join(f"'{name}', {row}.{name}" for name in NAMES) + ")"


def capturing(statements: int = 4000) -> None:
    """What four clients of the server's own load generator take for updates of single rows, each a transaction."""
    chance = random.Random(5)
    lines = [
        f"UPDATE tree SET girth_cm = girth_cm + 1 WHERE tree_id = {chance.randrange(1, 100_000)};"
        for _ in range(statements)
    ]
    measures: dict[str, Callable[[], float]] = {}
    with contextlib.ExitStack() as stack:
        script = Path(stack.enter_context(tempfile.TemporaryDirectory())) / "updates.sql"
        script.write_text("\n".join(lines))
        for how in ("nothing", "audit", "capture"):
            database = stack.enter_context(fresh(TREE))
            fill(database, "tree", 100_000)
            if how == "audit":
                values = f"('update', UTC_TIMESTAMP(6), {_as_json('OLD')}, {_as_json('NEW')})"
                database.sql(
                    AUDIT,
                    f"CREATE TRIGGER t AFTER UPDATE ON tree FOR EACH ROW INSERT INTO audit (op, at, was, now) VALUES {values}",
                )
            elif how == "capture":
                MysqlStore("town", database.url, Path(), 10).capture_on("tree")
            measures[how] = functools.partial(_slapped, database, script)
        found: dict[str, list[float]] = {how: [] for how in measures}
        for turn in range(5):
            for how in sorted(measures, reverse=bool(turn % 2)):
                found[how].append(measures[how]())
    best = {how: min(times) for how, times in found.items()}
    row(f"4 clients, {statements:,} updates each: captured, and an audit trigger", seconds(best["capture"]), seconds(best["audit"]),
        f"{best['capture'] / best['audit']:.2f} x", widths=WIDTHS)  # fmt: skip
    row("the same without any trigger", seconds(best["nothing"]), "", "", widths=WIDTHS)


def _slapped(database: Database, script: Path) -> float:
    command = [
        "mariadb-slap", "--no-defaults", "--host=127.0.0.1", f"--port={server().port}", "--user=root", f"--create-schema={database.name}",
        "--no-drop", f"--query={script}", "--delimiter=;", "--concurrency=4", "--iterations=1", "--number-of-queries=0",
    ]  # fmt: skip
    began = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    return time.perf_counter() - began


def stepping(rows: int) -> None:
    """A step beside a reload, where 1 % has changed."""
    with fresh(TREE) as database, tempfile.TemporaryDirectory() as place:
        fill(database, "tree", rows)
        config = Path(place) / "plainstep.toml"
        config.write_text(
            f"[stores.town]\nurl = '{database.url}'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
            "[loads.tree]\nfrom = 'town.tree'\ninto = 'house.tree'\nchanges = 'log'\n"
        )
        project = plainstep.load_project(config)
        project.step()

        def change(turn: int) -> None:
            database.sql(f"UPDATE tree SET girth_cm = girth_cm + 1 WHERE tree_id % 100 = {turn}")

        one, other, ratio = in_pairs(4, project.step, lambda: project.reload("tree"), change)
        row(
            f"a step over 1 % of {rows:,} rows beside a reload",
            seconds(one),
            seconds(other),
            f"{ratio:.3f} x",
            widths=WIDTHS,
        )


def main() -> None:
    """Print a line for each; only those that are named in the arguments, if there are any."""
    asked = sys.argv[1:] or ["merging", "capturing", "reading", "stepping"]
    row("", "Plain Step", "by hand", "ours/hand", widths=WIDTHS)
    if "merging" in asked:
        for count, rows, runs in ((20_000, 2_000_000, 4), (200_000, 2_000_000, 4)):
            one, other = merging(count, rows, runs)
            row(f"merging {count:,} into {rows:,}", seconds(one), seconds(other), f"{one / other:.2f} x", widths=WIDTHS)
    if "capturing" in asked:
        capturing()
    if "reading" in asked:
        reading(1_000_000)
    if "stepping" in asked:
        stepping(1_000_000)


if __name__ == "__main__":
    main()
