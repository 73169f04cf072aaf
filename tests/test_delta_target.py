"""Delta tables as targets: what others read of them, and others that write meanwhile."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import threading
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import duckdb
import polars
import pyarrow as pa
from deltalake import DeltaTable, QueryBuilder, write_deltalake

import plainstep
from plainstep.stores.delta.books import LakeBooks
from plainstep.stores.delta.commits import TableCommit
from plainstep.stores.delta.log import Log
from plainstep.stores.delta.sweeping import sweep
from plainstep.stores.objects import Objects
from tests.lake import RECORDED
from tests.storage import lost_answers, storage
from tests.support import Town

TREE = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)"
STORES = "[stores.town]\nurl = 'sqlite:///town.db'\n[stores.lake]\nurl = '{url}'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
MIRROR = "[loads.tree]\nfrom = 'town.tree'\ninto = 'lake.tree'\n"
JOURNAL = "[loads.log]\nfrom = 'town.tree'\ninto = 'lake.log'\nshape = 'journal'\n"


class Shore(Town):
    """A town whose captured table is mirrored into a Delta table."""

    def __init__(self, loads: str = MIRROR, url: str = "delta:///lake") -> None:
        super().__init__()
        self.config.write_text(STORES.format(url=url) + loads)
        self.sql(TREE)
        self.project.capture_on("town.tree")

    @property
    def lake(self) -> Path:
        return self.path / "lake"

    def seen(self, table: str = "tree") -> list[tuple[Any, ...]]:
        """What the usual library reads."""
        rows = DeltaTable(str(self.lake / table)).to_pyarrow_table().to_pylist()
        return sorted(tuple(row.values()) for row in rows)

    def there(self) -> list[tuple[Any, ...]]:
        return sorted(self.rows("town", "tree"))


class Case(unittest.TestCase):
    def shore(self, *said: str, **more: str) -> Shore:
        found = Shore(*said, **more)
        self.addCleanup(found.__exit__)
        return found

    def equal(self, town: Shore) -> None:
        self.assertIn(town.project.step("tree")[0].outcome, ("stepped", "nothing"))
        self.assertEqual(town.seen(), town.there())
        self.assertTrue(town.project.check("tree")[0].ok)
        self.assertEqual(town.project.status("tree")[0].health, "ok")
        self.assertEqual(town.project.step("tree")[0].outcome, "nothing")


class Target(Case):
    def test_others_read_what_is_written(self) -> None:
        town = self.shore()
        town.sql(*(f"INSERT INTO tree VALUES ({key}, {key % 7}, 'oak {key}')" for key in range(50)))
        self.equal(town)
        town.sql(
            "UPDATE tree SET a = NULL WHERE k % 3 = 0",
            "DELETE FROM tree WHERE k % 5 = 0",
            "UPDATE tree SET k = k + 1000 WHERE k = 7",
        )
        self.equal(town)
        table = DeltaTable(str(town.lake / "tree"))
        paths = [one.removeprefix("file://") for one in table.file_uris()]
        self.assertEqual(sorted(duckdb.read_parquet(paths).fetchall()), town.there())
        self.assertEqual(sorted(polars.read_delta(str(town.lake / "tree")).rows()), town.there())
        self.assertEqual(table.version(), 1)
        # An earlier version is still what it was.
        table.load_as_version(0)
        self.assertEqual(table.to_pyarrow_table().num_rows, 50)
        entries = town.project.ledger("tree")
        self.assertEqual([one.kind for one in entries], ["snapshot", "changes"])
        self.assertEqual(table.transaction_version("plainstep/tree"), 1)

    def test_only_files_that_hold_a_key_are_written_anew(self) -> None:
        town = self.shore()
        with mock.patch("plainstep.stores.lake.writer.ROWS", 10):
            town.sql(*(f"INSERT INTO tree VALUES ({key}, 1, 'oak')" for key in range(100)))
            town.project.step()
            before = set(DeltaTable(str(town.lake / "tree")).file_uris())
        town.sql("UPDATE tree SET a = 2 WHERE k = 55")
        with mock.patch("plainstep.stores.lake.merging.MANY", 1000):
            self.equal(town)
        after = set(DeltaTable(str(town.lake / "tree")).file_uris())
        self.assertGreater(len(before), 1)
        self.assertEqual(len(before - after), 1)

    def test_rows_that_are_marked_as_deleted(self) -> None:
        """Few rows of large files go: the files stay, and vectors say which rows are gone, in the log and in files."""
        town = self.shore(url="delta:///lake?deletion_vectors=true")
        town.sql(*(f"INSERT INTO tree VALUES ({key}, {key}, 'oak')" for key in range(3000)))
        town.project.step()
        [file] = (town.lake / "tree").glob("*.parquet")
        with (
            mock.patch("plainstep.stores.lake.merging.LARGE", 0),
            mock.patch("plainstep.stores.delta.commits.INLINE", 60),
        ):
            for turn in range(5):
                town.sql(f"UPDATE tree SET a = -1 WHERE k % 97 = {turn}", f"DELETE FROM tree WHERE k = {turn * 50 + 3}")
                [outcome] = town.project.step()
                self.assertEqual(outcome.entry.contradictions if outcome.entry else 0, 0)
                self.assertTrue(town.project.check("tree")[0].ok)
            town.sql("DELETE FROM tree WHERE k = 2999")
            town.project.step()
        self.assertTrue(file.exists())
        self.assertTrue(list((town.lake / "tree").glob("deletion_vector_*.bin")))
        found = QueryBuilder().register("tree", DeltaTable(str(town.lake / "tree"))).execute("SELECT k, a, b FROM tree")
        rows = [tuple(row.values()) for row in pa.table(found.read_all()).to_pylist()]
        self.assertEqual(sorted(rows), town.there())
        # Half of the rows: what is left is written anew, without a vector.
        town.sql("DELETE FROM tree WHERE k % 2 = 0")
        town.project.step()
        self.assertTrue(town.project.check("tree")[0].ok)
        log = Log(Objects("lake", town.lake), "tree", "lake.tree")
        self.assertEqual([one for one in log.state(log.head).files.values() if one.vector], [])
        done = town.config.write_text(town.config.read_text().replace("deletion_vectors", "vectors"))
        self.assertTrue(done)
        self.assertIn("has one setting", town.run("step").output)

    def test_many_small_steps_stay_cheap(self) -> None:
        """Logs are read from checkpoints, and small files are written together: also once others cleaned the log up."""
        town = self.shore(MIRROR + JOURNAL)
        for turn in range(45):
            town.sql(f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')")
            town.project.step()
        steps = 45 + self._lists_little(town)
        for table in ("tree", "log"):
            self.assertLess(len(DeltaTable(str(town.lake / table)).file_uris()), 20)
            log = town.lake / table / "_delta_log"
            self.assertTrue((log / f"{40:020}.checkpoint.parquet").exists())
            for number in range(40):
                (log / f"{number:020}.json").unlink()
        self.assertEqual(len(town.project.ledger("tree")), steps)
        town.sql("UPDATE tree SET a = 0 WHERE k = 1")
        self.equal(town)
        town.project.step("log")
        self.assertEqual(len(town.seen("log")), steps + 1)

    def _lists_little(self, town: Shore) -> int:
        """Of a long log, a step lists what came last, wherever that is told; and all of it where that is told wrongly.

        Returns:
            How many steps that took.
        """
        listed, names = list[int](), Objects.names

        def counted(objects: Objects, folder: str, after: str = "") -> list[Any]:
            found = list(names(objects, folder, after))
            listed.append(len(found) if folder == "tree/_delta_log" else 0)
            return found

        hint = town.lake / "tree/_delta_log/_last_checkpoint"
        told, standing = hint.read_text(), town.project
        standing.step("tree")
        # Told by what the process knows itself; by the file; and by a file that tells nothing, too little, too much, or is not there.
        for number, said in enumerate(
            ("", told, "{}", "no", '{"version": 20}', '{"version": 30}', '{"version": 900}', None)
        ):
            if said:
                hint.write_text(said)
            elif said is None:
                hint.unlink()
            project = town.project if number else standing
            town.sql(f"INSERT INTO tree VALUES ({100 + number}, 1, 'elm')")
            with mock.patch.object(Objects, "names", counted):
                listed.clear()
                self.assertEqual(project.step("tree")[0].outcome, "stepped")
            self.assertEqual(max(listed) < 16, said in ("", told), (said, listed))
            self.assertEqual(town.seen(), town.there())
        hint.write_text(told)
        return number + 1

    def test_old_commits_are_forgotten(self) -> None:
        """Those that are older than the table keeps them, but for a table that keeps them all; rows and ledger lose nothing."""
        town = self.shore(MIRROR + JOURNAL)
        town.sql("INSERT INTO tree VALUES (0, 0, 'oak')")
        town.project.step()
        DeltaTable(str(town.lake / "log")).alter.set_table_properties({"delta.enableExpiredLogCleanup": "false"})
        logs = {table: town.lake / table / "_delta_log" for table in ("tree", "log")}
        with mock.patch("plainstep.stores.delta.target.CHECKPOINT", 3):
            for turn in range(1, 8):
                for file in [*logs["tree"].iterdir(), *logs["log"].iterdir()]:
                    age = file.stat().st_mtime - timedelta(days=31).total_seconds()
                    os.utime(file, (age, age))
                town.sql(f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')", "UPDATE tree SET a = a + 1 WHERE k = 0")
                town.project.step()
                self.assertEqual(town.seen(), town.there())
        left = {table: len(list(log.glob("*[0-9].json"))) for table, log in logs.items()}
        self.assertLess(left["tree"], 5)
        self.assertGreater(left["log"], 8)
        self.assertEqual((len(town.project.ledger("tree")), len(town.seen("log"))), (8, 15))
        self.equal(town)

    def test_the_ledger_in_several_books(self) -> None:
        town = self.shore()
        with mock.patch("plainstep.stores.books.STEPS", 3):
            for turn in range(8):
                town.sql(f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')")
                town.project.step()
            self.assertEqual([one.step for one in town.project.ledger("tree")], list(range(1, 9)))
            self.assertEqual([one.step for one in town.project.ledger("tree", limit=4)], [5, 6, 7, 8])

    def test_a_watermark_without_a_table(self) -> None:
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        done = town.run("watermark", "tree", "--to", "head", "--yes")
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertFalse((town.lake / "tree").exists())
        town.sql("INSERT INTO tree VALUES (2, 2, 'elm')")
        town.project.step()
        self.assertEqual(town.seen(), [(2, 2, "elm")])
        self.assertEqual([one.step for one in town.project.ledger("tree")], [1, 2])
        self.assertEqual([one.load for one in town.project.ledger()], ["tree", "tree"])

    def test_a_book_that_is_gone(self) -> None:
        """What is advised then is done: the table's folder is removed, and the next step makes it anew. So it is of a data file, and a commit."""
        for pattern, words in (
            ("_plainstep/books/tree/*", "that file is gone"),
            ("tree/*.parquet", "lacks the file"),
            ("tree/_delta_log/*", "cannot be read"),
        ):
            with self.subTest(pattern):
                town = self.shore()
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                town.project.step()
                for path in town.lake.glob(pattern):
                    path.unlink() if "log" not in pattern else path.write_text("{x")
                town.sql("UPDATE tree SET a = 2")
                done = town.run("step")
                self.assertEqual(done.exit_code, 4, done.output)
                self.assertIn(words, done.output)
                self.assertIn("remove the table's folder", done.output)
                shutil.rmtree(town.lake / "tree")
                self.equal(town)

    def test_what_erasing_leaves(self) -> None:
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')", "INSERT INTO tree VALUES (2, 2, 'elm')")
        town.project.step()
        town.sql("DELETE FROM tree WHERE k = 1")
        town.project.step()
        done = town.run("erase", "tree", "1", "--yes")
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn("vacuum lake.tree", done.output)
        self.equal(town)

    def test_a_rollup(self) -> None:
        town = self.shore(MIRROR + "shape = 'rollup'\nby = ['b']\nmeasures = { n = 'count(*)', total = 'sum(a)' }\n")
        town.sql(*(f"INSERT INTO tree VALUES ({key}, {key}, '{'oak' if key % 2 else 'elm'}')" for key in range(9)))
        town.project.step()
        town.sql("DELETE FROM tree WHERE k = 7", "UPDATE tree SET b = 'ash' WHERE k = 1")
        town.project.step()
        self.assertTrue(town.project.check("tree")[0].ok)
        found = {row[0]: (int(row[1]), int(row[2])) for row in (one[:3] for one in town.seen())}
        self.assertEqual(found["oak"], (2, 8))
        text = town.config.read_text()
        town.config.write_text(
            text.replace("n = 'count(*)'", "n = 'count(distinct a)'")
            .replace("lake.tree", "lake.counted")
            .replace("[loads.tree]", "[loads.counted]")
        )
        done = town.run("step")
        self.assertNotEqual(done.exit_code, 0)
        self.assertIn("several of them", done.output)

    def test_what_is_not_merged_into(self) -> None:
        nested = pa.table({"k": [1], "a": [1], "b": ["x"], "n": [{"x": 1}]})
        plain = pa.table({"k": pa.array([], pa.int64()), "a": pa.array([], pa.int64()), "b": pa.array([], pa.string())})
        for words, rows, said in (
            ("is partitioned", plain, {"partition_by": ["b"]}),
            ("asks its writers for delta.", plain, {"configuration": RECORDED}),
            ("gives none back", plain, {"configuration": {"delta.appendOnly": "true"}}),
            ("nested columns", nested.slice(0, 0), {}),
        ):
            with self.subTest(words):
                town = self.shore()
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                town.lake.mkdir(exist_ok=True)
                write_deltalake(str(town.lake / "tree"), rows, **said)
                done = town.run("step")
                self.assertEqual(done.exit_code, 4, done.output)
                self.assertIn(words, done.output)
                town.config.write_text(town.config.read_text().replace("lake.tree", "lake.own"))
                self.assertEqual(town.run("step").exit_code, 0)


