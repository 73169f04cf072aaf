"""Once: killed at any point, or raced by another step, a window is merged exactly once."""

from __future__ import annotations

import signal
import sqlite3
import time
import unittest

from plainstep.errors import StoreError
from plainstep.stores.duckdb.connection import opened
from tests.kills import DIE, POINTS, RACER, STEP
from tests.support import TREE, Town


def town() -> Town:
    made = Town(TREE, *[f"INSERT INTO tree VALUES ({n}, {n}, 'oak')" for n in range(200)])
    made.project.capture_on("town.tree")
    return made


def edit(town: Town) -> None:
    town.sql("UPDATE tree SET a = a + 1 WHERE k < 100", "DELETE FROM tree WHERE k % 7 = 0", "UPDATE tree SET k = k + 1000 WHERE k > 190",
             "INSERT INTO tree VALUES (500, 5, 'elm')")  # fmt: skip


class Killed(unittest.TestCase):
    def test_killed_anywhere_then_run_again(self) -> None:
        for number, (point, harm) in enumerate(POINTS.items()):
            for store in ("house", "shed"):
                for first in (
                    (store == "house") == (number % 2 == 0),
                ):  # each store begins, or goes on, at every other point
                    with self.subTest(point, store=store, first=first), town() as here:
                        if not first:
                            here.project.step(store)
                        edit(here)
                        child = here.child(DIE + harm + STEP, store)
                        told, _ = child.communicate(timeout=240)
                        self.assertEqual(child.returncode, -signal.SIGKILL, told)
                        status = here.run("status", store, "--json")  # looking works on what was left behind
                        self.assertEqual(status.exit_code, 0, status.output)
                        [outcome] = here.project.step(store)
                        self.assertEqual(outcome.outcome, "nothing" if point == "after the commit" else "stepped")
                        self.assertEqual(here.rows(store), here.rows())
                        entries = here.project.ledger(store)
                        self.assertEqual([one.upto for one in entries], ([] if first else [0]) + [entries[-1].upto])
                        self.assertTrue(here.project.check(store)[0].ok)


WRITER = """
import random, sqlite3, sys, time
chance = random.Random(int(sys.argv[1]))
connection = sqlite3.connect("town.db", timeout=30, isolation_level=None)
until = time.monotonic() + float(sys.argv[2])
while time.monotonic() < until:
    connection.execute("BEGIN IMMEDIATE")
    for _ in range(chance.randrange(1, 6)):
        key = chance.randrange(300)
        connection.execute(chance.choice([
            "INSERT OR REPLACE INTO tree VALUES (?, abs(random() % 100), 'new')",
            "UPDATE tree SET a = a + 1 WHERE k = ?",
            "DELETE FROM tree WHERE k = ?",
            "INSERT INTO tree VALUES (?, 0, 'up') ON CONFLICT DO UPDATE SET b = 'up'",
        ]), [key])
    connection.execute(chance.choice(["COMMIT", "COMMIT", "ROLLBACK"]))
    time.sleep(chance.random() / 100)
"""


class Busy(unittest.TestCase):
    def test_many_writers_while_steps_run(self) -> None:
        """Nothing missed: three processes write, with rollbacks, while two loads step as fast as they can."""
        for journal in ("wal", "delete"):
            with self.subTest(journal), town() as here:
                here.sql(f"PRAGMA journal_mode = {journal}")
                writers = [here.child(WRITER, str(seed), "4") for seed in range(3)]
                steps = 0
                while any(writer.poll() is None for writer in writers):
                    steps += sum(one.outcome == "stepped" for one in here.project.step())
                    status = here.run("status")
                    self.assertEqual(status.exit_code, 0, status.output)
                for writer in writers:
                    self.assertEqual((writer.communicate(timeout=240)[0], writer.returncode), ("", 0))
                here.project.step()
                self.assertGreater(steps, 4)
                for check in here.project.check():
                    self.assertTrue(check.ok, check)
                for store in ("house", "shed"):
                    self.assertEqual(here.rows(store), here.rows())
                    entries = here.project.ledger(store)
                    self.assertEqual([one.upto for one in entries[:-1]], [one.after for one in entries[1:]])
                    self.assertEqual(sum(one.changes for one in entries), entries[-1].upto - entries[0].upto)
                    self.assertEqual(sum(one.contradictions for one in entries), 0)

    def test_a_writer_that_was_killed_leaves_nothing_behind(self) -> None:
        script = """
import os, signal, sqlite3
connection = sqlite3.connect("town.db", isolation_level=None)
connection.execute("PRAGMA cache_size = 1")  # so that half of it is in the file already
connection.execute("BEGIN")
connection.execute("UPDATE tree SET b = hex(randomblob(2000))")
os.kill(os.getpid(), signal.SIGKILL)
"""
        for journal in ("wal", "delete"):
            with self.subTest(journal), town() as here:
                here.sql(f"PRAGMA journal_mode = {journal}")
                here.project.step()
                here.child(script).communicate(timeout=240)
                self.assertEqual(here.project.look("house").total, 0)
                self.assertEqual([one.outcome for one in here.project.step()], ["nothing"] * 2)
                self.assertTrue(all(one.ok for one in here.project.check()))

    def test_a_connection_of_ones_own_is_shared(self) -> None:
        import duckdb

        with town() as here:
            here.project.step("house")
            edit(here)
            with duckdb.connect(str(here.path / "house.duckdb")) as mine:
                self.assertEqual(here.project.step("house")[0].outcome, "stepped")
                self.assertTrue(here.project.check("house")[0].ok)
                [[count]] = mine.execute("SELECT count(*) FROM tree").fetchall()
                self.assertEqual(count, len(here.rows()))

    def test_while_a_file_is_open_here_no_other_process_writes_to_it(self) -> None:
        """Closing one of two descriptors of a file ends the locks of both."""
        import duckdb

        write = "import sys, duckdb; duckdb.connect(sys.argv[1]).execute('DELETE FROM tree')"
        with town() as here:
            path = here.path / "house.duckdb"

            def written() -> bool:
                told, _ = here.child(write, str(path)).communicate(timeout=240)
                self.assertTrue(not told or "Could not set lock" in told, told)
                return not told

            here.project.step("house")
            edit(here)
            with self.subTest("attached by others"), duckdb.connect() as mine:
                mine.execute(f"ATTACH '{path}' AS mine")
                for _ in range(2):
                    with self.assertRaisesRegex(StoreError, "open in this process in another way"):
                        here.project.step("house")
                self.assertFalse(written())
            with self.subTest("read by others"), duckdb.connect(str(path), read_only=True) as mine:
                self.assertGreater(here.project.look("house").total, 100)
                self.assertFalse(written())
            with self.subTest("opened within itself"), opened(path, True, 1) as outer:
                rows = outer.execute("SELECT * FROM tree")
                with opened(path, True, 1) as inner:
                    inner.execute("SELECT * FROM tree")
                self.assertFalse(written())
                self.assertTrue(rows.fetchall())
            self.assertEqual(here.project.step("house")[0].outcome, "stepped")
            self.assertTrue(here.project.check("house")[0].ok)
            self.assertTrue(written())


