"""Feeds by queries of other kinds: streams that are emptied by reading them, positions of a log, versioned tables, embedded databases."""

from __future__ import annotations

import os
import random
import re
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path
from typing import Any
from unittest.mock import patch

import duckdb
from hypothesis import given
from hypothesis import strategies as st

import plainstep
from plainstep.errors import ConfigError, Refused
from plainstep.sql.parameters import named, replaced
from plainstep.stores.sql.target import _Merge
from plainstep.testing.processes import Script
from tests import mariadb
from tests.postgres import Database

EXAMPLES = Path(__file__).parent.parent / "examples" / "queries"


class Consumed(unittest.TestCase):
    """A stream that is emptied by reading it: what is taken is merged in the same transaction, or stays."""

    LOAD = """
[stores.town]
url = "{url}"
[loads.tree]
from = "town.stream"
into = "town.copy"
key = ["tree_id"]
rows = "town.tree"
[loads.tree.layout]
position = ["number"]
operation = "what"
put = ["put there"]
delete = ["taken away"]
[loads.tree.layout.query]
read = "select * from stream.take()"
consumes = true
"""

    def test_taken_and_merged_at_once(self) -> None:
        with Database() as database, closing(database.connect()) as town, tempfile.TemporaryDirectory() as folder:
            town.execute("CREATE TABLE tree (tree_id int PRIMARY KEY, species text, height_m numeric(5,2), ward text)")
            town.execute((EXAMPLES / "consumed.sql").read_text())
            town.execute(
                "CREATE TRIGGER a AFTER INSERT OR UPDATE OR DELETE ON tree FOR EACH ROW EXECUTE FUNCTION stream.note()"
            )
            town.execute("INSERT INTO tree SELECT n, 'oak', n, NULL FROM generate_series(1, 50) n")
            config = Path(folder) / "plainstep.toml"
            config.write_text(self.LOAD.format(url=database.url.replace("postgresql", "postgresql+psycopg", 1)))
            project = plainstep.load_project(config)

            def left() -> int:
                return int((town.execute("SELECT count(*) FROM stream.waiting").fetchone() or [0])[0])

            project.step()
            self.assertEqual(left(), 0)
            for turn in range(3):
                town.execute(f"UPDATE tree SET height_m = height_m + 1 WHERE tree_id % 5 = {turn}")
                town.execute(f"DELETE FROM tree WHERE tree_id = {turn + 20}")
                waiting = left()
                project.look("tree"), project.net("tree"), project.status()
                self.assertTrue(project.check()[0].ok)  # with what waits
                self.assertEqual(left(), waiting)
                with (
                    patch.object(_Merge, "end", side_effect=RuntimeError("the process ends")),
                    self.assertRaises(RuntimeError),
                ):
                    project.step()
                self.assertEqual(left(), waiting)
                script = "import sys, plainstep; print(plainstep.load_project(sys.argv[1]).step(raise_errors=False)[0].outcome)"
                racing = [Script(script, (str(config),), Path(folder), os.environ) for _ in range(3)]
                self.assertEqual(
                    sorted(one.communicate(timeout=120)[0].strip() for one in racing), ["nothing", "nothing", "stepped"]
                )
                self.assertEqual(left(), 0)
                self.assertTrue(project.check()[0].ok)
                self.assertEqual([one.outcome for one in project.step()], ["nothing"])

    def test_refused_elsewhere(self) -> None:
        with Database() as database, tempfile.TemporaryDirectory() as folder:
            config = Path(folder) / "plainstep.toml"
            config.write_text(self.LOAD.format(url=database.url))
            with self.assertRaisesRegex(Refused, "postgresql\\+psycopg"):
                plainstep.load_project(config).step()
            config.write_text(self.LOAD.format(url=database.url) + '[stores.house]\nurl = "duckdb:///house.duckdb"\n')
            config.write_text(config.read_text().replace("town.copy", "house.copy"))
            with self.assertRaisesRegex(ConfigError, "same store"):
                plainstep.load_project(config)


