"""What a watermark knows: its target tables, its settings, its format; and that status says what the next step does."""

from __future__ import annotations

import re
import unittest
from itertools import product
from typing import Any
from unittest import mock

import plainstep
from plainstep.stores import ledger as bookkeeping
from tests.landing import Landing
from tests.postgres import Database
from tests.support import TREE, Town
from tests.target_town import ROWS, STORES, set_to, town_into


class Refusing(unittest.TestCase):
    def refused(self, town: Town, told: str) -> str:
        """Status and the step refuse alike, with nothing waiting and with something; what to run."""
        town.sql("UPDATE tree SET a = a + 1 WHERE k = 1")
        [status] = town.project.status()
        [outcome] = town.project.step(raise_errors=False)
        assert outcome.error, told
        self.assertRegex(outcome.error.what, told)
        self.assertEqual((status.health, status.reason), ("refuses", outcome.error.what))
        self.assertEqual((outcome.outcome, town.run("status").exit_code), ("refused", 4))
        return outcome.error.next

    def repaired(self, town: Town, remedy: str) -> None:
        """The command that is named fixes it: afterwards both sides are equal, and status is ok."""
        command = re.match(r"plainstep (reload \w+|watermark \w+ --to \w+)", remedy)
        assert command, remedy
        done = town.run(*command[1].split(), *(["--yes"] if command[1].startswith("watermark") else []))
        self.assertEqual(done.exit_code, 0, done.output)
        [status] = town.project.status()
        self.assertEqual((status.health, status.reason), ("ok", ""))
        town.sql("UPDATE tree SET a = a + 1 WHERE k = 2", "INSERT INTO tree VALUES (3, 3, 'ash')")
        town.project.step()
        [checked] = town.project.check()
        self.assertTrue(checked.ok)