class Raced(unittest.TestCase):
    def test_two_steps_at_once_fifty_times(self) -> None:
        with town() as here:
            racers = [here.child(RACER) for _ in range(2)]
            for turn in range(50):
                here.sql(f"UPDATE tree SET a = {turn} WHERE k % 10 = {turn % 10}", f"DELETE FROM tree WHERE k = {turn + 3}",
                         f"INSERT INTO tree VALUES ({2000 + turn}, 0, 'new')")  # fmt: skip
                for racer in racers:
                    print("go", file=racer.stdin, flush=True)
                told = [racer.stdout.readline().split() for racer in racers]
                for pair in zip(*told, strict=True):
                    self.assertEqual(sorted(pair), ["nothing", "stepped"])
                for store in ("house", "shed"):
                    self.assertEqual(here.rows(store), here.rows())
                    self.assertEqual(len(here.project.ledger(store)), turn + 1)
            for racer in racers:
                racer.communicate(timeout=240)

    def test_threads_of_one_process(self) -> None:
        from concurrent.futures import ThreadPoolExecutor

        with town() as here, ThreadPoolExecutor(4) as pool:
            for turn in range(10):
                here.sql(f"UPDATE tree SET a = {turn}")
                told = list(pool.map(lambda _: here.project.step("house")[0].outcome, range(4)))
                self.assertEqual(sorted(told), ["nothing"] * 3 + ["stepped"])
            self.assertEqual(here.rows("house"), here.rows())

    def test_a_locked_file_is_waited_for_then_told(self) -> None:
        with town() as here:
            here.config.write_text(
                here.config.read_text()
                .replace("[loads", "wait = 2\n[loads", 1)
                .replace('house.duckdb"', 'house.duckdb"\nwait = 2')
            )
            here.project.step()
            edit(here)
            hold = "import sys, time\n{}\nprint('held', flush=True); time.sleep(float(sys.argv[1]))"
            for store, holding in (
                ("house", "import duckdb; c = duckdb.connect('house.duckdb')"),
                ("shed", "import sqlite3; c = sqlite3.connect('shed.db'); c.execute('BEGIN IMMEDIATE')"),
            ):
                with self.subTest(store):
                    holder = here.child(hold.format(holding), "60")
                    holder.stdout.readline()
                    before = here.fingerprint()
                    result = here.run("step", store)
                    self.assertEqual(result.exit_code, 1, result.output)
                    self.assertIn("locked", result.output)
                    self.assertIn(f"process {holder.pid}", result.output)
                    self.assertEqual(here.fingerprint(), before)
                    holder.kill()
                    holder.communicate()
                    holder = here.child(hold.format(holding), "0.7")
                    holder.stdout.readline()
                    began = time.monotonic()
                    self.assertEqual(here.project.step(store)[0].outcome, "stepped")
                    self.assertGreater(time.monotonic() - began, 0.2)
                    holder.communicate()

    def test_a_writer_in_a_transaction_is_not_disturbed_and_not_missed(self) -> None:
        with town() as here:
            here.sql("PRAGMA journal_mode = wal")
            here.project.step("shed")
            writer = sqlite3.connect(here.path / "town.db", isolation_level=None)
            writer.execute("BEGIN IMMEDIATE")
            writer.execute("UPDATE tree SET a = -1 WHERE k = 1")
            self.assertEqual(here.project.step("shed")[0].outcome, "nothing")
            writer.execute("UPDATE tree SET a = -2 WHERE k = 2")
            writer.execute("COMMIT")
            writer.close()
            self.assertEqual(here.project.step("shed")[0].changes, 2)
            self.assertEqual(here.rows("shed"), here.rows())


if __name__ == "__main__":
    unittest.main()
