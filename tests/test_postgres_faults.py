"""PostgreSQL: connections that are cut, servers that restart, steps that are killed."""

from __future__ import annotations

import contextlib
import itertools
import signal
import subprocess
import threading
import unittest
import unittest.mock
from collections.abc import Iterator
from typing import Any

import psycopg

from tests.kills import DIE, RACER, STEP
from tests.postgres import EDITS, INTO, ROWS, TREE, Database, cluster, park
from tests.support import PEAK, Town

# A step, and the most memory it took, in MiB.
STEP_AND_PEAK = f"""{PEAK}
import sys, plainstep
[one] = plainstep.load_project("plainstep.toml").step(*sys.argv[1:])
print(one.changes, peak())
"""


# Where a child is killed: it kills itself, at once and for good, at that point of its own step.
KILLED = [("capture", INTO[0]), ("capture", INTO[1]), ("log", INTO[0])]
POINTS = {
    "before reading": """
import plainstep.stores.postgresql.capture.trigger_source as s, plainstep.stores.postgresql.capture.source as b, plainstep.stores.postgresql.capture.slot_source as l
for source in (s.CapturedSource, l.LogSource):
    source.read = b.TableSource.snapshot = die
""",
    "after reading": "import plainstep.loads.step as m; m.commit_of = die",
    "in the middle of applying": """
import plainstep.stores.duckdb.target as d, plainstep.stores.postgresql.target as t
for owner, name in ((d._Merge, "_insert"), (t._Merge, "_copy"), (t._Merge, "update")):
    setattr(owner, name, lambda self, *rows, done=getattr(owner, name): (done(self, *rows), die()))
""",
    "before the commit": "import plainstep.stores.ledger as m; m.entry_values = die",
    "after the commit": """
import plainstep.stores.duckdb.target as d, plainstep.stores.postgresql.target as t
for target in (d.DuckdbTarget, t.PostgresqlTarget):
    target.commit = lambda self, *commits, done=target.commit: (done(self, *commits), die())
""",
}


def cut(connection: Any) -> None:
    """End a connection from outside."""
    with cluster().connect() as other:
        other.execute("SELECT pg_terminate_backend(%s)", [connection.info.backend_pid])


def restart(connection: Any) -> None:
    """End the server as a crash would; it comes back a moment later."""
    cluster().stop("immediate")
    threading.Timer(0.5, cluster().start).start()


@contextlib.contextmanager
def struck(harm: Any, moment: str) -> Iterator[list[str]]:
    """Do harm to the target's connection once, at a moment of its transaction."""
    execute, times = psycopg.Connection.execute, []

    def executed(self: Any, query: Any, *more: Any, **other: Any) -> Any:
        if (
            not times
            and query.startswith("UPDATE" if moment == "applying" else "COMMIT")
            and "plainstep.watermarks" not in query
        ):
            times.append(query)
            if moment == "after commit":
                execute(self, query)
            harm(self)
            return execute(self, "SELECT 1")  # finds out
        return execute(self, query, *more, **other)

    with unittest.mock.patch.object(psycopg.Connection, "execute", executed):
        yield times
    for thread in threading.enumerate():
        if isinstance(thread, threading.Timer):
            thread.join()


