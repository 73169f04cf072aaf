"""PostgreSQL: what is refused, and why; and what rights are needed."""

from __future__ import annotations

import contextlib
import re
import unittest
import unittest.mock
from collections.abc import Callable, Iterator
from pathlib import Path

import psycopg

from tests.postgres import INTO, TREE, Cluster, Database, cluster, park, role
from tests.support import Town


@contextlib.contextmanager
def impatient_park() -> Iterator[tuple[Database, Database, Town]]:
    """A park whose stores wait for a lock for 0.3 s only."""
    with park(TREE) as (source, target, town):
        text = town.config.read_text().replace("[loads.", "wait = 0.3\n[loads.", 1)
        town.config.write_text(text.replace("[stores.target]", "wait = 0.3\n[stores.target]"))
        source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        yield source, target, town


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

    def test_what_cannot_be_captured(self) -> None:
        with park(TREE) as (source, _, town):
            source.sql("CREATE TABLE loose (a int)", "CREATE TABLE late (k int PRIMARY KEY DEFERRABLE)")
            self.assertIn("There is no table trea in source", self.told(town, "capture", "on", "source.trea"))
            self.assertIn("--key", self.told(town, "capture", "on", "source.loose"))
            self.assertIn("no primary key", self.told(town, "capture", "on", "source.late"))
            self.assertIn("replica identity", self.told(town, "capture", "on", "source.loose", "--how", "log"))
            self.assertIn("--how log", self.told(town, "capture", "off", "source.tree", "--how", "log"))

    def test_capture_that_waits_for_others_says_for_whom(self) -> None:
        with impatient_park() as (source, _, town):
            with source.connect() as other:
                other.execute("CREATE TABLE kept (k int PRIMARY KEY)")
                other.execute("BEGIN; INSERT INTO kept VALUES (1)")
                for how in ("capture", "log"):
                    found = self.told(town, "capture", "on", "source.kept", "--how", how)
                    self.assertIn(f"Waiting for: process {other.info.backend_pid} (postgres", found)
                other.execute("ROLLBACK")
                other.execute("BEGIN; INSERT INTO tree VALUES (2, 2, 'open')")
                self.assertIn("could not begin", self.told(town, "capture", "on", "source.kept", "--how", "log"))
                other.execute("PREPARE TRANSACTION 'left behind'")
                self.assertIn(
                    "prepared transaction 'left behind'",
                    self.told(town, "capture", "on", "source.kept", "--how", "log"),
                )
                other.execute("ROLLBACK PREPARED 'left behind'")
            self.assertEqual(source.rows("SELECT count(*) FROM pg_publication"), [(0,)])

    def test_a_target_that_is_locked_or_in_a_hurry(self) -> None:
        with impatient_park() as (source, target, town):
            town.project.step()
            before = target.rows("copied"), town.project.status(INTO[0])[0].watermark
            source.sql("UPDATE tree SET a = 2")
            with target.connect() as other:
                other.execute("BEGIN; LOCK TABLE copied")
                found = self.told(town, "step", INTO[0])
                self.assertIn(f"process {other.info.backend_pid} (postgres", found)
                other.execute("ROLLBACK")
            with cluster().connect() as connection:
                connection.execute(f"ALTER DATABASE {target.name} SET statement_timeout = '1ms'")
                found = self.told(town, "step", INTO[0])
                # A timeout that fires just as a statement ends is reported as a request to cancel the next one.
                self.assertRegex(found, "canceling statement due to (statement timeout|user request)")
                self.assertIn("Raise statement_timeout for this role", found)
                connection.execute(f"ALTER DATABASE {target.name} RESET statement_timeout")
            self.assertEqual((target.rows("copied"), town.project.status(INTO[0])[0].watermark), before)

    def test_a_value_that_has_no_equivalent_and_a_table_that_is_gone(self) -> None:
        with park(TREE) as (source, _, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step()
            source.sql("UPDATE tree SET b = 'NaN'", "ALTER TABLE tree ADD COLUMN t timestamp DEFAULT 'infinity'")
            town.project.capture_refresh("source.public.tree")
            self.assertIn("'infinity', which has no equivalent", self.told(town, "step", INTO[0]))
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

    def test_what_a_role_lacks_to_follow_the_log(self) -> None:
        with park(TREE, how="log") as (source, _, town):
            source.sql("CREATE TABLE other (k int PRIMARY KEY)")
            plain = role()
            source.sql(f"GRANT USAGE ON SCHEMA plainstep TO {plain}", f"GRANT SELECT ON plainstep.captures TO {plain}")
            text = town.config.read_text()
            town.config.write_text(text.replace("postgres@", f"{plain}@", 1))
            found = self.told(town, "capture", "on", "source.other", "--how", "log")
            for words in (f'ALTER ROLE "{plain}" REPLICATION', "GRANT CREATE ON DATABASE", "does not own other"):
                self.assertIn(words, found)

    def test_a_slot_that_is_gone(self) -> None:
        with park(TREE, how="log") as (source, _, town):
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

    def test_slots_that_are_all_taken(self) -> None:
        with park(TREE, how="log") as (source, _, town):
            source.sql("CREATE TABLE other (k int PRIMARY KEY)")
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

    def test_a_log_that_grew_too_long(self) -> None:
        with park(TREE, how="log") as (source, _, town):
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            town.project.step()
            with cluster().connect() as connection:
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
    def documented(self) -> list[str]:
        """The grants of the page: of the role that captures, that reads, that captures the log, that follows it, that writes."""
        page = (Path(__file__).parents[1] / "docs/stores/postgresql.md").read_text().partition("## Privileges")[2]
        return re.findall(r"```sql\n(.*?)```", page, re.DOTALL)

    @contextlib.contextmanager
    def roles(self, how: str) -> Iterator[tuple[Database, Database, Town, Callable[[str], None]]]:
        """A source and a target of which only the documented roles know, and a switch between them."""
        with park(TREE) as (source, target, town):
            source.sql("DROP SCHEMA plainstep CASCADE", "INSERT INTO tree VALUES (1, 1, 'oak')")
            text = town.config.read_text()

            def acts_as(role: str) -> None:
                into = target.url.replace("postgres@", "writer@")
                town.config.write_text(
                    text.replace(source.url, source.server.url(source.name, role))
                    .replace(target.url, into)
                    .replace("target.copied", "target.mart.copied")
                    .replace("changes = 'capture'", f"changes = '{how}'")
                )

            try:
                yield source, target, town, acts_as
            finally:
                town.config.write_text(text)
                for database in (source, target):
                    for name in ("keeper", "reader", "follower", "writer"):
                        with contextlib.suppress(psycopg.errors.UndefinedObject), database.connect() as connection:
                            connection.execute(f"DROP OWNED BY {name} CASCADE")
                with cluster().connect() as connection:
                    connection.execute("DROP ROLE IF EXISTS keeper, reader, follower, writer")

    def steps(self, source: Database, target: Database, town: Town) -> None:
        for statement in (
            [],
            ["UPDATE tree SET a = 2"],
            ["INSERT INTO tree VALUES (2, 2, 'elm')", "DELETE FROM tree WHERE k = 1"],
        ):
            source.sql(*statement)
            for command in ("step", "check", "status"):
                self.assertEqual(town.run(command, INTO[0]).exit_code, 0, town.run(command, INTO[0]).output)
        self.assertEqual(target.rows("mart.copied"), source.rows())

    def test_the_documented_grants_are_enough_for_capture_by_triggers(self) -> None:
        keeper, reader, _, _, writer = self.documented()
        with self.roles("capture") as (source, target, town, acts_as):
            source.sql(keeper)
            target.sql(writer)
            acts_as("keeper")
            town.project.capture_on("source.public.tree")
            source.sql(reader)
            acts_as("reader")
            self.steps(source, target, town)
            for who, words, status in (
                ("reader", ("capture", "list"), 0),
                ("reader", ("trim", "source", "--yes"), 1),
                ("keeper", ("capture", "list"), 0),
                ("keeper", ("trim", "source", "--yes"), 0),
            ):
                acts_as(who)
                self.assertEqual(town.run(*words).exit_code, status, (who, words))

    def test_the_documented_grants_are_enough_for_the_log(self) -> None:
        keeper, _, log, follower, writer = self.documented()
        with self.roles("log") as (source, target, town, acts_as):
            source.sql(keeper, log.replace("larkmoor", source.name))
            target.sql(writer)
            acts_as("keeper")
            town.project.capture_on("source.public.tree", (), "log")
            source.sql(follower)
            acts_as("follower")
            self.steps(source, target, town)

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


if __name__ == "__main__":
    unittest.main()
