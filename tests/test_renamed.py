"""What had another name in earlier releases: in a config, on the command line, and in what is kept with targets."""

from __future__ import annotations

import re
import unittest

from tests.target_town import STORES, set_to, town_into


class Renamed(unittest.TestCase):
    """What had another name in earlier releases: settings, commands, kinds of steps, columns."""

    SETTINGS = {
        'bad = "refuse"': ("'on_bad_row'", 'on_bad_row = "refuse"'),
        'first = "beginning"': ("'start'", 'first = "start"'),
        "layout.quiet = 5.0": ("'settle'", 'layout.settle = "5s"'),
        'layout.sent = "has_*"': ("'sent_columns'", 'layout.sent_columns = "has_*"'),
        'layout.absent = "null"': ("'missing_field'", 'layout.missing_field = "null"'),
    }

    def test_an_old_setting_is_refused_with_the_new_one(self) -> None:
        feed = 'changes = "table"\nkey = ["k"]\nlayout.position = ["n"]\n'
        for old, (name, new) in self.SETTINGS.items():
            with self.subTest(old), town_into("house", f"{feed}{new}") as (town, _):
                set_to(town, new, old)
                told = town.run("step")
                self.assertEqual(told.exit_code, 2)
                self.assertRegex(told.stderr, rf"line \d+: .* was renamed to {name}")
                set_to(town, old, new)
                self.assertNotIn("was renamed", town.run("step").output)

    def test_an_old_command_is_refused_with_the_new_one(self) -> None:
        with town_into("house") as (town, _):
            for old, new in (("pace", "run"), ("aside", "quarantine"), ("mark tree", "watermark")):
                told = town.run(*old.split())
                self.assertEqual(told.exit_code, 2)
                self.assertIn(f"was renamed to plainstep {new}", told.stderr)

    def test_a_ledger_and_a_watermark_of_before(self) -> None:
        feed = 'changes = "table"\nkey = ["k"]\n[loads.tree.layout]\nposition = ["n"]\nnow = "v_*"\nsent_columns = "has_*"\n'
        for store in STORES:
            prefix = "plainstep." if store == "lake" else "plainstep_"
            with self.subTest(store), town_into(store, feed) as (town, run):
                town.sql("CREATE TABLE log (n INTEGER PRIMARY KEY, v_k INT, v_a INT, has_k INT, has_a INT)")
                set_to(town, 'from = "town.tree"', 'from = "town.log"')
                town.sql("INSERT INTO log VALUES (1, 1, 7, 1, 1)")
                town.project.step()
                old = f"""UPDATE {prefix}watermarks SET made_by = replace(made_by, '"sent_columns"', '"sent"')"""
                kinds = f"UPDATE {prefix}ledger SET kind = 'mend'"
                self.assertEqual(
                    run(old, kinds, f"SELECT count(*) FROM {prefix}watermarks WHERE made_by LIKE '%\"sent\"%'"), [(1,)]
                )
                town.sql("INSERT INTO log VALUES (2, 1, 8, 1, 1)")
                self.assertEqual(town.project.step()[0].outcome, "stepped")
                self.assertEqual([one.kind for one in town.project.ledger()], ["repair", "changes"])
                self.assertEqual(len(town.project.ledger(kind="repair")), 1)

    def test_a_history_of_before(self) -> None:
        for store in STORES:
            with self.subTest(store), town_into(store, 'shape = "history"') as (town, run):
                town.project.step()
                run("ALTER TABLE tree RENAME COLUMN valid_to TO valid_upto", "SELECT 1")
                town.sql("UPDATE tree SET a = 9 WHERE k = 1")
                refused = town.run("step")
                self.assertEqual(refused.exit_code, 4, refused.output)
                self.assertEqual(town.project.status()[0].health, "refuses")
                self.assertEqual(town.run("check").exit_code, 4)
                remedy = re.search(r"ALTER TABLE .*(?=, in )", refused.stderr)
                assert remedy, refused.stderr
                run(remedy[0], "SELECT 1")
                self.assertEqual(town.run("step").exit_code, 0)
                self.assertTrue(town.project.check()[0].ok)
                self.assertEqual([one.health for one in town.project.status()], ["ok"])
                self.assertEqual(run("SELECT count(*) FROM tree WHERE valid_to IS NULL"), [(2,)])


if __name__ == "__main__":
    unittest.main()
