"""Change tables in PostgreSQL and DuckDB, columns that grow, and comparing: on real servers, with open transactions."""

from __future__ import annotations

import random
import threading
import time
import unittest
from pathlib import Path

import duckdb
import psycopg

import plainstep
from tests.postgres import Database
from tests.support import PEAK, Town

# A change table that somebody's own trigger fills, as one would write it.
AUDIT = (
    "CREATE TABLE tree (k int PRIMARY KEY, a numeric(6,2), b text, at timestamptz NOT NULL DEFAULT clock_timestamp())",
    "CREATE TABLE log (n bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, noted timestamptz NOT NULL DEFAULT clock_timestamp(), "
    "what text, was jsonb, now jsonb)",
    """CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO log (what, was, now) VALUES (lower(TG_OP), CASE WHEN TG_OP <> 'INSERT' THEN to_jsonb(OLD) END,
        CASE WHEN TG_OP <> 'DELETE' THEN to_jsonb(NEW) END);
    RETURN NULL; END $$""",
    "CREATE TRIGGER note AFTER INSERT OR UPDATE OR DELETE ON tree FOR EACH ROW EXECUTE FUNCTION note()",
    "INSERT INTO tree SELECT n, n / 3.0, 'oak' FROM generate_series(1, 20) n",
)
LAYOUT = """
[loads.{name}.layout]
position = ["{position}"]
time = "noted"
operation = "what"
insert = ["insert"]
update = ["update"]
delete = ["delete"]
was = "was.*"
now = "now.*"
missing_field = "null"
"""


def loads(url: str, into: str) -> str:
    stores = f"[stores.town]\nurl = '{url}'\nwait = 1.5\n[stores.house]\nurl = '{into}'\n"
    for name, position in (("log", "n"), ("timed", 'noted", "n')):
        stores += f"[loads.{name}]\nfrom = 'town.log'\nrows = 'town.tree'\ninto = 'house.{name}'\n"
        stores += LAYOUT.format(name=name, position=position)
    stores += (
        "[loads.column]\nfrom = 'town.tree'\ninto = 'house.col'\nchanges = 'column'\ncolumn = ['at']\noverlap = '1h'\n"
    )
    return stores + "[loads.diff]\nfrom = 'town.tree'\ninto = 'house.diff'\nchanges = 'diff'\n"


class Pruned(unittest.TestCase):
    """A change table from which somebody deletes what is old, of a table that cannot be read."""

    def test_rows_that_only_what_is_deleted_told_are_not_dropped(self) -> None:
        with Town() as town:
            stores = "[stores.town]\nurl = 'sqlite:///town.db'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
            load = "[loads.log]\nfrom = 'town.log'\ninto = 'house.log'\nkey = ['k']\n"
            town.config.write_text(stores + load + LAYOUT.format(name="log", position="n"))
            row = "json_object('k', k, 'a', {})"
            town.sql(
                "CREATE TABLE log (n INTEGER PRIMARY KEY, noted TEXT DEFAULT CURRENT_TIMESTAMP, what TEXT, was TEXT, now TEXT)",
                "CREATE TABLE key (k INTEGER)",
                "INSERT INTO key SELECT value FROM json_each('[1,2,3,4,5]')",
                f"INSERT INTO log (what, now) SELECT 'insert', {row.format(1)} FROM key",
                f"INSERT INTO log (what, was, now) SELECT 'update', {row.format(1)}, {row.format(2)} FROM key WHERE k < 3",
            )
            town.project.step()
            town.sql("DELETE FROM log WHERE n < 5")
            self.assertEqual([one.outcome for one in town.project.step()], ["nothing"])
            [found] = town.project.check()
            self.assertEqual((found.ok, found.incomplete, found.extra), (False, True, 2))
            for command in (("check", "log", "--repair"), ("reload", "log")):
                done = town.run(*command)
                self.assertEqual((done.exit_code, len(town.rows("house", "log"))), (4, 5), done.output)
                self.assertIn(f"plainstep {' '.join(command)} --yes", done.stderr)
            self.assertEqual(town.run("reload", "log", "--yes").exit_code, 0)
            self.assertEqual(len(town.rows("house", "log")), 3)
            self.assertEqual([one.health for one in town.project.status()], ["ok"])
            # And what was not merged yet, too.
            town.sql(
                f"INSERT INTO log (what, now) SELECT 'insert', {row.format(3)} FROM (SELECT 6 AS k UNION SELECT 7)",
                "DELETE FROM log WHERE n < 9",
            )
            done = town.run("step")
            self.assertEqual(done.exit_code, 4)
            self.assertIn("plainstep reload log --yes", done.stderr)
            self.assertEqual((town.run("reload", "log").exit_code, len(town.rows("house", "log"))), (4, 3))
            self.assertEqual((town.run("reload", "log", "--yes").exit_code, len(town.rows("house", "log"))), (0, 1))
            self.assertEqual([one.health for one in town.project.status()], ["ok"])


