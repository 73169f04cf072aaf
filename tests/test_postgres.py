"""PostgreSQL for real: concurrent writers, open transactions, lost connections, odd tables, least privileges."""

from __future__ import annotations

import contextlib
import itertools
import json
import re
import signal
import subprocess
import threading
import time
import unittest
import unittest.mock
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep import Scope
from plainstep.views.changes import LookResult
from tests.postgres import Cluster, Database, cluster, role
from tests.support import WITHOUT_SHRINKING, Town
from tests.test_crashes import DIE, RACER, STEP

TREE = "CREATE TABLE tree (k int PRIMARY KEY, a int, b text)"
INTO = ("into_postgres", "into_duckdb", "into_sqlite")


@contextlib.contextmanager
def park(
    *statements: str, how: str = "capture", table: str = "public.tree", more: str = ""
) -> Iterator[tuple[Database, Database, Town]]:
    """A source database, a target database, and a town with loads from the one into the other and into two files."""
    with Database(*statements) as source, Database() as target, Town() as town:
        loads = "".join(
            f"[loads.{name}]\nfrom = 'source.{table}'\ninto = '{into}'\nchanges = '{how}'\n{more}\n"
            for name, into in zip(INTO, ("target.copied", "house.copied", "shed.copied"), strict=True)
        )
        stores = f"[stores.source]\nurl = '{source.url}'\n[stores.target]\nurl = '{target.url}'\n"
        files = "[stores.house]\nurl = 'duckdb:///house.duckdb'\n[stores.shed]\nurl = 'sqlite:///shed.db'\n"
        town.config.write_text(stores + files + loads)
        town.project.capture_on(f"source.{table}", (), how)
        yield source, target, town


acts = st.one_of(
    st.tuples(st.just("begin"), st.integers(0, 2)),
    st.tuples(st.sampled_from(["commit", "commit", "rollback", "savepoint", "undo"]), st.integers(0, 2)),
    st.tuples(st.sampled_from(["put", "put", "put", "delete", "rekey", "xid"]), st.integers(0, 2), st.integers(0, 4)),
    st.tuples(st.just("step"), st.integers(0, 2)),
)


class Writers:
    """Three connections in transactions of their own, none of which waits for another: a statement that would is left out."""

    def __init__(self, database: Database) -> None:
        self.connections = [database.connect() for _ in range(3)]
        for connection in self.connections:
            connection.execute("SET lock_timeout = '15ms'")

    def close(self) -> None:
        for connection in self.connections:
            connection.close()

    def act(self, what: str, who: int, key: int = 0) -> None:
        connection = self.connections[who]
        inside = connection.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        words = {
            "begin": "" if inside else "BEGIN",
            "commit": "COMMIT" if inside else "",
            "rollback": "ROLLBACK" if inside else "",
            "savepoint": "SAVEPOINT here" if inside else "",
            "undo": "ROLLBACK TO here" if inside else "",
            "put": f"INSERT INTO tree VALUES ({key}, {who}, 'x') ON CONFLICT (k) DO UPDATE SET a = coalesce(tree.a, 0) + 7, b = '{who}'",
            "delete": f"DELETE FROM tree WHERE k = {key}",
            "rekey": f"UPDATE tree SET k = k + 10 WHERE k = {key}",
            "xid": "SELECT pg_current_xact_id()" if inside else "",  # a number now, and writes only later
        }[what]
        if not words:
            return
        if inside and what in ("put", "delete", "rekey"):
            with contextlib.suppress(psycopg.Error), connection.transaction():
                connection.execute(words)
        else:
            with contextlib.suppress(psycopg.Error):
                connection.execute(words)
                return
            if what == "undo":  # there was no savepoint
                connection.execute("ROLLBACK")


# A number handed out before, and committed after, what was read in between.
LATE = [("begin", 0), ("put", 0, 0), ("put", 1, 1), ("step", 0), ("commit", 0), ("step", 0)]
# A transaction that began before another writes a row after it, while a third is open in between.
CROSSED = [("begin", 0), ("xid", 0), ("begin", 2), ("put", 2, 3), ("put", 1, 1), ("put", 0, 1), ("commit", 0), ("step", 0),
           ("rollback", 2), ("step", 0)]  # fmt: skip


class Laws(unittest.TestCase):
    def play(self, how: str, history: list[Any]) -> None:
        with park(TREE, how=how) as (source, target, town):
            writers = Writers(source)
            try:
                for what, who, *key in [*history, ("step", 0)]:
                    if what != "step":
                        writers.act(what, who, *key)
                        continue
                    committed = source.rows()
                    [outcome] = town.project.step(INTO[who])
                    self.assertEqual(self.rows(INTO[who], target, town), committed)
                    entry = outcome.entry
                    self.assertEqual(0 if entry is None else entry.contradictions, 0)
            finally:
                writers.close()
            town.project.step()
            for name in INTO:
                self.assertEqual(self.rows(name, target, town), source.rows())
            self.assertTrue(all(one.ok for one in town.project.check()))

    def test_nothing_missed_in_any_interleaving(self) -> None:
        """Law 4, from change tables and from the log."""

        @given(st.lists(acts, min_size=15, max_size=50))
        @settings(max_examples=5, deadline=None, phases=WITHOUT_SHRINKING)
        def any_history(how: str, history: list[Any]) -> None:
            self.play(how, history)

        for how in ("capture", "log"):
            with self.subTest(how):
                self.play(how, LATE)
                self.play(how, CROSSED)
                any_history(how)

    def test_two_phases_and_commits_that_are_not_waited_for(self) -> None:
        for how in ("capture", "log"):
            with self.subTest(how), park(TREE, how=how) as (source, target, town), source.connect() as other:
                other.execute("BEGIN; INSERT INTO tree VALUES (1, 1, 'prepared'); PREPARE TRANSACTION 'later'")
                source.sql("INSERT INTO tree VALUES (2, 2, 'x')")
                for _ in range(2):  # the second finds nothing
                    town.project.step()
                    self.assertEqual(self.rows(INTO[0], target, town), [(2, 2, "x")])
                other.execute("COMMIT PREPARED 'later'")
                town.project.step()
                other.execute("SET synchronous_commit = off")
                for number in range(3, 40):
                    other.execute(f"INSERT INTO tree VALUES ({number}, 0, 'async')")
                    if number % 10 == 0:
                        self.assertTrue(town.project.check(INTO[1])[0].ok)
                        town.project.step(INTO[1])
                until = time.monotonic() + 20
                while any(self.rows(name, target, town) != source.rows() for name in INTO) and time.monotonic() < until:
                    time.sleep(0.1)  # until the server has written its log
                    town.project.step()
                for name in INTO:
                    self.assertEqual(self.rows(name, target, town), source.rows())

    def rows(self, load: str, target: Database, town: Town) -> list[Any]:
        if load == "into_postgres":
            return target.rows("copied")
        return town.rows("house" if load == "into_duckdb" else "shed", "copied")


