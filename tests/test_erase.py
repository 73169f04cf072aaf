"""Erasing one row's values from wherever they are kept."""

from __future__ import annotations

import json
import unittest

import duckdb

import plainstep
from plainstep.loads import erase
from tests.postgres import Database
from tests.support import CONFIG, Town

TREE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)"
ROWS = "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm'), (7, 3, 'Ida Berg')"
SHAPES = {
    "mirror": 'deletes = "flag"',
    "lives": 'shape = "history"\ncolumns = { id = "k", species = "b" }',
    "log": 'shape = "journal"',
    "sums": 'shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)", last = "max(a)" }',
    "news": 'shape = "events"\nrules = { changed = "" }',
}


def loads(source: str, *stores: str) -> str:
    """A load of every shape into each of some stores."""
    return "".join(
        f'[loads.{store}_{name}]\nfrom = "{source}"\ninto = "{store}.{name}"\n{said}\n'
        for store in stores
        for name, said in SHAPES.items()
    )


class Erasing(unittest.TestCase):
    def everywhere(self, town: Town, act: list[str], run: object) -> None:
        """Change a row, delete it, and erase it: nothing of it is found, and everything else is as before."""
        assert callable(run)
        project = town.project
        project.step()
        run(*act)
        project.step()
        first = next(iter(project.loads))
        found = project.erase(first, "7")
        self.assertFalse(found.done)
        self.assertIn("yours", {one.state for one in found.places})  # the row itself is there
        with self.assertRaisesRegex(plainstep.Refused, "is still in"):
            project.erase(first, "7", really=True)
        run("DELETE FROM tree WHERE k = 7")
        with self.assertRaisesRegex(plainstep.Refused, "are not merged yet by"):
            project.erase(first, "7", really=True)
        project.step()
        before = project.look(first, after="start").counts
        done = project.erase(first, "7", really=True)
        counts = {one.what: one.count for one in found.places}
        for one in done.places:
            self.assertEqual(one.state, "yours" if "rollup" in one.what else "erased", one)
            self.assertGreaterEqual(one.count or 0, counts[one.what] or 0, one)
        for one in project.erase(first, "7").places:
            self.assertIn(one.count, (0, None), one)
        self.assertEqual([one.load for one in project.check() if not one.ok], [])
        self.assertEqual({one.outcome for one in project.step()}, {"nothing"})
        self.assertEqual({one.health for one in project.status()}, {"ok"})
        erased = project.ledger(first, kind="erase")
        self.assertEqual((len(erased), "7" in erased[0].note), (1, False))
        # What is held of other rows is read on, from the first change.
        look = project.look(first, after="start")
        self.assertEqual(sum(before.values()) - sum(look.counts.values()), 3)
        self.assertEqual(project.trace(first, "7").events, [])
        run("INSERT INTO tree VALUES (8, 8, 'fir')", "UPDATE tree SET a = a + 1")
        project.step()
        self.assertEqual([one.load for one in project.check() if not one.ok], [])

    ACT = ("UPDATE tree SET b = 'Ida Holm' WHERE k = 7", "UPDATE tree SET a = 9")

    def test_embedded_stores(self) -> None:
        with Town(TREE, ROWS) as town:
            town.config.write_text(CONFIG + loads("town.tree", "house", "shed"))
            town.project.capture_on("town.tree")
            self.everywhere(town, list(self.ACT), town.sql)
            town.sql("VACUUM")
            self.assertNotIn(b"Ida", (town.path / "town.db").read_bytes())
            late = '[loads.late]\nfrom = "town.tree"\ninto = "house.late"\nfirst = "start"\nshape = "journal"\n'
            town.config.write_text(town.config.read_text() + late)
            self.assertEqual(town.project.step("late")[0].outcome, "stepped")
            self.assertNotIn(7, {row[8] for row in town.rows("house", "late")})

    def test_postgresql(self) -> None:
        with Database(TREE, ROWS) as source, Database() as target, Town() as town:
            stores = f'[stores.source]\nurl = "{source.url}"\n[stores.target]\nurl = "{target.url}"\n'
            town.config.write_text(stores + loads("source.public.tree", "target"))
            town.project.capture_on("source.public.tree")
            self.everywhere(town, list(self.ACT), source.sql)

    def test_a_reader_of_another_project_keeps_a_row_from_being_erased(self) -> None:
        with Town(TREE, ROWS) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 7")
            town.project.step("house")
            whole = town.config.read_text()
            town.config.write_text(whole[: whole.index("[loads.shed]")])
            told = town.run("erase", "house", "7", "--yes")
            self.assertEqual((told.exit_code, "not merged yet by shed" in told.output), (4, True), told.output)
            town.config.write_text(whole)
            town.project.step()
            town.config.write_text(whole[: whole.index("[loads.shed]")])
            told = town.run("erase", "house", "7", "--yes")
            self.assertEqual(told.exit_code, 0, told.output)
            self.assertRegex(told.output, "a reader of another project.*erase it there, too")

    def test_a_step_in_between_is_not_undone(self) -> None:
        """The commit finds that the watermark has moved, and nothing of that load is erased."""
        with Town(TREE, ROWS) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 7")
            town.project.step()
            begun = erase._AtTarget(town.project.load("house"), {"k": "7"})
            town.sql("INSERT INTO tree VALUES (9, 9, 'ash')")
            town.project.step()
            with self.assertRaises(plainstep.WatermarkMoved):
                begun.erase(0.0)

    def test_a_capture_that_was_made_anew_in_between_keeps_its_changes(self) -> None:
        with Town(TREE, ROWS) as town, Database(TREE, ROWS) as source:
            town.config.write_text(
                town.config.read_text()
                + f'[stores.source]\nurl = "{source.url}"\n[loads.lake]\nfrom = "source.public.tree"\ninto = "house.lake"\n'
            )
            town.project.capture_on("source.public.tree")
            for table, load, run in (("town.tree", "house", town.sql), ("source.public.tree", "lake", source.sql)):
                with self.subTest(load):
                    town.project.capture_on(table)
                    town.project.step(load)
                    run("UPDATE tree SET a = 4 WHERE k = 7", "DELETE FROM tree WHERE k = 7")
                    town.project.step(load)
                    found = erase._Source(town.project.load(load), {"k": "7"})
                    town.project.capture_off(table)
                    town.project.capture_on(table)
                    run("UPDATE tree SET a = a + 1")
                    with self.assertRaisesRegex(plainstep.Refused, "captured anew"):
                        found.erase()
                    self.assertEqual(town.project.look(load, after="start").counts["update"], 2)

    def test_what_comes_while_it_is_looked_waits_for_the_next_time(self) -> None:
        """Only changes that were found before it was asked who waits are erased."""
        with Town(TREE, ROWS) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 7")
            town.project.step()
            found = erase._Source(town.project.load("house"), {"k": "7"})
            town.sql("INSERT INTO tree VALUES (7, 7, 'fir')")
            found.erase()
            self.assertEqual([one.load for one in town.project.step() if one.outcome == "stepped"], ["house", "shed"])
            self.assertEqual([one.load for one in town.project.check() if not one.ok], [])

    def test_each_load_has_the_key_in_its_own_order_and_names(self) -> None:
        with Town("CREATE TABLE plot (x INTEGER, y INTEGER, b TEXT, PRIMARY KEY (x, y))") as town:
            town.sql("INSERT INTO plot VALUES (1, 2, 'oak'), (2, 1, 'elm'), (3, 3, 'fir')")
            loads = {
                "plain": "",
                "turned": 'key = ["y", "x"]',
                "named": 'columns = { b = "b", down = "y", across = "x" }',
                "news": 'shape = "events"\nrules = { moved = "" }',
            }
            town.config.write_text(
                CONFIG
                + "".join(
                    f'[loads.{name}]\nfrom = "town.plot"\ninto = "house.{name}"\n{said}\n'
                    for name, said in loads.items()
                )
            )
            town.project.capture_on("town.plot")
            town.project.step()
            town.sql("UPDATE plot SET x = 9 WHERE x = 1", "DELETE FROM plot WHERE x = 9")
            town.project.step()
            counts = {one.what: one.count for one in town.project.erase("turned", "2", "1", really=True).places}
            self.assertEqual(counts["captured changes"], 1)  # of what moved to another key, the change that moved it
            self.assertEqual(counts["news: events"], 1)
            self.assertEqual([one.load for one in town.project.check() if not one.ok], [])
            with self.assertRaisesRegex(plainstep.Refused, "is still in"):  # 2, 1 of it is 1, 2 of the other
                town.project.erase("plain", "2", "1", really=True)
            self.assertEqual({row[:2] for row in town.rows("house", "plain")}, {(2, 1), (3, 3)})

    def test_quarantined_documents_are_found_by_the_key_that_they_show(self) -> None:
        rows = [
            {"n": 1, "op": "i", "before": None, "after": {"id": 8, "b": "oak"}},
            {"n": 2, "op": "?", "before": None, "after": {"id": 7, "b": "Ida"}},
            {"n": 3, "op": "?", "before": {"id": 7, "b": "Ida"}, "after": {"id": 8, "b": "Ida"}},
            {"n": 4, "op": "?", "before": None, "after": {"id": 77, "b": "elm"}},
            {"n": 5, "op": "i", "before": None, "after": {"id": "seven", "b": "Ida"}},
            {"n": 6, "op": "i", "before": None},
            *({"n": n, "op": "i", "before": None, "after": {"id": n, "b": "fir"}} for n in range(10, 20)),
        ]
        layout = 'position = ["n"]\noperation = "op"\ninsert = ["i"]\nnow = "after.*"\nwas = "before.*"\ncolumns = { k = "id", b = "b" }\n'
        with Town() as town:
            (town.path / "feed").mkdir()
            (town.path / "feed" / "a.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
            town.config.write_text(
                '[stores.feed]\nurl = "file:///feed"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'
                '[loads.tree]\nfrom = "feed.*.jsonl"\ninto = "house.tree"\nkey = ["k"]\non_bad_row = "quarantine"\n'
                f'types = {{ k = "INTEGER" }}\n[loads.tree.layout]\n{layout}'
            )
            town.project.step()
            self.assertEqual(len(town.project.quarantine("tree")), 5)
            places = {one.what: (one.count, one.state) for one in town.project.erase("tree", "7", really=True).places}
            self.assertEqual(places["tree: quarantined rows"], (2, "erased"))
            self.assertEqual(places["tree: quarantined rows that show no key"], (2, "yours"))
            self.assertEqual(len(town.project.quarantine("tree")), 3)

    def test_files_quarantine_and_feeds_are_named(self) -> None:
        with Town() as town:
            (town.path / "feed").mkdir()
            (town.path / "feed" / "a.jsonl").write_text(
                '{"n": 1, "op": "i", "k": 7, "b": "Ida"}\n{"n": 2, "op": "i", "k": 8, "b": "oak"}\n'
                '{"n": 3, "op": "?", "k": 7, "b": "Ida"}\n{"n": 4, "op": "d", "k": 7, "b": null}\n'
            )
            layout = 'position = ["n"]\noperation = "op"\ninsert = ["i"]\ndelete = ["d"]\nnow = "*"\n'
            town.config.write_text(
                '[stores.feed]\nurl = "file:///feed"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'
                '[stores.archive]\nurl = "file:///archive"\n'
                + "".join(
                    f'[loads.{name}]\nfrom = "feed.*.jsonl"\ninto = "{into}"\nkey = ["k"]\non_bad_row = "quarantine"\n'
                    f"strict = false\n{more}\n[loads.{name}.layout]\n{layout}"
                    for name, into, more in (("tree", "house.tree", ""), ("kept", "archive.kept", 'shape = "journal"'))
                )
            )
            town.project.step()
            self.assertEqual(len(town.project.quarantine("tree")), 1)
            places = {one.what: (one.count, one.state) for one in town.project.erase("tree", "7", really=True).places}
            self.assertEqual(
                places,
                {
                    "tree (mirror)": (0, "erased"),
                    "tree: quarantined rows": (1, "erased"),
                    "kept (journal)": (2, "yours"),
                    "kept: quarantined rows": (1, "erased"),
                    "changes that something else keeps": (None, "yours"),
                },
            )
            self.assertEqual(town.project.quarantine(), [])
            told = json.loads(town.run("erase", "tree", "7", "--json").output)
            self.assertEqual((told["key"], told["done"], len(told["places"])), ({"k": 7}, False, 3))
            with duckdb.connect(str(town.path / "house.duckdb")) as house:
                self.assertEqual(house.sql("SELECT k FROM tree").fetchall(), [(8,)])
