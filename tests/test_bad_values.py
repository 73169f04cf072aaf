"""Values that are none of their column's type, in SQLite."""

from __future__ import annotations

import unittest

import duckdb

from tests.support import Town


class BadValues(unittest.TestCase):
    """D16: a value that is none of its column's type stops a load only until somebody says what to do."""

    def town(self, said: str = "") -> Town:
        table = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a DECIMAL(10,2), b TEXT)"
        town = Town(table, loads=f"[loads.bent]\nfrom = 'town.tree'\ninto = 'house.bent'\n{said}\n")
        town.sql("INSERT INTO tree VALUES (1, 1.25, 'oak')")
        town.project.capture_on("town.tree")
        town.project.step()
        return town

    def test_it_is_shown_and_refused_and_each_remedy_works(self) -> None:
        for spoil, repair, ways in (
            (
                "UPDATE tree SET a = 1.505 WHERE k = 1",
                "UPDATE tree SET a = 1.5 WHERE k = 1",
                '"round", "null" or "quarantine"',
            ),
            ("INSERT INTO tree VALUES (2, 'dear', 'elm')", "DELETE FROM tree WHERE k = 2", '"null" or "quarantine"'),
        ):
            with self.subTest(spoil), self.town() as town:
                town.sql(spoil)
                [outcome] = town.project.step("bent", raise_errors=False)
                self.assertIn("which is not a valid DECIMAL(10,2)", str(outcome.error))
                self.assertIn(f"on_bad_value = {ways}", str(outcome.error))
                self.assertIn("then plainstep reload bent", str(outcome.error))
                for words in (
                    ("look", "bent"),
                    ("net", "bent"),
                    ("look", "bent", "--key", spoil[-1] if "k = 1" in spoil else "2"),
                    ("look", "bent", "--out", str(town.path / "bent.csv")),
                    ("trace", "bent", spoil[-1] if "k = 1" in spoil else "2"),
                ):
                    told = town.run(*words)
                    self.assertEqual(told.exit_code, 0, told.stderr)
                    self.assertRegex(
                        told.output if "--out" not in words else (town.path / "bent.csv").read_text(), "1.505|dear"
                    )
                    self.assertEqual("refused" in told.output, words[0] != "trace" and "--out" not in words)
                town.sql(repair)
                self.assertEqual(
                    town.run("step", "bent").exit_code, 4
                )  # the change was recorded, and says what it says
                self.assertEqual(town.run("reload", "bent").exit_code, 0)
                self.assertEqual([one.health for one in town.project.status("bent")], ["ok"])
                self.assertTrue(town.project.check("bent")[0].ok)

    def test_it_is_bent_and_told(self) -> None:
        for way, price in (("round", "1.51"), ("null", None)):
            with self.subTest(way), self.town() as town:
                town.sql(
                    "UPDATE tree SET a = 1.505 WHERE k = 1",
                    "UPDATE tree SET b = 'elm' WHERE k = 1",
                    "INSERT INTO tree VALUES (2, 2, 'ash')",
                )
                town.config.write_text(
                    town.config.read_text().replace("'house.bent'", f"'house.bent'\non_bad_value = '{way}'")
                )
                said = town.run("step", "bent")
                self.assertEqual(said.exit_code, 0, said.stderr)
                self.assertIn("the first: '1.505' in the change at position 2 of tree", said.output)
                self.assertIn("that do not fit", town.run("ledger", "bent").output)
                with duckdb.connect(str(town.path / "house.duckdb")) as house:
                    found = house.execute("SELECT k, a::TEXT, b FROM bent ORDER BY k").fetchall()
                self.assertEqual(found, [(1, price, "elm"), (2, "2.00", "ash")])
                self.assertEqual([one.health for one in town.project.status("bent")], ["ok"])
                self.assertTrue(town.project.check("bent")[0].ok)
                self.assertEqual(town.project.step("bent")[0].outcome, "nothing")
                other = "null" if way == "round" else "round"
                town.config.write_text(town.config.read_text().replace(f"'{way}'", f"'{other}'"))
                self.assertIn("plainstep reload bent", str(town.project.step("bent", raise_errors=False)[0].error))
                self.assertEqual(town.run("reload", "bent").exit_code, 0)
                self.assertTrue(town.project.check("bent")[0].ok)

    def test_its_row_is_quarantined_and_comes_back(self) -> None:
        with self.town("on_bad_value = 'quarantine'") as town:
            town.sql(
                "INSERT INTO tree VALUES (2, 'dear', 'elm'), (3, 3, 'ash'), (4, 4, 'fir')",
                "UPDATE tree SET a = 1.505 WHERE k = 1",
                "UPDATE tree SET a = 'cheap', k = 5 WHERE k = 3",
                "UPDATE tree SET a = 1.505 WHERE k = 4",
                "UPDATE tree SET a = 4.25 WHERE k = 4",
            )
            self.assertIn(
                "would be quarantined: 3 (the first, at k = 2: the column a holds 'dear'",
                town.run("look", "bent").output,
            )
            said = town.run("step", "bent")
            self.assertEqual(said.exit_code, 0, said.stderr)
            self.assertEqual([(k, str(a)) for k, a, _ in town.rows("house", "bent")], [(4, "4.25")])
            self.assertEqual([row.place for _, row in town.project.quarantine("bent")], ["k = 1", "k = 2", "k = 5"])
            self.assertIn("rows quarantined: 3", town.run("ledger", "bent").output)
            self.assertEqual([one.health for one in town.project.status("bent")], ["ok"])
            self.assertTrue(town.project.check("bent")[0].ok)
            self.assertEqual(town.project.step("bent")[0].outcome, "nothing")
            town.sql("UPDATE tree SET a = 2 WHERE k = 2", "DELETE FROM tree WHERE k = 5")
            self.assertIn("2 rows released", town.run("quarantine", "bent", "--retry").output)
            self.assertEqual([k for k, *_ in town.rows("house", "bent")], [2, 4])
            self.assertEqual([row.place for _, row in town.project.quarantine("bent")], ["k = 1"])
            self.assertEqual(town.run("reload", "bent").exit_code, 0)
            self.assertEqual([row.place for _, row in town.project.quarantine("bent")], ["k = 1"])
            town.config.write_text(town.config.read_text().replace("quarantine", "round"))
            self.assertEqual(town.run("reload", "bent").exit_code, 0)
            self.assertEqual([k for k, *_ in town.rows("house", "bent")], [1, 2, 4])
            self.assertEqual(town.project.quarantine("bent"), [])
            self.assertTrue(town.project.check("bent")[0].ok)

    def test_any_cut_of_changes_quarantines_the_same_rows(self) -> None:
        changes = (
            "UPDATE tree SET a = 'x' WHERE k = 1", "UPDATE tree SET a = 2, k = 7 WHERE k = 1", "INSERT INTO tree VALUES (1, 'y', 'elm')",
            "DELETE FROM tree WHERE k = 7", "INSERT INTO tree VALUES (8, 8, 'ash')", "UPDATE tree SET k = 9, a = 'z' WHERE k = 8",
            "INSERT INTO tree VALUES (8, 'w', 'ash')", "UPDATE tree SET a = 3 WHERE k = 8", "UPDATE tree SET a = 9.5 WHERE k = 9",
        )  # fmt: skip
        for size in (1, 2, 4, 9):
            with self.subTest(size), self.town("on_bad_value = 'quarantine'") as town:
                for begin in range(0, len(changes), size):
                    town.sql(*changes[begin : begin + size])
                    # As on a quick machine: several statements in one tick of the clock.
                    clock = "(SELECT max(at) FROM plainstep_changes_tree)"
                    town.sql(f"UPDATE plainstep_changes_tree SET at = {clock} WHERE seq > {begin}")
                    [outcome] = town.project.step("bent")
                    self.assertEqual(outcome.entry.contradictions if outcome.entry else 0, 0)
                self.assertEqual([k for k, *_ in town.rows("house", "bent")], [8, 9])
                self.assertEqual([row.place for _, row in town.project.quarantine("bent")], ["k = 1"])
                self.assertTrue(town.project.check("bent")[0].ok)

    def test_most_rows_are_not_quarantined(self) -> None:
        with self.town("on_bad_value = 'quarantine'") as town:
            town.sql("INSERT INTO tree VALUES (2, 'a', ''), (3, 'b', ''), (4, 'c', '')", "DELETE FROM tree WHERE k = 1")
            town.config.write_text(
                town.config.read_text().replace("[loads.bent]", "[loads.other]").replace("house.bent", "house.other")
            )
            [outcome] = town.project.step("other", raise_errors=False)
            self.assertIn("Most rows of town.tree would be quarantined: 3, beside 0", str(outcome.error))

    def test_two_spellings_of_one_key_are_two_rows_and_refused(self) -> None:
        for kind, first, second in (
            ("DECIMALTEXT(10,2)", "1.5", "1.50"),
            ("TIMESTAMP", "2026-01-02 03:04", "2026-01-02T03:04:00"),
        ):
            loads = "[loads.kept]\nfrom = 'town.tree'\ninto = 'house.kept'\n"
            with self.subTest(kind), Town(f"CREATE TABLE tree (k {kind} PRIMARY KEY, b TEXT)", loads=loads) as town:
                town.project.capture_on("town.tree")
                town.sql(f"INSERT INTO tree VALUES ('{first}', 'oak')")
                town.project.step("kept")
                for one, other in ((first, second), (second, first)):
                    town.sql(f"UPDATE tree SET k = '{other}' WHERE k = '{one}'")
                    self.assertEqual(town.project.step("kept")[0].error, None)
                town.sql(f"INSERT INTO tree VALUES ('{second}', 'elm')")
                self.assertIn("contradict", str(town.project.step("kept", raise_errors=False)[0].error))
                for words in (("check", "kept"), ("reload", "kept")):
                    told = town.run(*words)
                    self.assertEqual(told.exit_code, 4, told.output)
                    self.assertIn(
                        f"have keys that are one value: {' and '.join(map(repr, sorted((first, second))))}", told.stderr
                    )
                town.sql("UPDATE tree SET b = 'ash'")
                self.assertIn("one value", str(town.project.step("kept", raise_errors=False)[0].error))
                town.sql(f"UPDATE tree SET k = '{second.replace('1', '7')}' WHERE k = '{second}'")
                self.assertEqual(town.run("reload", "kept").exit_code, 0)
                self.assertEqual([one.health for one in town.project.status("kept")], ["ok"])
                self.assertEqual(len(town.rows("house", "kept")), 2)

    def test_text_that_is_not_utf_8(self) -> None:
        with self.town() as town:
            town.sql("UPDATE tree SET b = CAST(X'6f616bff' AS TEXT) WHERE k = 1")
            for words in (("step", "bent"), ("look", "bent"), ("net", "bent")):
                told = town.run(*words)
                self.assertEqual(told.exit_code, 4, told.output)
                self.assertIn("the column b holds text that is not UTF-8", told.stderr)
                self.assertIn("plainstep reload LOAD", told.stderr)
            town.sql("UPDATE tree SET b = 'oak' WHERE k = 1")
            self.assertEqual(town.run("reload", "bent").exit_code, 0)
            self.assertEqual([one.health for one in town.project.status("bent")], ["ok"])

    def test_large_numbers_and_endless_times(self) -> None:
        """D15: a real tells large numbers apart by more digits than its text has; an infinite time is not text."""
        loads = "[loads.back]\nfrom = 'house.times'\ninto = 'shed.times'\nchanges = 'diff'\nkey = ['k']\n"
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a DECIMAL(20,2))", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.sql(
                "INSERT INTO tree VALUES (1, 12345678901234567.89), (2, 0.1 + 0.2), (3, 12345678901234.56), (4, 123456789012345678)"
            )
            town.project.step("house")
            found = [str(a) for _, a in town.rows("house")]
            self.assertEqual(found, ["12345678901234568.00", "0.30", "12345678901234.56", "123456789012345678.00"])
            for value in ("TIMESTAMP 'infinity'", "DATE '-infinity'"):
                with duckdb.connect(str(town.path / "house.duckdb")) as house:
                    house.execute(f"CREATE OR REPLACE TABLE times AS SELECT 1 AS k, {value} AS t")
                self.assertIn("or an infinite one", str(town.project.step("back", raise_errors=False)[0].error))

    def test_a_view_that_fails_in_its_midst(self) -> None:
        """Out of Arrow's reader, DuckDB's error comes as if reading a file had failed."""
        loads = """
[loads.view]
from = "house.girths"
into = "shed.girths"
key = ["k"]
changes = "diff"
[loads.query]
from = "house.girths"
into = "shed.queried"
key = ["k"]
[loads.query.layout]
position = "n"
[loads.query.layout.query]
head = "SELECT max(k) FROM girths"
oldest = "SELECT -1"
read = "SELECT *, k AS n FROM girths WHERE k > :after AND k <= :upto"
"""
        made = "CREATE OR REPLACE TABLE tree AS SELECT range AS k, if(range = 190000, '{}', range::TEXT) AS a FROM range(200000)"
        with Town(loads=loads) as town:
            for a, told in (("bent", "Could not convert string 'bent'"), ("0", "")):
                with duckdb.connect(str(town.path / "house.duckdb")) as house:
                    house.execute(made.format(a))
                    house.execute("CREATE OR REPLACE VIEW girths AS SELECT k, a::INT AS a FROM tree")
                for name, where in (
                    ("view", r"DuckDB says of .*house\.duckdb: "),
                    ("query", "house does not take a query: "),
                ):
                    with self.subTest(name, a=a):
                        [outcome] = town.project.step(name, raise_errors=False)
                        self.assertRegex(
                            str(outcome.error or ""), f"^{where}Conversion Error: {told}" if told else "^$"
                        )
            self.assertEqual([one.outcome for one in town.project.step("view", "query")], ["nothing"] * 2)

    def test_what_is_no_number_is_not_rounded_and_keys_are_never_bent(self) -> None:
        with self.town("on_bad_value = 'round'") as town:
            town.sql("INSERT INTO tree VALUES (2, 'dear', 'elm')")
            self.assertIn('on_bad_value = "null"', str(town.project.step("bent", raise_errors=False)[0].error))
        with Town(
            "CREATE TABLE tree (k DECIMAL(4,1) PRIMARY KEY, b TEXT)",
            loads="[loads.bent]\nfrom = 'town.tree'\ninto = 'house.bent'\non_bad_value = 'null'\n",
        ) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1.23, 'oak'), (1.24, 'elm')")
            self.assertIn("the column k holds", str(town.project.step("bent", raise_errors=False)[0].error))
        with self.town("types = { a = 'TEXT' }") as town:
            town.sql("INSERT INTO tree VALUES (2, 'dear', 'elm'), (3, 1.505, NULL)")
            town.project.step("bent")
            self.assertTrue(town.project.check("bent")[0].ok)


if __name__ == "__main__":
    unittest.main()
