"""Steps on Spark: the same net changes, the same rows, the same refusals, whoever collapses."""

from __future__ import annotations

import json
import os
import pickle
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

import deltalake
import pyarrow as pa
import pyspark.util
from click.testing import CliRunner
from pyspark.errors import PySparkRuntimeError

import plainstep
from plainstep.cli.main import cli
from plainstep.core.positions import Position, Window
from plainstep.errors import DataError, PlainStepError, Refused, StoreError
from plainstep.spark import engine as engines
from plainstep.spark import session as sessions
from plainstep.stores.records import Batches
from tests.support import examples, quote

SHAPES = {
    "mirror": "",
    "flagged": "deletes = 'flag'",
    "history": "shape = 'history'",
    "by_net": "shape = 'history'\ngrain = 'net'",
    "sums": "shape = 'rollup'\nby = ['kind']\nmeasures = { trees = 'count(*)', height = 'sum(height)' }",
}
# Columns that tell when a step was made.
TIMES = ("valid_from", "valid_to", "removed_at", "stepped_at", "step_number")
COUNTS = ("changes", "inserts", "updates", "deletes", "put", "patch", "drop", "append", "add", "contradictions")

LAYOUT = """
operation = "op"
insert = ["insert"]
update = ["update"]
delete = ["delete"]
truncate = ["truncate"]
was = "before.*"
now = "after.*"
"""
# Two executors, each a process of its own, on this machine.
MASTER = "local-cluster[2,1,1024]"


class Landing:
    """Files of changes land; loads take them into a Delta store without Spark (``near``), and into another with it (``far``)."""

    def __init__(
        self, seed: int, key: str, first: str, into: str = "delta:///far", shapes: tuple[str, ...] = tuple(SHAPES)
    ) -> None:
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-test-"))
        (self.path / "in").mkdir()
        self.random, self.key, self.rows, self.number = random.Random(seed), key, dict[Any, dict[str, Any]](), 0
        self.shapes = shapes
        names = {"int": ["id"], "text": ["id"], "two": ["ward", "id"]}[key]
        text = "[stores.land]\nurl = 'file:///in'\n[stores.near]\nurl = 'delta:///near'\n"
        text += f"[stores.far]\nurl = {quote(into)}\n[engine]\nmaster = {quote(MASTER)}\n"
        for store in ("near", "far"):
            for name in shapes:
                table = f"town.{name}" if store == "far" and into.startswith("iceberg") else name
                text += f"[loads.{store}_{name}]\nfrom = 'land.*.jsonl'\ninto = '{store}.{table}'\nkey = {json.dumps(names)}\n"
                text += f"first = '{first}'\n{SHAPES[name]}\n[loads.{store}_{name}.layout]\n{LAYOUT}\n"
        (self.path / "plainstep.toml").write_text(text)

    def __enter__(self) -> Landing:
        return self

    def __exit__(self, *_: object) -> None:
        shutil.rmtree(self.path, ignore_errors=True)

    @property
    def project(self) -> plainstep.Project:
        return plainstep.load_project(self.path / "plainstep.toml")

    def land(self, count: int, files: int = 3) -> None:
        """Some files of changes: of few keys, so that they come again; some move to other keys, and now and then all rows go."""
        for _ in range(files):
            self.number += 1
            lines = [json.dumps(self._change()) for _ in range(count)]
            (self.path / "in" / f"{self.number:04}.jsonl").write_text("\n".join(lines) + "\n")

    def _change(self) -> dict[str, Any]:
        pick, key = self.random.random(), self._key()
        if pick < 0.004:
            self.rows.clear()
            return {"op": "truncate", "before": None, "after": None}
        row = self._row(key)
        if key not in self.rows:
            self.rows[key] = row
            return {"op": "insert", "before": None, "after": row}
        before = self.rows.pop(key)
        if pick < 0.3:
            return {"op": "delete", "before": before, "after": None}
        if pick < 0.4 and (other := self._key()) not in self.rows:
            key, row = other, self._row(other)
        self.rows[key] = row
        return {"op": "update", "before": before, "after": row}

    def _key(self) -> Any:
        number = self.random.randrange(-60, 60)
        return {
            "int": number * 1000,
            "text": f"oak {number}" * (1 + number % 9),
            "two": (number % 3, f"é{number // 3}"),
        }[self.key]

    def _row(self, key: Any) -> dict[str, Any]:
        named = {"ward": key[0], "id": key[1]} if self.key == "two" else {"id": key}
        pick = self.random.choice
        return named | {
            "kind": pick(["oak", "lime", "elm"]),
            "height": pick([None, 1, 2, 3]),
            "note": pick([None, "", "gefällt"]),
        }

    def step(self, store: str, engine: str) -> list[Any]:
        """A step of every load into a store; what the ledger counts of each."""
        project = self.project
        project.choose_engine(engine)
        outcomes = project.step(*(f"{store}_{name}" for name in self.shapes), jobs=2, raise_errors=False)
        for outcome in outcomes:
            if outcome.error:
                raise outcome.error
        made = {one.load.partition("_")[2]: one.entry for one in outcomes}
        return [
            (name, [getattr(made[name], count) for count in COUNTS] if made[name] else None) for name in self.shapes
        ]

    def held(self, store: str, name: str) -> list[str]:
        """The rows of a table, without the times of steps."""
        load = self.project.load(f"{store}_{name}")
        info = load.target.table(load.into_table, ())
        assert info is not None
        schema = pa.schema([one for one in info.schema if one.name not in TIMES])
        return sorted(map(str, pa.Table.from_batches(load.target.rows(load.into_table, schema), schema).to_pylist()))


