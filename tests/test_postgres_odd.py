"""PostgreSQL where it is odd: partitions, heirs, row-level policies, settings of others, publications that somebody changes."""

from __future__ import annotations

import re
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.postgres import INTO, Database, park, role
from tests.support import WITHOUT_SHRINKING, Town, examples

TREE = "CREATE TABLE tree (k int PRIMARY KEY, a int, b text)"
PARTED = (
    "CREATE TABLE tree (k int PRIMARY KEY, a int, b text) PARTITION BY RANGE (k)",
    "CREATE TABLE low PARTITION OF tree FOR VALUES FROM (0) TO (10)",
    "CREATE TABLE mid (b text, a int, k int NOT NULL)",
    "ALTER TABLE tree ATTACH PARTITION mid FOR VALUES FROM (10) TO (20)",
    "CREATE TABLE high (junk int, b text, k int NOT NULL, a int)",
    "ALTER TABLE high DROP COLUMN junk",
    "ALTER TABLE tree ATTACH PARTITION high FOR VALUES FROM (20) TO (30)",
)
ROWS = "INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 29) n"


class Odd(unittest.TestCase):
    def same(self, source: Database, target: Database, town: Town) -> None:
        town.project.step()
        self.assertEqual(target.rows("copied"), source.rows())
        self.assertTrue(all(one.ok for one in town.project.check()))

    def refused(self, town: Town, told: str) -> str:
        """Every load refuses, status says so; the remedy is given back."""
        remedy = ""
        for outcome in town.project.step(raise_errors=False):
            assert outcome.error, told
            self.assertRegex(str(outcome.error), told)
            remedy = outcome.error.next
        return remedy

    def repaired(self, source: Database, target: Database, town: Town, remedy: str) -> None:
        """What a remedy names, run: then both sides are the same, and status is ok."""
        for words in re.findall(r"plainstep ((?:capture|reload)[\w .-]*)", remedy):
            for load in INTO if "LOAD" in words else ("",):
                done = town.run(*words.replace("LOAD", load).split(" compares")[0].split())
                self.assertEqual(done.exit_code, 0, done.output)
        self.assertEqual([one.health for one in town.project.status()], ["ok"] * 3)
        source.sql("UPDATE tree SET a = coalesce(a, 0) + 1")
        self.same(source, target, town)


