"""Filters, columns and what is computed; drift; settings that change."""

from __future__ import annotations

import contextlib
import unittest

import plainstep
from tests.postgres import Database
from tests.shapes import ARCHIVE, SHAPES
from tests.support import TREE, Town


class Scoped(unittest.TestCase):
    """What a load takes: rows, columns, operations; and what it does when it cannot tell."""

    def test_expressions_are_checked_before_anything_runs(self) -> None:
        wrong = {
            "where = \"statsu = 'x'\"": "names 'statsu', which is not a column here",
            'where = "a + 1"': "not true or false",
            'where = "a > (SELECT 1)"': "a query of its own",
            'where = "random() > 0.5"': "does not give the same",
            'where = "count(*) > 1"': "looks at many rows",
            'derive = { c = "a + oak" }': "names 'oak'",
            'derive = { b = "a" }': "there is such a column already",
            'columns = ["a", "b"]': "leaves out 'k'",
            'columns = ["k", "girth"]': "names 'girth'",
            'shape = "rollup"\nby = ["b"]\nmeasures = { n = "median(a)" }': "is not a measure",
            'shape = "rollup"\nby = ["b"]\nmeasures = { n = "sum(b)" }': "no number",
            'shape = "history"\nwatch = ["girth"]': "names the column 'girth'",
            'shape = "events"\nrules = { r = "was.girth > 1" }': "is not a condition",
            'shape = "rollup"\nby = ["b"]': "needs 'measures'",
            'shape = "events"\nrules = { r = "" }\ndeliver = "ftp://larkmoor"': "events cannot be sent there",
            'shape = "events"\nrules = { r = "" }\ndeliver = "http://larkmoor:tree/"': "events cannot be sent there",
            'measures = { n = "count(*)" }': "is of the shape rollup",
        }
        for said, told in wrong.items():
            with (
                self.subTest(said),
                Town(TREE, loads=f'\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\n{said}\n') as town,
            ):
                with contextlib.suppress(plainstep.ConfigError):
                    town.project.capture_on("town.tree")
                result = town.run("step", "it")
                self.assertIn(result.exit_code, (2, 4), result.output)
                self.assertIn(told, result.output)
                self.assertFalse((town.path / "house.duckdb").exists())

    def test_operations_that_are_left_out(self) -> None:
        expected = {
            '["insert", "update"]': [(1, 9, "oak"), (2, 2, "elm"), (3, 3, "ash")],
            '["insert"]': [(1, 1, "oak"), (2, 2, "elm"), (3, 3, "ash")],
            '["update", "delete"]': [(1, 9, "oak")],
            '["delete"]': [(1, 1, "oak")],
        }
        for operations, rows in expected.items():
            for store in ("house", "shed"):
                load = f'\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.it"\noperations = {operations}\n'
                with (
                    self.subTest(operations, store=store),
                    Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=load) as town,
                ):
                    town.project.capture_on("town.tree")
                    town.project.step("it")
                    town.sql(
                        "UPDATE tree SET a = 9 WHERE k = 1",
                        "DELETE FROM tree WHERE k = 2",
                        "INSERT INTO tree VALUES (3, 3, 'ash')",
                    )
                    town.project.step("it")
                    self.assertEqual(town.rows(store, "it"), rows)
                    self.assertTrue(town.project.check("it")[0].ok)

    def test_a_feed_without_old_values_and_a_filter_does_the_safe_thing(self) -> None:
        feed = ["CREATE TABLE feed (n INTEGER PRIMARY KEY, op TEXT, k INTEGER, a INTEGER)"]
        load = """
[loads.it]
from = "town.feed"
into = "house.it"
key = ["k"]
where = "a > 1"
[loads.it.layout]
position = ["n"]
operation = "op"
insert = ["i"]
update = ["u"]
delete = ["d"]
"""
        with Town(*feed, loads=load) as town:
            rows = [("i", 1, 5), ("i", 2, 0), ("u", 1, 0), ("u", 2, 7), ("d", 3, 9), ("i", 4, 4), ("d", 4, 4)]
            for op, key, value in rows:
                town.sql(f"INSERT INTO feed (op, k, a) VALUES ('{op}', {key}, {value})")
                result = town.run("step", "it")
                self.assertEqual(result.exit_code, 0, result.output)
            self.assertEqual(town.rows("house", "it"), [(2, 7)])
            self.assertIn("has no before images", town.run("step", "it").output)
            text = (
                town.config.read_text()
                .replace('where = "a > 1"', 'shape = "rollup"\nby = ["a"]\nmeasures = { n = "count(*)" }')
                .replace("house.it", "house.other")
            )
            town.config.write_text(text.replace("loads.it", "loads.other"))
            result = town.run("step", "other")
            self.assertEqual(result.exit_code, 4)
            self.assertIn("has no before images", result.output)

    def test_columns_that_come_and_widen(self) -> None:
        for drift, rows in (
            ("add", [(1, 1, "oak", 5), (2, 2, "elm", 5)]),
            ("ignore", [(1, 1, "oak"), (2, 2, "elm")]),
            ("refuse", [(1, 1, "oak")]),
        ):
            for store in ("house", "shed"):
                load = f'\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.it"\ndrift = "{drift}"\n'
                with (
                    self.subTest(drift, store=store),
                    Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=load) as town,
                ):
                    town.project.capture_on("town.tree")
                    town.project.step("it")
                    town.sql(
                        "ALTER TABLE tree ADD COLUMN girth INTEGER DEFAULT 5",
                        "INSERT INTO tree (k, a, b) VALUES (2, 2, 'elm')",
                    )
                    town.project.capture_refresh("town.tree")
                    result = town.run("step", "it")
                    self.assertEqual(result.exit_code, 4 if drift == "refuse" else 0, result.output)
                    self.assertEqual(town.rows(store, "it"), rows)
                    told = {"add": "added the column girth", "ignore": "", "refuse": "new: girth"}[drift]
                    self.assertIn(told, town.project.ledger("it")[-1].note)
                    if drift != "refuse":
                        self.assertTrue(town.project.check("it")[0].ok)

    def test_a_column_that_widens_is_widened_in_every_store(self) -> None:
        create = "CREATE TABLE tree (k INTEGER PRIMARY KEY, height NUMERIC(6, 2), girth NUMERIC(20, 2))"
        shapes = {"mirror": "", "history": 'shape = "history"', "journal": 'shape = "journal"'}
        with (
            Database(create, "INSERT INTO tree VALUES (1, 3.5, 10), (2, NULL, 20)") as source,
            Database() as self.lake,
        ):
            loads = f'\n[stores.woods]\nurl = "{source.url}"\n[stores.lake]\nurl = "{self.lake.url}"\n'
            stores = ("house", "shed", "lake")
            loads += "".join(
                f'[loads.{store}_{name}]\nfrom = "woods.tree"\ninto = "{store}.{name}"\n{said}\n'
                for store in stores
                for name, said in shapes.items()
            )
            with Town(loads=loads) as town:
                names = [f"{store}_{name}" for store in stores for name in shapes]
                town.project.capture_on("woods.tree")
                town.project.step(*names)
                source.sql(
                    "ALTER TABLE tree ALTER height TYPE NUMERIC(12, 4), ALTER girth TYPE NUMERIC(24, 3)",
                    "UPDATE tree SET height = 123456.1234, girth = 123456789012345678901.123 WHERE k = 1",
                )
                town.project.capture_refresh("woods.tree")
                for turn in range(2):
                    for outcome in town.project.step(*names):
                        assert outcome.entry
                        told = "widened the column" if turn == 0 else ""
                        self.assertEqual(told in outcome.entry.note, bool(told) or not outcome.entry.note)
                    self.assertEqual([one.load for one in town.project.check(*names) if not one.ok], [])
                    source.sql("UPDATE tree SET height = 0.0001 WHERE k = 2")

    def test_a_column_that_narrows_changes_nothing_or_is_refused_before_anything_is_written(self) -> None:
        create = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a NUMERIC(12, 4), b TEXT)"
        shapes = {"copy": "", "versions": 'shape = "history"', "archive": 'shape = "journal"', "sums": SHAPES["rollup"]}
        loads = "".join(
            f'[loads.{name}]\nfrom = "woods.tree"\ninto = "house.{name}"\n{said}\n' for name, said in shapes.items()
        )
        for kind, refused in (("NUMERIC(6, 2)", False), ("INTEGER", True)):
            rows = "INSERT INTO tree VALUES (1, 1.2345, 'oak'), (2, 8, 'elm')"
            with Database(create, rows) as source, Town(loads=f'[stores.woods]\nurl = "{source.url}"\n{loads}') as town:
                town.project.capture_on("woods.tree")
                town.project.step(*shapes)
                source.sql(f"ALTER TABLE tree ALTER a TYPE {kind}", "UPDATE tree SET a = 3 WHERE k = 2")
                town.project.capture_refresh("woods.tree")
                before = {name: town.rows("house", name) for name in shapes}
                for name in shapes:
                    result = town.run("step", name)
                    if refused or name == "sums":  # what it held before it narrowed is not known
                        self.assertEqual(result.exit_code, 4, result.output)
                        self.assertEqual(town.rows("house", name), before[name])
                    if name == "sums" and not refused:
                        self.assertIn("plainstep reload", result.output)
                        self.assertEqual(town.run("reload", name).exit_code, 0)
                    if not refused:
                        self.assertTrue(town.project.check(name)[0].ok, name)

    def test_what_a_load_makes_is_not_changed_halfway(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\n'
        grouped = 'shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)" }'
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=load) as town:
            plain = town.config.read_text()

            def said(more: str) -> None:
                town.config.write_text(plain.replace('into = "house.it"', f'into = "house.it"\n{more}'))

            said('where = "a < 2"')
            town.project.capture_on("town.tree")
            town.project.step("it")
            said('where = "a < 9"')
            result = town.run("step", "it")
            self.assertEqual(result.exit_code, 4)
            self.assertIn('`where` was "a < 2"', result.output)
            self.assertEqual(town.project.status("it")[0].health, "refuses")
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual(len(town.rows("house", "it")), 2)
            said('where = "a < 1"')
            town.project.move_watermark("it", "head")  # as it is, and from here on by the new one
            town.sql("UPDATE tree SET b = 'ash'")
            town.project.step("it")
            self.assertEqual(town.rows("house", "it"), [(1, 1, "oak"), (2, 2, "elm")])
            said(grouped)
            for command in ("step", "reload"):
                self.assertIn("drop house.it", town.run(command, "it").output)
            import duckdb

            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                connection.execute("DROP TABLE it")
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("ash", 2)])
            town.sql("INSERT INTO tree (k, a) VALUES (3, 3)")
            self.assertIn("coalesce", town.run("step", "it").output)  # a group must have a name
            said(grouped.replace('["b"]', """{ b = "coalesce(b, 'unknown')" }"""))
            self.assertIn('`by` was ["b"]', town.run("step", "it").output)
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("ash", 2), ("unknown", 1)])
            self.assertEqual(town.run("step", "it").exit_code, 0)

    def test_columns_that_come_where_no_table_shows_them(self) -> None:
        """Messages and files carry all columns: drift is carried, left out or refused there, too."""
        loads = {
            "told": '[loads.told]\nfrom = "town.tree"\ninto = "house.told"\nshape = "events"\nrules = { any = "" }\n',
            "archive": ARCHIVE.format(first="head", format="jsonl"),
            "sums": f'[loads.sums]\nfrom = "town.tree"\ninto = "house.sums"\n{SHAPES["rollup"]}\n',
        }
        for drift in ("add", "ignore", "refuse"):
            text = "".join(loads.values()).replace('from = "town.tree"', f'from = "town.tree"\ndrift = "{drift}"')
            with self.subTest(drift), Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=text) as town:
                town.project.capture_on("town.tree")
                town.project.step(*loads)
                town.sql("ALTER TABLE tree ADD COLUMN girth INTEGER", "UPDATE tree SET a = 2")
                town.project.capture_refresh("town.tree")
                town.sql("UPDATE tree SET girth = 5")
                self.assertEqual(town.run("step", "sums").exit_code, 0)
                for name in ("told", "archive"):
                    result = town.run("step", name)
                    self.assertEqual(result.exit_code, 4 if drift == "refuse" else 0, result.output)
                    told = {"add": "added the column girth", "ignore": "", "refuse": "drift = 'refuse'"}[drift]
                    self.assertIn(told, town.project.ledger(name)[-1].note)
                carried = drift == "add"
                self.assertEqual("girth" in str(town.rows("house", "told")), carried)
                files = "".join(path.read_text() for path in (town.path / "archive" / "tree").rglob("*.jsonl"))
                self.assertEqual("now_girth" in files, carried)

    def test_sums_that_were_added_in_another_order_are_equal_and_others_are_repaired(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "rollup"\nby = ["b"]\nmeasures = { s = "sum(a / 10.0)", m = "max(a)" }\n'
        with Town(TREE, *(f"INSERT INTO tree VALUES ({n}, {n * 7}, 'oak')" for n in range(1, 40)), loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("it")
            for turn in range(5):
                town.sql(
                    f"UPDATE tree SET a = a * 3 + 1 WHERE k % 3 = {turn % 3}", f"DELETE FROM tree WHERE k = {turn + 1}"
                )
                self.assertEqual(town.run("step", "it").exit_code, 0)
                [checked] = town.project.check("it")
                self.assertTrue(checked.ok, checked)
            import duckdb

            [kept] = town.rows("house", "it")
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                connection.execute("UPDATE it SET s = s + 1; DELETE FROM it_m_values WHERE value > 1000")
            self.assertFalse(town.project.check("it")[0].ok)
            self.assertTrue(town.project.check("it", repair=True)[0].repaired)
            [repaired] = town.rows("house", "it")
            self.assertAlmostEqual(repaired[1], kept[1])
            self.assertEqual(town.project.reload("it").edits["put"], 0)
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:  # what would go wrong only later
                connection.execute("UPDATE it_m_values SET row_count = row_count + 1")
            result = town.run("check", "it", "--repair")
            self.assertIn("beside its groups differ", result.output)
            self.assertTrue(town.project.check("it")[0].ok)

    def test_what_could_not_be_taken_away_again_is_not_added(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "rollup"\nby = ["b"]\nmeasures = { s = "sum(a)" }\n'
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a REAL, b TEXT)", loads=load) as town:
            town.sql("INSERT INTO tree VALUES (1, 1.5, 'oak')")
            town.project.capture_on("town.tree")
            town.project.step("it")
            town.sql("INSERT INTO tree VALUES (2, 9e999, 'oak'), (3, NULL, 'elm')")
            result = town.run("step", "it")
            self.assertEqual(result.exit_code, 4)
            finite = "sum(CASE WHEN isfinite(a) THEN a END)"
            self.assertIn(finite, result.output)
            town.config.write_text(town.config.read_text().replace("sum(a)", finite))
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            town.sql("DELETE FROM tree WHERE k > 1")
            town.project.step("it")
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("oak", 1.5)])

    def test_a_row_as_it_stood_out_of_its_history(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "history"\nwhere = "a < 9"\n'
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("it")
            for value in (2, 3, 9):
                town.sql(f"UPDATE tree SET a = {value}")
                town.project.step("it")
            at = [town.project.trace("it", "1", at=str(position)).row for position in (0, 1, 2, 3)]
            self.assertEqual([row and row["a"] for row in at], [1, 2, 3, None])
            self.assertIsNone(town.project.trace("it", "1").target)
            last = [
                town.run("look", "it", "--after", "2", "--upto", "3", *more).output for more in ([], ["--unfiltered"])
            ]
            self.assertTrue("delete" in last[0] and "update" in last[1] and "a 3 -> 9" in last[1], last)
            town.project.trim("town", really=True)
            at = [town.project.trace("it", "1", at=str(position)).row for position in (0, 1, 2, 3)]
            self.assertEqual([row and row["a"] for row in at], [1, 2, 3, None])


if __name__ == "__main__":
    unittest.main()