@contextmanager
def many_parts() -> Iterator[None]:
    """Meanwhile, windows are read in more pieces, and collapsed in more ranges, than there are cores."""
    with mock.patch.object(engines, "PIECES", 3), mock.patch.object(engines, "RANGES", 3):
        yield


class Spark(unittest.TestCase):
    """A cluster of two executors."""

    def assert_same(self, here: Landing) -> None:
        for name in here.shapes:
            self.assertEqual(here.held("far", name), here.held("near", name), name)

    def test_one_answer(self) -> None:
        cases = [
            ("int", "snapshot", "delta:///far?deletion_vectors=true"),
            ("text", "start", "iceberg+sqlite:///far.db?warehouse=far"),
            ("two", "start", "delta:///far"),
        ]
        for turn in range(examples(len(cases))):
            key, first, into = cases[turn % len(cases)]
            with self.subTest(turn=turn, key=key), Landing(turn, key, first, into) as here, many_parts():
                here.land(40)
                for count in (60, 1):
                    self.assertEqual(here.step("far", "spark"), here.step("near", "local"))
                    self.assert_same(here)
                    here.land(count)
                self.assertEqual(here.step("far", "spark"), here.step("near", "local"))
                self.assert_same(here)
                self.assertEqual({one.ok for one in here.project.check()}, {True})
                self.assertEqual([made for _, made in here.step("far", "spark")], [None] * len(here.shapes))

    def test_updates_of_two_rows_that_lie_in_two_files(self) -> None:
        """And what is quarantined and counted of all changes together, in a first load and after."""
        layout = "operation = 'op'\ninsert = ['i']\nupdate_was = ['b']\nupdate_now = ['a']\ndelete = ['d']\n"
        with Landing(5, "int", "snapshot", shapes=()) as here, many_parts():
            config = here.path / "plainstep.toml"
            said = "key = ['id']\nfirst = 'snapshot'\non_bad_row = 'quarantine'\n"
            for store in ("near", "far"):
                load = f"[loads.{store}_pairs]\nfrom = 'land.*.jsonl'\ninto = '{store}.pairs'\n{said}"
                config.write_text(config.read_text() + f"{load}[loads.{store}_pairs.layout]\n{layout}")
            here.shapes = ("pairs",)
            rows = [{"op": "i", "id": number, "v": 0} for number in range(12)]
            for turn in range(2):
                for number in range(12):
                    rows += [{"op": op, "id": number, "v": turn + n} for n, op in enumerate("ba")]
                bad, there_already = {"op": "?", "id": 1, "v": 0}, {"op": "i", "id": turn, "v": 9}
                rows += [bad, there_already]
                for low in range(0, len(rows), 3):
                    lines = "".join(json.dumps(one) + "\n" for one in rows[low : low + 3])
                    (here.path / "in" / f"{turn}-{low:04}.jsonl").write_text(lines)
                rows = [{"op": "b", "id": turn, "v": 9}, {"op": "a", "id": turn, "v": turn + 1}]
                self.assertEqual(here.step("far", "spark"), here.step("near", "local"))
                self.assert_same(here)
                project = here.project
                kept = [[row for _, row in project.quarantine(f"{store}_pairs")] for store in ("far", "near")]
                self.assertEqual(kept[0], kept[1])
                self.assertEqual(len(kept[0]), turn + 1)
                found = [[one.contradictions for one in project.ledger(f"{store}_pairs")] for store in ("far", "near")]
                self.assertEqual(found[0], found[1])
                self.assertEqual(found[0][-1], 1)

    def test_a_lake_table_into_another(self) -> None:
        with Landing(7, "int", "snapshot", shapes=("mirror",)) as here, many_parts():
            config = here.path / "plainstep.toml"
            config.write_text(
                config.read_text()
                + "[stores.third]\nurl = 'delta:///third'\n[loads.third_mirror]\nfrom = 'near.mirror'\n"
                "into = 'third.tree'\nkey = ['id']\nchanges = 'versions'\n"
            )
            for _ in range(4):
                here.land(50)
                here.step("near", "local")
                here.step("third", "spark")
                self.assertEqual(here.held("third", "mirror"), here.held("near", "mirror"))

    def test_rows_of_a_lake_table_that_have_one_key(self) -> None:
        with Landing(3, "int", "snapshot", shapes=()) as here, many_parts():
            (here.path / "near").mkdir()
            for ids in ([1, 2, 3], [4, 2, 5]):
                deltalake.write_deltalake(str(here.path / "near" / "twice"), pa.table({"id": ids}), mode="append")
            config = here.path / "plainstep.toml"
            said = "[loads.tree]\nfrom = 'near.twice'\ninto = 'far.tree'\nkey = ['id']\nchanges = 'versions'\n"
            config.write_text(config.read_text() + said)
            for engine in ("spark", "local"):
                done = CliRunner().invoke(cli, ["-c", str(config), "step", "--engine", engine])
                self.assertEqual(done.exit_code, 4, done.output)
                self.assertRegex(done.output, "key")
            self.assertFalse(
                (here.path / "far" / "tree").exists() and list((here.path / "far" / "tree").rglob("*.json"))
            )

    def test_a_lake_table_without_rows(self) -> None:
        with Landing(3, "int", "snapshot", shapes=()) as here:
            (here.path / "near").mkdir()
            deltalake.write_deltalake(str(here.path / "near" / "bare"), pa.schema([("id", pa.int64())]).empty_table())
            config = here.path / "plainstep.toml"
            for first, told in (("snapshot", "0 rows"), ("start", "0 changes")):
                said = (
                    f"[loads.{first}]\nfrom = 'near.bare'\ninto = 'far.{first}'\nkey = ['id']\nchanges = 'versions'\n"
                )
                config.write_text(config.read_text() + said + f"first = '{first}'\n")
                done = CliRunner().invoke(cli, ["-c", str(config), "step", first, "--engine", "spark"])
                self.assertEqual(done.exit_code, 0, done.output)
                self.assertIn(told, done.output)

    def test_what_an_executor_raises_is_told_as_it_is_here(self) -> None:
        with Landing(1, "int", "start", shapes=("mirror",)) as here:
            here.land(30)
            here.step("far", "spark")
            here.land(30)
            bad = here.path / "in" / "9999.jsonl"
            bad.write_text('{"op": "removed", "before": null, "after": {"id": 1}}\n')
            told = []
            for store, engine in (("near", "local"), ("far", "spark")):
                with self.assertRaises(DataError) as raised:
                    here.step(store, engine)
                told.append(str(raised.exception))
            self.assertEqual(told[0].replace("near", "far"), told[1])
            self.assertEqual(here.project.ledger("far_mirror")[-1].kind, "refused")
            bad.unlink()
            here.step("near", "local")
            here.step("far", "spark")
            self.assert_same(here)

    def test_an_executor_that_is_killed(self) -> None:
        with Landing(2, "int", "start", shapes=("mirror", "history")) as here, many_parts():
            here.land(50)
            here.step("far", "spark")
            here.step("near", "local")
            here.land(400, files=6)
            killed: list[int] = []
            killer = threading.Timer(0.7, lambda: killed.append(kill_an_executor()))
            killer.start()
            here.step("far", "spark")
            killer.join()
            self.assertTrue(killed)
            here.step("near", "local")
            self.assert_same(here)

    def test_what_could_not_be_fetched_is_read_again(self) -> None:
        """Where its machine is busy, Spark does not wait long enough to be asked for what it found."""
        connect, refused = pyspark.util.local_connect_and_auth, []

        def connected(*where: Any) -> Any:
            if not refused:
                refused.append(where)
                parameters = {"errors": "Connection refused"}
                raise PySparkRuntimeError(errorClass="CANNOT_OPEN_SOCKET", messageParameters=parameters)
            return connect(*where)

        with Landing(2, "int", "start", shapes=("mirror",)) as here:
            here.land(50)
            with mock.patch("pyspark.util.local_connect_and_auth", connected):
                here.step("far", "spark")
            here.step("near", "local")
            self.assertEqual(len(refused), 1)
            self.assert_same(here)

    def test_what_spark_cannot_do_is_refused_by_name(self) -> None:
        journal = "shape = 'journal'\n"
        cases = {
            "one ordered stream": ("land.*.jsonl", "far.tree", journal),
            "not a table of a lake": ("land.*.jsonl", "house.tree", ""),
            "at_most": ("land.*.jsonl", "far.tree", "at_most = 5\n"),
            "cannot be read by several machines": ("land.*.jsonl", "far.tree", "partition"),
        }
        for told, (source, into, more) in cases.items():
            with self.subTest(told), Landing(3, "int", "start", shapes=()) as here:
                config = here.path / "plainstep.toml"
                parted = 'partition = "folder"\n' if more == "partition" else ""
                layout = LAYOUT.replace('truncate = ["truncate"]', "") if parted else LAYOUT
                config.write_text(
                    config.read_text() + "[stores.house]\nurl = 'duckdb:///house.duckdb'\n[loads.tree]\n"
                    f"from = '{source}'\ninto = '{into}'\nkey = ['id']\nfirst = 'start'\n{'' if parted else more}[loads.tree.layout]\n{parted}{layout}"
                )
                here.land(5)
                words = ["-c", str(config), "step", "tree"]
                done = CliRunner().invoke(cli, [*words, "--engine", "spark"])
                self.assertEqual(done.exit_code, 4, done.output)
                self.assertIn(told, done.output)
                self.assertIn("step tree --engine local", done.output)
                config.write_text(config.read_text().replace("into = ", "engine = 'spark'\ninto = "))
                self.assertEqual(CliRunner().invoke(cli, words).exit_code, 4)
                self.assertEqual(CliRunner().invoke(cli, [*words, "--engine", "local"]).exit_code, 0)  # as it says

    def test_a_master_that_is_not_there(self) -> None:
        raised = subprocess.run(
            [sys.executable, "-c", "from plainstep.spark.session import session\nsession('nonsense', {})"],
            capture_output=True, text=True, timeout=240, check=False,
        )  # fmt: skip
        self.assertIn("StoreError: Spark on nonsense failed", raised.stderr)
        self.assertIn("--engine local", raised.stderr)

    def test_pieces_are_the_window(self) -> None:
        """However many there are, and whether positions stand in the rows (of files that overlap, too) or not."""
        for seed in range(examples(8)):
            chance, position = random.Random(seed), 'position = ["v"]\n' if seed % 2 else ""
            with self.subTest(seed=seed), Landing(seed, "int", "start", shapes=()) as here:
                config = here.path / "plainstep.toml"
                config.write_text(
                    config.read_text()
                    + "[loads.tree]\nfrom = 'land.*.jsonl'\ninto = 'far.tree'\nkey = ['k']\nfirst = 'start'\n"
                    f"[loads.tree.layout]\n{position}operation = 'op'\ninsert = ['i']\nupdate = ['u']\ndelete = ['d']\n"
                )
                made = 0
                for _ in range(3):
                    files = [list[int]() for _ in range(chance.randint(1, 6))]
                    for _ in range(chance.randint(1, 29)):
                        made += 1
                        files[chance.choice([0, chance.randrange(len(files))])].append(made)
                    for rows in filter(None, files):
                        lines = [json.dumps({"v": v, "op": "i", "k": v}) for v in rows]
                        (here.path / "in" / f"{rows[0]:04}.jsonl").write_text("\n".join(lines) + "\n")
                    load = here.project.load("tree")
                    source: Any = load.source
                    watermark = load.target.watermark("tree")
                    span = source.span_after(watermark) if watermark else source.span()
                    window = Window.between(watermark.reached if watermark else Position(span.start), span.end)
                    whole = keys_in(source.read(window))
                    self.assertTrue(whole)
                    for most in (1, 2, 3, 9):
                        pieces = source.pieces(window, most)
                        self.assertLessEqual(len(pieces), most)
                        self.assertEqual([key for piece in pieces for key in keys_in(source.read_piece(piece))], whole)
                    here.project.step("tree")

    def test_errors_cross(self) -> None:
        for error in (Refused("a", "b", "c"), StoreError("d")):
            again: PlainStepError = pickle.loads(pickle.dumps(error))
            self.assertEqual((type(again), str(again), again.next), (type(error), str(error), error.next))


def keys_in(batches: Batches) -> list[int]:
    return [key for changes in batches for key in changes.table["now.k"].to_pylist()]


def kill_an_executor() -> int:
    """Kill the newest process of an executor of this cluster; which one."""
    spark = str(sessions.pyspark.SparkContext._gateway.proc.pid)
    words = ["pgrep", "-n", "-P", spark, "-f", "CoarseGrainedExecutorBackend"]
    found = int(subprocess.run(words, capture_output=True, text=True, check=True).stdout)
    os.kill(found, signal.SIGKILL)
    return found


def tearDownModule() -> None:
    """End the cluster."""
    found = sessions.pyspark.SparkContext._active_spark_context
    if found is not None:
        found.stop()


if __name__ == "__main__":
    unittest.main()