class Hexadecimal(unittest.TestCase):
    """Positions of a log, as PostgreSQL writes them: in the order of their numbers, with a number within."""

    def test_parts_and_positions(self) -> None:
        for scheme in ("postgresql", "postgresql+psycopg"):
            with (
                self.subTest(scheme),
                Database(
                    "CREATE TABLE tree (k int PRIMARY KEY, a int)",
                    "CREATE TABLE ch (lsn pg_lsn, n serial, op text, k int, a int)",
                ) as database,
                tempfile.TemporaryDirectory() as folder,
                closing(database.connect()) as town,
            ):
                config = Path(folder) / "plainstep.toml"
                url = database.url.replace("postgresql", scheme, 1)
                config.write_text(
                    f'[stores.town]\nurl = "{url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n{LOGGED}'
                )
                project = plainstep.load_project(config)
                project.step()
                for key in range(8):
                    town.execute(f"INSERT INTO tree VALUES ({key}, 1)")
                    for op in ("i", "u"):
                        town.execute(f"INSERT INTO ch (lsn, op, k, a) VALUES ('{key + 9:X}/{key}F', '{op}', {key}, 1)")
                told = [project.step()[0].upto for _ in range(4)]
                self.assertEqual(told, ["A/1F", "C/3F", "E/5F", "10/7F"])
                self.assertTrue(project.check()[0].ok)
                self.assertEqual(len(project.look("tree", after="A/1F", upto="F/6F").changes), 10)


LOGGED = """
[loads.tree]
from = "town.ch"
into = "house.tree"
key = ["k"]
rows = "town.tree"
at_most = 3
[loads.tree.layout]
position = ["lsn", "n"]
hexadecimal = ["lsn"]
operation = "op"
insert = ["i"]
update = ["u"]
delete = ["d"]
[loads.tree.layout.query]
head = "select max(lsn) from ch"
oldest = "select '0/0'::pg_lsn"
read = "select * from ch where lsn > cast(:after as pg_lsn) and lsn <= cast(:upto as pg_lsn) order by lsn, n"
in_commit_order = true
"""


class Slot(unittest.TestCase):
    """PostgreSQL's own functions: a slot of its log that is only looked at, as docs/stores/sql.md shows it."""

    def test_looked_at_and_moved_on(self) -> None:
        with (
            Database(
                "CREATE TABLE tree (tree_id int PRIMARY KEY, species text, height_m numeric(5,2))",
                "ALTER TABLE tree REPLICA IDENTITY FULL",
            ) as database,
            tempfile.TemporaryDirectory() as folder,
            closing(database.connect()) as town,
            closing(database.connect()) as late,
        ):
            slot = f"slot_{database.name}"
            town.execute(f"SELECT pg_create_logical_replication_slot('{slot}', 'test_decoding')")
            config = Path(folder) / "plainstep.toml"
            [example] = re.findall(
                r"```toml\n(\[loads\.tree\.layout\]\nposition = \[\"lsn\".*?)```",
                (EXAMPLES.parent.parent / "docs/stores/sql.md").read_text(),
                re.DOTALL,
            )
            load = f'[loads.tree]\nfrom = "town.tree"\ninto = "house.tree"\nkey = ["tree_id"]\nrows = "town.tree"\n{example}'
            config.write_text(
                f'[stores.town]\nurl = "{database.url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n{load.replace("SLOT", slot)}'
            )
            project = plainstep.load_project(config)
            try:
                town.execute("INSERT INTO tree VALUES (1, 'oak', 1)")
                project.step()
                late.execute("BEGIN")
                late.execute("INSERT INTO tree VALUES (7, 'ash', 3)")
                town.execute("INSERT INTO tree SELECT n, 'elm', 2 FROM generate_series(2, 4) n")
                town.execute("UPDATE tree SET height_m = 9 WHERE tree_id = 2")
                self.assertEqual(project.step()[0].changes, 4)
                town.execute("DELETE FROM tree WHERE tree_id = 3")
                late.execute("COMMIT")
                self.assertEqual(project.step()[0].changes, 2)
                self.assertTrue(project.check()[0].ok)
                watermark = project.load("tree").target.watermark("tree")
                town.execute(f"SELECT pg_replication_slot_advance('{slot}', '{watermark.token}')")
                town.execute("INSERT INTO tree VALUES (9, 'elm', 2)")
                self.assertEqual(project.step()[0].changes, 1)
                self.assertTrue(project.check()[0].ok)
            finally:
                town.execute(f"SELECT pg_drop_replication_slot('{slot}')")


