"""Tables whose rows are valid from one time to another, as sources of changes: in every database, by times."""

from __future__ import annotations

import random
import sqlite3
import unittest
from collections.abc import Callable
from contextlib import AbstractContextManager, closing, contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import duckdb

import plainstep
from tests import mariadb
from tests.histories import Model, story
from tests.postgres import Database
from tests.support import Town, examples

LOADS = """
[stores.house]
url = "duckdb:///house.duckdb"
[stores.shed]
url = "sqlite:///shed.db"
[loads.house]
from = "town.tree"
into = "house.tree"
key = ["k"]
[loads.house.layout]
valid_from = "since"
valid_to = "until"
[loads.shed]
from = "town.tree"
into = "shed.tree"
key = ["k"]
shape = "history"
[loads.shed.layout]
valid_from = "since"
valid_to = "until"
"""
TABLE = "CREATE TABLE tree (k INTEGER, since TIMESTAMP NOT NULL, until TIMESTAMP, a INTEGER, b VARCHAR(40))"
BEGAN = datetime(2026, 5, 4, 9)
Sql = Callable[..., None]


@contextmanager
def in_sqlite(town: Town) -> Any:
    def sql(*statements: str) -> None:
        with closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
            for statement in statements:
                connection.execute(statement)

    yield "sqlite:///town.db", sql


@contextmanager
def in_duckdb(town: Town) -> Any:
    def sql(*statements: str) -> None:
        with duckdb.connect(str(town.path / "town.duckdb")) as connection:
            for statement in statements:
                connection.execute(statement)

    yield "duckdb:///town.duckdb", sql


@contextmanager
def in_postgresql(town: Town) -> Any:
    with Database() as source:
        yield source.url, source.sql


@contextmanager
def in_mariadb(town: Town) -> Any:
    with mariadb.Database() as source:

        def sql(*statements: str) -> None:
            source.sql(*(one.replace(" TIMESTAMP", " DATETIME(6)") for one in statements))

        yield source.url, sql


STORES: dict[str, Callable[[Town], AbstractContextManager[tuple[str, Sql]]]] = {
    "sqlite": in_sqlite,
    "duckdb": in_duckdb,
    "postgresql": in_postgresql,
    "mariadb": in_mariadb,
}


def begun(town: Town, url: str, sql: Sql, loads: str = LOADS) -> plainstep.Project:
    sql(TABLE)
    town.config.write_text(f'[stores.town]\nurl = "{url}"\nwait = 1.5\n{loads}')
    return town.project


def play(sql: Sql, model: Model, acts: list[Any], shift: int = 0) -> None:
    """Do to the table of periods what a history does to rows: each change a second after the one before."""
    known = len(model.changes)
    statements = []
    for change in model.play(acts).changes[known:]:
        at = BEGAN + timedelta(seconds=change["seq"] + shift, microseconds=change["seq"] % 3)
        if change["was"]:
            statements.append(f"UPDATE tree SET until = '{at}' WHERE until IS NULL AND k = {change['was']['k']}")
        if change["now"]:
            b = "NULL" if change["now"]["b"] is None else f"'{change['now']['b']}'"
            a = "NULL" if change["now"]["a"] is None else change["now"]["a"]
            statements.append(f"INSERT INTO tree VALUES ({change['now']['k']}, '{at}', NULL, {a}, {b})")
    sql(*statements)


