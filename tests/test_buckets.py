"""Buckets of object storage: feeds of files in them, and journals that are appended to them."""

from __future__ import annotations

import contextlib
import itertools
import os
import re
import threading
import time
import unittest
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import obstore
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st
from obstore.store import MemoryStore, S3Store

import plainstep
from plainstep.stores import objects
from plainstep.stores.files import folders
from plainstep.stores.files.bucket_target import BucketTarget
from plainstep.stores.files.folders import Bucket, Kept, LocalFolder
from plainstep.stores.objects import Objects
from tests import feed_town, layouts
from tests.feed_town import HISTORY
from tests.shapes import ARCHIVE, changes_of
from tests.storage import lost_answers, storage
from tests.support import TREE, WITHOUT_SHRINKING, Town, examples

FORMS = ("many", "folders", "folded", "lines", "json", "csv", "parquet", "avro")
DIE = "import os\ndef die(*_, **__): os._exit(9)\n"
DIES = {
    "while a file is written": "from plainstep.stores.files import target\ntarget._Parts._write = die",
    "before the commit": "from plainstep.stores.books import Books\nBooks.write = die",
    "before files are where they belong": "from plainstep.stores.objects import Objects\nObjects.copy = die",
    "before what was copied is removed": "from plainstep.stores.objects import Objects\nObjects.remove = die",
}


