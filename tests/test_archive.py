"""Shapes that are killed at any point; journals in files."""

from __future__ import annotations

import signal
import unittest
from typing import Any
from unittest import mock
from zoneinfo import ZoneInfo

import pyarrow.parquet as pq

import plainstep
from tests.kills import DIE, POINTS, STEP
from tests.postgres import Database, cluster
from tests.shapes import ARCHIVE, KILLED, SHAPES, changes_of
from tests.support import TREE, Town

COMMITTED = """
import plainstep.stores.postgresql.target as p
p.PostgresqlTarget.commit = lambda self, *commits, done=p.PostgresqlTarget.commit: (done(self, *commits), die())
"""


DIES = {
    "while a file is written": "from plainstep.stores.files import target\ntarget._Parts._write = lambda *a: os._exit(9)",
    "before the commit": "from plainstep.stores import commit_log\ncommit_log._Append.end = lambda *a: os._exit(9)",
    "before files have their names": """from plainstep.stores.files import target
real, calls = target.FolderTarget._name_what_was_committed, []
def named(self):
    if calls: os._exit(9)
    calls.append(1); real(self)
target.FolderTarget._name_what_was_committed = named""",
}


IN_THE_MIDDLE = "import plainstep.stores.merge as m; m.Merge._write = lambda self, edits, done=m.Merge._write: (done(self, edits), die())"


class Killed(unittest.TestCase):
    """Killed while it is written, every shape is merged once, when the step is made again."""

    def test_killed_anywhere_then_run_again(self) -> None:
        for number, name in enumerate(KILLED):
            store = ("house", "shed")[number % 2]
            with self.subTest(name, store=store), self.town(name, store) as here:
                self.kill(here)
                self.once(here, name, here.rows(store, name))

    def test_killed_while_it_is_written_to_postgresql(self) -> None:
        for name in KILLED:
            with self.subTest(name), Database(server=cluster()) as lake, self.town(name, "lake", lake.url) as here:
                self.kill(here)
                self.once(here, name, lake.rows(name))

    def town(self, name: str, store: str, url: str = "duckdb:///nothing.duckdb") -> Town:
        """A town with a load of one of the shapes into one of the stores."""
        load = f'\n[stores.lake]\nurl = "{url}"\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.{name}"\n'
        said = SHAPES[name].replace("FIRST", "snapshot")
        return Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=f"{load}{said}\n")

    def kill(self, here: Town) -> None:
        """A step that dies at each of some points, and is made again."""
        points = {
            "in the middle": IN_THE_MIDDLE,
            "before the commit": POINTS["before the commit"],
            "after the commit": POINTS["after the commit"] + COMMITTED,
        }
        here.project.capture_on("town.tree")
        here.project.step("it")
        for turn, (point, harm) in enumerate(points.items()):
            here.sql(
                f"UPDATE tree SET a = a + {turn + 1}",
                f"INSERT INTO tree VALUES ({turn + 3}, 1, 'oak')",
                "DELETE FROM tree WHERE k = (SELECT min(k) FROM tree)",
            )
            before = len(here.project.ledger("it"))
            child = here.child(DIE + harm + STEP, "it")
            told = child.communicate(timeout=240)[0]
            self.assertEqual(child.returncode, -signal.SIGKILL, told)
            [outcome] = here.project.step("it")
            self.assertEqual(outcome.outcome, "nothing" if point == "after the commit" else "stepped")
            self.assertEqual(len(here.project.ledger("it")), before + 1)

    def once(self, here: Town, name: str, held: list[Any]) -> None:
        """Everything is there once."""
        changes = changes_of(here, "it")
        if name == "events":
            rose = sum(c["op"] == "update" for c in changes) + sum(c["op"] == "delete" for c in changes)
            self.assertEqual(len(held), rose)
        else:
            self.assertTrue(here.project.check("it")[0].ok)
        if name == "journal":
            self.assertEqual(len(held), 2 + len(changes))


