"""Undo: the statements that bring rows back are right in every database, and refused where they would undo more."""

from __future__ import annotations

import sqlite3
import unittest
from contextlib import closing, suppress
from typing import Any

import duckdb
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.errors import Refused
from tests.postgres import ALL_TYPES, ODD, VALUES, park
from tests.support import WITHOUT_SHRINKING, Town, examples

# A row may hang below another one: what is brought back must come in an order that this accepts.
TREE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER REFERENCES tree (k), b TEXT, c BLOB, d REAL)"
keys = st.integers(1, 5)
acts = st.one_of(
    st.tuples(st.just("INSERT OR IGNORE INTO tree VALUES ({0}, NULL, '{1}', X'00{0}f', {1}.5)"), keys, keys),
    st.tuples(st.just("UPDATE tree SET b = b || '''{1}', d = NULL WHERE k = {0}"), keys, keys),
    st.tuples(st.just("UPDATE OR IGNORE tree SET a = {1} WHERE k = {0}"), keys, keys),
    st.tuples(st.just("REPLACE INTO tree (k, b) VALUES ({0}, 'new {1}')"), keys, keys),
    st.tuples(st.just("UPDATE OR IGNORE tree SET k = {1} WHERE k = {0}"), keys, keys),
    st.tuples(st.just("DELETE FROM tree WHERE k = {0}"), keys, keys),
)


def play(town: Town, statements: list[Any]) -> None:
    with closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
        connection.execute("PRAGMA foreign_keys = ON")
        for sql, *values in statements:
            with suppress(sqlite3.IntegrityError):
                connection.execute(sql.format(*values))