class Captured(Odd):
    """B9 to B11."""

    def test_a_partition_truncated_by_a_transaction_with_an_old_snapshot(self) -> None:
        with park(*PARTED) as (source, target, town):
            source.sql(ROWS)
            self.same(source, target, town)
            with source.connect() as late:
                late.execute("BEGIN ISOLATION LEVEL REPEATABLE READ")
                late.execute("SELECT count(*) FROM tree")
                source.sql("DELETE FROM tree WHERE k = 12", "INSERT INTO tree VALUES (12, 12, 'fresh')")
                late.execute("TRUNCATE mid")
                late.execute("COMMIT")
            remedy = self.refused(town, "did not see all of its rows")
            self.repaired(source, target, town, remedy)
            source.sql("TRUNCATE high")  # as it mostly is
            self.same(source, target, town)

    def test_others_settings_of_role_and_database(self) -> None:
        """A refresh beside a writer takes its snapshot when the writer has ended, whatever the defaults say."""
        with park(TREE) as (source, target, town):
            for name, value in {
                "default_transaction_isolation": "'repeatable read'",
                "timezone": "'Asia/Tokyo'", "datestyle": "'SQL, DMY'", "intervalstyle": "'iso_8601'",
                "search_path": "nowhere", "bytea_output": "'escape'", "extra_float_digits": "-5",
                "standard_conforming_strings": "off", "default_transaction_read_only": "on",
            }.items():  # fmt: skip
                source.sql(f"ALTER DATABASE {source.name} SET {name} = {value}")
                target.sql(f"ALTER DATABASE {target.name} SET {name} = {value}")
            writing = {"options": "-c default_transaction_read_only=off -c search_path=public"}
            with source.connect(**writing) as writer:
                writer.execute("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm'), (3, 3, E'\\\\n'' OR true --')")
                town.project.step()
                writer.execute("ALTER TABLE tree ADD COLUMN planted timestamptz, ADD COLUMN height float8")
                writer.execute("BEGIN")
                writer.execute("UPDATE tree SET planted = '2026-01-02 03:04:05+00', height = 0.1 + 0.2 WHERE k = 1")
                done = town.child(REFRESH)
                wait_until_waiting(source)
                writer.execute("COMMIT")
                told = done.communicate(timeout=240)[0]
                self.assertEqual(done.returncode, 0, told)
            town.project.step()
            with target.connect(options="-c search_path=public") as there, source.connect(**writing) as here:
                rows = "SELECT k, a, b, planted AT TIME ZONE 'UTC', height FROM {} ORDER BY k"
                found = there.execute(rows.format("copied")).fetchall()
                self.assertEqual(found, here.execute(rows.format("tree")).fetchall())
                self.assertIsNotNone(found[0][3])
            self.assertTrue(all(one.ok for one in town.project.check()))

    def test_a_writer_whose_zone_has_seconds(self) -> None:
        with park("CREATE TABLE tree (k int PRIMARY KEY, planted timestamptz, a int)") as (source, target, town):
            town.project.step()
            with source.connect(options="-c timezone=Europe/Amsterdam") as writer:
                writer.execute("INSERT INTO tree VALUES (1, '1920-05-04 03:02:01', 0), (2, '1850-01-01 00:00:00', 0)")
            self.same(source, target, town)

    def test_a_capture_of_an_earlier_release_is_brought_up(self) -> None:
        with park(TREE) as (source, target, town):
            [(name, body)] = source.rows(
                "SELECT oid::regprocedure::text, prosrc FROM pg_proc WHERE pronamespace = 'plainstep'::regnamespace"
            )
            older = body.replace("'lost'", "'truncate'")
            source.sql(f"CREATE OR REPLACE FUNCTION {name} RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $x${older}$x$",
                       "ALTER TABLE plainstep.captures DROP COLUMN fingerprint", "COMMENT ON TABLE plainstep.captures IS NULL")  # fmt: skip
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            self.same(source, target, town)
            told = town.run("status").output
            self.assertIn("was made for the table as it was: plainstep capture refresh source.public.tree", told)
            source.sql("INSERT INTO tree VALUES (2, 2, 'elm')")
            self.assertIn("nothing was missed", town.run("capture", "refresh", "source.public.tree").output)
            self.assertNotIn("the table as it was", town.run("status").output)
            self.same(source, target, town)
            source.sql("COMMENT ON TABLE plainstep.captures IS 'Plain Step, format 99'")
            self.refused(town, "format 99")

    def test_changes_that_an_earlier_release_kept_as_json(self) -> None:
        kinds = "k int PRIMARY KEY, a int, b text, n numeric(6,2), t timestamptz, j jsonb"
        with park(f"CREATE TABLE tree ({kinds})") as (source, target, town):
            [(oid,)] = source.rows("SELECT 'tree'::regclass::oid")
            self.same(source, target, town)
            source.sql(
                'ALTER TABLE plainstep."public.tree" DROP COLUMN fields, DROP COLUMN was, DROP COLUMN now',
                'ALTER TABLE plainstep."public.tree" ADD COLUMN was jsonb, ADD COLUMN now jsonb',
                f"CREATE OR REPLACE FUNCTION plainstep.record_{oid}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $x$BEGIN "
                "INSERT INTO plainstep.\"public.tree\" (op, was, now) VALUES (lower(TG_OP), CASE WHEN TG_OP <> 'INSERT' THEN "
                "to_jsonb(OLD) END, CASE WHEN TG_OP <> 'DELETE' THEN to_jsonb(NEW) END); RETURN NULL; END $x$",
                "INSERT INTO tree VALUES (1, 1, E'a \"b\"\n\\\\', 1.5, '2020-01-01 12:00+02', '{\"z\": 1}'), (2, NULL, '', NULL, NULL, NULL)",
                "UPDATE tree SET b = 'elm' WHERE k = 2", "DELETE FROM tree WHERE k = 2",
            )  # fmt: skip
            remedy = self.refused(town, "stored in the format of an earlier release")
            self.assertEqual(town.run(*remedy.split()[1:]).exit_code, 0)
            self.same(source, target, town)
            ops = [event.change["op"] for event in town.project.trace("into_duckdb", "2").events]
            self.assertEqual(ops, ["insert", "update", "delete"])

    def test_a_row_that_cannot_be_recorded_never_fails_its_writer(self) -> None:
        with park(TREE) as (source, target, town):
            [(oid, body)] = source.rows(
                "SELECT proname, prosrc FROM pg_proc WHERE pronamespace = 'plainstep'::regnamespace"
            )
            self.same(source, target, town)
            smaller = body.replace("900000000", "1000")
            self.assertNotEqual(body, smaller)
            source.sql(f"CREATE OR REPLACE FUNCTION plainstep.{oid}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $x${smaller}$x$",
                       "INSERT INTO tree VALUES (1, 1, 'oak')", "INSERT INTO tree VALUES (2, 2, repeat('x', 2000))")  # fmt: skip
            remedy = self.refused(town, "A row of public.tree could not be recorded: the row is too large")
            source.sql("DELETE FROM tree WHERE k = 2")
            self.repaired(source, target, town, remedy)

    def test_columns_that_go_and_are_renamed_under_a_capture(self) -> None:
        with park(TREE) as (source, target, town):
            source.sql("INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 4) n")
            self.same(source, target, town)
            for change in (
                "ALTER TABLE tree RENAME b TO species",
                "ALTER TABLE tree DROP COLUMN a",
                "ALTER TABLE tree ADD COLUMN a int DEFAULT 7, ADD COLUMN b text",
            ):
                source.sql(change, "INSERT INTO tree (k, species) SELECT max(k) + 1, NULL FROM tree" if "RENAME" not in change
                           else "INSERT INTO tree SELECT max(k) + 1, 0, 'elm' FROM tree")  # fmt: skip
                source.sql("UPDATE tree SET species = species || '!' WHERE k = 1")
            self.assertIn("capture refresh", town.run("status").output)
            self.assertEqual(town.run("capture", "refresh", "source.public.tree").exit_code, 0)
            for load in INTO:
                done = town.run("step", load)
                self.assertEqual(done.exit_code, 0, done.stderr)
            wanted = source.rows("SELECT k, species, a, b FROM tree")
            for now in ("UPDATE tree SET a = a + 1, b = 'x' WHERE k < 4", "DELETE FROM tree WHERE k = 5"):
                self.assertEqual(target.rows("SELECT k, species, a, b FROM copied"), wanted)
                source.sql(now)
                town.project.step()
                wanted = source.rows("SELECT k, species, a, b FROM tree")
            self.assertTrue(all(one.ok for one in town.project.check()))

    def test_names_that_look_like_something_else(self) -> None:
        odd = '"a.b"."100% %s $record0$"'
        columns = 'k int PRIMARY KEY, "%s $record0$ $record1$" text, "a.b" int'
        made = ('CREATE SCHEMA "a.b"', "CREATE SCHEMA a", f"CREATE TABLE {odd} ({columns})")
        twins = ('CREATE TABLE "a.b".c (k int PRIMARY KEY, a int)', 'CREATE TABLE a."b.c" (k int PRIMARY KEY, a int)')
        with park(*made, *twins, table=odd) as (source, target, town):
            for name in ('source."a.b".c', 'source.a."b.c"'):
                town.project.capture_on(name)
            for change in (
                f"INSERT INTO {odd} VALUES (1, '50% %s', 2)",
                f'UPDATE {odd} SET "a.b" = 3',
                f"INSERT INTO {odd} VALUES (2, NULL, NULL)",
                f"TRUNCATE {odd}",
                f"INSERT INTO {odd} VALUES (3, '%', 4)",
            ):
                source.sql(change, 'INSERT INTO a."b.c" SELECT count(*) FROM a."b.c"')
                town.project.step()
                self.assertEqual(target.rows("copied"), source.rows(odd))
                self.assertTrue(all(one.ok for one in town.project.check()))
            held = {one.table: one.held for _, one in town.project.captures("source")}
            self.assertEqual(held, {odd: 5, '"a.b".c': 0, 'a."b.c"': 5})
            self.assertEqual(town.run("trim", "source").exit_code, 0)
            self.assertEqual(town.run("trace", "into_duckdb", "3").exit_code, 0)

    def test_tables_that_others_inherit_from(self) -> None:
        heir = "CREATE TABLE heir (extra int) INHERITS (tree)"
        for how in ("capture", "log"):
            with self.subTest(how), park(TREE, how=how) as (source, target, town):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                self.same(source, target, town)
                source.sql(heir, "INSERT INTO heir VALUES (7, 7, 'elm', 7)")
                if how == "capture":  # the log's publication would make this fail, which is why it is refused at first
                    source.sql("UPDATE heir SET a = 8")
                remedy = self.refused(town, "Other tables inherit from")
                self.assertIn("changes = 'diff'", remedy)
                self.assertEqual({one.health for one in town.project.status()}, {"refuses"})
                town.run("capture", "off", "source.public.tree", "--how", how, "--yes")
                on = town.run("capture", "on", "source.public.tree", "--how", how)
                self.assertEqual(on.exit_code, 4)
                self.assertIn("Other tables inherit from", on.output)
                source.sql("UPDATE heir SET a = 9")  # the application goes on
                town.config.write_text(town.config.read_text().replace(f"'{how}'", "'diff'"))
                for name in INTO:
                    self.assertEqual(town.run("reload", name).exit_code, 0)
                self.assertEqual({one.health for one in town.project.status()}, {"ok"})

    def test_rows_that_a_policy_hides(self) -> None:
        with park(TREE) as (source, target, town):
            reader = role()
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
            self.same(source, target, town)
            source.sql(
                "ALTER TABLE tree ENABLE ROW LEVEL SECURITY", "CREATE POLICY mine ON tree USING (a = 1)",
                f"GRANT SELECT ON tree TO {reader}", f"GRANT USAGE ON SCHEMA plainstep TO {reader}",
                f"GRANT SELECT ON ALL TABLES IN SCHEMA plainstep TO {reader}",
            )  # fmt: skip
            text = town.config.read_text()
            town.config.write_text(text.replace("postgres@", f"{reader}@", 1))
            remedy = self.refused(town, "A row-level policy decides which rows of source.public.tree")
            self.assertEqual(town.run("check").exit_code, 4)
            self.assertEqual({one.health for one in town.project.status()}, {"refuses"})
            [statement] = re.findall(r"ALTER ROLE .*;", remedy)
            source.sql(statement)
            self.assertEqual({one.health for one in town.project.status()}, {"ok"})
            source.sql("UPDATE tree SET a = a + 1")
            self.same(source, target, town)