class Archive(unittest.TestCase):
    """A journal in files: no file without its watermark, no file half written, nothing to clean up after a crash."""

    def rows(self, town: Town) -> list[tuple[int, str]]:
        """Every change in every file that a reader sees."""
        import duckdb

        files = [str(path) for path in (town.path / "archive" / "tree").rglob("*") if path.is_file()]
        if not files:
            return []
        return sorted(duckdb.sql(f"SELECT position, op FROM read_parquet({files!r}, union_by_name = true)").fetchall())

    def test_killed_anywhere_each_change_is_there_once(self) -> None:
        for where, dies in DIES.items():
            with self.subTest(where), Town(TREE, loads=ARCHIVE.format(first="start", format="parquet")) as town:
                town.project.capture_on("town.tree")
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 1, 'elm'), (3, 1, NULL)")
                for turn in (1, 2):
                    if turn == 2:
                        town.sql("UPDATE tree SET a = 5", "DELETE FROM tree WHERE k = 2")
                    child = town.child(
                        f"import os, plainstep\n{dies}\nplainstep.load_project('plainstep.toml').step('archive')"
                    )
                    said = child.communicate(timeout=240)[0]
                    self.assertEqual(child.returncode, 9, said)
                    watermark = town.project.status("archive")[0].watermark
                    told = [row for row in self.rows(town) if watermark is None or row[0] > watermark.position]
                    self.assertEqual(told, [])  # nothing that the watermark does not know
                    town.project.step("archive")
                changes = [(change["position"], change["op"]) for change in changes_of(town, "archive")]
                self.assertEqual(self.rows(town), changes)
                self.assertTrue(town.project.check("archive")[0].ok)
                self.assertFalse((town.path / "archive" / ".plainstep" / "new").exists())

    def test_folders_and_formats(self) -> None:
        for form in ("parquet", "jsonl", "csv"):
            with (
                self.subTest(form),
                Town(
                    TREE, "INSERT INTO tree VALUES (7, 0, 'oak')", loads=ARCHIVE.format(first="snapshot", format=form)
                ) as town,
            ):
                town.project.capture_on("town.tree")
                town.project.step("archive")
                town.sql("INSERT INTO tree VALUES (8, 0, NULL)", "DELETE FROM tree WHERE k = 7")
                [outcome] = town.project.step("archive")
                self.assertEqual(outcome.edits["append"], 2)
                self.assertEqual(town.project.step("archive")[0].outcome, "nothing")
                names = sorted(
                    path.relative_to(town.path / "archive" / "tree").as_posix()
                    for path in (town.path / "archive" / "tree").rglob(f"*.{form}")
                )
                days = {name.partition("/")[0] for name in names}
                self.assertTrue(all(day.startswith("date=20") for day in days))
                kinds = sorted(name.split("/", 1)[1] for name in names)
                self.assertEqual(
                    kinds,
                    sorted(
                        [
                            f"b=none/archive-00000002.{form}",
                            f"b=oak/archive-00000001.{form}",
                            f"b=oak/archive-00000002.{form}",
                        ]
                    ),
                )
                self.assertEqual([one.kind for one in town.project.ledger("archive")], ["snapshot", "changes"])

    def test_days_are_those_of_a_zone(self) -> None:
        for zone in ("Pacific/Kiritimati", "Etc/GMT+12"):  # never on the same day
            text = ARCHIVE.format(first="start", format="parquet").replace('"date", "b"', '"date"')
            with Town(TREE, loads=f'{text}partition_zone = "{zone}"\n') as town:
                town.project.capture_on("town.tree")
                town.sql("INSERT INTO tree VALUES (7, 0, 'oak')")
                town.project.step("archive")
                [path] = (town.path / "archive" / "tree").rglob("*.parquet")
                [changed] = pq.ParquetFile(path).read(["changed_at"])["changed_at"].to_pylist()
                self.assertEqual(path.parent.name, f"date={changed.astimezone(ZoneInfo(zone)).date()}")

    def test_more_partitions_than_may_be_open_at_a_time(self) -> None:
        rows = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 70000) INSERT INTO tree SELECT i, 0, i % 5 FROM n"
        text = ARCHIVE.format(first="start", format="parquet").replace('["date", "b"]', '["b"]')
        few = mock.patch("plainstep.stores.files.target.Journals.most_open", 2)
        with Town(TREE, loads=text) as town, few, mock.patch("plainstep.stores.files.target.AT_ONCE", 10_000):
            town.project.capture_on("town.tree")
            town.sql(rows)
            [outcome] = town.project.step("archive")
            self.assertEqual(outcome.edits["append"], 70000)
            self.assertEqual(self.rows(town), [(n, "insert") for n in range(1, 70001)])
            files = list((town.path / "archive" / "tree").rglob("*.parquet"))
            self.assertTrue(any(path.name.endswith("-2.parquet") for path in files))
            folders = {path.parent.name for path in files}
            self.assertEqual(folders, {f"b={n}" for n in range(5)})
            self.assertTrue(town.project.check("archive")[0].ok)

    def test_what_is_no_journal_is_refused_at_once(self) -> None:
        with (
            Town(
                TREE,
                loads=ARCHIVE.format(first="head", format="csv")
                .replace('shape = "journal"', "")
                .replace('format = "csv"', "")
                .replace('partition = ["date", "b"]', ""),
            ) as town,
            self.assertRaisesRegex(plainstep.ConfigError, "Only a journal is appended to"),
        ):
            _ = town.project


if __name__ == "__main__":
    unittest.main()
