"""The laws over whole steps: SQLite into DuckDB, and SQLite into SQLite."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.positions import Position
from plainstep.testing.conformance import little_memory
from tests.histories import Model, histories
from tests.support import TARGETS, TREE, WITHOUT_SHRINKING, Town, act, examples


def expected(model: Model) -> list[tuple[Any, ...]]:
    return sorted(((row["k"], row["a"], row["b"]) for row in model.rows.values()), key=repr)


class Laws(unittest.TestCase):
    def test_columns_that_come_while_a_project_lasts(self) -> None:
        loads = "".join(
            f"[loads.{how}]\nfrom = 'town.tree'\ninto = 'house.{how}'\nchanges = '{how}'\n{more}"
            for how, more in (("column", "column = ['k']\n"), ("diff", ""))
        )
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=loads) as town:
            project = town.project  # one, as a run has it
            project.step("column", "diff")
            town.sql(
                "ALTER TABLE tree ADD COLUMN c INTEGER", "INSERT INTO tree VALUES (2, 2, 'elm', 5), (3, 3, 'x', 6)"
            )
            project.step("column", "diff")
            town.sql("INSERT INTO tree VALUES (4, 4, 'ash', 7)")
            project.step("column", "diff")
            for table in ("column", "diff"):
                self.assertEqual(town.rows("house", table), town.rows())

    @given(
        st.lists(histories, min_size=2, max_size=4),
        st.sampled_from(["snapshot", "start"]),
        st.sampled_from(["wal", "delete"]),
        st.booleans(),
    )
    @settings(max_examples=examples(12), deadline=None, phases=WITHOUT_SHRINKING)
    def test_truth_any_cut_once_and_looking_changes_nothing(
        self, parts: list[Any], first: str, journal: str, little: bool
    ) -> None:
        loads = "".join(
            f'[loads.{name}_late]\nfrom = "town.tree"\ninto = "{name}.late"\nfirst = "{first}"\n' for name in TARGETS
        )
        with Town(f"PRAGMA journal_mode = {journal}", TREE, loads=loads) as town, little_memory(little):
            model = Model()
            if first == "snapshot":
                act(town, model, parts[0])
            town.project.capture_on("town.tree")
            for part in parts[1:]:
                act(town, model, part)
                self.looking_changes_nothing(town)
                told = [
                    town.project.net(name).counts if town.project.status(name)[0].watermark else None
                    for name in TARGETS
                ]
                outcomes = town.project.step(*TARGETS)
                for counts, one in zip(
                    told, outcomes, strict=True
                ):  # a step reads less than a look, and finds the same
                    self.assertIn(counts, (None, one.net))
                for store in TARGETS:
                    self.assertEqual(town.rows(store), expected(model))  # law 1
                self.assertTrue(all(one.entry is None or one.entry.contradictions == 0 for one in outcomes))
                before = town.fingerprint()
                self.assertEqual([one.outcome for one in town.project.step(*TARGETS)], ["nothing"] * 2)  # law 3
                self.assertEqual(town.fingerprint(), before)
            town.project.step()
            for store in TARGETS:
                self.assertEqual(town.rows(store, "late"), expected(model))  # law 2: all at once, or part by part
            checks = town.project.check()
            self.assertTrue(all(one.ok and one.source_rows == one.target_rows == len(model.rows) for one in checks))
            self.together(town)

    def looking_changes_nothing(self, town: Town) -> None:
        """Law 5, byte for byte."""
        before = town.fingerprint()
        for words in ("look", "net", "watermark"):
            for name in TARGETS:
                self.assertEqual(town.run(words, name).exit_code, 0)
            self.assertEqual(town.run("trace", name, "1").exit_code, 0)
            self.assertEqual(town.run("look", name, "--format", "csv").exit_code, 0)
        for command in (
            ["status", "--json", "--metrics", "-"],
            ["ledger", "--totals"],
            ["trim", "town"],
            ["quarantine"],
        ):
            self.assertEqual(town.run(*command).exit_code, 0, command)
        if town.project.status("house")[0].watermark:
            self.assertEqual(town.run("check", *TARGETS).exit_code, 0)
        self.assertEqual(town.fingerprint(), before)

    def together(self, town: Town) -> None:
        """Law 8: the ledger's windows follow on each other without a gap, and end at the watermark."""
        for name in TARGETS:
            entries = town.project.ledger(name)
            self.assertEqual([one.step for one in entries], list(range(1, len(entries) + 1)))
            for earlier, later in itertools.pairwise(entries):
                self.assertEqual(earlier.upto, later.after)
            watermark = town.project.status(name)[0].watermark
            assert watermark is not None
            self.assertEqual((watermark.position, watermark.step), (entries[-1].upto, entries[-1].step))

    # Law 9: whatever happened to the source, the step refuses, writes nothing, and reload fixes it.

    # What a source looks like that was restored from a copy, and then changed.
    RESTORED = ("DELETE FROM plainstep_changes_tree WHERE seq > 1", "UPDATE tree SET a = 1 WHERE k = 2")

    def test_a_restored_source(self) -> None:
        self.refuses("ahead of the source's head", *self.RESTORED)

    def test_a_restored_source_that_went_on(self) -> None:
        self.refuses("has another time", *self.RESTORED, *["UPDATE tree SET a = a + 1 WHERE k = 1"] * 5)

    def test_changes_that_were_trimmed(self) -> None:
        def trim(town: Town) -> None:
            self.assertEqual(town.project.load("house").source.trim([Position(5)]), 4)

        self.refuses("were trimmed", "UPDATE tree SET a = 5", "UPDATE tree SET a = 6", then=trim)

    def test_a_change_that_was_taken_out(self) -> None:
        """Nobody sees it before the window is read."""
        self.refuses(
            "Missing: 1 of the 2 changes",
            "UPDATE tree SET a = 5",
            "DELETE FROM plainstep_changes_tree WHERE seq = 4",
            seen=False,
        )

    def test_a_change_table_that_was_emptied_and_went_on(self) -> None:
        self.refuses(
            "is gone",
            "DELETE FROM plainstep_changes_tree",
            *["UPDATE tree SET a = a + 1"] * 4,
            "DELETE FROM plainstep_changes_tree WHERE seq = 3",
        )

    def test_a_capture_that_was_rebuilt(self) -> None:
        def rebuild(town: Town) -> None:
            town.project.capture_off("town.tree")
            town.project.capture_on("town.tree")
            town.sql("UPDATE tree SET a = 5", "UPDATE tree SET a = 6")

        self.refuses("rebuilt", then=rebuild)

    def refuses(
        self, words: str, *harm: str, then: Callable[[Town], None] = lambda town: None, seen: bool = True
    ) -> None:
        """The step after some harm is refused in these words, and reload fixes it; ``seen``: status knows, too."""
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "INSERT INTO tree VALUES (2, 0, 'elm')",
                "UPDATE tree SET a = 3 WHERE k = 2",
                "UPDATE tree SET a = 4 WHERE k = 1",
            )
            town.project.step()
            town.sql(*harm)
            then(town)
            stands = [town.fingerprint()["town.db"], *map(town.rows, TARGETS)]
            result = town.run("step")
            self.assertEqual(result.exit_code, 4, result.output)
            self.assertEqual([town.fingerprint()["town.db"], *map(town.rows, TARGETS)], stands)
            for name in TARGETS:
                last = town.project.ledger(name)[-1]
                self.assertEqual((last.kind, last.after), ("refused", last.upto))
                self.assertIn(words, last.note)
            before = town.fingerprint()
            self.assertEqual(town.run("step").exit_code, 4)  # the same refusal again: nothing more is written down
            self.assertIn(words, result.output)
            self.assertIn("plainstep reload house", result.output.replace("LOAD", "house"))
            if seen:
                self.assertEqual(town.project.status("house")[0].health, "refuses")
            self.assertEqual(town.fingerprint(), before)
            for name in TARGETS:
                town.project.reload(name)
                self.assertEqual(town.rows(name), town.rows())
            town.sql("INSERT INTO tree VALUES (9, 9, 'ash')")
            town.project.step()
            self.assertTrue(all(one.ok for one in town.project.check()))

    def test_changes_cleared_before_any_was_merged(self) -> None:
        for later in ([], ["UPDATE tree SET a = 9"]):
            with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
                town.project.capture_on("town.tree")
                town.project.step("shed")
                town.sql("UPDATE tree SET a = 5", "DELETE FROM plainstep_changes_tree", *later)
                result = town.run("step", "shed")
                self.assertEqual(result.exit_code, 4, result.output)
                self.assertIn("were trimmed or cleared" if later else "were cleared", result.output)
                if not later:  # positions would be given out twice
                    self.assertIn("plainstep capture refresh town.tree", result.output)
                    town.project.capture_refresh("town.tree")
                town.project.reload("shed")
                self.assertEqual(town.rows("shed"), town.rows())