class Postgresql(unittest.TestCase):
    def equal(self, project: plainstep.Project, but: tuple[str, ...] = ()) -> None:
        for check in project.check():
            self.assertTrue(check.ok or check.load in but, f"{check}")

    def test_a_change_table_a_column_and_comparing(self) -> None:
        for into in ("duckdb:///house.duckdb", "sqlite:///house.db"):
            with Database(*AUDIT) as source, Town() as town:
                town.config.write_text(loads(source.url, into))
                project = town.project
                self.assertEqual({one.outcome for one in project.step()}, {"stepped"})
                source.sql("UPDATE tree SET a = a + 1, b = '', at = clock_timestamp() WHERE k < 6", "DELETE FROM tree WHERE k = 9",
                           "INSERT INTO tree VALUES (30, NULL, NULL)")  # fmt: skip
                found = {one.load: one.net for one in project.step()}
                self.assertEqual(found["diff"], {"insert": 1, "update": 5, "delete": 1})
                self.assertEqual(found["log"], found["diff"])
                self.assertEqual(found["column"], {"insert": 1, "update": 5, "delete": 0})
                self.equal(project, but=("column",))
                self.assertEqual({one.outcome for one in project.step()}, {"nothing"})
                project.reload("column")
                self.equal(project)

    def test_open_transactions_are_neither_missed_nor_split(self) -> None:
        with Database(*AUDIT) as source, Town() as town:
            town.config.write_text(loads(source.url, "duckdb:///house.duckdb"))
            town.project.step()
            early, late = source.connect(), source.connect()
            early.execute("BEGIN")
            early.execute("UPDATE tree SET a = 70 WHERE k = 1")  # draws an earlier number, and commits later
            late.execute("UPDATE tree SET a = 80 WHERE k = 2")
            outcomes = {one.load: one for one in town.project.step(raise_errors=False)}
            self.assertIn("still open: process", str(outcomes["log"].error))
            self.assertIn("pg_terminate_backend", str(outcomes["log"].error))
            timer = threading.Timer(0.5, early.execute, ["COMMIT"])
            timer.start()  # while a step waits for it
            self.assertEqual(town.project.step("log")[0].changes, 2)
            timer.join()
            town.project.step()
            self.equal(town.project)
            early.close()
            late.close()

    def test_writers_while_steps_run(self) -> None:
        with Database(*AUDIT) as source, Town() as town:
            town.config.write_text(loads(source.url, "duckdb:///house.duckdb"))
            town.project.step()
            stop = threading.Event()

            def write(who: int) -> None:
                with source.connect() as connection:
                    turn = 0
                    while not stop.is_set():
                        turn += 1
                        try:
                            with connection.transaction():
                                connection.execute(
                                    "UPDATE tree SET a = %s, at = clock_timestamp() WHERE k = %s",
                                    [turn % 900, 1 + (turn + who) % 20],
                                )
                                time.sleep(0.002 * (turn % 3))
                                connection.execute("UPDATE tree SET b = %s WHERE k = %s", [str(who), 1 + turn * 7 % 20])
                        except psycopg.errors.DeadlockDetected:
                            continue

            threads = [threading.Thread(target=write, args=[who]) for who in range(3)]
            for thread in threads:
                thread.start()
            until = time.monotonic() + 5
            while time.monotonic() < until:
                for outcome in town.project.step("log", "timed", raise_errors=False):
                    self.assertIsNone(outcome.error, outcome.error)
            stop.set()
            for thread in threads:
                thread.join()
            town.project.step()
            self.equal(town.project)
            for entry in town.project.ledger("log"):
                self.assertEqual(entry.contradictions, 0)

    def test_writers_into_shards_while_steps_run(self) -> None:
        """Each shard counts for itself, and its writer commits when it pleases."""
        table = "CREATE TABLE log (shard text, n int, what text, k int, a int, PRIMARY KEY (shard, n))"
        layout = 'partition = "shard"\nposition = ["n"]\nbookkeeping = ["shard"]\noperation = "what"\nput = ["set"]\ndelete = ["unset"]\n'
        with Database(table) as source, Town() as town:
            text = f"[stores.town]\nurl = '{source.url}'\nwait = 5.0\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
            text += "[loads.log]\nfrom = 'town.log'\ninto = 'house.log'\nkey = ['k']\n[loads.log.layout]\n"
            town.config.write_text(text + layout)
            truth: dict[int, int] = {}
            stop = threading.Event()

            def write(shard: int) -> None:
                chance, n, mine = random.Random(shard), 1000 * shard, dict[int, int]()
                with source.connect() as connection:
                    while not stop.is_set():
                        with connection.transaction():
                            for _ in range(chance.randrange(1, 4)):
                                n += 1
                                k, gone = 4 * chance.randrange(5) + shard, chance.random() < 0.2
                                row = [f"s{shard}", n, "unset" if gone else "set", k, None if gone else n]
                                connection.execute("INSERT INTO log VALUES (%s, %s, %s, %s, %s)", row)
                                mine.pop(k, None)
                                mine |= {} if gone else {k: n}
                            time.sleep(chance.random() / 50)
                truth.update(mine)

            writers = [threading.Thread(target=write, args=[shard]) for shard in range(4)]
            for writer in writers:
                writer.start()
                time.sleep(0.2)  # shards come one after the other
            stepped = 0
            while stepped < 4:
                stepped += town.project.step()[0].outcome == "stepped"
            stop.set()
            for writer in writers:
                writer.join()
            town.project.step()
            self.assertEqual(dict(town.rows("house", "log")), truth)
            self.assertEqual(town.project.step()[0].outcome, "nothing")
            self.assertTrue(town.project.check()[0].ok)

    def test_changes_that_were_removed_or_begun_anew(self) -> None:
        with Database(*AUDIT) as source, Town() as town:
            town.config.write_text(loads(source.url, "duckdb:///house.duckdb"))
            town.project.step()
            source.sql(
                "UPDATE tree SET a = 1 WHERE k = 1", "DELETE FROM log WHERE n < 21", "UPDATE tree SET a = 2 WHERE k = 1"
            )
            self.assertIn(
                "all that town.log holds is newer", str(town.project.step("log", raise_errors=False)[0].error)
            )
            town.project.reload("log")
            self.assertEqual(town.project.step("log")[0].outcome, "nothing")
            source.sql("DELETE FROM log WHERE n > 21")
            self.assertIn("ahead of the last change", str(town.project.step("log", raise_errors=False)[0].error))
            source.sql("UPDATE log SET noted = NULL WHERE false", "ALTER TABLE log ALTER noted DROP NOT NULL")
            source.sql("INSERT INTO log (noted, what) VALUES (NULL, 'insert')")
            self.assertIn("noted is null", str(town.project.step("timed", raise_errors=False)[0].error))

    def test_looking_by_time_and_position(self) -> None:
        with Database(*AUDIT) as source, Town() as town:
            town.config.write_text(loads(source.url, "duckdb:///house.duckdb"))
            town.project.step("log", "timed")
            with source.connect() as connection:
                [[before]] = connection.execute("SELECT clock_timestamp()::text").fetchall()
            source.sql("UPDATE tree SET a = 5 WHERE k = 1")
            source.sql("DELETE FROM tree WHERE k = 1")
            for load in ("log", "timed"):
                self.assertEqual(town.project.look(load, before.replace("+00", "Z")).counts, {"update": 1, "delete": 1})
            self.assertEqual(town.project.look("log", "20", "21").counts, {"update": 1})
            self.assertEqual(town.project.look("log", "start", "head").total, 22)
            self.assertRaises(plainstep.PlainStepError, town.project.look, "log", "nonsense")


