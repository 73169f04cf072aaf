"""The remedy works (law 11): whatever command a message names is run from that state, and status is ok after it.

Most messages have this in the test of what they are about; here are the rest.
"""

from __future__ import annotations

import gzip
import re
import unittest
from unittest import mock

import duckdb

from plainstep.formats import limits
from tests.support import TREE, Town

LANDED = '{"seq": 1, "op": "new", "k": 1, "a": 1}\n{"seq": 2, "op": "new", "k": 2, "a": 2}\n'
STORES = "[stores.landing]\nurl = 'file:///landing'\n[stores.town]\nurl = 'sqlite:///town.db'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
LAYOUT = "[loads.tree.layout]\nposition = ['seq']\noperation = 'op'\ninsert = ['new']\nupdate = ['other']\ndelete = ['gone']\nsettle = '0s'\n"
FEED = f"{STORES}[loads.tree]\nfrom = 'landing.*.jsonl'\ninto = 'house.tree'\nkey = ['k']\n{LAYOUT}"


class Remedies(unittest.TestCase):
    def refused(self, town: Town, words: tuple[str, ...], told: str, load: str = "tree") -> list[tuple[str, ...]]:
        """What a command that is refused names to run instead."""
        said = town.run(*words)
        self.assertNotEqual(said.exit_code, 0, said.output)
        text = said.output
        self.assertRegex(text, told)
        remedies = re.findall(r"plainstep ([a-z]+(?: [\w.*-]+| --\w+(?: \w+)?)*)", text.split("\n", 1)[1])
        return list(dict.fromkeys(tuple(one.replace("LOAD", load).split()) for one in remedies))

    def repaired(self, town: Town, *words: str, load: str = "tree") -> None:
        """The command that was named fixes it."""
        self.assertEqual(town.run(*words).exit_code, 0, town.run(*words).output)
        done = town.run("step", load)
        self.assertEqual(done.exit_code, 0, done.stderr)
        self.assertEqual([one.health for one in town.project.status(load)], ["ok"])
        self.assertTrue(all(one.ok for one in town.project.check(load)) if load != "log" else True)

    def landing(self, config: str = FEED) -> Town:
        town = Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT)")
        town.config.write_text(config)
        (town.path / "landing").mkdir()
        (town.path / "landing" / "b.jsonl").write_text(LANDED)
        return town

    def test_a_load_that_has_not_begun(self) -> None:
        for words in (("check", "house"), ("reload", "house")):
            with Town(TREE) as town:
                town.project.capture_on("town.tree")
                [remedy] = self.refused(town, words, "has not begun")
                self.assertEqual(remedy, ("step", "house"))
                self.repaired(town, *remedy, load="house")

    def test_more_rows_leave_a_group_than_it_holds(self) -> None:
        loads = "[loads.sums]\nfrom = 'town.tree'\ninto = 'house.sums'\nshape = 'rollup'\nby = ['a']\nmeasures = { trees = 'count(*)' }\n"
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT)", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.sql("INSERT INTO tree VALUES (1, 1), (2, 1), (3, 2)")
            town.project.step("sums")
            with duckdb.connect(str(town.path / "house.duckdb")) as house:
                house.execute("UPDATE sums SET row_count = 1")
            town.sql("DELETE FROM tree WHERE a = 1")
            [remedy] = self.refused(town, ("step", "sums"), "More rows leave a group than it holds", "sums")
            self.repaired(town, *remedy[:2], load="sums")

    def test_a_column_of_another_type(self) -> None:
        drop = "ALTER TABLE tree DROP COLUMN a"
        for store in ("house", "shed"):
            with self.subTest(store), Town(TREE, "INSERT INTO tree VALUES (1, 4, 'oak'), (2, NULL, 'elm')") as town:
                whole = town.config.read_text()
                town.config.write_text(
                    whole + 'types = { a = "TEXT" }\n'
                    if store == "shed"
                    else whole.replace("[loads.shed]", 'types = { a = "TEXT" }\n[loads.shed]')
                )
                town.project.capture_on("town.tree")
                town.project.step(store)
                town.config.write_text(whole)
                town.sql("UPDATE tree SET a = a + 1")
                [reload, _] = self.refused(town, ("step", store), "settings of .* changed", store)
                [again] = self.refused(town, reload[:2], f"Drop the column a of {store}.tree", store)
                if store == "shed":
                    town.sql(drop, store="shed")
                else:
                    with duckdb.connect(str(town.path / "house.duckdb")) as house:
                        house.execute(drop)
                # To step in its place would fill the column in rows that change only.
                self.assertEqual(town.run("watermark", store, "--to", "start", "--yes").exit_code, 0)
                for words in (("step", store), ("check", store)):
                    [lost] = self.refused(town, words, "has lost the column 'a'", store)
                    self.assertEqual(lost[:2], again)
                self.repaired(town, *again, load=store)
                self.assertEqual(sorted(town.rows(store)), [(1, "oak", 5), (2, "elm", None)])

    def test_files_that_came_late_or_were_changed(self) -> None:
        late = '{"seq": 0, "op": "new", "k": 3, "a": 3}\n'
        for name, text, told in (
            ("a.jsonl", late, "came late"),
            ("b.jsonl", LANDED.replace('"a": 1', '"a": 9'), "was changed after"),
        ):
            with (
                self.subTest(told),
                self.landing(FEED.replace("[loads.tree.layout]", "rows = 'town.tree'\n[loads.tree.layout]")) as town,
            ):
                town.sql("INSERT INTO tree VALUES (1, 1), (2, 2)")
                self.assertEqual(town.run("step").exit_code, 0)
                (town.path / "landing" / name).write_text(text)
                town.sql("INSERT INTO tree VALUES (3, 3)" if name == "a.jsonl" else "UPDATE tree SET a = 9 WHERE k = 1")
                [remedy, *_] = self.refused(town, ("step",), told)
                self.repaired(town, "reload", remedy[1])

    def test_files_without_a_layout(self) -> None:
        with self.landing(FEED.partition("[loads.tree.layout]")[0]) as town:
            [remedy] = self.refused(town, ("step",), "plainstep init --changes landing")
            self.assertEqual(remedy[:2], ("init", "--changes"))
            made = town.run("init", "--changes", "landing.*.jsonl", "--into", "house", "--key", "k")
            self.assertEqual(made.exit_code, 0, made.stderr)
            self.assertIn("[loads.", made.output)

    def test_a_file_that_unpacks_to_more_than_is_read(self) -> None:
        with self.landing(FEED.replace("*.jsonl", "*.jsonl*")) as town:
            packed = town.path / "landing" / "c.jsonl.gz"
            rows = "".join(f'{{"seq": {n}, "op": "new", "k": {n}, "a": {n}}}\n' for n in range(3, 99)).encode()
            packed.write_bytes(gzip.compress(rows + b"\n" * 20_000))
            with mock.patch.multiple(limits, UNPACKED=9_000, RATIO=2):
                self.refused(town, ("step",), "split it, or store it unpacked")
                packed.unlink()
                packed.with_suffix("").write_bytes(rows)
                self.repaired(town, "step", "tree")
            self.assertEqual(len(town.rows("house")), 98)

    def test_what_look_shows_of_a_doubtful_layout(self) -> None:
        swapped = LAYOUT.replace("insert = ['new']", "insert = ['x']").replace("delete = ['gone']", "delete = ['new']")
        for layout, told in (
            (swapped, "contradict what is there"),
            (LAYOUT + "guessed = ['operation']\n", "was guessed in part"),
        ):
            with self.subTest(told), self.landing(FEED.replace(LAYOUT, layout)) as town:
                (town.path / "landing" / "b.jsonl").write_text(
                    "".join(
                        LANDED.split("\n")[0].replace('"seq": 1', f'"seq": {n}').replace('"k": 1', f'"k": {n}') + "\n"
                        for n in range(1, 30)
                    )
                )
                said = town.run("step")
                if said.exit_code:
                    self.assertRegex(said.stderr, told)
                    self.assertEqual(town.run("look", "tree").exit_code, 0)
                town.config.write_text(FEED)
                self.assertEqual(town.run("step").exit_code, 0, town.run("step").output)
                self.assertEqual([one.health for one in town.project.status()], ["ok"])

    def test_a_feed_whose_merged_changes_were_removed(self) -> None:
        loads = (
            "[loads.log]\nfrom = 'town.log'\ninto = 'house.log'\nkey = ['k']\n[loads.log.layout]\nposition = ['n']\n"
        )
        for remedy in (("watermark", "log", "--to", "start", "--yes"), ("reload", "log")):
            rows = "rows = 'town.tree'\n" if remedy[0] == "reload" else ""
            with (
                self.subTest(remedy),
                Town(
                    "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT)",
                    loads=loads.replace("[loads.log.layout]", f"{rows}[loads.log.layout]"),
                ) as town,
            ):
                town.sql("CREATE TABLE log (n INTEGER PRIMARY KEY, k INT, a INT)", "INSERT INTO log VALUES (1, 1, 1), (2, 2, 2)",
                         "INSERT INTO tree VALUES (1, 1), (2, 2)")  # fmt: skip
                self.assertEqual(town.run("step", "log").exit_code, 0, town.run("step", "log").output)
                town.sql("DELETE FROM log", "INSERT INTO log VALUES (7, 3, 3)", "INSERT INTO tree VALUES (3, 3)")
                self.assertIn(
                    remedy[0],
                    {one[0] for one in self.refused(town, ("step", "log"), "all that town.log holds is newer", "log")},
                )
                self.repaired(town, *remedy, load="log")
                self.assertEqual([row[0] for row in town.rows("house", "log")], [1, 2, 3])


if __name__ == "__main__":
    unittest.main()
