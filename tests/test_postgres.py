"""PostgreSQL for real: concurrent writers, open transactions, lost connections, odd tables, least privileges."""

from __future__ import annotations

import time
import unittest
import unittest.mock
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.postgres import ALL_TYPES, INTO, ODD, TREE, VALUES, Database, Writers, park
from tests.support import WITHOUT_SHRINKING, Town, examples

acts = st.one_of(
    st.tuples(st.just("begin"), st.integers(0, 2)),
    st.tuples(st.sampled_from(["commit", "commit", "rollback", "savepoint", "undo"]), st.integers(0, 2)),
    st.tuples(st.sampled_from(["put", "put", "put", "delete", "rekey", "xid"]), st.integers(0, 2), st.integers(0, 4)),
    st.tuples(st.just("step"), st.integers(0, 2)),
)


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
        @settings(max_examples=examples(5), deadline=None, phases=WITHOUT_SHRINKING)
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

    def test_every_way_to_write_captured_by_triggers(self) -> None:
        self.every_way_to_write("capture")

    def test_every_way_to_write_read_from_the_log(self) -> None:
        self.every_way_to_write("log")

    def every_way_to_write(self, how: str) -> None:
        """COPY, upserts, key updates and swaps, truncate, cascades, partitions, replication's own session setting."""
        ward = "CREATE TABLE ward (w int PRIMARY KEY)"
        tree = (
            "CREATE TABLE tree (k int, w int REFERENCES ward ON UPDATE CASCADE ON DELETE CASCADE, b text, PRIMARY KEY (k, w)) "
            "PARTITION BY RANGE (k)"
        )
        parts = [
            f"CREATE TABLE tree_{n} PARTITION OF tree FOR VALUES FROM ({n * 10}) TO ({n * 10 + 10})" for n in range(2)
        ]
        with park(ward, tree, *parts, how=how) as (source, target, town):
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
                    self.assertIn("was renamed to public.bush", str(outcome.error))
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

    def test_what_the_log_does_not_hold_by_the_primary_key(self) -> None:
        self.what_the_log_does_not_hold("DEFAULT")

    def test_what_the_log_does_not_hold_by_the_whole_row(self) -> None:
        self.what_the_log_does_not_hold("FULL")

    def test_what_the_log_does_not_hold_by_another_index(self) -> None:
        self.what_the_log_does_not_hold("USING INDEX by_a")

    def what_the_log_does_not_hold(self, identity: str) -> None:
        """By a replica identity; large values that did not change and are not sent."""
        big = "string_agg(md5(n::text), '')"
        tree = "CREATE TABLE tree (k int PRIMARY KEY, a int NOT NULL, b text)"
        statements = [tree, "ALTER TABLE tree ALTER b SET STORAGE EXTERNAL", "CREATE UNIQUE INDEX by_a ON tree (a)"]
        with park(*statements, f"ALTER TABLE tree REPLICA IDENTITY {identity}", how="log") as (source, target, town):
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
            self.same(source, target, town)  # a large value of a row that moved is not in the log: the target has it
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


if __name__ == "__main__":
    unittest.main()