class Tables(Refusing):
    """A1: a watermark is that of one very table."""

    def test_the_target_table_is_gone_made_anew_swapped_or_emptied(self) -> None:
        spoiling = {
            "is gone": ["DROP TABLE tree"],
            "was made anew, put back to an earlier state, or put in its place": ["CREATE TABLE copied AS SELECT * FROM tree WHERE k = 1", "DROP TABLE tree",
                                                   "ALTER TABLE copied RENAME TO tree", "CREATE UNIQUE INDEX u ON tree (k)"],
            "is empty": ["DELETE FROM tree"],
        }  # fmt: skip
        for store in STORES:
            for told, statements in spoiling.items():
                with self.subTest(store=store, told=told), town_into(store) as (town, run):
                    town.project.step()
                    town.project.step()  # nothing to do
                    run(*statements, "SELECT 1")
                    [idle] = town.project.step(raise_errors=False)
                    self.assertEqual(idle.outcome, "refused")
                    self.repaired(town, self.refused(town, told))

    def test_what_leaves_it_the_same_table(self) -> None:
        kept = {"house": ["CHECKPOINT"], "shed": ["VACUUM", "REINDEX"], "lake": ["VACUUM FULL tree", "ANALYZE"]}
        for store, statements in kept.items():
            with self.subTest(store), town_into(store) as (town, run):
                town.project.step()
                run("ALTER TABLE tree RENAME TO aside", "ALTER TABLE aside RENAME TO tree", "SELECT 1")
                for one in statements:
                    run(one)
                town.sql("DELETE FROM tree")
                self.assertEqual(town.project.step()[0].edits["drop"], 2)
                town.sql(*ROWS)  # it was emptied by the load itself: that is known
                self.assertEqual(town.project.step()[0].edits["put"], 2)
                self.assertTrue(town.project.check()[0].ok)

    def test_another_table_is_loaded_whole(self) -> None:
        for store in STORES:
            with self.subTest(store), town_into(store) as (town, run):
                town.project.step()
                set_to(town, f"{store}.tree", f"{store}.wood")
                self.repaired(town, self.refused(town, f"merges into {store}.wood now"))
                self.assertEqual(run("SELECT count(*) FROM wood"), [(3,)])
                set_to(town, f"{store}.wood", f"{store}.taken")
                run(
                    "CREATE TABLE taken (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)",
                    "INSERT INTO taken VALUES (9, 9, 'theirs')",
                )
                self.assertIn("already holds rows", town.run("reload", "tree").output)
                self.assertEqual(run("SELECT k FROM taken"), [(9,)])

    def test_a_watermark_that_was_set_is_of_the_table_that_stands_there(self) -> None:
        for store in STORES:
            for begin in ('first = "head"', ""):
                with self.subTest(store, begin=begin), town_into(store, begin) as (town, run):
                    run("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)", *ROWS)
                    done = town.run("watermark", "tree", "--to", "head", "--yes") if not begin else town.run("step")
                    self.assertEqual(done.exit_code, 0, done.stderr)
                    self.assertTrue(town.project.check("tree")[0].ok)
                    set_to(town, f'into = "{store}.tree"', f'into = "{store}.oak"')
                    self.repaired(town, self.refused(town, "is that of the table tree"))

    def test_a_load_that_was_renamed_is_not_taken_up_again_by_its_old_name(self) -> None:
        for store in STORES:
            with self.subTest(store), town_into(store) as (town, _):
                town.project.step()
                set_to(town, "[loads.tree]", "[loads.oak]")
                self.assertIn("already holds rows", str(town.project.step(raise_errors=False)[0].error))
                town.project.move_watermark("oak", "head")
                self.assertTrue(town.project.check("oak")[0].ok)
                town.sql("INSERT INTO tree VALUES (7, 7, 'fir')")
                town.project.step()
                town.sql("DELETE FROM tree WHERE k = 7")  # which the old name would find to have come to nothing
                set_to(town, "[loads.oak]", "[loads.tree]")
                told = "The load oak merges into .*tree since tree last did"
                self.assertRegex(str(town.project.check("tree", repair=True, raise_errors=False)[0].error), told)
                self.repaired(town, self.refused(town, told))
                set_to(town, "[loads.tree]", "[loads.oak]")
                town.sql("DELETE FROM tree WHERE k = 3")
                self.repaired(town, self.refused(town, "The load tree merges into"))

    def test_a_rollup_begins_with_none_of_its_tables_filled(self) -> None:
        rollup = 'shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)", most = "max(a)" }'
        for store in STORES:
            for first in ("snapshot", "start"):
                with self.subTest(store, first=first), town_into(store, rollup) as (town, run):
                    town.project.step()
                    set_to(town, "[loads.tree]", f'[loads.oak]\nfirst = "{first}"')
                    run("DELETE FROM tree")
                    error = town.project.step(raise_errors=False)[0].error
                    assert error
                    self.assertRegex(error.what, r"tree_most_values already holds rows")
                    self.assertIn("Empty it", error.next)
                    run("DELETE FROM tree_most_values")
                    town.project.step()
                    town.project.reload("oak")
                    self.assertTrue(town.project.check("oak")[0].ok)

    def test_another_shape_in_another_table(self) -> None:
        with town_into("house") as (town, _):
            town.project.step()
            set_to(town, "[loads.tree]\n", '[loads.tree]\nshape = "history"\n')
            remedy = self.refused(town, r"`shape` was \"mirror\"")
            self.assertTrue(remedy.startswith("Name another table ('into')"), remedy)
            set_to(town, "house.tree", "house.tree_history")
            self.repaired(town, remedy.partition("then ")[2])