REFRESH = "from plainstep.cli.main import cli; cli(['capture', 'refresh', 'source.public.tree'])"


def wait_until_waiting(database: Database) -> None:
    """Until somebody waits for a lock."""
    with database.connect() as connection:
        for _ in range(400):
            if connection.execute("SELECT 1 FROM pg_locks WHERE NOT granted").fetchone():
                return
            connection.execute("SELECT pg_sleep(0.02)")
    raise AssertionError("nobody waits")


acts = st.lists(
    st.tuples(st.sampled_from(["put", "move", "delete", "step"]), st.integers(1, 29), st.integers(1, 29)),
    min_size=3,
    max_size=14,
)


class Logged(Odd):
    """C12 to C14."""

    @given(acts)
    @settings(max_examples=examples(4), deadline=None, phases=WITHOUT_SHRINKING)
    def test_partitions_whose_columns_stand_in_another_order(self, history: list[Any]) -> None:
        """Every row, whichever part it lies in, moves between, or leaves."""
        with park(*PARTED, how="log") as (source, target, town):
            source.sql(ROWS)
            for what, key, other in [*history, ("put", 5, 0), ("put", 15, 0), ("put", 25, 0)]:
                statement = {
                    "put": f"INSERT INTO tree VALUES ({key}, {other}, 'elm') ON CONFLICT (k) DO UPDATE SET a = {other}, b = 'ash'",
                    "move": f"UPDATE tree SET k = {other}, a = NULL WHERE k = {key} AND NOT EXISTS (SELECT 1 FROM tree WHERE k = {other})",
                    "delete": f"DELETE FROM tree WHERE k = {key}",
                    "step": "",
                }[what]
                if statement:
                    source.sql(statement)
                else:
                    self.same(source, target, town)
            self.same(source, target, town)

    def test_a_publication_that_somebody_changed(self) -> None:
        """Also when it was set back: what it left out meanwhile is in no log."""
        narrowed = [
            ("SET (publish = 'insert')", "SET (publish = 'insert, update, delete, truncate')"),
            ("SET TABLE tree WHERE (k < 2)", "SET TABLE tree"),
            ("SET TABLE tree (k, a)", "SET TABLE tree"),
            ("DROP TABLE tree", "ADD TABLE tree"),
        ]
        for there, back in narrowed:
            for turned in (True, False):
                with self.subTest(there, back=turned), park(TREE, how="log") as (source, target, town):
                    source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')")
                    self.same(source, target, town)
                    [(name,)] = source.rows("SELECT pubname FROM pg_publication")
                    source.sql(f"ALTER PUBLICATION {name} {there}", "UPDATE tree SET b = 'changed' WHERE k = 2")
                    if turned:
                        source.sql(f"ALTER PUBLICATION {name} {back}")
                    self.repaired(
                        source,
                        target,
                        town,
                        self.refused(town, "was changed, and may have left out|does not publish every"),
                    )

    def test_a_replica_identity_that_was_another_meanwhile(self) -> None:
        tree = ("CREATE TABLE tree (k int PRIMARY KEY, a int NOT NULL UNIQUE, b text)",)
        for then, between in (("DEFAULT", "USING INDEX tree_a_key"), ("FULL", "DEFAULT")):
            with (
                self.subTest(between),
                park(*tree, f"ALTER TABLE tree REPLICA IDENTITY {then}", how="log") as (source, target, town),
            ):
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm'), (3, 3, 'ash')")
                self.same(source, target, town)
                source.sql(
                    f"ALTER TABLE tree REPLICA IDENTITY {between}",
                    "DELETE FROM tree WHERE k = 2",
                    f"ALTER TABLE tree REPLICA IDENTITY {then}",
                )
                self.repaired(source, target, town, self.refused(town, "while its replica identity was another"))

    def test_large_values_in_every_shape(self) -> None:
        """A value that was not sent is filled in where it is known; else the shape refuses, or leaves it out."""
        loads = "".join(
            f"[loads.{name}]\nfrom = 'source.public.tree'\ninto = 'house.{name}'\nchanges = 'log'\n{said}\n"
            for name, said in {
                "history": "shape = 'history'",
                "flagged": "deletes = 'flag'\nstamp = true",
                "journal": "shape = 'journal'",
                "events": "shape = 'events'\nfirst = 'head'\nrules = { any = '' }",
            }.items()
        )
        with park(TREE, "ALTER TABLE tree ALTER b SET STORAGE EXTERNAL", how="log") as (source, _, town):
            town.config.write_text(town.config.read_text() + loads)
            source.sql("INSERT INTO tree VALUES (1, 1, repeat('oak', 3000)), (2, 2, 'elm')")
            town.project.step()
            source.sql("UPDATE tree SET k = 3 WHERE k = 1", "UPDATE tree SET a = 7 WHERE k = 3")
            found = {one.load: one for one in town.project.step(raise_errors=False)}
            self.assertIn("A value that was not sent is not a null", str(found.pop("journal").error))
            self.assertEqual({name: str(one.error) for name, one in found.items() if one.error}, {})
            self.assertTrue(all(one.ok for one in town.project.check("history", "flagged")))
            self.assertEqual(
                [row[2] == "oak" * 3000 for row in town.rows("house", "history") if row[0] == 3], [True, True]
            )
            sent = [row for row in town.rows("house", "events") if '"k": 3' in str(row)]
            self.assertTrue(sent and all('"b"' not in str(row).partition('"now"')[2] for row in sent))
            source.sql("ALTER TABLE tree REPLICA IDENTITY FULL")
            self.assertEqual(town.run("reload", "journal").exit_code, 0)
            source.sql("UPDATE tree SET a = 8 WHERE k = 3")
            town.project.step("journal")
            self.assertTrue(town.project.check("journal")[0].ok)


if __name__ == "__main__":
    unittest.main()