class Faults(unittest.TestCase):
    """Once: killed, cut off or restarted at any point, a window is merged exactly once."""

    def settled(self, source: Database, target: Database, town: Town, load: str, steps: int) -> None:
        there = target.rows("copied") if load == INTO[0] else town.rows("house", "copied")
        self.assertEqual(there, source.rows())
        self.assertTrue(town.project.check(load)[0].ok)
        entries = town.project.ledger(load)
        self.assertEqual([one.step for one in entries], list(range(1, steps + 1)))
        self.assertEqual([one.upto for one in entries[:-1]], [one.after for one in entries[1:]])

    def test_killed_anywhere_then_run_again(self) -> None:
        for (how, load), first in zip(KILLED, itertools.cycle((True, False)), strict=False):
            with park(TREE, how=how) as (source, target, town):
                steps = 0
                source.sql(ROWS)
                for point, harm in POINTS.items():
                    with self.subTest(point, how=how, load=load, first=first):
                        if first:
                            target.sql("DROP TABLE IF EXISTS copied", "DROP SCHEMA IF EXISTS plainstep CASCADE")
                            (town.path / "house.duckdb").unlink(missing_ok=True)
                            steps = 0
                        else:
                            steps += town.project.step(load)[0].outcome == "stepped"
                        source.sql("DELETE FROM tree WHERE k = 500", *EDITS)
                        child = town.child(DIE + harm + STEP, load)
                        told, _ = child.communicate(timeout=240)
                        self.assertEqual(child.returncode, -signal.SIGKILL, told)
                        self.assertEqual(town.run("status", load, "--json").exit_code, 0)
                        [outcome] = town.project.step(load)
                        self.assertEqual(outcome.outcome, "nothing" if point == "after the commit" else "stepped")
                        steps += 1
                        self.settled(source, target, town, load, steps)

    def test_cut_off_and_restarted(self) -> None:
        """The server ends the connection, or all of itself, while rows are merged, and around the commit."""
        moments = ("applying", "before commit", "after commit")
        for harm, moment, how in itertools.product((cut, restart), moments, ("capture", "log")):
            with self.subTest(harm.__name__, moment=moment, how=how), park(TREE, how=how) as (source, target, town):
                source.sql(ROWS)
                town.project.step(INTO[0])
                source.sql(*EDITS)
                with struck(harm, moment) as times:
                    [outcome] = town.project.step(INTO[0])
                self.assertEqual((outcome.outcome, len(times)), ("stepped", 1))
                self.settled(source, target, town, INTO[0], 2)

    def test_two_steps_at_once(self) -> None:
        for how in ("capture", "log"):
            with self.subTest(how), park(TREE, how=how) as (source, target, town):
                racers = [town.child(RACER) for _ in range(2)]
                for turn in range(12):
                    source.sql(*(EDITS if turn % 2 else [ROWS, *EDITS[:1]]), *["TRUNCATE tree"] * (turn % 2))
                    for racer in racers:
                        assert racer.stdin
                        racer.stdin.write("go\n")
                        racer.stdin.flush()
                    told = [racer.stdout.readline() for racer in racers if racer.stdout]
                    self.assertLessEqual({*" ".join(told).split()}, {"stepped", "nothing"}, told)
                    self.assertEqual(target.rows("copied"), source.rows())
                for racer in racers:
                    racer.communicate(timeout=240)
                for name in INTO:
                    entries = town.project.ledger(name)
                    self.assertEqual([one.upto for one in entries[:-1]], [one.after for one in entries[1:]])
                    self.assertEqual(sum(one.contradictions for one in entries), 0)

    def test_a_workload_nobody_here_wrote(self) -> None:
        """pgbench with eight clients on its own tables, while steps run in a loop into three kinds of stores."""
        for how in ("capture", "log"):
            with self.subTest(how), park(TREE, how=how) as (source, _, town):
                port = str(source.server.port)
                bench = [
                    str(source.server.bin / "pgbench"),
                    "-h",
                    "127.0.0.1",
                    "-p",
                    port,
                    "-U",
                    "postgres",
                    "-n",
                    source.name,
                ]
                subprocess.run([*bench, "-i", "-q", "-s", "1"], check=True, capture_output=True)
                tables = ("accounts", "branches", "tellers")
                loads = "".join(
                    f"[loads.{table}_{store}]\nfrom = 'source.pgbench_{table}'\ninto = '{store}.{table}'\nchanges = '{how}'\n"
                    for table, store in itertools.product(tables, ("target", "house", "shed"))
                )
                town.config.write_text(town.config.read_text().partition("[loads.")[0] + loads)
                for table in tables:
                    town.project.capture_on(f"source.pgbench_{table}", (), how)
                town.project.step(*(load for load in town.project.loads if not load.startswith("tellers")))
                clients = subprocess.Popen(
                    [*bench, "-c", "8", "-j", "2", "-T", "5"], stdout=subprocess.PIPE, stderr=subprocess.PIPE
                )
                stepped = 0
                while clients.poll() is None:
                    stepped += sum(one.changes for one in town.project.step())
                clients.communicate()
                stepped += sum(one.changes for one in town.project.step())
                self.assertGreater(stepped, 1000)
                for check in town.project.check():
                    self.assertTrue(check.ok, check)
                self.assertEqual(sum(one.contradictions for one in town.project.ledger()), 0)

    def test_many_rows_in_one_transaction(self) -> None:
        """Read from the log in memory that does not grow with the transaction."""
        with park("CREATE TABLE tree (k int PRIMARY KEY, a int, b text)", how="log") as (source, _, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step(INTO[1])
            source.sql(
                "INSERT INTO tree SELECT n, 1, repeat('x', 40) FROM generate_series(2, 400000) n; DELETE FROM tree WHERE k > 10"
            )
            child = town.fresh(STEP_AND_PEAK, INTO[1])
            told, _ = child.communicate(timeout=300)
            changes, mebibytes = map(float, told.split())
            self.assertEqual(changes, 399_999 + 399_990)
            self.assertLess(mebibytes, 600)
            self.assertEqual(town.rows("house", "copied"), source.rows())


if __name__ == "__main__":
    unittest.main()