class Settings(Refusing):
    """A2, 6a: what decides what the target holds is noticed when it changes, and carried by a reload."""

    MIRRORS = [
        ('deletes = "flag"', ""),
        ("stamp = true", ""),
        ('deletes = "ignore"', ""),
        ('operations = ["insert", "update"]', ""),
        ('types = { b = "TEXT" }', ""),
        ('shape = "history"\ngrain = "net"', 'shape = "history"'),
        ('shape = "history"\nwatch = ["a"]', 'shape = "history"'),
        ('where = "a < 5"', ""),
    ]

    def test_each_setting_back_and_forth(self) -> None:
        for store in ("house", "shed"):
            for one, other in self.MIRRORS:
                for before, after in ((one, other), (other, one)):
                    with (
                        self.subTest(store=store, before=before, after=after),
                        town_into(store, f"{before}\n# end") as (town, _),
                    ):
                        town.project.step()
                        town.sql("INSERT INTO tree VALUES (4, 4, 'fir')")
                        town.project.step()
                        town.sql("DELETE FROM tree WHERE k = 4")
                        town.project.step()
                        set_to(town, f"{before}\n# end", f"{after}\n# end")
                        self.assertEqual(town.run("check").exit_code, 4)
                        self.repaired(town, self.refused(town, "The settings of tree changed since its last step"))

    def test_a_flag_that_is_taken_back_leaves_nothing(self) -> None:
        for store in STORES:
            with self.subTest(store), town_into(store, 'deletes = "flag"\nstamp = true') as (town, run):
                town.project.step()
                town.sql("DELETE FROM tree WHERE k = 2")
                town.project.step()
                self.assertEqual(len(run("SELECT * FROM tree")[0]), 6)
                set_to(town, 'deletes = "flag"\nstamp = true', "")
                self.repaired(town, self.refused(town, '`deletes` was "flag", `stamp` was true'))
                self.assertEqual(len(run("SELECT * FROM tree")[0]), 3)
                self.assertEqual(run("SELECT count(*) FROM tree WHERE k = 2"), [(0,)])

    def test_a_layout_that_means_something_else(self) -> None:
        log = "CREATE TABLE tree_log (n INTEGER PRIMARY KEY, op TEXT, k INTEGER, a INTEGER, b TEXT)"
        layout = (
            '[loads.tree.layout]\nposition = ["n"]\noperation = "op"\ninsert = ["i"]\nupdate = ["u"]\ndelete = ["d"]\n'
        )
        with Town(log, "INSERT INTO tree_log VALUES (1, 'i', 1, 0, 'oak')") as town:
            text = town.config.read_text().partition("[loads")[0]
            load = '[loads.tree]\nfrom = "town.tree_log"\ninto = "house.tree"\nkey = ["k"]\n'
            town.config.write_text(text + load + layout)
            town.project.step()
            set_to(town, 'insert = ["i"]\nupdate = ["u"]', 'insert = ["u"]\nupdate = ["i"]')
            town.sql("INSERT INTO tree_log VALUES (2, 'u', 2, 0, 'elm')")
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("`layout` was", str(outcome.error))
            self.assertEqual(town.project.status()[0].health, "refuses")
            town.config.write_text(text + load + layout + 'settle = "5s"\n')
            self.assertEqual(town.project.step()[0].outcome, "stepped")  # that means nothing else

    def test_what_cannot_be_is_refused_at_once(self) -> None:
        wrong = {
            'overlap = "10m"': "overlap",
            'on_bad_row = "quarantine"': "on_bad_row",
            'format = "csv"\nshape = "journal"': "format",
            'partition = ["date"]\nshape = "journal"': "partition",
            'tries = 3\nshape = "events"\nrules = { all = "" }': "tries",
            "operations = []": "operations",
            'rows = "town.nothing"': "rows",
            'column = ["a"]': "column",
            'old_values = "tree"\nshape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)" }': "old_values",
        }
        for said, named in wrong.items():
            with self.subTest(said), town_into("house") as (town, _):
                set_to(town, "[loads.tree]\n", f"[loads.tree]\n{said}\n")
                with self.assertRaises(plainstep.ConfigError) as caught:
                    _ = town.project
                self.assertRegex(str(caught.exception), rf"line \d+.*\b{named}\b")


