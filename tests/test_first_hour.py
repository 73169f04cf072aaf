"""What a person meets in the first hour: words for times, several loads of which one fails, wide tables, Ctrl-C."""

from __future__ import annotations

import json
import signal
import sqlite3
import subprocess
import sys
import textwrap
import time
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest import mock

import plainstep
from plainstep.core.points import moment_of
from plainstep.errors import Refused
from tests.support import TREE, Town

STORES = "[stores.town]\nurl = 'sqlite:///town.db'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
LOAD = "[loads.{0}]\nfrom = 'town.{1}'\ninto = 'house.{1}'\n"
TWO = STORES + LOAD.format("house", "tree") + LOAD.format("other", "other")


class Times(unittest.TestCase):
    NOW = datetime(2026, 5, 4, 9, 30, tzinfo=UTC)

    def test_what_a_person_may_mean(self) -> None:
        local = self.NOW.astimezone()
        midnight = local.replace(hour=0, minute=0, tzinfo=None).astimezone()
        yesterday = (local - timedelta(days=1)).replace(hour=0, minute=0, tzinfo=None).astimezone()
        meant = {"3h": self.NOW - timedelta(hours=3), "90s": self.NOW - timedelta(seconds=90), "today": midnight,
                 "yesterday": yesterday, "2026-05-01T10:00+02:00": datetime(2026, 5, 1, 8, tzinfo=UTC),
                 "20260501T1000+0200": datetime(2026, 5, 1, 8, tzinfo=UTC), "1796050151906-15": None,  # an id of Redis
                 "17": None, "start": None, "tomorrow": None}  # fmt: skip
        for said, time_ in meant.items():
            self.assertEqual(moment_of(said, self.NOW), time_, said)
        self.assertEqual(moment_of(timedelta(days=1), self.NOW), self.NOW - timedelta(days=1))
        self.assertEqual(moment_of(self.NOW), self.NOW)
        self.assertIsNone(moment_of(17))

    def test_windows_by_words_and_by_what_was_printed(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            [outcome] = town.project.step("house")
            time.sleep(0.05)
            town.sql("UPDATE tree SET a = 2")
            assert outcome.upto is not None
            for after in (outcome.upto, str(outcome.upto), timedelta(milliseconds=20), "start"):
                with self.subTest(after):
                    found = town.project.look("house", after=after)
                    self.assertEqual(found.changes.counts().get("update", 0), 0 if isinstance(after, timedelta) else 1)
            refused = town.run("look", "house", "--after", "yesterday")
            self.assertEqual((refused.exit_code, "was not recorded" in refused.stderr), (4, True))
            self.assertIn("3h, today, yesterday", town.run("look", "house", "--after", "soon").stderr)
            self.assertEqual(len(json.loads(town.run("ledger", "--since", "1h", "--json").stdout)), 1)

    def test_a_row_as_it_was_before_what_is_held(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1, 'oak')", "UPDATE tree SET a = 2", "UPDATE tree SET a = 3")
            town.project.step("house")
            town.project.trim("town", really=True)
            refused = town.run("trace", "house", "1", "--at", "1")
            self.assertEqual(refused.exit_code, 4)
            self.assertIn("--at start", refused.stderr)
            self.assertEqual(town.run("trace", "house", "1", "--at", "start").exit_code, 0)


class Several(unittest.TestCase):
    def test_one_that_fails_hides_no_other(self) -> None:
        with Town(TREE, "CREATE TABLE other (k INTEGER PRIMARY KEY)") as town:
            town.config.write_text(TWO)
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            with self.assertRaises(Refused) as caught:
                town.project.step()
            self.assertEqual([one.outcome for one in caught.exception.outcomes], ["stepped", "refused"])
            self.assertEqual(caught.exception.load, "other")
            self.assertEqual([one.outcome for one in town.project.step(raise_errors=False)], ["nothing", "refused"])
            with self.assertRaises(Refused) as caught:
                town.project.check("other", "house")
            self.assertEqual([one.ok for one in caught.exception.outcomes], [False, True])
            told = town.run("check", "other", "house")
            self.assertEqual(told.exit_code, 4)
            self.assertRegex(told.stdout, r"other +not compared\nhouse +equal")
            self.assertIn("other: other has not begun", told.stderr)
            found = json.loads(town.run("check", "other", "house", "--json").stdout)
            self.assertEqual([(one["load"], one["ok"], "error" in one) for one in found],
                             [("other", False, True), ("house", True, False)])  # fmt: skip

    def test_commands_that_are_named_can_be_typed(self) -> None:
        with Town(TREE) as town:
            other = town.path / "it's other.toml"
            other.write_text(town.config.read_text())
            told = town.run("-c", "it's other.toml", "step", "house")
            self.assertIn("""plainstep -c 'it'"'"'s other.toml' capture on town.tree""", told.stderr)
            self.assertIn("plainstep capture on town.tree", town.run("step", "house").stderr)

    def test_ctrl_c_says_what_was_written(self) -> None:
        slow = (
            "import signal, time, plainstep.loads.step as s\nfrom plainstep.cli.main import cli\n"
            "signal.signal(signal.SIGINT, signal.default_int_handler)\n"  # a shell that runs tests in the background ignores it
            "real = s._once\ndef once(loads):\n    if loads[0].name == 'other':\n        print('at it', flush=True); time.sleep(30)\n"
            "    return real(loads)\ns._once = once\ncli(['step'])"
        )
        with Town(TREE, "CREATE TABLE other (k INTEGER PRIMARY KEY)") as town:
            town.config.write_text(TWO)
            town.project.capture_on("town.tree")
            town.project.capture_on("town.other")
            for written in ("Written before that: house (step 1).", "No step was written."):
                child = town.child(slow)
                assert child.stdout
                while "at it" not in (line := child.stdout.readline()):
                    self.assertTrue(line, "it ended before")
                child.send_signal(signal.SIGINT)
                self.assertIn(written, child.communicate(timeout=240)[0])
                self.assertEqual(child.returncode, 130)

    def test_an_error_of_our_own_asks_to_be_reported_without_secrets(self) -> None:
        with Town(TREE) as town, mock.patch("plainstep.project.Project.step", side_effect=KeyError("x")):
            for words in (["step"], ["--debug", "step"]):
                told = town.run(*words)
                self.assertEqual(told.exit_code, 1)
                self.assertRegex(told.stderr, "Unexpected error: KeyError(.|\n)*Please report it")
                self.assertEqual(f"plainstep {plainstep.__version__}, Python" in told.stderr, words[0] == "--debug")


class Settings(unittest.TestCase):
    def test_the_true_line_and_one_for_a_list(self) -> None:
        with Town(TREE) as town:
            text = town.config.read_text()
            town.config.write_text(text.replace("[stores.house]", "[store.house]"))
            line = 1 + text.splitlines().index("[stores.house]")
            self.assertIn(f"line {line}: unknown setting store", town.run("status").stderr)
            town.config.write_text(
                text + '[loads.old]\nfrom = "town.tree"\ninto = "house.old"\nkey = "k"\nlayout.frist = 1\n'
            )
            self.assertRegex(town.run("status").stderr, rf"line {len(text.splitlines()) + 5}: unknown setting .*frist")
            town.config.write_text(text.replace("[stores.house]\nurl", "[stores]\nhouse"))
            self.assertRegex(town.run("status").stderr, r"house holds settings of its own(.|\n)*Write \[stores.house\]")
            town.config.write_text(text + '[loads.old]\nfrom = "town.tree"\ninto = "house.old"\nkey = "k"\n')
            self.assertEqual(town.project.load("old").config.key, ["k"])


class Wide(unittest.TestCase):
    """Law 12: no statement of the application fails, however many columns its table has."""

    def test_hundreds_of_columns(self) -> None:
        for count in (200, 500):
            columns = ", ".join(f"c{number} INT" for number in range(count - 1))
            with self.subTest(count), Town(f"CREATE TABLE tree (k INTEGER PRIMARY KEY, {columns})") as town:
                town.project.capture_on("town.tree")
                town.project.step("shed")
                town.sql("INSERT INTO tree (k, c1) VALUES (1, 1), (2, 2)", "UPDATE tree SET c1 = 5 WHERE k = 1",
                         "REPLACE INTO tree (k, c2) VALUES (2, 7)", "DELETE FROM tree WHERE k = 1")  # fmt: skip
                self.assertEqual(town.project.step("shed")[0].net["insert"], 1)
                self.assertTrue(town.project.check("shed")[0].ok)

    def test_more_than_sqlite_can(self) -> None:
        columns = ", ".join(f"c{number} INT" for number in range(1000))
        with Town(f"CREATE TABLE tree (k INTEGER PRIMARY KEY, {columns})") as town:
            with self.assertRaises(Refused) as caught:
                town.project.capture_on("town.tree")
            self.assertIn('changes = "diff"', caught.exception.next)
            with sqlite3.connect(town.path / "town.db") as connection:
                self.assertEqual(connection.execute("SELECT count(*) FROM sqlite_schema").fetchall(), [(1,)])
            load = "[loads.house]\nfrom = 'town.tree'\ninto = 'house.tree'\nchanges = 'diff'\n"
            town.config.write_text(STORES + load)
            town.sql("INSERT INTO tree (k, c1) VALUES (1, 1)")
            self.assertEqual(town.project.step("house")[0].outcome, "stepped")
            self.assertTrue(town.project.check("house")[0].ok)


class Keys(unittest.TestCase):
    def test_what_a_key_lacks_is_told_at_once(self) -> None:
        with Town("CREATE TABLE tree (a INT, b TEXT)") as town:
            with self.assertRaises(Refused) as caught:
                town.project.capture_on("town.tree", ("a", "b"))
            self.assertIn("nothing makes them unique; a, b may be null", caught.exception.what)

    def test_a_rows_own_number_is_never_null_and_looks_like_what_may_be(self) -> None:
        for key, null in (
            ("INTEGER PRIMARY KEY", False),
            ("INTEGER PRIMARY KEY DESC", True),
            ("INT PRIMARY KEY", True),
        ):
            with Town(f"CREATE TABLE tree (k {key}, w INT NOT NULL, UNIQUE (w, k))") as town:
                on = town.project.capture_on
                if null:
                    self.assertRaisesRegex(Refused, "k may be null", on, "town.tree", ("w", "k"))
                else:
                    self.assertEqual(on("town.tree", ("w", "k"))[0].key, ("w", "k"))


class Quiet(unittest.TestCase):
    def test_nothing_but_us_draws_a_bar(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            lines = """
            from pathlib import Path
            from plainstep.sql import engine
            from plainstep.stores.duckdb.connection import opened
            places = (engine.scratch(), engine.spilling(), opened(Path("house.duckdb"), True, 1.0))
            for place in places:
                with place as connection:
                    print(connection.execute("SELECT current_setting('enable_progress_bar')").fetchone())
            """
            command = [sys.executable, "-c", textwrap.dedent(lines)]  # which DuckDB takes for a person
            said = subprocess.run(command, capture_output=True, text=True, cwd=town.path)
            self.assertEqual((said.stdout, said.stderr), ("(False,)\n" * 3, ""))


class RefusedAtOnce(unittest.TestCase):
    def test_an_unknown_kind_of_step_and_an_unknown_system(self) -> None:
        with Town(TREE) as town:
            self.assertRaisesRegex(plainstep.ConfigError, "Did you mean 'reload'", town.project.ledger, kind="relaod")
            self.assertEqual(town.run("ledger", "--kind", "relaod").exit_code, 2)
        script = "import sys; sys.platform = 'win32'; import plainstep"
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True)
        self.assertIn("run it in WSL", done.stderr)


class Foretold(unittest.TestCase):
    """What net says of a rollup's groups and a history's versions is what the step then does."""

    SHAPES = {
        "rollup": "shape = 'rollup'\nby = ['b']\nmeasures = { trees = 'count(*)', tallest = 'max(a)', mean = 'avg(a)' }\n",
        "history": "shape = 'history'\n",
    }

    def test_groups_and_versions(self) -> None:
        for shape, more in self.SHAPES.items():
            with self.subTest(shape), Town(TREE) as town:
                town.config.write_text(STORES + LOAD.format("house", "tree") + more)
                town.project.capture_on("town.tree")
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 5, 'oak'), (3, 7, 'elm')")
                town.project.step()
                columns = list(town.project.load("house").target.table("tree", ()).schema.names)
                town.sql(
                    "UPDATE tree SET b = 'elm' WHERE k = 2",
                    "DELETE FROM tree WHERE k = 1",
                    "INSERT INTO tree VALUES (4, 1, 'ash')",
                )
                before = set(town.rows("house"))
                found = town.project.net("house")
                assert found.rows is not None
                table, key = found.rows.to_arrow().to_pylist(), found.rows.key
                self.assertEqual(set(town.rows("house")), before)
                town.project.step()
                after = set(town.rows("house"))

                def images(row: dict[str, Any], side: str, columns: Any = columns, key: Any = key) -> tuple[Any, ...]:
                    return tuple(row[name if name in key else side + name] for name in columns)

                gone = {images(row, "was.") for row in table if row["op"] != "insert"}
                come = {images(row, "now.") for row in table if row["op"] != "delete"}
                if shape == "rollup":
                    self.assertEqual((gone, come), (before - after, after - before))
                else:  # a version tells when its step was made, which net could not know
                    self.assertEqual((len(gone), len(come)), (len(before - after), len(after - before)))
                told = town.run("net", "house", "--after", "start")
                self.assertEqual(told.exit_code, 0, told.output)


