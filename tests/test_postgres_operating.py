"""PostgreSQL in operation: looking, trimming, what a slot holds back, times."""

from __future__ import annotations

import itertools
import json
import re
import time
import unittest
import unittest.mock
from typing import Any

import plainstep
from plainstep import Scope
from plainstep.views.changes import LookResult
from tests.postgres import ALL_TYPES, EDITS, INTO, ODD, ROWS, TREE, VALUES, Relay, Writers, cluster, park, role
from tests.support import Town


class Looking(unittest.TestCase):
    def test_looking_writes_nothing(self) -> None:
        """Law 5: no look is given a transaction number, which every write needs, at the source or the target."""
        with park(TREE) as (source, target, town):
            source.sql(ROWS)
            town.project.step(*INTO[:2])
            source.sql("DELETE FROM tree WHERE k = 500", *EDITS)
            looks = (
                ["look", "--where", "now.k > 3"], ["look", "--format", "csv"], ["net"], ["watermark"], ["check"], ["trace", "1"],
            )  # fmt: skip
            for load, words in itertools.product(INTO[:2], looks):
                self.quietly(source, target, town, words[0], load, *words[1:])
            for words in (
                ["status", "--metrics", "-"],
                ["ledger", "--totals"],
                ["capture", "list"],
                ["trim", "source"],
                ["quarantine"],
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

    def test_a_target_is_repaired_while_a_transaction_is_open(self) -> None:
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
                [repaired] = town.project.check(INTO[0], repair=True)
                assert repaired.repaired
                self.assertEqual(
                    (repaired.repaired.kind, repaired.repaired.put, repaired.repaired.drop), ("repair", 4, 1)
                )
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
            places = [load.target.watermark(load.name).reached for load in loads]
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
                town.project.move_watermark(INTO[1], next_midnight.isoformat())
                self.assertEqual(town.project.step(INTO[1])[0].net["update"], 2 if exact else 1)


class Distance(unittest.TestCase):
    def test_a_load_with_nothing_to_do_waits_for_few_answers(self) -> None:
        """Of a server far away, each answer takes as long as all that a small step computes."""
        with park(TREE, ROWS) as (source, target, town), Relay(source.server.port) as relay:
            settings = town.config.read_text()
            for database in (source, target):
                far = database.url.replace(f":{database.server.port}/", f":{relay.port}/")
                settings = settings.replace(database.url, far)
            town.config.write_text(settings)
            project = town.project
            project.step(INTO[0])
            project.step(INTO[0])
            before = relay.waits
            self.assertEqual(project.step(INTO[0])[0].outcome, "nothing")
            self.assertTrue(0 < relay.waits - before <= 36, relay.waits - before)


if __name__ == "__main__":
    unittest.main()