class OtherDatabases(unittest.TestCase):
    """The changes of MariaDB's versioned tables between two times, and of plain tables in DuckDB and SQLite."""

    def test_mariadb_between_two_times(self) -> None:
        for scheme in ("mysql", "mysql+pymysql"):
            with self.subTest(scheme), mariadb.Database() as database, tempfile.TemporaryDirectory() as folder:
                database.sql(
                    "CREATE TABLE tree (tree_id int PRIMARY KEY, species varchar(20), height_m decimal(5,2)) WITH SYSTEM VERSIONING"
                )
                config = Path(folder) / "plainstep.toml"
                url = f"{scheme}://{database.url.partition('://')[2]}"
                config.write_text(
                    f'[stores.town]\nurl = "{url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n{VERSIONED}'
                )
                database.sql("INSERT INTO tree VALUES (1, 'oak', 1), (2, 'elm', 2)")
                chance, project = random.Random(3), plainstep.load_project(config)
                for _ in range(5):
                    project.step()
                    self.assertTrue(project.check()[0].ok)
                    for _ in range(4):
                        key = chance.randrange(5)
                        database.sql(
                            chance.choice([f"DELETE FROM tree WHERE tree_id = {key}", f"UPDATE tree SET height_m = height_m + 1 WHERE tree_id = {key}",
                                           f"INSERT IGNORE INTO tree VALUES ({key}, 'ash', NULL)"])
                        )  # fmt: skip
                self.assertGreater(sum(one.changes for one in project.ledger()), 2)

    def test_embedded(self) -> None:
        for url in ("sqlite:///town.db", "sql+sqlite:///town.db", "duckdb:///town.duckdb"):
            with self.subTest(url), tempfile.TemporaryDirectory() as folder:
                path = Path(folder)

                def run(*statements: str, path: Path = path, url: str = url) -> None:
                    made: Any = (
                        sqlite3.connect(path / "town.db")
                        if "sqlite" in url
                        else duckdb.connect(str(path / "town.duckdb"))
                    )
                    with closing(made) as town:
                        for one in statements:
                            town.execute(one)
                        town.commit()

                run(
                    "CREATE TABLE changes (n bigint, what text, k bigint, a decimal(9,2))",
                    "INSERT INTO changes VALUES (1, 'new', 1, 10), (2, 'new', 2, 20)",
                )
                (path / "plainstep.toml").write_text(
                    f'[stores.town]\nurl = "{url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n{PLAIN}'
                )
                project = plainstep.load_project(path / "plainstep.toml")
                self.assertEqual([one.changes for one in project.step()], [2])
                run("INSERT INTO changes VALUES (3, 'now', 1, 11), (4, 'gone', 2, NULL)")
                self.assertEqual([one.changes for one in project.step()], [2])
                self.assertEqual([one.outcome for one in project.step()], ["nothing"])
                self.assertTrue(project.check()[0].ok)
                with duckdb.connect(str(path / "house.duckdb")) as house:
                    self.assertEqual(
                        [tuple(map(float, row)) for row in house.execute("FROM tree").fetchall()], [(1.0, 11.0)]
                    )

    def test_times_by_a_clock(self) -> None:
        """Of SQLite's times, as texts, nobody knows what is yet to be committed: that is refused, and so are dates, unless the load says more."""
        for kind, position, oldest, head in (
            ("times", "made", "2020-01-01 00:00:00.000", "strftime('%Y-%m-%d %H:%M:%f', 'now')"),
            ("dates", "made", "2020-01-01", "current_date"),
        ):
            for url in (
                ("sqlite:///town.db", "duckdb:///town.duckdb")
                if kind == "dates"
                else ("sqlite:///town.db", "sql+sqlite:///town.db")
            ):
                with self.subTest(kind, url=url), tempfile.TemporaryDirectory() as folder:
                    made: Any = (
                        sqlite3.connect(f"{folder}/town.db")
                        if "sqlite" in url
                        else duckdb.connect(f"{folder}/town.duckdb")
                    )
                    with closing(made) as town:
                        town.execute(
                            f"CREATE TABLE changes ({position} {'date' if 'duckdb' in url else 'text'}, what text, k bigint, a double)"
                        )
                        town.execute(f"INSERT INTO changes VALUES ('{oldest.replace('01-01', '02-02')}', 'new', 1, 10)")
                        town.commit()
                    cast = "cast('{}' as date)" if "duckdb" in url else "'{}'"
                    config = Path(folder) / "plainstep.toml"
                    text = (
                        PLAIN.replace('["n"]', '["made"]')
                        .replace("n >", "made >")
                        .replace("n <=", "made <=")
                        .replace("by n;", "by made;")
                        .replace("n, what", "made, what")
                    )
                    text = text.replace('"select max(n) from changes"', f'"""select {head}"""').replace(
                        '"select 0"', f'"""select {cast.format(oldest)}"""'
                    )
                    text = "\n".join(line for line in text.splitlines() if not line.startswith("rows"))
                    config.write_text(
                        f'[stores.town]\nurl = "{url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n{text}\n'
                    )
                    project = plainstep.load_project(config)
                    with self.assertRaisesRegex(Refused, "in_commit_order = true"):
                        project.step()
                    config.write_text(config.read_text() + "in_commit_order = true\n")
                    self.assertEqual([one.changes for one in plainstep.load_project(config).step()], [1])