ALL_TYPES = """CREATE TYPE kind AS ENUM ('street', 'park');
CREATE DOMAIN girth AS numeric(6, 1) CHECK (VALUE > 0);
CREATE TABLE "Odd schema"."tree ""x"" é.1" (
    k bigint PRIMARY KEY, i2 smallint, i4 int, i8 bigint, f4 real, f8 double precision, n numeric(12, 3), big numeric(60, 2),
    free numeric, t text, v varchar(9), c char(4), b boolean, d date, tm time, ts timestamp, tz timestamptz, iv interval,
    u uuid, by bytea, j json, jb jsonb, a int[], at text[], e kind, r int4range, tr tstzrange, g girth, ip inet, bits bit(3),
    "select" text, made int GENERATED ALWAYS AS (i4 + 1) STORED)"""
VALUES = """INSERT INTO "Odd schema"."tree ""x"" é.1" VALUES
    (%s, -3, 7, 9007199254740993, 1.1, 1e300, 12345.678, 123456789012345678901234567890.12, 0.10, E'a"b,c\\n\\\\', '', 'ab', true,
     '1999-12-31', '23:59:59.5', '2020-02-29 12:00:00.000001', '2020-06-01 12:00+05:30', '1 mon -2 days 03:04:05.6',
     'C0FFEE00-0000-0000-0000-000000000000', '\\x00ff', '{"b" : [1,  2]}', '{"z": null}', '{1,NULL,3}', '{"a,b","",null}', 'park', '[1,5)',
     '[2020-01-01 00:00+00,)', 12.5, '10.0.0.1/8', B'101', 'reserved')"""
ODD = '"Odd schema"."tree ""x"" é.1"'