class Judgement(Refusing):
    """6a: status says what the next step will do."""

    def test_targets_and_keys_that_do_not_fit(self) -> None:
        for store in STORES:
            with self.subTest(store), town_into(store) as (town, run):
                run(
                    "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)",
                    "INSERT INTO tree VALUES (9, 9, 'x')",
                )
                self.assertIn("already holds rows", self.refused_first(town))
                run("DROP TABLE tree", "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER)")
                self.assertIn("lacks the column 'b'", self.refused_first(town))
                run("DROP TABLE tree", "SELECT 1")
                town.project.step()
                set_to(town, "[loads.tree]\n", '[loads.tree]\nkey = ["a"]\n')
                [idle] = town.project.step(raise_errors=False)  # with nothing waiting, too
                self.assertIn("is captured by k", str(idle.error))
                self.assertEqual(town.project.status()[0].reason, idle.error.what if idle.error else "")

    def test_a_rollup_of_a_feed_without_old_values(self) -> None:
        with Landing(more='shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)" }') as town:
            town.land("1.jsonl", (1, 1, 1))
            self.assertIn("has no before images", self.refused_first(town))

    def refused_first(self, town: Town | Landing) -> str:
        [status] = town.project.status()
        [outcome] = town.project.step(raise_errors=False)
        assert outcome.error
        self.assertEqual((status.health, status.reason), ("refuses", outcome.error.what))
        return outcome.error.what

    def test_two_steps_at_once_on_a_rollup(self) -> None:
        """6: the one that is late loses cleanly, whatever its shape finds at the target."""
        more = 'shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)", most = "max(a)" }'
        with town_into("house", more) as (town, run):
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 1")
            from plainstep.loads import reading

            other, found = town.project, list[str]()

            def late(*args: Any, **named: Any) -> Any:
                if not found:
                    found.append("")
                    found[0] = other.step()[0].outcome
                return read(*args, **named)

            read = reading.read_window
            with mock.patch("plainstep.loads.step.reading.read_window", late):
                [outcome] = town.project.step()
            self.assertEqual((found, outcome.outcome), (["stepped"], "nothing"))
            self.assertEqual(run("SELECT b, n FROM tree"), [("elm", 1)])

    def test_capture_is_not_switched_off_while_changes_wait(self) -> None:
        with town_into("house") as (town, _):
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 1")
            asked = town.run("capture", "off", "town.tree")
            self.assertEqual(asked.exit_code, 4)
            self.assertIn("1 change", asked.output)
            self.assertEqual(town.project.status()[0].waiting, 1)
            self.assertEqual(town.run("capture", "off", "town.tree", "--yes").exit_code, 0)


class Names(unittest.TestCase):
    def test_a_table_that_has_the_name_of_a_variable(self) -> None:
        """DuckDB takes a table that is not there for a variable of the program's, if it may."""
        for name in (
            "moved",
            "rows",
            "sql",
            "parameters",
            "connection",
            "books",
            "self",
            "path",
            "table",
            "part",
            "commit",
        ):
            with self.subTest(name), Town(TREE, *ROWS) as town:
                town.config.write_text(town.config.read_text().replace('"house.tree"', f'"house.{name}"'))
                town.project.capture_on("town.tree")
                for statement in ("UPDATE tree SET a = 7", "DELETE FROM tree WHERE k = 1"):
                    self.assertEqual(town.project.step("house")[0].outcome, "stepped")
                    self.assertTrue(town.project.check("house")[0].ok)
                    town.sql(statement)