class Steps(unittest.TestCase):
    def test_several_loads_at_once(self) -> None:
        """Into both stores, with one that fails, and one that reads what another has just written."""
        names = [f"{into}{number}" for number in range(3) for into in TARGETS]
        loads = "".join(
            f"[loads.{name}]\nfrom = 'town.tree'\ninto = '{name[:-1]}.{name}'\nat_most = 7\n" for name in names
        )
        loads += "[loads.lost]\nfrom = 'town.nothing'\ninto = 'shed.lost'\n"
        loads += "[loads.after]\nfrom = 'shed.shed2'\ninto = 'house.after'\nchanges = 'diff'\nkey = ['k']\n"
        with Town(TREE, loads=loads) as town:
            town.project.capture_on("town.tree")
            every = [*names, "lost", "after"]
            for turn in range(3):
                made = town.project.step(*every, raise_errors=False, until_done=True, jobs=4)
                self.assertEqual(list(dict.fromkeys(one.load for one in made)), every)
                self.assertEqual({one.load for one in made if one.error}, {"lost"})
                for name in names:
                    self.assertEqual(town.rows(name[:-1], name), town.rows(), name)
                self.assertEqual(town.rows("house", "after"), town.rows())
                rows = ", ".join(f"({turn * 20 + number}, {number}, 'oak')" for number in range(20))
                town.sql(f"INSERT INTO tree VALUES {rows}", "UPDATE tree SET a = a + 1")
            result = town.run("step", *names, "--jobs", "3", "--until-done", "--json")
            self.assertEqual(result.exit_code, 0, result.output)
            self.assertEqual(town.rows("house", "house0"), town.rows())
            self.assertEqual(town.run("step", "--jobs", "0").exit_code, 2)

    def test_rows_that_came_back_as_they_were_are_not_touched(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, NULL), (3, 0, 'elm'), (4, 0, 'fir')") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            there_and_back = [
                "UPDATE tree SET a = 5, b = NULL WHERE k < 4",
                "UPDATE tree SET a = 0 WHERE k < 4",
                "UPDATE tree SET b = 'oak' WHERE k = 1",
            ]
            town.sql(*there_and_back, "UPDATE tree SET a = a WHERE k = 4")
            for name in TARGETS:
                counts = town.project.net(name).counts
                [outcome] = town.project.step(name)
                self.assertEqual(
                    (outcome.net, counts), ({"insert": 0, "update": 1, "delete": 0},) * 2
                )  # only 3 is another
                self.assertEqual((outcome.edits["put"], town.rows(name)), (1, town.rows()))

    def test_first_and_deletes(self) -> None:
        loads = "".join(
            f'[loads.{name}]\nfrom = "town.tree"\ninto = "{store}.{name}"\n{more}\n'
            for store in TARGETS
            for name, more in ((f"head_{store}", 'first = "head"'), (f"keep_{store}", 'deletes = "ignore"'))
        )
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "DELETE FROM tree WHERE k = 1",
                "UPDATE tree SET a = 1",
                "INSERT INTO tree VALUES (3, 1, 'ash')",
            )
            town.sql("INSERT INTO tree VALUES (4, 1, 'fir')", "DELETE FROM tree WHERE k = 4")
            town.project.step()
            for store in TARGETS:
                self.assertEqual(town.rows(store, f"head_{store}"), [(2, 1, "elm"), (3, 1, "ash")])
                self.assertEqual(town.rows(store, f"keep_{store}"), [(1, 0, "oak"), (2, 1, "elm"), (3, 1, "ash")])
            kept = town.project.check("keep_house")[0]
            self.assertEqual((kept.ok, kept.extra, kept.kept), (True, 1, True))
            self.assertEqual(town.run("check", "keep_shed").exit_code, 0)

    def test_one_file_may_be_source_and_target(self) -> None:
        for journal in ("delete", "wal"):
            loads = '[loads.copy]\nfrom = "town.tree"\ninto = "town.copy"\n'
            with Town(f"PRAGMA journal_mode = {journal}", TREE, loads=loads) as town:
                town.sql(*[f"INSERT INTO tree VALUES ({n}, 0, 'oak')" for n in range(100)])
                town.project.capture_on("town.tree")
                for statement in ("UPDATE tree SET a = 1", "DELETE FROM tree WHERE k < 50"):
                    self.assertEqual(town.project.step("copy")[0].outcome, "stepped")
                    town.sql(statement)
                town.project.step("copy")
                self.assertEqual(town.rows(table="copy"), town.rows())
                self.assertTrue(town.project.check("copy")[0].ok)

    def test_progress_is_told(self) -> None:
        from plainstep.progress import told_to

        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')") as town:
            town.project.capture_on("town.tree")
            heard: list[tuple[str, int, int | None]] = []
            with told_to(lambda *told: heard.append(told)):
                town.project.step("house")
                town.sql("UPDATE tree SET a = 1")
                town.project.step("house")
                town.project.check("house")
            self.assertEqual(heard[:2], [("house: rows", 2, 2), ("house: changes", 2, 2)])
            self.assertEqual(
                {what for what, *_ in heard[2:]}, {"house: changes", "house: target rows", "house: source rows"}
            )

    def test_contradictions_are_counted_or_refused(self) -> None:
        loads = '[loads.strict]\nfrom = "town.tree"\ninto = "house.strict"\nstrict = true\n'
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 1", "INSERT INTO tree VALUES (5, 5, 'here')", store="shed")
            import duckdb

            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                for table in ("tree", "strict"):
                    connection.execute(f"DELETE FROM {table} WHERE k = 1; INSERT INTO {table} VALUES (5, 5, 'here')")
            town.sql(
                "UPDATE tree SET a = 7",
                "INSERT INTO tree VALUES (5, 0, 'ash')",
                "DELETE FROM tree WHERE k = 2",
            )
            outcomes = town.project.step(raise_errors=False)
            self.assertEqual([one.outcome for one in outcomes], ["refused", "stepped", "stepped"])
            self.assertIn("2 of the 4 changes of strict contradict", str(outcomes[0].error))
            for one, store in zip(outcomes[1:], TARGETS, strict=True):
                assert one.entry is not None
                self.assertEqual(one.entry.contradictions, 2)
                self.assertEqual(town.rows(store), town.rows())
            self.assertEqual(town.rows("house", "strict"), [(2, 0, "elm"), (5, 5, "here")])

    def test_check_finds_every_difference(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm'), (3, 0, NULL)") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "DELETE FROM tree WHERE k = 1",
                "UPDATE tree SET b = 'x' WHERE k = 3",
                "INSERT INTO tree VALUES (4, 0, 'z')",
                store="shed",
            )
            town.sql(
                "UPDATE tree SET a = 1",
                "DELETE FROM tree WHERE k = 2",
                "INSERT INTO tree VALUES (9, 9, 'ash')",
            )
            good, bad = town.project.check("house", "shed")
            self.assertEqual((good.ok, good.waiting, good.source_rows), (True, 5, 3))
            self.assertEqual((bad.ok, bad.missing, bad.extra, bad.different), (False, 1, 1, 1))
            shown = town.run("check", "shed")
            self.assertEqual(shown.exit_code, 3)
            self.assertIn("b x -> null", shown.output)
            town.project.reload("shed")
            self.assertTrue(town.project.check("shed")[0].ok)

    def test_watermarks_by_position_and_time(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(*[f"UPDATE tree SET a = {n}" for n in range(1, 5)])
            town.sql("UPDATE plainstep_changes_tree SET at = 1000 * 60 * (seq + 1) WHERE seq > 0")
            town.sql("UPDATE plainstep_captures SET since = 0")
            project = town.project
            for after, upto, wanted in (("start", "head", 4), ("1", "3", 2), ("1970-01-01T00:02Z", "1970-01-01T01:03+01:00", 1),
                                        ("1970-01-01", "head", 4), ("2", None, 2), (None, "2", 2), ("4", "head", 0)):  # fmt: skip
                self.assertEqual(project.look("house", after, upto).total, wanted, (after, upto))
            self.assertEqual(project.look("house", limit=1).more, 3)
            result = town.run("watermark", "house", "--to", "2", "--reason", "merged by hand")
            self.assertEqual(result.exit_code, 1)  # nobody there to say yes
            result = town.run("watermark", "house", "--to", "2", "--reason", "merged by hand", "--yes")
            self.assertIn("merged up to 2", result.output)
            self.assertEqual(project.ledger("house")[-1].note, "merged by hand")
            self.assertEqual(project.step("house")[0].changes, 2)
            self.assertTrue(project.check("house")[0].ok)
            with self.assertRaises(plainstep.ConfigError):
                project.look("house", "3", "2")
            with self.assertRaises(plainstep.ConfigError):
                project.move_watermark("house", "99")


if __name__ == "__main__":
    unittest.main()