class Shapes(unittest.TestCase):
    """What tables may look like, and what may happen to them while they are captured."""

    def same(self, source: Database, target: Database, town: Town, table: str = "tree") -> None:
        """After a step, every target equals the source; once more there is nothing to do."""
        for outcome in town.project.step():
            self.assertEqual(outcome.entry.contradictions if outcome.entry else 0, 0)
        self.assertEqual(target.rows("copied"), source.rows(table))
        self.assertEqual(
            [(one.load, one.missing, one.extra, one.different) for one in town.project.check() if not one.ok], []
        )
        self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})

    def test_every_type_and_awkward_names(self) -> None:
        for how in ("capture", "log"):
            named = "k, i2, i4, i8, f4, f8, n, big, free, t, v, c, b, d, tm, ts, tz, iv, u, by, j, jb, a, at, e, r, tr, g, ip, bits"
            form = f'SELECT ROW({named}, "select")::text FROM {{}}'
            with (
                self.subTest(how),
                park('CREATE SCHEMA "Odd schema"', ALL_TYPES, how=how, table=ODD) as (source, target, town),
            ):
                source.sql(VALUES % 1, f"INSERT INTO {ODD} (k) VALUES (2)")
                for change in (
                    [],
                    [VALUES % 3, f"UPDATE {ODD} SET iv = '2 days', j = '[1]', ts = NULL, \"select\" = 'é' WHERE k = 1"],
                    [
                        f"UPDATE {ODD} SET f8 = '-Infinity', f4 = 'Infinity', k = 9 WHERE k = 3",
                        f"DELETE FROM {ODD} WHERE k = 2",
                    ],
                    # What JSON would not tell apart: a null of JSON's and none, -0 and 0, where an array begins.
                    [
                        f"UPDATE {ODD} SET j = ' null', jb = 'null', f4 = '-0', f8 = '-0', a = '[0:1]={{4,5}}' WHERE k = 1"
                    ],
                    [f"UPDATE {ODD} SET j = NULL, jb = NULL, f4 = 0, f8 = 0, a = '{{4,5}}' WHERE k = 1"],
                ):
                    source.sql(*change)
                    self.assertEqual({one.error for one in town.project.step()}, {None})
                    self.assertEqual(target.rows(form.format("copied")), source.rows(form.format(ODD)))
                    self.assertTrue(all(one.ok for one in town.project.check()))
                kinds = dict(
                    target.rows(
                        "SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = 'copied'::regclass AND attnum > 0"
                    )
                )
                wanted = {"u": "uuid", "iv": "interval", "n": "numeric(12,3)", "free": "numeric", "jb": "jsonb", "a": "integer[]",
                          "at": "text[]", "e": "text", "r": "int4range", "g": "numeric(6,1)", "c": "character(4)", "by": "bytea",
                          "tz": "timestamp with time zone", "ip": "inet", "i2": "smallint"}  # fmt: skip
                self.assertEqual({name: kinds[name] for name in wanted}, wanted)

    def test_every_way_to_write(self) -> None:
        """COPY, upserts, key updates and swaps, truncate, cascades, partitions, replication's own session setting."""
        ward = "CREATE TABLE ward (w int PRIMARY KEY)"
        tree = (
            "CREATE TABLE tree (k int, w int REFERENCES ward ON UPDATE CASCADE ON DELETE CASCADE, b text, PRIMARY KEY (k, w)) "
            "PARTITION BY RANGE (k)"
        )
        parts = [
            f"CREATE TABLE tree_{n} PARTITION OF tree FOR VALUES FROM ({n * 10}) TO ({n * 10 + 10})" for n in range(2)
        ]
        for how in ("capture", "log"):
            with self.subTest(how), park(ward, tree, *parts, how=how) as (source, target, town):
                source.sql(
                    "INSERT INTO ward SELECT generate_series(1, 9)",
                    "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')",
                )
                self.same(source, target, town)
                with source.connect() as connection, connection.cursor().copy("COPY tree FROM STDIN") as copy:
                    copy.write("3\t3\tash\n11\t4\t\\N\n")
                self.same(source, target, town)
                for statements in (
                    [
                        "INSERT INTO tree VALUES (3, 3, 'fir'), (4, 4, 'yew') ON CONFLICT (k, w) DO UPDATE SET b = excluded.b"
                    ],
                    [
                        "UPDATE tree SET k = 12 WHERE k = 2",
                        "UPDATE ward SET w = 20 WHERE w = 1",
                    ],  # to another partition; a cascade
                    ["DELETE FROM ward WHERE w = 4"],
                    [
                        "CREATE TABLE tree_2 PARTITION OF tree FOR VALUES FROM (20) TO (30)",
                        "INSERT INTO tree VALUES (25, 5, 'new')",
                    ],
                    ["TRUNCATE tree_0"] if how == "capture" else [],  # of one partition by itself, no log tells
                    [
                        "BEGIN; INSERT INTO tree VALUES (7, 7, 'x'); TRUNCATE tree; INSERT INTO tree VALUES (8, 8, 'y'); COMMIT"
                    ],
                    ["SET session_replication_role = replica; INSERT INTO tree VALUES (9, 9, 'z')"],
                    [
                        "BEGIN; INSERT INTO tree VALUES (5, 5, 'p'); SAVEPOINT s; DELETE FROM tree; ROLLBACK TO s; UPDATE tree SET b = 'q'; COMMIT"
                    ],
                ):
                    source.sql(*statements)
                    self.same(source, target, town)
                self.assertIn("a new partition", town.project.status(INTO[0])[0].warnings[0])
                town.project.capture_refresh("source.public.tree", how)
                self.assertEqual(town.project.status(INTO[0])[0].warnings, [])
                source.sql("INSERT INTO tree VALUES (27, 6, 'r')", *["TRUNCATE tree_2"] * (how == "capture"))
                self.same(source, target, town)
                source.sql("ALTER TABLE tree DETACH PARTITION tree_2")
                told = str(town.project.step(raise_errors=False)[0].error)
                self.assertIn("a partition of tree was detached", told)

    def test_columns_come_and_go(self) -> None:
        for how in ("capture", "log"):
            with self.subTest(how), park(TREE, how=how) as (source, target, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
                self.same(source, target, town)
                source.sql(
                    "UPDATE tree SET a = 3 WHERE k = 1",
                    "ALTER TABLE tree DROP COLUMN b",
                    "UPDATE tree SET a = 4 WHERE k = 2",
                )
                self.assertEqual({one.error for one in town.project.step()}, {None})
                self.assertEqual(target.rows("SELECT k, a FROM copied"), source.rows())
                source.sql("ALTER TABLE tree ADD COLUMN c text DEFAULT 'new'", "UPDATE tree SET c = 'set' WHERE k = 1")
                [outcome, *_] = town.project.step()
                self.assertIn("capture refresh source.public.tree", outcome.warnings[0])
                self.assertEqual(town.project.captures("source")[0][1].waiting_columns, ("c",))
                _, done = town.project.capture_refresh("source.public.tree", how)
                if how == "log":  # what the new column held already is in no log
                    self.assertIn("plainstep reload", done)
                    self.assertEqual({one.outcome for one in town.project.step(raise_errors=False)}, {"refused"})
                    for name in INTO:
                        town.project.reload(name)
                self.assertEqual({one.error for one in town.project.step()}, {None})
                self.assertEqual(target.rows("SELECT k, a, c FROM copied"), source.rows())
                source.sql("ALTER TABLE tree ALTER COLUMN a TYPE bigint", "UPDATE tree SET a = 5000000000 WHERE k = 1")
                town.project.capture_refresh("source.public.tree", how)
                source.sql("ALTER TABLE tree RENAME TO bush")
                for outcome in town.project.step(raise_errors=False):
                    self.assertEqual(outcome.outcome, "refused", outcome)
                    self.assertIn("is called public.bush now", str(outcome.error))
                source.sql("CREATE TABLE tree (k int PRIMARY KEY)")
                self.assertIn("dropped and made again", str(town.project.step(raise_errors=False)[0].error))

    def test_a_trigger_that_would_be_recorded_too_early(self) -> None:
        touch = "CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN UPDATE tree SET a = a + 1 WHERE k = NEW.k AND a < 9; RETURN NULL; END'"
        trigger = "CREATE TRIGGER {} AFTER INSERT ON tree FOR EACH ROW EXECUTE FUNCTION touch()"
        with park(TREE, touch, trigger.format("a_touch")) as (source, target, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            self.same(source, target, town)
            source.sql(trigger.format('"! first"'))
            told = str(town.project.step(raise_errors=False)[0].error)
            self.assertIn("! first fires before capture's", told)
            source.sql('DROP TRIGGER "! first" ON tree', "ALTER TABLE tree DISABLE TRIGGER ALL")
            self.assertIn("was switched off", str(town.project.step(raise_errors=False)[0].error))
            town.project.capture_refresh("source.public.tree")
            for name in INTO:
                town.project.reload(name)
            self.same(source, target, town)

    def test_what_the_log_does_not_hold(self) -> None:
        """Every replica identity; large values that did not change and are not sent."""
        big = "string_agg(md5(n::text), '')"
        tree = "CREATE TABLE tree (k int PRIMARY KEY, a int NOT NULL, b text)"
        for identity in ("DEFAULT", "FULL", "USING INDEX by_a", "DEFAULT"):
            statements = [tree, "ALTER TABLE tree ALTER b SET STORAGE EXTERNAL", "CREATE UNIQUE INDEX by_a ON tree (a)"]
            with (
                self.subTest(identity),
                park(*statements, f"ALTER TABLE tree REPLICA IDENTITY {identity}", how="log") as (source, target, town),
            ):
                source.sql(
                    f"INSERT INTO tree SELECT k, k, (SELECT {big} FROM generate_series(1, 3000) n) FROM generate_series(1, 3) k"
                )
                self.same(source, target, town)
                source.sql(
                    "UPDATE tree SET a = a + 10 WHERE k = 1",
                    "UPDATE tree SET k = 20 WHERE k = 2",
                    "DELETE FROM tree WHERE k = 3",
                )
                other = "k" if "INDEX" in identity else "a"  # a column that is not in the key
                self.same(
                    source, target, town
                )  # a large value of a row that moved is not in the log: the target has it
                source.sql(
                    f"BEGIN; INSERT INTO tree VALUES (7, 7, (SELECT {big} FROM generate_series(1, 3000) n)); UPDATE tree SET k = 8, a = 8 WHERE k = 7; "
                    "UPDATE tree SET k = 9 WHERE k = 8; UPDATE tree SET a = 9 WHERE k = 9; COMMIT",
                    "UPDATE tree SET k = 21, a = 21 WHERE k = 20",
                    "DELETE FROM tree WHERE k = 9",
                    "UPDATE tree SET k = 20, a = 20 WHERE k = 21",
                )
                self.same(source, target, town)
                source.sql(
                    f"BEGIN; INSERT INTO tree VALUES (4, 4, repeat('ab', 9000)); UPDATE tree SET {other} = 44 WHERE k = 4; COMMIT"
                )
                self.same(source, target, town)
                source.sql(
                    "UPDATE tree SET b = NULL WHERE k = 1",
                    "UPDATE tree SET b = 'small' WHERE k = 20",
                    "UPDATE tree SET a = a",
                )
                look = town.project.look(INTO[0])
                self.assertEqual("was.b" in look.changes.table.column_names, identity == "FULL")
                self.same(source, target, town)
                source.sql(
                    "ALTER TABLE tree REPLICA IDENTITY FULL",
                    "UPDATE tree SET b = 'x'",
                    "TRUNCATE tree",
                    "INSERT INTO tree VALUES (1, 1, 'y')",
                )
                self.same(source, target, town)


# Where a child is killed: it kills itself, at once and for good, at that point of its own step.
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
EDITS = [
    "UPDATE tree SET a = a + 1 WHERE k < 100",
    "DELETE FROM tree WHERE k % 7 = 0",
    "INSERT INTO tree VALUES (500, 5, 'elm')",
]
ROWS = "INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 200) n"


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
            and "plainstep.marks" not in query
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


# A step, and the most memory it took, in MiB.
PEAK = """
import resource, sys, plainstep
[one] = plainstep.load_project("plainstep.toml").step(*sys.argv[1:])
print(one.changes, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""
KILLED = [("capture", INTO[0]), ("capture", INTO[1]), ("log", INTO[0])]


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
                        told, _ = child.communicate(timeout=60)
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
                    told = [racer.stdout.readline().split() for racer in racers if racer.stdout]
                    self.assertTrue(all(set(words) <= {"stepped", "nothing"} for words in told), told)
                    self.assertEqual(target.rows("copied"), source.rows())
                for racer in racers:
                    racer.communicate(timeout=30)
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
            child = town.child(PEAK, INTO[1])
            told, _ = child.communicate(timeout=300)
            changes, mebibytes = map(float, told.split())
            self.assertEqual(changes, 399_999 + 399_990)
            self.assertLess(mebibytes, 600)
            self.assertEqual(town.rows("house", "copied"), source.rows())


class Refusals(unittest.TestCase):
    """Whatever is wrong: one clear answer in three lines, nothing half done."""

    def told(self, town: Town, *words: str) -> str:
        result = town.run(*words)
        self.assertIn(result.exit_code, (1, 2, 4), result.output)
        lines = result.output.strip().splitlines()
        self.assertLessEqual(len(lines), 4, result.output)
        self.assertNotIn("unforeseen", result.output)
        self.assertNotIn("secret", result.output)
        return result.output

    def test_who_cannot_come_in(self) -> None:
        with park(TREE) as (source, target, town):
            text = town.config.read_text()
            with cluster().connect() as connection:
                connection.execute("DROP ROLE IF EXISTS wary; CREATE ROLE wary LOGIN PASSWORD 'other'")
            wrong = {
                source.server.url(source.name).replace("postgres@", "wary:secret@"): "password authentication failed",
                source.server.url("nowhere"): 'database "nowhere" does not exist',
                source.url.replace(str(source.server.port), "1"): "Check that the server runs",
                source.url.replace("postgres@", "nobody_there@"): 'role "nobody_there" does not exist',
                source.url + "?nonsense=1": "is not a valid PostgreSQL URL",
            }
            for url, words in wrong.items():
                town.config.write_text(text.replace(source.url, url))
                for command in (["step", INTO[1]], ["capture", "list", "source"]):
                    self.assertIn(words, self.told(town, *command))
            town.config.write_text(text.replace(target.url, target.server.url("nowhere")))
            self.assertIn("does not exist", self.told(town, "step", INTO[0]))

    def test_what_cannot_be_done(self) -> None:
        with park(TREE) as (source, target, town):
            town.config.write_text(
                town.config.read_text()
                .replace("[loads.", "wait = 0.3\n[loads.", 1)
                .replace("[stores.target]", "wait = 0.3\n[stores.target]")
            )
            source.sql(
                "INSERT INTO tree VALUES (1, 1, 'oak')",
                "CREATE TABLE loose (a int)",
                "CREATE TABLE late (k int PRIMARY KEY DEFERRABLE)",
            )
            self.assertIn("There is no table trea in source", self.told(town, "capture", "on", "source.trea"))
            self.assertIn("--key", self.told(town, "capture", "on", "source.loose"))
            self.assertIn("no primary key", self.told(town, "capture", "on", "source.late"))
            self.assertIn("replica identity", self.told(town, "capture", "on", "source.loose", "--how", "log"))
            self.assertIn("--how log", self.told(town, "capture", "off", "source.tree", "--how", "log"))
            with source.connect() as other:
                other.execute("CREATE TABLE kept (k int PRIMARY KEY)")
                other.execute("BEGIN; INSERT INTO kept VALUES (1)")
                for how, words in (("capture", "Waiting for: process"), ("log", "Waiting for: process")):
                    found = self.told(town, "capture", "on", "source.kept", "--how", how)
                    self.assertIn(words, found)
                    self.assertIn(f"process {other.info.backend_pid} (postgres", found)
                other.execute("ROLLBACK")
                other.execute("BEGIN; INSERT INTO tree VALUES (2, 2, 'open')")
                self.assertIn("could not begin", self.told(town, "capture", "on", "source.kept", "--how", "log"))
                other.execute("PREPARE TRANSACTION 'left behind'")
                self.assertIn(
                    "prepared transaction 'left behind'",
                    self.told(town, "capture", "on", "source.kept", "--how", "log"),
                )
                other.execute("ROLLBACK PREPARED 'left behind'")
                other.execute("BEGIN")
                other.execute("COMMIT")
            self.assertEqual(source.rows("SELECT count(*) FROM pg_publication"), [(0,)])
            town.project.step()
            before = target.rows("copied"), town.project.status(INTO[0])[0].mark
            source.sql("UPDATE tree SET a = 2")
            with target.connect() as other:
                other.execute("BEGIN; LOCK TABLE copied")
                found = self.told(town, "step", INTO[0])
                self.assertIn(f"process {other.info.backend_pid} (postgres", found)
                other.execute("ROLLBACK")
            with cluster().connect() as connection:
                connection.execute(f"ALTER DATABASE {target.name} SET statement_timeout = '1ms'")
                found = self.told(town, "step", INTO[0])
                self.assertIn("statement timeout", found)
                connection.execute(f"ALTER DATABASE {target.name} RESET statement_timeout")
            self.assertEqual((target.rows("copied"), town.project.status(INTO[0])[0].mark), before)
            source.sql("UPDATE tree SET b = 'NaN'", "ALTER TABLE tree ADD COLUMN t timestamp DEFAULT 'infinity'")
            town.project.capture_refresh("source.public.tree")
            self.assertIn("'infinity', which has no like", self.told(town, "step", INTO[0]))
            self.assertIn('types = { "t" = "TEXT" }', self.told(town, "step", INTO[0]))
            source.sql("DROP TABLE tree")
            self.assertIn("There is no table", self.told(town, "step", INTO[0]))
            self.assertIn("the table is gone", town.run("capture", "list").output)
            self.assertIn("Capture is off", town.run("capture", "off", "source.public.tree").output)
            self.assertEqual(town.project.captures("source"), [])

    def test_a_server_that_writes_no_such_log(self) -> None:
        server = Cluster(cluster().bin, wal_level="replica", max_wal_senders=0)
        with Town() as town:
            with server.connect() as connection:
                connection.execute(TREE)
            town.config.write_text(f"[stores.source]\nurl = '{server.url('postgres')}'\n")
            found = self.told(town, "capture", "on", "source.tree", "--how", "log")
            self.assertIn("wal_level is replica: ALTER SYSTEM SET wal_level = 'logical'", found)
            self.assertEqual(town.run("capture", "on", "source.tree").exit_code, 0)

    def test_the_log_is_not_ready_or_was_lost(self) -> None:
        with park(TREE, how="log") as (source, _, town):
            source.sql("CREATE TABLE other (k int PRIMARY KEY)")
            plain = role()
            source.sql(f"GRANT USAGE ON SCHEMA plainstep TO {plain}", f"GRANT SELECT ON plainstep.captures TO {plain}")
            text = town.config.read_text()
            town.config.write_text(text.replace("postgres@", f"{plain}@", 1))
            found = self.told(town, "capture", "on", "source.other", "--how", "log")
            for words in (f'ALTER ROLE "{plain}" REPLICATION', "GRANT CREATE ON DATABASE", "does not own other"):
                self.assertIn(words, found)
            town.config.write_text(text)
            town.project.step()
            with source.connect() as connection:
                [(slot,)] = connection.execute(
                    "SELECT slot_name FROM pg_replication_slots WHERE database = current_database()"
                ).fetchall()
                connection.execute("SELECT pg_drop_replication_slot(%s)", [slot])
            source.sql("INSERT INTO tree VALUES (1, 1, 'unseen')")
            found = self.told(town, "step", INTO[1])
            self.assertIn("is gone", found)
            self.assertIn("plainstep capture refresh source.public.tree --how log", found)
            self.assertIn("reload", town.run("capture", "refresh", "source.public.tree", "--how", "log").output)
            self.assertIn("plainstep reload", self.told(town, "step", INTO[1]))
            town.project.reload(INTO[1])
            self.assertEqual(town.rows("house", "copied"), source.rows())
            with cluster().connect() as connection:
                spare = [f"spare_{number}" for number in range(30)]
                try:
                    with contextlib.suppress(psycopg.errors.ConfigurationLimitExceeded):
                        for name in spare:
                            connection.execute("SELECT pg_create_physical_replication_slot(%s)", [name])
                    found = self.told(town, "capture", "on", "source.other", "--how", "log")
                    self.assertIn("all 30 replication slots are taken", found)
                finally:
                    for (name,) in connection.execute(
                        "SELECT slot_name FROM pg_replication_slots WHERE slot_name LIKE 'spare%'"
                    ).fetchall():
                        connection.execute("SELECT pg_drop_replication_slot(%s)", [name])
                connection.execute("ALTER SYSTEM SET max_slot_wal_keep_size = '64MB'")
                connection.execute("SELECT pg_reload_conf()")
                for _ in range(3):
                    source.sql("UPDATE tree SET a = 2", "SELECT pg_switch_wal()")
                status = town.run("status", INTO[1])
                self.assertEqual(status.exit_code, 3, status.output)
                self.assertIn("(max_slot_wal_keep_size). plainstep step into_duckdb", status.output)
                connection.execute("ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'")
                connection.execute("SELECT pg_reload_conf()")
                for _ in range(3):  # log that nobody has room for
                    source.sql("UPDATE tree SET a = 1", "SELECT pg_switch_wal()", "CHECKPOINT")
                connection.execute("ALTER SYSTEM RESET max_slot_wal_keep_size")
                connection.execute("SELECT pg_reload_conf()")
            self.assertIn("was lost: it held back more log", self.told(town, "step", INTO[1]))
            self.assertIn("was lost", town.run("status", INTO[1]).output)


class Privileges(unittest.TestCase):
    def test_the_documented_grants_are_enough(self) -> None:
        page = (Path(__file__).parents[1] / "docs/stores/postgresql.md").read_text().partition("## Privileges")[2]
        keeper, reader, log, follower, writer = re.findall(r"```sql\n(.*?)```", page, re.DOTALL)
        with park(TREE) as (source, target, town):
            source.sql("DROP SCHEMA plainstep CASCADE", "INSERT INTO tree VALUES (1, 1, 'oak')")
            text = town.config.read_text()

            def acts_as(role: str) -> None:
                into = target.url.replace("postgres@", "writer@")
                town.config.write_text(
                    text.replace(source.url, source.server.url(source.name, role))
                    .replace(target.url, into)
                    .replace("target.copied", "target.mart.copied")
                )

            try:
                source.sql(keeper)
                target.sql(writer)
                acts_as("keeper")
                town.project.capture_on("source.public.tree")
                source.sql(reader)
                acts_as("reader")
                for statement in (
                    [],
                    ["UPDATE tree SET a = 2"],
                    ["INSERT INTO tree VALUES (2, 2, 'elm')", "DELETE FROM tree WHERE k = 1"],
                ):
                    source.sql(*statement)
                    for command in ("step", "check", "status"):
                        self.assertEqual(town.run(command).exit_code, 0, town.run(command).output)
                self.assertEqual(target.rows("mart.copied"), source.rows())
                source.sql(log.replace("larkmoor", source.name))
                acts_as("keeper")
                town.project.capture_on("source.public.tree", (), "log")
                source.sql(follower)
                target.sql("DROP TABLE mart.copied; TRUNCATE plainstep.marks, plainstep.ledger")
                text = text.replace("changes = 'capture'", "changes = 'log'")
                acts_as("follower")
                for statement in (
                    [],
                    ["UPDATE tree SET a = 2"],
                    ["INSERT INTO tree VALUES (3, 2, 'ash')", "DELETE FROM tree WHERE k = 2"],
                ):
                    source.sql(*statement)
                    for command in ("step", "check", "status"):
                        self.assertEqual(town.run(command, INTO[0]).exit_code, 0, town.run(command, INTO[0]).output)
                self.assertEqual(target.rows("mart.copied"), source.rows())
            finally:
                town.config.write_text(text)
                for database in (source, target):
                    for name in ("keeper", "reader", "follower", "writer"):
                        with contextlib.suppress(psycopg.errors.UndefinedObject), database.connect() as connection:
                            connection.execute(f"DROP OWNED BY {name} CASCADE")
                with cluster().connect() as connection:
                    connection.execute("DROP ROLE IF EXISTS keeper, reader, follower, writer")

    def test_a_stranger_writes_and_is_recorded_whatever_tricks_it_tries(self) -> None:
        stranger = role()
        with park(TREE) as (source, target, town):
            source.sql(
                f"GRANT INSERT, UPDATE, DELETE, TRUNCATE, SELECT ON tree TO {stranger}",
                f"CREATE SCHEMA evil AUTHORIZATION {stranger}",
            )
            with source.connect(stranger) as connection:
                connection.execute(
                    "CREATE FUNCTION evil.to_jsonb(anyelement) RETURNS jsonb LANGUAGE sql AS $$ SELECT '{}'::jsonb $$"
                )
                connection.execute("CREATE FUNCTION evil.no(text, text) RETURNS bool LANGUAGE sql AS 'SELECT false'")
                connection.execute("CREATE OPERATOR evil.= (LEFTARG = text, RIGHTARG = text, FUNCTION = evil.no)")
                connection.execute("CREATE TABLE evil.captures (k int); CREATE TYPE evil.jsonb AS (x int)")
                connection.execute(
                    "SET search_path = evil, pg_catalog, public; SET extra_float_digits = -5; SET datestyle = 'German'"
                )
                connection.execute(
                    "INSERT INTO tree VALUES (1, 1, 'oak'); UPDATE tree SET a = 2; INSERT INTO tree VALUES (2, 2, 'elm')"
                )
                with self.assertRaises(psycopg.errors.InsufficientPrivilege):
                    connection.execute("INSERT INTO plainstep.\"public.tree\" (op) VALUES ('delete')")
                with self.assertRaises(psycopg.errors.InsufficientPrivilege):
                    connection.execute(
                        "CREATE TRIGGER t AFTER TRUNCATE ON evil.captures EXECUTE FUNCTION plainstep.record_1()"
                    )
            look = town.project.look(INTO[0], after="start")
            self.assertEqual(look.changes.table["by"].to_pylist(), [stranger] * 3)
            town.project.step()
            self.assertEqual(target.rows("copied"), [(1, 2, "oak"), (2, 2, "elm")])


class Looking(unittest.TestCase):
    def test_looking_writes_nothing(self) -> None:
        """Law 5: no look is given a transaction number, which every write needs, at the source or the target."""
        with park(TREE) as (source, target, town):
            source.sql(ROWS)
            town.project.step(*INTO[:2])
            source.sql("DELETE FROM tree WHERE k = 500", *EDITS)
            looks = (
                ["look", "--where", "now.k > 3"], ["look", "--format", "csv"], ["net"], ["mark"], ["check"], ["trace", "1"],
            )  # fmt: skip
            for load, words in itertools.product(INTO[:2], looks):
                self.quietly(source, target, town, words[0], load, *words[1:])
            for words in (
                ["status", "--metrics", "-"],
                ["ledger", "--totals"],
                ["capture", "list"],
                ["trim", "source"],
                ["aside"],
            ):
                self.quietly(source, target, town, *words)
            self.assertGreater(town.project.step(INTO[0])[0].changes, 0)

    def quietly(self, source: Any, target: Any, town: Town, *words: str) -> None:
        """Run a command during which no transaction writes. (The server itself may: then it is run again.)"""

        def numbers() -> list[int]:
            found = []
            for database in (source, target):
                with database.connect() as connection:
                    row = connection.execute("SELECT pg_snapshot_xmax(pg_current_snapshot())::text::bigint").fetchone()
                    found.append(row[0])
            return found

        seen = []
        for _ in range(3):
            before = numbers()
            result = town.run(*words)
            self.assertNotIn(result.exit_code, (1, 2), result.output)
            seen.append(numbers() == before)
            if seen[-1]:
                return
        self.assertTrue(any(seen), words)


class Operating(unittest.TestCase):
    """Lives, checks and trimming where transactions overlap and rows are of every type."""

    def test_a_row_of_every_type_is_brought_back(self) -> None:
        """Also where some columns are computed, or numbered by the table itself."""
        for more in ("", "number int GENERATED ALWAYS AS IDENTITY"):
            table = ALL_TYPES.replace('"select" text,', f'"select" text, {more},' if more else '"select" text,')
            values = VALUES.replace("VALUES\n", "OVERRIDING SYSTEM VALUE VALUES\n").replace(
                "'reserved')", "'reserved', 7)"
            )
            with park('CREATE SCHEMA "Odd schema"', table, table=ODD) as (source, _, town):
                source.sql((values if more else VALUES) % 1, f"INSERT INTO {ODD} (k) VALUES (2)")
                town.project.step(INTO[1])
                whole = f"SELECT to_jsonb(x) - 'j' FROM {ODD} x"
                before = source.rows(whole)
                source.sql(f"DELETE FROM {ODD}")
                for key in ("1", "2"):
                    source.sql(town.project.trace(INTO[1], key).restore)
                self.assertEqual(source.rows(whole), before)
                told = town.project.trace(INTO[1], "1")
                self.assertEqual(
                    [one.change["op"] for one in told.events], ["insert", "delete", "insert"][-len(told.events) :]
                )
                self.assertEqual({one.change["by"] for one in told.events}, {"postgres"})
                self.assertEqual(len({one.change["txn"] for one in told.events}), len(told.events))
                [txn] = {one.change["txn"] for one in told.events[-1:]}
                found = json.loads(town.run("look", INTO[1], "--txn", str(txn), "--json").stdout)
                self.assertEqual([one["key"]["k"] for one in found["changes"]], [1])
                town.project.step()
                self.assertTrue(all(one.ok for one in town.project.check()))

    def test_a_first_configuration(self) -> None:
        """init sees every table of every schema, of a partitioned one the whole, and what of them is captured."""
        statements = [
            "CREATE SCHEMA parks", "CREATE TABLE parks.bench (b int PRIMARY KEY, at text)", "CREATE TABLE note (words text)",
            "CREATE TABLE visit (v int, day date, PRIMARY KEY (v, day)) PARTITION BY RANGE (day)",
            "CREATE TABLE visit_2026 PARTITION OF visit FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')",
        ]  # fmt: skip
        with park(TREE, *statements) as (source, _, town):
            made = town.path / "made.toml"
            self.assertEqual(town.run("init", source.url, "duckdb:///made.duckdb", "-o", str(made)).exit_code, 0)
            text = made.read_text()
            self.assertNotIn("visit_2026", text)
            self.assertIn("key v, day; not captured yet", text)
            self.assertIn(".public.tree: 3 columns, key k; captured", text)
            self.assertIn("# Left out: it has no primary key.", text)
            project = plainstep.load_project(made)
            self.assertEqual(sorted(project.loads), ["bench", "tree", "visit"])
            for line in re.findall(r"#   plainstep capture on (.*)", text):
                project.capture_on(line)
            self.assertEqual({one.outcome for one in project.step()}, {"stepped"})

    def test_what_an_open_transaction_wrote_is_not_trimmed(self) -> None:
        """Its numbers lie before others that every reader has merged; the change itself is yet to come."""
        with park(TREE) as (source, target, town), source.connect() as late:
            town.project.step()
            with late.transaction():
                late.execute("INSERT INTO tree VALUES (1, 1, 'late')")
                source.sql("INSERT INTO tree VALUES (2, 2, 'soon')", "UPDATE tree SET a = 3 WHERE k = 2")
                self.assertEqual({one.changes for one in town.project.step()}, {2})
                [found] = town.project.trim("source", really=True)
                self.assertEqual((found.gone, len(found.readers)), (1, 3))
                self.assertTrue(all(one.ok for one in town.project.check()))
            for outcome in town.project.step():
                self.assertEqual((outcome.outcome, outcome.changes), ("stepped", 1))
            self.assertEqual(target.rows("copied"), source.rows())
            self.assertEqual({one.health for one in town.project.status()}, {"ok"})

    def test_a_target_is_mended_while_a_transaction_is_open(self) -> None:
        with park(TREE) as (source, target, town), source.connect() as late:
            source.sql("INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 50) n")
            town.project.step()
            target.sql(
                "DELETE FROM copied WHERE k < 4",
                "UPDATE copied SET a = -1 WHERE k = 9",
                "INSERT INTO copied VALUES (99, 0, '')",
            )
            with late.transaction():
                late.execute("UPDATE tree SET b = 'late' WHERE k IN (2, 9, 20)")
                source.sql("DELETE FROM tree WHERE k = 30")
                [found] = town.project.check(INTO[0])
                self.assertEqual((found.missing, found.different, found.extra, found.waiting), (3, 1, 1, 1))
                [part] = town.project.check(INTO[0], scope=Scope(("b",), "k > 3"))
                self.assertEqual((part.missing, part.different, part.extra), (0, 0, 1))
                [mended] = town.project.check(INTO[0], mend=True)
                assert mended.mended
                self.assertEqual((mended.mended.kind, mended.mended.put, mended.mended.drop), ("mend", 4, 1))
                self.assertTrue(town.project.check(INTO[0])[0].ok)
            [outcome] = town.project.step(INTO[0])
            self.assertEqual((outcome.changes, outcome.entry and outcome.entry.contradictions), (4, 0))
            self.assertEqual(target.rows("copied"), source.rows())

    def test_who_may_only_read_is_told(self) -> None:
        """A role that cannot write itself down steps all the same; status says that trim does not know of it."""
        reader = role()
        with park(TREE) as (source, _, town):
            text = town.config.read_text()
            try:
                source.sql(
                    f"GRANT USAGE ON SCHEMA plainstep, public TO {reader}",
                    f'GRANT SELECT ON public.tree, plainstep.captures, plainstep.readers, plainstep."public.tree" TO {reader}',
                )  # fmt: skip
                town.config.write_text(text.replace(source.url, source.server.url(source.name, reader)))
                town.project.step(INTO[1])
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                found = town.run("status", INTO[1])
                self.assertEqual(found.exit_code, 3, found.output)
                self.assertIn("does not know this load as a reader", found.output)
                self.assertEqual(town.project.step(INTO[1])[0].changes, 1)
                self.assertEqual(town.rows("house", "copied"), source.rows())
            finally:
                town.config.write_text(text)
                source.sql(f"DROP OWNED BY {reader}")


class Held(unittest.TestCase):
    """What is held of the changes, and what happens when it is not what it was."""

    def test_trimmed_and_read_by_position(self) -> None:
        with park(TREE) as (source, target, town):
            writers = Writers(source)
            town.project.step()
            writers.act("begin", 0)
            writers.act("put", 0, 1)  # position 1, and open for long
            source.sql(
                "INSERT INTO tree VALUES (2, 2, 'x')",
                "UPDATE tree SET a = 3 WHERE k = 2",
                "UPDATE tree SET a = 4 WHERE k = 2",
            )
            town.project.step(INTO[0], INTO[1])
            writers.act("commit", 0)
            writers.close()

            def positions(after: str | None, upto: str | None = None) -> Any:
                return town.project.look(INTO[0], after, upto).changes.table["seq"].to_pylist()

            self.assertEqual(
                [positions("start"), positions("1"), positions("2", "3"), positions(None)],
                [[1, 2, 3, 4], [2, 3, 4], [3], [1]],
            )
            source.sql(
                "CREATE TABLE two (k int); INSERT INTO tree VALUES (6, 6, 'p'); INSERT INTO tree VALUES (7, 7, 'q')"
            )
            look = town.run("look", INTO[0], "--after", "start", "--upto", "5")
            self.assertIn("Note: 5 is amid a transaction, which is never split: 4 is taken instead.", look.output)
            loads = [town.project.load(name) for name in INTO[:2]]
            places = [load.target.mark(load.name).place for load in loads]
            self.assertEqual(loads[0].source.trim(places), 2)  # what both have merged but the newest
            self.assertEqual(positions(None), [1, 5, 6])
            for load in loads:
                self.assertEqual(town.project.step(load.name)[0].changes, 3)
            self.assertEqual(target.rows("copied"), source.rows())
            self.assertIn("were trimmed", str(town.project.step(INTO[2], raise_errors=False)[0].error))
            town.project.reload(INTO[2])
            self.assertTrue(town.project.check(INTO[2])[0].ok)

    def test_copied_restored_and_cleared(self) -> None:
        with park(TREE) as (source, _, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step()
            source.sql(*["UPDATE tree SET a = a + 1"] * 3)
            town.project.step(INTO[1])
            with cluster().connect() as connection:
                town.project.stores.clear()
                connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", [source.name]
                )
                connection.execute(f"CREATE DATABASE {source.name}_copy TEMPLATE {source.name}")
            text = town.config.read_text()
            try:
                town.config.write_text(text.replace(source.url, source.url + "_copy"))
                self.assertIn(
                    "this is a copy of the database", str(town.project.step(INTO[1], raise_errors=False)[0].error)
                )
                town.project.capture_refresh("source.public.tree")
                self.assertIn("was rebuilt", str(town.project.step(INTO[1], raise_errors=False)[0].error))
            finally:
                town.config.write_text(text)
                with cluster().connect() as connection:
                    connection.execute(f"DROP DATABASE {source.name}_copy WITH (FORCE)")
            harms = {
                'DELETE FROM plainstep."public.tree" WHERE seq > 1': "ahead of the source's head",
                'TRUNCATE plainstep."public.tree"': "were cleared",
            }
            for harm, words in harms.items():
                source.sql(harm)
                result = town.run("step", INTO[1])
                self.assertIn(words, result.output)
                if "cleared" in words:
                    town.project.capture_refresh("source.public.tree")
                town.project.reload(INTO[1])
                source.sql("UPDATE tree SET a = a + 1")
                town.project.step(INTO[1])
                self.assertEqual(town.rows("house", "copied"), source.rows())

    def test_from_one_schema_to_another_of_one_database(self) -> None:
        for how in ("capture", "log"):
            with (
                self.subTest(how),
                park(TREE, "CREATE SCHEMA mart", "INSERT INTO tree VALUES (1, 1, 'oak')", how=how) as (source, _, town),
            ):
                load = f"[loads.within]\nfrom = 'source.public.tree'\ninto = 'source.mart.tree'\nchanges = '{how}'\n"
                town.config.write_text(town.config.read_text() + load)
                for statement in (
                    [],
                    ["UPDATE tree SET a = 2"],
                    ["DELETE FROM tree", "INSERT INTO tree VALUES (2, 2, 'elm')"],
                ):
                    source.sql(*statement)
                    self.assertEqual(town.project.step("within")[0].outcome, "stepped")
                    self.assertEqual(source.rows("mart.tree"), source.rows())


class Times(unittest.TestCase):
    def test_midnight_to_midnight(self) -> None:
        """Exactly the transactions that committed between two times, however long before they wrote."""
        for how, kept in (("log", "off"), ("capture", "off"), ("capture", "on")):
            server = cluster()
            with server.connect() as connection:
                connection.execute(f"ALTER SYSTEM SET track_commit_timestamp = {kept}")
            if how == "capture":
                server.stop("fast")
                server.start()
            with self.subTest(how, kept=kept), park(TREE, how=how) as (source, _, town):
                writers = Writers(source)
                source.sql("INSERT INTO tree SELECT n, 0, 'old' FROM generate_series(1, 4) n")
                writers.act("begin", 0)
                writers.act("put", 0, 1)  # written before the day, committed in it
                writers.act("begin", 1)
                writers.act("put", 1, 2)
                [(midnight,)] = source.rows("SELECT clock_timestamp()")
                source.sql("UPDATE tree SET b = 'that day' WHERE k = 3")
                writers.act("commit", 0)
                time.sleep(0.05)
                [(next_midnight,)] = source.rows("SELECT clock_timestamp()")
                writers.act("commit", 1)
                source.sql("UPDATE tree SET b = 'after' WHERE k = 4")
                writers.close()
                for read in (town.project.look, town.project.net):
                    found = read(INTO[0], midnight.isoformat(), next_midnight.isoformat())
                    table = found.changes.table if isinstance(found, LookResult) else found.net.to_arrow()
                    keys = table["now.k" if isinstance(found, LookResult) else "k"].to_pylist()
                    exact = how == "log" or kept == "on"
                    self.assertEqual(sorted(keys), [1, 3] if exact else [3])
                    self.assertEqual(bool(found.note), not exact)
                late = town.run("look", INTO[0], "--after", next_midnight.isoformat())
                self.assertIn("after", late.output)
                self.assertEqual("track_commit_timestamp is off" in late.output, not exact)
                town.project.move_mark(INTO[1], next_midnight.isoformat())
                self.assertEqual(town.project.step(INTO[1])[0].net["update"], 2 if exact else 1)


if __name__ == "__main__":
    unittest.main()