VERSIONED = """
[loads.tree]
from = "town.tree"
into = "house.tree"
key = ["tree_id"]
rows = "town.tree"
columns = ["tree_id", "species", "height_m"]
[loads.tree.layout]
operation = "what"
put = ["is"]
delete = ["gone"]
columns = ["tree_id", "species", "height_m"]
[loads.tree.layout.query]
head = "select cast(sysdate(6) as datetime(6))"
oldest = "select cast('2000-01-01' as datetime(6))"
read = '''
select case when now.tree_id is null then 'gone' else 'is' end what, keys_.tree_id, now.species, now.height_m
from (select distinct tree_id from tree for system_time all
      where (row_start > :after and row_start <= :upto) or (row_end > :after and row_end <= :upto)) keys_
left join (select * from tree for system_time as of timestamp :upto) now on now.tree_id = keys_.tree_id'''
"""
PLAIN = """
[loads.tree]
from = "town.changes"
into = "house.tree"
key = ["k"]
first = "start"
types = { k = "BIGINT", a = "DOUBLE" }
[loads.tree.layout]
position = ["n"]
operation = "what"
insert = ["new"]
update = ["now"]
delete = ["gone"]
[loads.tree.layout.query]
head = "select max(n) from changes"
oldest = "select 0"
read = "select n, what, k, cast(a as double) a from changes where n > :after and n <= :upto order by n; -- :oldest first"
rows = "select distinct k, cast(last_value(a) over (partition by k order by n rows between unbounded preceding and unbounded following) as double) a from changes c where not exists (select 1 from changes o where o.k = c.k and o.what = 'gone') -- all"
"""


class Parameters(unittest.TestCase):
    @given(
        st.lists(
            st.sampled_from(
                [
                    "a = :one",
                    "':two'",
                    '":two"',
                    "x::text",
                    "-- :two\n",
                    "/* :two */",
                    "a[1:2]",
                    "$$ :two $$",
                    "'it''s :two'",
                    ", ",
                ]
            )
        )
    )
    def test_only_values_are_taken(self, parts: list[str]) -> None:
        sql = " ".join(parts)
        self.assertEqual(named(sql), {"one"} if "a = :one" in parts else set())
        self.assertEqual(replaced(sql, lambda name: f":{name}"), sql)