class Captures(unittest.TestCase):
    def test_several_tables_and_those_of_the_configuration(self) -> None:
        with Town(TREE, "CREATE TABLE other (k INTEGER PRIMARY KEY)", "CREATE TABLE bare (k INT)") as town:
            town.config.write_text(TWO + LOAD.format("bare", "bare"))
            told = town.run("capture", "on", "--all")
            self.assertEqual(told.exit_code, 4)
            self.assertIn("town.bare: bare has no primary key", told.stderr)
            self.assertIn("town.other", told.stdout)
            self.assertEqual(len(json.loads(town.run("capture", "list", "--json").stdout)), 2)
            self.assertEqual(town.run("capture", "refresh", "town.tree", "town.other").exit_code, 0)
            self.assertEqual(len(json.loads(town.run("capture", "on", "town.tree", "town.other", "--json").stdout)), 2)
            self.assertEqual(town.run("capture", "off", "town.tree", "town.other").exit_code, 0)
            self.assertEqual(town.run("capture", "on").exit_code, 2)
            self.assertEqual(town.run("capture", "on", "town.tree", "--all").exit_code, 2)


class Library(unittest.TestCase):
    def test_every_result_is_what_the_command_line_prints(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            project = town.project
            project.step()
            town.sql("UPDATE tree SET a = 2")

            def printed(*words: str) -> Any:
                return json.loads(town.run(*words, "--json").stdout)

            self.assertEqual(project.look("house").to_dict(), printed("look", "house"))
            self.assertEqual(project.net("house").to_dict(), printed("net", "house"))
            self.assertEqual(project.trace("house", "1").to_dict(), printed("trace", "house", "1"))
            self.assertEqual([one.to_dict() for one in project.check()], printed("check"))
            self.assertEqual([one.to_dict() for one in project.ledger()], printed("ledger"))
            [status] = project.status("house")
            told = printed("status", "house")[0]
            self.assertEqual(status.to_dict() | {"lag_seconds": 0}, told | {"lag_seconds": 0})
            self.assertEqual(status.exit_status, 0)
            [outcome] = project.step("house")
            self.assertEqual(outcome.to_dict()["net"], {"insert": 0, "update": 1, "delete": 0})
            for one in (project.look("house", after="start"), project.net("house", after="start")):
                self.assertEqual(one.to_arrow().num_rows, len(one.to_pandas()))
            self.assertEqual(project.look("house", after="start").to_arrow()["now.b"].to_pylist(), ["oak", "oak"])
            with mock.patch("plainstep.errors.find_spec", return_value=None):
                results: list[Any] = [project.look("house"), project.net("house"), project.net("house").net]
                for asked in (*results, project.ledger(), *project.check("house")):
                    with self.assertRaisesRegex(plainstep.ConfigError, r"pip install 'plainstep\[pandas\]'"):
                        asked.to_pandas()
            heads, first, second = repr(project.ledger("house")[-2:]).splitlines()
            self.assertEqual((heads.split()[:3], first.split()[:3], second.split()[:3]),
                             (["load", "step", "kind"], ["house", "1", "snapshot"], ["house", "2", "changes"]))  # fmt: skip
            self.assertEqual(
                repr(project.net("house", after="start")),
                "<NetResult of house: 2 changes after 0 up to 2 come to 1: 1 insert>",
            )
            for html in (project._repr_html_(), project.restore("house", 1)._repr_html_()):
                self.assertIn("<table>", html)
