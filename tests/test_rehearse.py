"""Rehearsals: what they find is so, the smallest history does it by hand, and the source is only read."""

from __future__ import annotations

import json
import unittest
from typing import Any
from unittest import mock

from plainstep.core.shapes.mirror import Mirror
from plainstep.rehearsal.rehearse import rehearse
from tests.postgres import Database
from tests.support import TREE, Town

# A trigger that puts text where a number was meant.
TANGLED = (
    "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT, b TEXT)",
    "CREATE TABLE log (k INT, x TEXT)",
    "CREATE TRIGGER t AFTER UPDATE ON tree WHEN NEW.b = 'c' BEGIN UPDATE tree SET a = 'many' WHERE k = NEW.k; END",
    "INSERT INTO tree VALUES (1, 1, 'a'), (2, 2, 'b')",
)
PLAIN = (
    "CREATE TABLE ward (id INTEGER PRIMARY KEY)",
    "INSERT INTO ward VALUES (1), (2), (3)",
    "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT REFERENCES ward ON DELETE CASCADE, b TEXT UNIQUE, c TEXT AS (b || '!'))",
    "CREATE TABLE log (k INT, x TEXT)",
    "CREATE TRIGGER t AFTER UPDATE ON tree BEGIN INSERT INTO log VALUES (NEW.k, OLD.b); END",
    "INSERT INTO tree (k, a, b) VALUES (1, 1, 'oak'), (2, 2, 'elm')",
)
POSTGRES = """CREATE TABLE ward (id int PRIMARY KEY, name text);
CREATE TABLE tree (k int PRIMARY KEY, ward int REFERENCES ward ON DELETE CASCADE, b text CHECK (b <> 'bad'),
    made int GENERATED ALWAYS AS (k + 1) STORED, at timestamptz DEFAULT now());
CREATE TABLE log (id bigserial PRIMARY KEY, k int, what text);
CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN
    INSERT INTO log (k, what) VALUES (coalesce(NEW.k, OLD.k), TG_OP);
    IF TG_OP = 'UPDATE' AND NEW.b = 'c' THEN UPDATE tree SET b = 'd' WHERE k = NEW.k + 1; END IF; RETURN NULL; END$$;
CREATE TRIGGER noted AFTER INSERT OR UPDATE OR DELETE ON tree FOR EACH ROW EXECUTE FUNCTION noted();
INSERT INTO ward SELECT n, 'w' || n FROM generate_series(1, 5) n;
INSERT INTO tree SELECT n, n % 5 + 1, 'oak' FROM generate_series(1, 50) n"""


class Rehearsals(unittest.TestCase):
    def test_a_table_that_is_captured_right(self) -> None:
        with Town(*PLAIN) as town:
            town.project.capture_on("town.tree")
            before = town.fingerprint()
            told = town.run("rehearse", "town.tree", "--changes", "300", "--seed", "7", "--json")
            self.assertEqual(town.fingerprint(), before)
            found = json.loads(told.stdout)
            self.assertEqual((told.exit_code, found["outcome"]), (0, "right"), told.stdout)
            self.assertGreater(found["changes"], 50)
            self.assertGreater(found["steps"], 3)
            again = json.loads(town.run("rehearse", "town.tree", "--changes", "300", "--seed", "7", "--json").stdout)
            self.assertEqual(again, found)
            self.assertIn("Every row came out right", town.run("rehearse", "town.tree", "--changes", "20").stdout)

    def test_the_smallest_history_that_is_refused_is_refused_by_hand(self) -> None:
        with Town(*TANGLED) as town:
            found = town.run("rehearse", "town.tree", "--changes", "800", "--seed", "11")
            self.assertEqual(found.exit_code, 4, found.stdout)
            history = found.stdout.rpartition("\n\n")[2].strip().splitlines()
            self.assertLess(len(history), 8, found.stdout)
            town.project.capture_on("town.tree")
            town.project.step("shed")
            for line in history:
                if line == "-- a step":
                    town.project.step("shed", raise_errors=False)
                else:
                    town.shell(line)
            [outcome] = town.project.step("shed", raise_errors=False)
            self.assertEqual(outcome.outcome, "refused")

    def test_a_row_that_comes_out_wrong_is_found_and_cut_down(self) -> None:
        """As a fault of ours would show: deletes that are not merged."""
        real = Mirror.rounds

        def faulty(self: Any, *given: Any) -> Any:
            for edits in real(self, *given):
                edits[0].drop = None
                yield edits

        with (
            Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 1, 'elm')") as town,
            mock.patch.object(Mirror, "rounds", faulty),
        ):
            store, table, _ = town.project.rehearsed("town.tree")
            found = rehearse(store, table, 200, seed=3)
        self.assertEqual(found.outcome, "wrong")
        self.assertRegex(found.reason, "extra [1-9]")
        statements = [one for act in found.smallest for one in act.statements]
        self.assertLessEqual(len(statements), 2)
        self.assertTrue(
            any(one.startswith(("DELETE", "UPDATE", "INSERT OR REPLACE")) for one in statements), statements
        )

    def test_postgresql_and_nothing_stays(self) -> None:
        with Database(POSTGRES) as park, Town() as town:
            town.config.write_text(f'[stores.park]\nurl = "{park.url}"\n')
            town.project.capture_on("park.tree")
            told = town.run("rehearse", "park.tree", "--changes", "300", "--json")
            found = json.loads(told.stdout)
            self.assertEqual((told.exit_code, found["outcome"]), (0, "right"), told.stdout)
            self.assertGreater(found["changes"], 30)
            with park.connect() as connection:
                left = connection.execute(
                    "SELECT datname FROM pg_database WHERE datname LIKE 'plainstep_rehearsal%'"
                ).fetchall()
            self.assertEqual(left, [])
            park.sql("CREATE ROLE rehearser LOGIN")
            try:
                park.sql(
                    "GRANT ALL ON ALL TABLES IN SCHEMA public TO rehearser",
                    "GRANT USAGE ON SCHEMA plainstep TO rehearser",
                )
                town.config.write_text(f'[stores.park]\nurl = "{park.url.replace("postgres@", "rehearser@")}"\n')
                refused = town.run("rehearse", "park.tree")
                self.assertEqual(refused.exit_code, 4, refused.output)
            finally:
                park.sql("DROP OWNED BY rehearser", "DROP ROLE rehearser")

    def test_a_store_that_cannot(self) -> None:
        with Town(TREE) as town:
            self.assertIn("cannot be copied", town.run("rehearse", "house.tree").stderr)
            self.assertIn("no table", town.run("rehearse", "town.nothing").stderr)
