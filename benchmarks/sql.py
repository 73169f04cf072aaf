"""Databases by SQLAlchemy beside our own stores for them, on the same work: a step over 1 % of a million rows.

``python -m benchmarks.sql [ROWS]``. The changes lie in a table that a query reads; the target is a table of a million rows.
Sources and targets are PostgreSQL and MariaDB, each by its own store and by SQLAlchemy; steps of all take turns.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from tests import mariadb
from tests.postgres import Database

import plainstep

COLUMNS = "ward INTEGER, species VARCHAR(40), height_m DECIMAL(6,2), girth_cm INTEGER, planted DATE, status VARCHAR(20)"
NAMES = "tree_id, ward, species, height_m, girth_cm, planted, status"
LOAD = """
[loads.{source}_{target}]
from = "{source}.changes"
into = "{target}.{source}_{target}"
key = ["tree_id"]
rows = "{source}.tree"
[loads.{source}_{target}.layout]
position = ["n"]
operation = "op"
update = ["update"]
columns = ["tree_id", "ward", "species", "height_m", "girth_cm", "planted", "status"]
[loads.{source}_{target}.layout.query]
head = "select max(n) from changes"
oldest = "select 0"
read = "select * from changes where n > :after and n <= :upto order by n"
"""
ROUNDS = 5


class Server:
    """A database with a table of trees and one of changes.

    Args:
        run: runs statements.
        series: the numbers up to one, as a table, in its SQL.
    """

    def __init__(self, run: Any, series: str, rows: int) -> None:
        self.run, self.series, self.rows, self.turn = run, series, rows, 0
        self.run(f"CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, {COLUMNS})")
        self.run(f"CREATE TABLE changes (n BIGINT PRIMARY KEY, op VARCHAR(10), tree_id INTEGER, {COLUMNS})")
        self.run(
            f"INSERT INTO tree SELECT i, i % 40, concat('species ', i % 90), (i % 3000) / 100.0, i % 250, '2020-01-02', 'standing' FROM {series.format(rows)}"
        )
        self.run("INSERT INTO changes SELECT 1, 'update', t.* FROM tree t WHERE tree_id = 1")

    def grow(self, share: float) -> None:
        """Some trees grow."""
        self.turn += 1
        count = round(self.rows * share)
        key = f"(i * 7919 + {self.turn * 31}) % {self.rows} + 1"
        self.run(
            f"INSERT INTO changes SELECT {self.turn * 1000000} + i, 'update', t.tree_id, ward, species, height_m, girth_cm + {self.turn}, planted, status "
            f"FROM {self.series.format(count)} JOIN tree t ON t.tree_id = {key}"
        )


def girth_of(project: plainstep.Project, load: str) -> int:
    """All girths of a target, together: they must not depend on who merged."""
    one = project.load(load)
    batches = one.target.rows(one.into_table, pa.schema([("girth_cm", pa.int64())]))
    return sum(pc.sum(batch.column(0)).as_py() or 0 for batch in batches)


def main() -> None:
    """Measure, and say what was seen."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with Database() as bank, mariadb.Database() as maria, tempfile.TemporaryDirectory() as folder:
        connection = bank.connect()
        servers = {
            "postgresql": Server(connection.execute, "generate_series(1, {}) AS s(i)", rows),
            "mariadb": Server(maria.sql, "(SELECT seq AS i FROM seq_1_to_{}) AS s", rows),
        }
        urls = {
            "postgresql": bank.url, "postgresql_sql": bank.url.replace("postgresql", "postgresql+psycopg", 1),
            "mariadb": maria.url, "mariadb_sql": "mysql+pymysql://" + maria.url.partition("://")[2],
        }  # fmt: skip
        text = "".join(f'[stores.{name}]\nurl = "{url}"\n' for name, url in urls.items())
        text += '[stores.house]\nurl = "duckdb:///house.duckdb"\n'
        pairs = [(name, "house") for name in urls] + [("postgresql", name) for name in urls]
        text += "".join(LOAD.format(source=source, target=target) for source, target in pairs)
        config = Path(folder) / "plainstep.toml"
        config.write_text(text)
        project = plainstep.load_project(config)
        took: dict[str, list[float]] = {f"{source}_{target}": [] for source, target in pairs}
        first = {load: project.step(load)[0].seconds for load in took}
        for _ in range(ROUNDS):
            for one in servers.values():
                one.grow(0.01)
            for load, seconds in took.items():
                [outcome] = project.step(load)
                assert outcome.changes == round(rows * 0.01), outcome
                seconds.append(outcome.seconds)
        print(f"{rows:,} rows, 1 % changed; seconds of a step (the middle of {ROUNDS}), and of the first load")
        for kind, name in (("read from", "{}_house"), ("merged into", "postgresql_{}")):
            for server in servers:
                own, other = name.format(server), name.format(f"{server}_sql")
                middle = statistics.median(took[own]), statistics.median(took[other])
                told = f"{kind} {server}"
                print(f"{told:<24}own store {middle[0]:.2f} s, SQLAlchemy {middle[1]:.2f} s: {middle[1] / middle[0]:.2f} times; "
                      f"first load {first[own]:.1f} s, {first[other]:.1f} s: {first[other] / first[own]:.2f} times")  # fmt: skip
        sums = {load: girth_of(project, load) for load in took}
        assert len(set(sums.values())) <= 2, sums  # of one source each
        connection.close()


if __name__ == "__main__":
    main()