class Others(Case):
    """Those who write the same table, at the same time."""

    def test_commits_of_others_come_first(self) -> None:
        """A stranger's commit in between: the step is made after it, never over it."""
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        self.equal(town)
        path = str(town.lake / "tree")
        stranger = pa.table({"k": pa.array([77], pa.int64()), "a": pa.array([7], pa.int64()), "b": ["ash"]})
        tried, turns = TableCommit.tried, list[bool]()

        def meanwhile(self: TableCommit, *more: Any) -> bool:
            if not turns:
                write_deltalake(path, stranger, mode="append")
            turns.append(tried(self, *more))
            return turns[-1]

        town.sql("UPDATE tree SET a = 2 WHERE k = 1", "INSERT INTO tree VALUES (2, 2, 'elm')")
        with mock.patch.object(TableCommit, "tried", meanwhile):
            [outcome] = town.project.step()
        self.assertEqual((turns, outcome.outcome), ([False, True], "stepped"))
        self.assertEqual(town.seen(), [(1, 2, "oak"), (2, 2, "elm"), (77, 7, "ash")])
        entry = outcome.entry
        assert entry is not None
        self.assertEqual((entry.put, entry.contradictions), (2, 0))
        self.assertFalse(town.project.check("tree")[0].ok)
        town.project.check("tree", repair=True)
        self.equal(town)
        # No file is left of the try that failed.
        named = {Path(one).name for version in range(6) for one in self._files(path, version)}
        self.assertLessEqual({one.name for one in (town.lake / "tree").glob("plainstep-*")}, named)

    def test_answers_that_are_lost(self) -> None:
        """The commit was made, and nobody says so: its files stay, and the next step goes on from it."""
        town = self.shore()
        for turn, again in enumerate((False, True)):
            town.sql(f"INSERT INTO tree VALUES ({turn}, 1, 'oak')", "UPDATE tree SET a = a + 1")
            with lost_answers("/_delta_log/", again) as names:
                [outcome] = town.project.step(raise_errors=False)
            self.assertEqual((outcome.outcome, len(names)), ("stepped" if again else "failed", 1))
            self.equal(town)

    def _files(self, path: str, version: int) -> list[str]:
        try:
            return DeltaTable(path, version=version).file_uris()
        except Exception:  # there are not so many
            return []

    def test_strangers_that_tidy_up(self) -> None:
        town = self.shore(MIRROR + JOURNAL)
        for turn in range(6):
            town.sql(
                f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')",
                f"UPDATE tree SET b = 'elm {turn}' WHERE k % 2 = {turn % 2}",
            )
            town.project.step()
            for name in ("tree", "log"):
                table = DeltaTable(str(town.lake / name))
                table.optimize.compact()
                table.vacuum(retention_hours=0, enforce_retention_duration=False, dry_run=False)
        self.equal(town)
        self.assertTrue(town.project.check("log")[0].ok)

    def test_steps_that_race(self) -> None:
        town = self.shore()
        told = list[str]()
        for turn in range(4):
            town.sql(
                f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')", f"UPDATE tree SET a = {turn + 100} WHERE k < {turn}"
            )
            projects = [plainstep.load_project(town.config) for _ in range(16)]
            gate = threading.Barrier(len(projects))

            def step(project: Any, gate: threading.Barrier = gate) -> None:
                gate.wait()
                told.append(project.step("tree", raise_errors=False)[0].outcome)

            threads = [threading.Thread(target=step, args=(project,)) for project in projects]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual((len(told), told.count("stepped")), (64, 4), told)
        self.assertEqual(DeltaTable(str(town.lake / "tree")).version(), 3)
        self.equal(town)

    def test_what_is_swept_away(self) -> None:
        town = self.shore()
        for turn in range(3):
            town.sql(f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')")
            town.project.step()
        (town.lake / "tree" / "plainstep-orphan.parquet").write_bytes(b"x")
        (town.lake / "tree" / "others.parquet").write_bytes(b"x")
        objects = Objects("lake", town.lake)
        log = Log(objects, "tree", "lake.tree")
        books, state = LakeBooks(objects), log.state(log.head)
        self.assertEqual(sweep(books, log, state), [])
        later = datetime.now(UTC) + timedelta(days=8)
        self.assertEqual(sweep(books, log, state, later), ["tree/plainstep-orphan.parquet"])
        gone = sweep(books, log, state, later + timedelta(days=30))
        self.assertEqual(len(gone), 2, gone)
        self.assertTrue(all("/books/tree/" in name for name in gone))
        self.assertEqual(len(town.project.ledger("tree")), 3)
        self.equal(town)

    def test_a_table_that_a_stranger_put_back(self) -> None:
        """The whole folder, as a backup has it: rows and watermark go back together, and the next step goes on from there."""
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        town.project.step()
        shutil.copytree(town.lake / "tree", town.path / "kept")
        town.sql("UPDATE tree SET a = 2", "INSERT INTO tree VALUES (2, 2, 'elm')")
        self.equal(town)
        shutil.rmtree(town.lake / "tree")
        shutil.copytree(town.path / "kept", town.lake / "tree")
        self.equal(town)

    def test_others_that_never_let_it_through(self) -> None:
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        with (
            mock.patch("plainstep.stores.lake.target.TRIES", 2),
            mock.patch.object(Objects, "put", lambda *_, **__: False),
        ):
            [outcome] = town.project.step(raise_errors=False)
        self.assertIn("Others wrote lake.tree each time", str(outcome.error))
        self.equal(town)


class Larkmoor(Case):
    def test_the_tour_of_the_lake(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            words = [sys.executable, "-m", "plainstep", "demo", "--lake", folder]
            done = subprocess.run(words, capture_output=True, text=True, timeout=120)
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            self.assertEqual(done.stdout.count(" equal "), 4)
            self.assertIn("register/tree/tree_files-00000002.parquet", done.stdout)
            self.assertIn("mature -> condemned", done.stdout)

    def test_init_lists_what_it_finds(self) -> None:
        town = self.shore()
        town.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
        town.project.step()
        done = town.run("init", "delta:///lake", "duckdb:///other.duckdb")
        self.assertIn('# changes = "versions"', done.output)
        self.assertIn("those of k, a, b", done.output)
        text = done.output.replace('"COLUMN"', '"k"').replace("# [loads", "[loads")
        lines = [
            line.removeprefix("# ") if line.startswith(("# from", "# into", "# changes", "# key")) else line
            for line in text.splitlines()
        ]
        town.config.write_text("\n".join(lines))
        self.assertEqual([one.outcome for one in town.project.step()], ["stepped"])


class Chained(Case):
    def test_a_chain_through_a_bucket(self) -> None:
        """From a captured table into a bucket, as a journal and as a mirror, and from the mirror's versions into a rollup."""
        rollup = (
            "[loads.ward]\nfrom = 'lake.tree'\ninto = 'house.ward'\nchanges = 'versions'\nkey = ['k']\nshape = 'rollup'\nby = ['b']\n"
            "measures = { n = 'count(*)', total = 'sum(a)' }\n"
        )
        with storage() as said, mock.patch.dict(os.environ, said):
            town = self.shore(MIRROR + JOURNAL + rollup, url="delta+s3://larkmoor/lake")
            for turn in range(4):
                town.sql(
                    f"INSERT INTO tree VALUES ({turn}, {turn}, 'oak')",
                    f"UPDATE tree SET b = 'elm' WHERE k = {turn - 1}",
                )
                for load in ("tree", "log", "ward"):
                    self.assertEqual(town.project.step(load)[0].outcome, "stepped", load)
            self.assertTrue(all(one.ok for one in town.project.check()))
            self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})
            found = {row[0]: (int(row[1]), int(row[2])) for row in (one[:3] for one in town.rows("house", "ward"))}
            self.assertEqual(found, {"oak": (1, 3), "elm": (3, 3)})
            objects = Objects("lake", "s3://larkmoor/lake")  # what is to be new, and is there, is not written
            self.assertEqual([objects.put("once", text, new=True) for text in (b"1", b"2")], [True, False])
            self.assertEqual(objects.read("once"), b"1")
            table = DeltaTable("s3://larkmoor/lake/tree", storage_options=said)
            self.assertEqual(sorted(row["k"] for row in table.to_pyarrow_table().to_pylist()), [0, 1, 2, 3])


if __name__ == "__main__":
    unittest.main()