class Buckets(unittest.TestCase):
    """A stand-in for object storage, and a part of its bucket for each test."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.enterClassContext(storage())

    def setUp(self) -> None:
        self.prefix = f"{self._testMethodName[:40]}-{uuid.uuid4().hex[:6]}"
        self.url = f"s3://larkmoor/{self.prefix}"
        self.bucket = S3Store.from_url(self.url)

    def put(self, name: str, data: str | bytes) -> None:
        obstore.put(self.bucket, name, data.encode() if isinstance(data, str) else data)

    def names(self) -> list[str]:
        return sorted(one["path"] for batch in obstore.list(self.bucket) for one in batch)

    def upload(self, folder: Path) -> None:
        """What is in a folder, as far as it is not there already."""
        there = {one["path"]: one["size"] for batch in obstore.list(self.bucket) for one in batch}
        for path in folder.rglob("*"):
            name = path.relative_to(folder).as_posix()
            if path.is_file() and there.get(name) != path.stat().st_size:
                self.put(name, path.read_bytes())


class Feeds(Buckets):
    def test_every_form_of_files(self) -> None:
        """The same files in a bucket as in a folder, in every window: equal to the model."""
        with feed_town.Town(config=layouts.config(*FORMS).replace("file:///landing", self.url)) as town:
            for cut in (HISTORY[:5], HISTORY[5:9], HISTORY[9:]):
                town.play(cut)
                self.upload(town.path / "landing")
                for outcome in town.project.step():
                    self.assertEqual(outcome.outcome, "stepped", outcome)
                    self.assertEqual(town.target(outcome.load), town.truth, outcome.load)
                self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})
                self.assertEqual({one.health for one in town.project.status()}, {"ok"})

    def test_what_becomes_of_files(self) -> None:
        """Each thing that may become of a file is told as of one in a folder: by the same words, with the same exit status."""
        with contextlib.ExitStack() as towns:
            sides = [
                towns.enter_context(feed_town.Town(config=self.json(url))) for url in ("file:///landing", self.url)
            ]
            landing, clock = sides[0].path / "landing", itertools.count(1)

            def put(name: str, text: str) -> None:
                (landing / name).parent.mkdir(parents=True, exist_ok=True)
                (landing / name).write_text(text)
                os.utime(landing / name, (0, next(clock)))
                self.put(name, text)

            def told(*words: str) -> list[tuple[int, str]]:
                found = [feed_town.run(side, *words) for side in sides]
                return [(one.exit_code, re.sub(r"[\d.]+ s\b", "", one.output)) for one in found]

            def same(*words: str) -> tuple[int, str]:
                one, two = told(*words)
                self.assertEqual(one, two)
                return one

            put("json/1.jsonl", self.line(1, 1) + self.line(2, 2))
            put("json/deep er/é %20+.jsonl", self.line(3, 3))
            put("json/notes.txt", "nothing")
            put("json/.hidden/x.jsonl", "{")
            self.assertEqual([len(side.project.load("json").source.warnings()) for side in sides], [1, 1])
            stepped(self, sides, 3)
            put("json/1.jsonl", self.line(1, 1) + self.line(2, 2) + self.line(4, 4))  # it grew
            put("json/copy.jsonl", self.line(3, 3))
            stepped(self, sides, 4)
            self.assertIn('"op": "put"', same("look", "json", "--after", "start", "--json")[1])
            put("json/late.jsonl", self.line(2, 9))
            self.assertIn("came late", same("step")[1])
            obstore.delete(self.bucket, "json/late.jsonl")
            (landing / "json/late.jsonl").unlink()
            put("json/1.jsonl", self.line(1, 1) + self.line(2, 7) + self.line(4, 4))  # as long, and other
            self.assertEqual(same("step")[0], 4)
            self.assertEqual(same("reload", "json")[0], 0)
            put("json/8.jsonl", '{"n": 8, ')
            os.utime(landing / "json/8.jsonl")
            self.assertIn("ends in a line that is not finished yet", same("step")[1])

    def json(self, url: str) -> str:
        return (
            f'[stores.landing]\nurl = "{url}"\n[stores.house]\nurl = "duckdb:///house.duckdb"\n'
            '[loads.json]\nfrom = "landing.json"\ninto = "house.json"\nkey = ["k"]\n'
            '[loads.json.layout]\nposition = ["n"]\nmissing_field = "null"\n'
        )

    def line(self, number: int, key: int) -> str:
        return f'{{"n": {number}, "k": {key}, "a": {number}, "b": "oak"}}\n'

    def test_globs_mean_what_they_mean_in_folders(self) -> None:
        parts = st.sampled_from(["a", "b.jsonl", "ab", "a[b", "Z!", "é", "a*"])
        globs = st.sampled_from(["a", "*", "**", "?b", "[ab]*", "[!a]*", "b.jsonl", "*.jsonl", "a[[]b", "[]x]"])

        @settings(max_examples=examples(150), deadline=None, phases=WITHOUT_SHRINKING)
        @given(st.sets(st.lists(parts, min_size=1, max_size=3).map("/".join)), st.lists(globs, min_size=1, max_size=3))
        def holds(names: set[str], glob: list[str]) -> None:
            files = {name for name in names if not any(other.startswith(f"{name}/") for other in names)}
            with Town() as town:
                folder = town.path / "landing"
                folder.mkdir()
                objects = Objects("landing", folder)
                objects._store = MemoryStore()
                for name in files:
                    obstore.put(objects._store, name, b"x")
                    (folder / name).parent.mkdir(parents=True, exist_ok=True)
                    (folder / name).write_text("x")
                pattern = "/".join(
                    glob if glob[-1] != "**" else [*glob, "*"]
                )  # alone, it means folders before Python 3.13
                found = [
                    sorted(one.name for one in place.found(pattern))
                    for place in (LocalFolder(folder), Bucket(objects, Kept()))
                ]
                self.assertEqual(found[0], found[1], (pattern, files))

        holds()

    def test_large_and_many(self) -> None:
        """Large files are read in parts, many small ones side by side; what is kept of them stays within bounds."""
        table = pa.table({"n": range(50_000), "k": range(50_000), "a": [1] * 50_000, "b": ["oak"] * 50_000})
        out = pa.BufferOutputStream()
        pq.write_table(table, out, row_group_size=1000)
        self.put("json/1.parquet", out.getvalue().to_pybytes())
        for number in range(50_000, 50_120):
            self.put(f"json/2/{number}.jsonl", self.line(number, number))
        config = self.json(self.url)
        limits = mock.patch.multiple(folders, SMALL=10_000, KEPT=5_000)
        seek = objects._Opened.seek

        def seek_late(file: objects._Opened, *where: int) -> int:
            """Another thread's seek or read comes in between, if none is kept from it."""
            found = seek(file, *where)
            time.sleep(0.001)
            return found

        late = mock.patch.object(objects._Opened, "seek", seek_late)
        with feed_town.Town(config=config) as town, limits, late:
            [outcome] = town.project.step()
            self.assertEqual(outcome.changes, 50_120)
            self.assertEqual(town.project.step()[0].outcome, "nothing")

    def test_storage_that_gives_no_answer(self) -> None:
        with feed_town.Town(config=self.json("s3://nowhere/landing")) as town:
            told = feed_town.run(town, "step")
            self.assertEqual(told.exit_code, 1, told.output)
            self.assertIn("credentials in the environment", told.output)
            self.assertNotIn("s3cretword", told.output)
            for url, words in (("s3:///x", "names no bucket"), ("s3://larkmoor/x?region=y", "something after a ?")):
                town.config.write_text(self.json(url))
                told = feed_town.run(town, "step")
                self.assertEqual(told.exit_code, 2)
                self.assertIn(words, told.output)