class Formats(unittest.TestCase):
    """A4: tables of an earlier format are brought up at the next step; those of a later one are refused."""

    TO_2 = ("ALTER TABLE {0}watermarks RENAME TO {1}marks", "ALTER TABLE {0}quarantine RENAME TO {1}aside",
            "UPDATE {0}formats SET version = 2")  # fmt: skip
    TO_1 = ("ALTER TABLE {0}marks DROP COLUMN tables", "DROP TABLE {0}formats",
            "UPDATE {0}marks SET made_by = '{{\"shape\": \"mirror\"}}'")  # fmt: skip

    def test_each_earlier_format_steps_on(self) -> None:
        for store, back in product(STORES, (self.TO_2, (*self.TO_2, *self.TO_1))):
            prefix = "plainstep." if store == "lake" else "plainstep_"
            new_prefix = prefix.rpartition(".")[2]  # what a table is renamed to has no schema
            with self.subTest(store, statements=len(back)), town_into(store) as (town, run):
                town.project.step()
                run(*(one.format(prefix, new_prefix) for one in back), "SELECT 1")
                town.sql("DELETE FROM tree WHERE k = 1")
                before = run(f"SELECT * FROM {prefix}marks")
                [status] = town.project.status()
                self.assertEqual((status.health, status.waiting), ("behind", 1))
                self.assertEqual(town.project.ledger()[-1].kind, "snapshot")
                self.assertEqual(run(f"SELECT * FROM {prefix}marks"), before)  # looking changes nothing
                self.assertEqual(town.project.quarantine(), [])
                self.assertEqual(town.project.step()[0].edits["drop"], 1)
                self.assertEqual(run(f"SELECT version FROM {prefix}formats"), [(bookkeeping.FORMAT,)])
                self.assertTrue(town.project.check()[0].ok)
                run(f"UPDATE {prefix}formats SET version = 99", "SELECT 1")
                [outcome] = town.project.step(raise_errors=False)
                self.assertIn("format 99", str(outcome.error))
                self.assertEqual(town.project.status()[0].health, "refuses")

    def test_a_capture_of_a_later_format(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            self.assertEqual(town.rows("town", "plainstep_formats"), [("source", 2)])
            town.sql("UPDATE plainstep_formats SET version = 99", "ALTER TABLE plainstep_captures DROP COLUMN since")
            for words in (
                "step",
                "look house",
                "capture refresh town.tree",
                "capture list",
                "trim town",
                "capture off town.tree",
            ):
                told = town.run(*words.split())
                self.assertEqual((told.exit_code, "have format 99" in told.stderr), (4, True), (words, told.stderr))
            self.assertEqual({one.health for one in town.project.status()}, {"refuses"})

    def test_a_step_that_began_before_the_format_changed(self) -> None:
        """Two releases at one target: the commit looks once more."""
        with town_into("lake") as (town, run):
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 1")
            from plainstep.loads import reading

            read = reading.read_window

            def late(*args: Any, **named: Any) -> Any:
                run("UPDATE plainstep.formats SET version = 99", "SELECT 1")
                return read(*args, **named)

            with mock.patch("plainstep.loads.step.reading.read_window", late):
                [outcome] = town.project.step(raise_errors=False)
            self.assertIn("format 99", str(outcome.error))
            self.assertEqual(run("SELECT count(*) FROM tree"), [(2,)])


class Times(unittest.TestCase):
    """A3: what was before capture began is not known."""

    def test_times_before_capture_began(self) -> None:
        with Town(TREE, *ROWS) as town, Database("CREATE TABLE tree (k int PRIMARY KEY, a int, b text)") as source:
            source.sql("INSERT INTO tree VALUES (1, 0, 'oak')")
            more = (
                f'\n[stores.park]\nurl = "{source.url}"\n[loads.park]\nfrom = "park.public.tree"\ninto = "house.park"\n'
            )
            town.config.write_text(town.config.read_text() + more)
            town.run("capture", "on", "town.tree")
            town.run("capture", "on", "park.public.tree")
            for load in ("house", "park"):
                town.project.step(load)
                for words in (
                    ["trace", load, "1", "--at"],
                    ["look", load, "--upto"],
                    ["look", load, "--after"],
                    ["net", load, "--upto"],
                ):
                    found = town.run(*words, "2001-01-01")
                    self.assertEqual(found.exit_code, 4, (words, found.output))
                    self.assertIn("began", found.output)
                self.assertEqual(town.run("look", load, "--after", "start").exit_code, 0)


if __name__ == "__main__":
    unittest.main()