class Duckdb(unittest.TestCase):
    def test_from_one_duckdb_file_to_another(self) -> None:
        with Town() as town:
            path = town.path / "town.duckdb"
            self.fill(path, "CREATE TABLE tree (k INTEGER PRIMARY KEY, a DECIMAL(6,2), b VARCHAR, \"at\" TIMESTAMPTZ)",
                      "CREATE TABLE log (n BIGINT, noted TIMESTAMPTZ, what VARCHAR, was JSON, now JSON)",
                      "INSERT INTO tree VALUES (1, 1.5, 'oak', now())")  # fmt: skip
            town.config.write_text(loads("duckdb:///town.duckdb", "duckdb:///house.duckdb"))
            town.project.step()
            note = "INSERT INTO log VALUES (1, now(), 'update', {'k': 1, 'a': 1.5, 'b': 'oak', 'at': t}, {'k': 1, 'a': 2.5, 'b': 'oak', 'at': t})"
            self.fill(path, "UPDATE tree SET a = 2.5", note.replace("'at': t", "'at': (SELECT max(\"at\") FROM tree)"))
            self.assertEqual({one.net["update"] for one in town.project.step("log", "diff")}, {1})
            for check in town.project.check("log", "diff"):
                self.assertTrue(check.ok, check)

    def test_what_is_wrong_with_a_row_is_told_though_it_is_read_in_the_middle_of_others(self) -> None:
        with Town() as town:
            path = town.path / "town.duckdb"
            self.fill(
                path,
                "CREATE TABLE tree (k INTEGER PRIMARY KEY, a DECIMAL(6,2), b VARCHAR)",
                "CREATE TABLE log (n BIGINT, noted TIMESTAMPTZ, what VARCHAR, was JSON, now JSON)",
            )
            town.config.write_text(loads("duckdb:///town.duckdb", "duckdb:///house.duckdb"))
            town.project.step("log")
            self.fill(
                path,
                "INSERT INTO log SELECT i, now(), 'grow', NULL, {'k': i, 'a': 1, 'b': 'x'} FROM range(200_000) t(i)",
            )
            script = "import sys; from plainstep.cli.main import cli; sys.argv = ['plainstep', 'step', 'log']; cli()"
            told = town.fresh(PEAK + script).communicate(timeout=240)[0]
            self.assertIn("what is 'grow', which is not a code of the layout", told)
            self.assertNotIn("Exception", told)
            self.fill(path, "UPDATE log SET what = 'insert'")  # nobody holds the file any more

    def fill(self, path: Path, *statements: str) -> None:
        with duckdb.connect(str(path)) as connection:
            for statement in statements:
                connection.execute(statement)

    def test_a_large_table_is_compared_in_bounded_memory(self) -> None:
        script = """
import plainstep
project = plainstep.load_project("plainstep.toml")
print(*[(one.outcome, one.net) for one in project.step()])
print(int(peak()))
"""
        with Town() as town:
            self.fill(town.path / "town.duckdb",
                      "CREATE TABLE tree AS SELECT i AS k, i * 7 AS a, 'a tree of the kind ' || i % 1000 AS b FROM range(4_000_000) t(i)")  # fmt: skip
            stores = "[stores.town]\nurl = 'duckdb:///town.duckdb'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
            town.config.write_text(
                stores + "[loads.t]\nfrom = 'town.tree'\ninto = 'house.t'\nchanges = 'diff'\nkey = ['k']\n"
            )
            self.assertIn("stepped", town.fresh(PEAK + script).communicate()[0])
            self.fill(
                town.path / "town.duckdb", "UPDATE tree SET a = 0 WHERE k % 100_000 = 1", "DELETE FROM tree WHERE k = 5"
            )
            told = town.fresh(PEAK + script).communicate()[0]
            self.assertIn("{'insert': 0, 'update': 40, 'delete': 1}", told)
            self.assertLess(int(told.split()[-1]), 1400, told)


if __name__ == "__main__":
    unittest.main()