def stepped(case: unittest.TestCase, sides: list[feed_town.Town], rows: int) -> None:
    """A step on both sides, after which each target has so many rows."""
    for side in sides:
        told = feed_town.run(side, "step")
        case.assertEqual(told.exit_code, 0, told.output)
        case.assertEqual(len(side.target("json")), rows)


class Journals(Buckets):
    def town(self, first: str = "start", form: str = "parquet", **more: str) -> Town:
        text = ARCHIVE.format(first=first, format=form).replace("file:///archive", self.url)
        for old, new in more.items():
            text = text.replace(old, new)
        found = Town(TREE, loads=text)
        self.addCleanup(found.__exit__)
        found.project.capture_on("town.tree")
        return found

    def rows(self) -> list[tuple[int, str]]:
        """Every change in every file that a reader sees."""
        found = []
        for name in self.names():
            if name.startswith("tree/"):
                rows = pq.read_table(pa.BufferReader(bytes(obstore.get(self.bucket, name).bytes())), partitioning=None)
                found += list(zip(rows["position"].to_pylist(), rows["op"].to_pylist(), strict=True))
        return sorted(found)

    def equal(self, town: Town) -> None:
        changes = [(change["position"], change["op"]) for change in changes_of(town, "archive")]
        self.assertEqual(self.rows(), changes)
        self.assertTrue(town.project.check("archive")[0].ok)
        self.assertEqual(town.project.step("archive")[0].outcome, "nothing")
        self.assertEqual(town.project.status("archive")[0].health, "ok")

    def test_killed_anywhere_each_change_is_there_once(self) -> None:
        town = self.town()
        for turn, (where, dies) in enumerate(DIES.items()):
            with self.subTest(where):
                town.sql(
                    f"INSERT INTO tree VALUES ({turn}, 1, 'oak'), ({turn + 50}, 1, NULL)", "UPDATE tree SET a = a + 1"
                )
                child = town.child(
                    f"{DIE}{dies}\nimport plainstep\nplainstep.load_project('plainstep.toml').step('archive')"
                )
                said = child.communicate(timeout=240)[0]
                self.assertEqual(child.returncode, 9, said)
                watermark = town.project.status("archive")[0].watermark
                known = [row for row in self.rows() if watermark is None or row[0] > watermark.position]
                self.assertEqual(known, [])  # nothing that the watermark does not know
                self.assertTrue(watermark is None or town.project.check("archive")[0].ok)
                town.project.step("archive")
                self.equal(town)

    def test_steps_at_the_same_moment(self) -> None:
        """Racing steps of one load, beside those of others into the same bucket: each window is there once."""
        town = self.town()
        other = '[loads.{0}]\nfrom = "town.tree"\ninto = "archive.{0}"\nshape = "journal"\nfirst = "start"\n'
        town.config.write_text(town.config.read_text() + other.format("second") + other.format("third"))
        for turn in range(3):
            town.sql(*(f"INSERT INTO tree VALUES ({turn * 100 + key}, 1, 'oak')" for key in range(10)))
            failures: list[BaseException] = []

            def step(load: str, failures: list[BaseException] = failures) -> None:
                try:
                    town.project.step(load)
                except BaseException as error:
                    failures.append(error)

            racers = [threading.Thread(target=step, args=[load]) for load in ("archive", "second", "third") * 3]
            for racer in racers:
                racer.start()
            for racer in racers:
                racer.join()
            self.assertEqual([one for one in failures if not isinstance(one, plainstep.Refused)], [])
        town.project.step("archive", "second", "third")
        self.equal(town)
        for load in ("second", "third"):
            self.assertTrue(town.project.check(load)[0].ok)
            positions = [row for row in self.names() if row.startswith(f"{load}/")]
            self.assertEqual(len(positions), len(set(positions)))
        self.assertFalse([name for name in self.names() if name.startswith(".plainstep/new")])

    def test_answers_that_are_lost(self) -> None:
        """The commit was made, and nobody says so: its files stay, and the next step goes on from it."""
        town = self.town()
        for turn, again in enumerate((False, True)):
            town.sql(f"INSERT INTO tree VALUES ({turn}, 1, 'oak')")
            with lost_answers("/commits/", again) as names:
                [outcome] = town.project.step("archive", raise_errors=False)
            self.assertEqual((outcome.outcome, len(names)), ("stepped" if again else "failed", 1))
            town.project.step("archive")
            self.equal(town)

    def test_formats(self) -> None:
        for form in ("jsonl", "csv"):
            town = self.town("snapshot", form)
            town.sql("INSERT INTO tree VALUES (8, 0, NULL)")
            self.assertEqual([one.outcome for one in town.project.step("archive")], ["stepped"])
            town.sql("DELETE FROM tree WHERE k = 8")
            self.assertEqual(town.project.step("archive")[0].edits["append"], 1)
            self.assertTrue([name for name in self.names() if name.endswith(f"archive-00000002.{form}")])
            for name in self.names():
                obstore.delete(self.bucket, name)

    def test_a_group_in_one_commit(self) -> None:
        town = self.town()
        other = '[loads.other]\nfrom = "town.tree"\ninto = "archive.other"\nshape = "journal"\nfirst = "start"\n'
        group = '[groups.both]\nloads = ["archive", "other"]\n'
        town.config.write_text(town.config.read_text() + other + group)
        for turn in range(3):
            town.sql(f"INSERT INTO tree VALUES ({turn}, 1, 'oak')")
            self.assertEqual([one.outcome for one in town.project.step("archive")], ["stepped", "stepped"])
            self.equal_both(town)
        self.assertEqual(len([name for name in self.names() if "/commits/" in name]), 3)
        # Killed before the commit: of neither load anything is there.
        town.sql("INSERT INTO tree VALUES (9, 1, 'oak')")
        child = town.child(
            f"{DIE}{DIES['before the commit']}\nimport plainstep\nplainstep.load_project('plainstep.toml').step()"
        )
        child.communicate(timeout=240)
        self.assertEqual(len([name for name in self.names() if name.startswith("other/")]), 3)
        town.project.step()
        self.equal_both(town)

    def equal_both(self, town: Town) -> None:
        self.assertEqual([one.ok for one in town.project.check("archive", "other")], [True, True])
        ends = {one.watermark.position for one in town.project.status("archive", "other") if one.watermark}
        self.assertEqual(len(ends), 1)

    def test_a_file_that_is_gone_and_a_later_release(self) -> None:
        town = self.town()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        town.project.step("archive")
        [name] = [name for name in self.names() if name.startswith("tree/")]
        data = bytes(obstore.get(self.bucket, name).bytes())
        obstore.delete(self.bucket, name)
        told = town.run("check", "archive")
        self.assertEqual(told.exit_code, 4)
        self.assertIn(f"Put it back at {self.url}/{name}", told.output)
        self.put(name, data)
        self.equal(town)
        town.sql("INSERT INTO tree VALUES (2, 1, 'oak')")
        [commit] = [name for name in self.names() if "/commits/" in name]
        text = bytes(obstore.get(self.bucket, commit).bytes()).decode()
        self.put(commit, text.replace('"format": 1', '"format": 2'))
        self.assertIn("later release", town.run("step", "archive").output)
        self.put(commit, text)
        town.project.step("archive")
        self.equal(town)
        inside = '[loads.inside]\nfrom = "town.tree"\ninto = "archive..plainstep/x"\nshape = "journal"\n'
        town.config.write_text(town.config.read_text() + inside)
        self.assertIn("is not a folder of its own", town.run("step", "inside").output)

    def test_what_nothing_refers_to_is_removed(self) -> None:
        town = self.town()
        for key in range(6):
            town.sql(f"INSERT INTO tree VALUES ({key}, 1, 'oak')")
            with mock.patch("plainstep.stores.books.STEPS", 2):
                town.project.step("archive")
        self.put(".plainstep/new/left/tree/x.parquet", b"of a killed step")
        target: Any = BucketTarget("archive", Objects("archive", self.url, "storage"))
        self.assertEqual(target.sweep(target.head()), [])
        with mock.patch("plainstep.stores.files.bucket_target.KEPT", 2):
            gone = target.sweep(target.head(), datetime.now(UTC) + timedelta(days=8))
        self.assertEqual(len([name for name in gone if "/commits/" in name]), 4)
        self.assertIn(".plainstep/new/left/tree/x.parquet", gone)
        self.assertEqual(len([name for name in gone if "/books/" in name]), 3)
        self.equal(town)
        self.assertEqual(len(town.project.ledger("archive")), 6)
        town.sql("UPDATE tree SET a = 2")
        town.project.step("archive")
        self.equal(town)


if __name__ == "__main__":
    unittest.main()