class Validity(unittest.TestCase):
    def test_the_target_is_what_is_valid(self) -> None:
        for (name, made), seed in ((one, seed) for one in STORES.items() for seed in range(examples(1))):
            with self.subTest(name, seed=seed), Town() as town, made(town) as (url, sql):
                project, model, acts = begun(town, url, sql), Model(), story(seed, keys=9, changes=90)
                for start in range(0, 90, 30):
                    play(sql, model, acts[start : start + 30])
                    for outcome in project.step():
                        self.assertEqual(outcome.outcome, "stepped")
                    truth = sorted(((key, row["a"], row["b"]) for key, row in model.rows.items()), key=repr)
                    self.assertEqual(town.rows("house"), truth)
                    self.assertEqual({one.outcome for one in project.step()}, {"nothing"})
                    self.assertTrue(all(one.ok for one in project.check()))
                versions = town.rows("shed")
                self.assertEqual(
                    len(versions), sum(bool(one["now"]) and one["now"] != one["was"] for one in model.changes)
                )

    def test_what_is_yet_to_come(self) -> None:
        """What begins or ends in the future is not so yet, whatever stands for the end of time."""
        for name, made in STORES.items():
            with self.subTest(name), Town() as town, made(town) as (url, sql):
                project = begun(town, url, sql)
                ends = ["'2100-01-01 00:00:00'", "'9999-12-31 00:00:00'", "NULL", "'infinity'"]
                for k, end in enumerate(ends[: 4 if name in ("duckdb", "postgresql") else 3], 1):
                    sql(f"INSERT INTO tree VALUES ({k}, '2026-05-04 09:00:00', {end}, 1, 'oak')")
                sql("INSERT INTO tree VALUES (9, '2100-01-01 00:00:00', NULL, 1, 'elm')")
                sql("INSERT INTO tree VALUES (8, '2026-05-04 09:00:00', '2026-05-04 09:00:00', 1, 'never')")
                sql("INSERT INTO tree VALUES (7, '2026-05-04 09:00:05', '2026-05-04 09:00:00', 1, 'never')")
                project.step()
                there = [1, 2, 3, 4][: 4 if name in ("duckdb", "postgresql") else 3]
                self.assertEqual([row[0] for row in town.rows("house")], there)
                self.assertEqual({one.outcome for one in project.step()}, {"nothing"})

    def test_periods_of_one_key_that_overlap_are_refused(self) -> None:
        for name, made in STORES.items():
            for other in ("'2026-05-04 09:30:00', NULL", "'2026-05-04 09:00:00', '2026-05-04 10:00:00'"):
                with self.subTest(name, other=other), Town() as town, made(town) as (url, sql):
                    project = begun(town, url, sql)
                    sql("INSERT INTO tree VALUES (1, '2026-05-04 09:00:00', NULL, 1, 'oak')")
                    sql(f"INSERT INTO tree VALUES (1, {other}, 2, 'elm')")
                    for outcome in project.step(raise_errors=False):
                        self.assertIn("another one of its key", str(outcome.error))

    def test_a_period_without_a_beginning_is_refused(self) -> None:
        for name, made in STORES.items():
            for until in ("NULL", "'2026-05-04 10:00:00'"):
                with self.subTest(name, until=until), Town() as town, made(town) as (url, sql):
                    project = begun(town, url, sql)
                    sql("ALTER TABLE tree RENAME TO old", TABLE.replace(" NOT NULL", ""))
                    sql(f"INSERT INTO tree VALUES (1, NULL, {until}, 1, 'oak')")
                    sql("INSERT INTO tree VALUES (2, '2026-05-04 09:00:00', NULL, 1, 'oak')")
                    for outcome in project.step(raise_errors=False):
                        self.assertRegex(str(outcome.error), "since.* (is|are) null|null.*since")

    def test_rows_beside_periods(self) -> None:
        """First loads and checks read the table that `rows` names."""
        with Town() as town, in_sqlite(town) as (url, sql):
            loads = LOADS.partition("[loads.shed]")[0].replace('key = ["k"]', 'key = ["k"]\nrows = "town.current"')
            project = begun(town, url, sql, loads)
            sql("CREATE TABLE current (k INTEGER, a INTEGER, b TEXT)", "INSERT INTO current VALUES (1, 2, 'elm')")
            sql("INSERT INTO tree VALUES (1, '2026-05-04 09:00:00', '2026-05-04 10:00:00', 1, 'oak')")
            sql("INSERT INTO tree VALUES (1, '2026-05-04 10:00:00', NULL, 2, 'elm')")
            project.step()
            self.assertEqual(town.rows("house"), [(1, 2, "elm")])
            self.assertTrue(project.check()[0].ok)
            sql("UPDATE current SET a = 3")
            self.assertFalse(project.check()[0].ok)

    def test_states_that_expire(self) -> None:
        """Of periods that overlap, the newest one counts: a latest state with a time to live."""
        loads = LOADS.partition("[loads.shed]")[0] + 'overlapping = "newest"\n'
        for (name, made), seed in ((one, seed) for one in STORES.items() for seed in range(examples(1))):
            with self.subTest(name, seed=seed), Town() as town, made(town) as (url, sql):
                project, chance = begun(town, url, sql, loads), random.Random(seed)
                states: dict[int, tuple[Any, ...]] = {}
                at = 0
                for _ in range(3):
                    for _ in range(20):
                        at += 1
                        k, lives = chance.randrange(4), chance.choice([None, 1, 3, 10, 10**6])
                        begins, ends = (BEGAN + timedelta(minutes=one) for one in (at, at + (lives or 0)))
                        until = f"'{ends}'" if lives else "NULL"
                        sql(f"INSERT INTO tree VALUES ({k}, '{begins}', {until}, {at}, 'x')")
                        states[k] = (k, at, ends if lives else None)
                    project.step()
                # All times are in the past, but those of a million minutes.
                over = [k for k, (_, _, ends) in states.items() if ends and ends < datetime.now()]
                truth = sorted((k, a, "x") for k, a, _ in states.values() if k not in over)
                self.assertEqual(town.rows("house"), truth)
                self.assertTrue(project.check()[0].ok)

    def test_a_period_that_was_set_late_is_read_with_an_overlap(self) -> None:
        with Town() as town, in_sqlite(town) as (url, sql):
            loads = LOADS.partition("[loads.shed]")[0].replace('key = ["k"]', 'key = ["k"]\noverlap = "1d"')
            project = begun(town, url, sql, loads)
            sql("INSERT INTO tree VALUES (1, '2026-05-04 09:00:00', NULL, 1, 'oak')")
            sql("INSERT INTO tree VALUES (2, '2026-05-04 11:00:00', NULL, 1, 'elm')")
            project.step()
            sql("UPDATE tree SET until = '2026-05-04 10:00:00' WHERE k = 1")
            project.step()
            self.assertEqual([row[0] for row in town.rows("house")], [2])

    def test_times_that_are_written_in_several_ways_are_refused(self) -> None:
        for since, until in (
            ("2026-05-04 09:00:00", "2026-05-04T10:00:00"),
            ("2026-05-04 09:00:00", "2026-05-05"),
            ("2026-05-04 09:00:00", "2026-05-04 10:00:00Z"),
            ("2026-05-04", "2026-05-05 00:00:00"),
        ):
            with self.subTest(since=since, until=until), Town() as town, in_sqlite(town) as (url, sql):
                project = begun(town, url, sql)
                sql(f"INSERT INTO tree VALUES (1, '{since}', '{until}', 1, 'oak')")
                for outcome in project.step(raise_errors=False):
                    self.assertRegex(str(outcome.error), "not all written in one way|its order is not plain")

    def test_what_cannot_be_said(self) -> None:
        cases = (
            ('valid_to = "until"\n', "", "needs both valid_from and valid_to"),
            ('"until"', '"untill"', "'untill', which town.tree does not have"),
            ('valid_to = "until"', 'valid_to = "until"\nposition = ["since"]', "and position beside it"),
            ('key = ["k"]', "", "names no key"),
            (
                'valid_from = "since"\nvalid_to = "until"\n',
                'position = ["k"]\noverlapping = "newest"\n',
                "names no valid_from",
            ),
        )
        for old, new, said in cases:
            with Town() as town, in_sqlite(town) as (url, sql):
                project = begun(town, url, sql, LOADS.partition("[loads.shed]")[0].replace(old, new))
                sql("INSERT INTO tree VALUES (1, '2026-05-04 09:00:00', NULL, 1, 'oak')")
                self.assertIn(said, str(project.step(raise_errors=False)[0].error).replace("\n", " "))

    def test_two_types_of_times_are_refused(self) -> None:
        with Town() as town, in_duckdb(town) as (url, sql):
            project = begun(town, url, sql)
            sql("ALTER TABLE tree ALTER since TYPE DATE")
            self.assertIn("are of two types", str(project.step(raise_errors=False)[0].error))

    def test_files_have_no_periods(self) -> None:
        with Town() as town:
            Path(town.path / "in").mkdir()
            (town.path / "in" / "a.csv").write_text("k,since,until\n1,2026-05-04,\n")
            begun_with = LOADS.partition("[loads.shed]")[0].replace("town.tree", "town.*.csv")
            town.config.write_text(f'[stores.town]\nurl = "file:///in"\n{begun_with}')
            self.assertIn("is no table", str(town.project.step(raise_errors=False)[0].error))


if __name__ == "__main__":
    unittest.main()