class Sqlite(unittest.TestCase):
    @given(st.lists(acts, max_size=12), st.lists(acts, max_size=12))
    @settings(max_examples=examples(40), deadline=None, phases=WITHOUT_SHRINKING)
    def test_rows_are_as_they_were(self, before: list[Any], since: list[Any]) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            play(town, before)
            wanted = town.rows()
            project = town.project
            here = project.load("house").source.span().head
            play(town, since)
            now = town.rows()
            try:
                found = project.restore("house", here)
            except Refused:
                self.assertEqual(town.rows(), now)
                return
            self.assertEqual(town.rows(), now)  # nothing runs by itself
            with closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.execute("PRAGMA foreign_keys = ON")
                connection.executescript(found.to_sql())
            left = {row[0]: row for row in town.rows()}
            self.assertEqual([left.get(row[0]) for row in wanted], wanted)
            self.assertEqual(
                project.restore(
                    "house", here, only=plainstep.Filter(ops=("update", "delete")), over_later=True
                ).inserts,
                0,
            )

    def test_what_is_chosen_and_what_is_refused(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            play(town, [("INSERT INTO tree VALUES (1, NULL, 'oak', NULL, 1.5), (2, 1, 'elm', NULL, NULL)",)])
            play(
                town,
                [("DELETE FROM tree WHERE k = 2",), ("UPDATE tree SET b = 'ash'",), ("UPDATE tree SET b = 'fir'",)],
            )
            out = town.path / "undo.sql"
            done = town.run("restore", "house", "--after", "2", "--op", "delete", "-o", str(out))
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn("1 to insert, 0 to update", done.stderr)
            self.assertEqual(out.read_text().count("INSERT INTO"), 1)
            refused = town.run("restore", "house", "--after", "2", "--upto", "4")
            self.assertEqual((refused.exit_code, "changed again since" in refused.stderr), (4, True))
            over = town.run("restore", "house", "--after", "2", "--upto", "4", "--over-later")
            self.assertEqual(over.exit_code, 0)
            town.shell(over.stdout)
            self.assertEqual(town.rows(), [(1, None, "oak", None, 1.5), (2, 1, "elm", None, None)])
            self.assertEqual(town.run("restore", "house", "--after", "2", "--key", "7").stdout.count("UPDATE"), 0)
            self.assertEqual(town.run("restore", "house").exit_code, 2)

    def test_keys_that_others_have_now(self) -> None:
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            play(town, [("INSERT INTO tree (k, b) VALUES (1, 'oak'), (2, 'elm'), (3, 'ash')",)])
            after = str(town.project.load("house").source.span().head)
            rows = town.rows()
            play(
                town, [(f"UPDATE tree SET k = {new} WHERE k = {old}",) for old, new in ((1, 9), (2, 1), (9, 2), (3, 4))]
            )
            with self.subTest("they have each other's"):
                town.shell(town.run("restore", "house", "--after", after).stdout)
                self.assertEqual(town.rows(), rows)
            with self.subTest("one came later"):
                play(town, [("UPDATE tree SET k = 4 WHERE k = 3",), ("UPDATE tree SET b = 'fir' WHERE k = 1",)])
                play(town, [("INSERT INTO tree (k, b) VALUES (3, 'yew')",)])
                head = town.project.load("house").source.span().head
                words = ("restore", "house", "--after", str(head - 3), "--over-later")
                refused = town.run(*words)
                self.assertEqual(
                    (refused.exit_code, "which came later, the first of them k 3" in refused.stderr),
                    (4, True),
                    refused.output,
                )
                town.shell(town.run(*words, "--key", "1").stdout)
                self.assertEqual([row[2] for row in town.rows()], ["oak", "elm", "yew", "ash"])
                play(town, [("DELETE FROM tree WHERE k = 3",)])
                town.shell(town.run(*words, "--op", "update").stdout)
                self.assertEqual(town.rows(), rows)

    def test_several_rows_of_one_key(self) -> None:
        """One that was brought back already is not inserted again; of two that had one key, one is to be chosen."""
        words = ("restore", "house", "--after", "1", "--over-later")
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            play(
                town,
                [("INSERT INTO tree (k, b) VALUES (3, 'oak')",), ("UPDATE tree SET k = 5",), ("DELETE FROM tree",)],
            )
            town.shell(town.run(*words).stdout)
            self.assertEqual(town.rows(), [(3, None, "oak", None, None)])
            self.assertIn("Restores 0 rows", town.run(*words, "--op", "update", "--op", "delete").stdout)
            play(
                town,
                [
                    ("UPDATE tree SET k = 4",),
                    ("INSERT INTO tree (k, b) VALUES (3, 'elm')",),
                    ("UPDATE tree SET k = 6 WHERE k = 3",),
                ],
            )
            refused = town.run(*words)
            self.assertEqual((refused.exit_code, "had one key before" in refused.stderr), (4, True), refused.output)
            chosen = [
                town.run("restore", "house", "--after", "4", *choice).stdout
                for choice in (("--key", "4"), ("--upto", "6"))
            ]
            town.shell(chosen[0])
            self.assertEqual([script.count("UPDATE") for script in chosen], [1, 1])
            self.assertEqual([(row[0], row[2]) for row in town.rows()], [(3, "oak"), (6, "elm")])


class Others(unittest.TestCase):
    def test_postgresql_every_type(self) -> None:
        for how in ("capture", "log"):
            with (
                self.subTest(how),
                park(
                    'CREATE SCHEMA "Odd schema"',
                    ALL_TYPES,
                    f"ALTER TABLE {ODD} REPLICA IDENTITY FULL",
                    how=how,
                    table=ODD,
                ) as (source, _, town),
            ):
                source.sql(VALUES % 1, f"INSERT INTO {ODD} (k) VALUES (2)", f"INSERT INTO {ODD} (k) VALUES (3)")
                town.project.step()
                load = next(iter(town.project.loads))
                where = f"SELECT t::text FROM {ODD} t"
                wanted = source.rows(where)
                here = town.project.load(load).source.span().end
                source.sql(f"UPDATE {ODD} SET f8 = '-Infinity', t = 'x', by = NULL, at = '{{z}}' WHERE k = 1",
                           f"UPDATE {ODD} SET k = 9, i4 = 5 WHERE k = 2", f"DELETE FROM {ODD} WHERE k IN (1, 3)")  # fmt: skip
                found = town.project.restore(load, here.number)
                self.assertEqual((found.inserts, found.updates), (2, 1))
                source.sql(found.to_sql())
                self.assertEqual(source.rows(where), wanted)

    def test_duckdb_from_a_change_table(self) -> None:
        loads = (
            "[loads.log]\nfrom = 'house.log'\nrows = 'house.real'\ninto = 'shed.copy'\nkey = 'k'\n[loads.log.layout]\n"
            "position = 'n'\noperation = 'op'\ninsert = 'i'\nupdate = 'u'\ndelete = 'd'\nwas = 'was_*'\nnow = 'now_*'\n"
        )
        with Town(loads=loads) as town, duckdb.connect(str(town.path / "house.duckdb")) as house:
            house.execute("CREATE TABLE real (k INT PRIMARY KEY, a DECIMAL(6,2), b BLOB, c TIMESTAMPTZ, d BOOLEAN)")
            columns = ["k INT", "a DECIMAL(6,2)", "b BLOB", "c TIMESTAMPTZ", "d BOOLEAN"]
            sides = ", ".join(f"{side}_{column.replace('(6;2)', '')}" for side in ("was", "now") for column in columns)
            house.execute(f"CREATE TABLE log (n INT, op VARCHAR, {sides})")
            row = "1, 12.50, '\\xAA\\x00'::BLOB, '2026-05-04 09:30:00.5+02'::TIMESTAMPTZ, true"
            nothing = ", ".join(["NULL"] * 5)
            house.execute(f"INSERT INTO log VALUES (1, 'i', {nothing}, {row}), (2, 'd', {row}, {nothing})")
            house.close()
            found = town.project.restore("log", 1)
            self.assertEqual(found.inserts, 1)
            with duckdb.connect(str(town.path / "house.duckdb")) as again:
                for statement in found.statements:
                    again.execute(statement)
                [(same,)] = again.execute(f"SELECT (k, a, b, c, d) = ({row}) FROM real").fetchall()
            self.assertTrue(same)
