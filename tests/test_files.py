"""Files as feeds: late, twice, half written, damaged. None loses or doubles a row."""

from __future__ import annotations

import base64
import gzip
import json
import os
import random
import shutil
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.core.positions import Position, Window
from plainstep.errors import PlainStepError, Refused
from plainstep.formats.prefetch import ahead, fetched
from plainstep.stores.files.feed import FileFeed
from plainstep.stores.files.folders import _LocalFile
from plainstep.stores.files.listing import Seen, packed
from plainstep.testing.processes import Script
from tests.feed_town import run
from tests.kills import DIE, POINTS
from tests.landing import BY_SEQ, Landing
from tests.support import examples


def packed_before(label: str, seen: dict[str, Seen]) -> str:
    """A position as earlier releases wrote it."""
    _, _, rest = packed(label, seen).partition("\t:")
    return f"{label}\t{base64.b85encode(base64.b64decode(rest)).decode()}"


class Halfway(unittest.TestCase):
    def test_what_is_read_half_is_let_go_of_in_any_thread(self) -> None:
        """The garbage collector may do so while a thread holds the interpreter's own locks."""
        for make in (lambda: ahead(iter(range(9)), str), lambda: fetched(iter(range(9)))):
            half = make()
            next(half)

            closed: list[bool] = []

            def let_go(half: Any = half, closed: list[bool] = closed) -> None:
                # Which lock a thread takes when it begins or ends, is another from 3.13 on.
                with getattr(threading, "_shutdown_locks_lock", threading._active_limbo_lock):  # type: ignore[attr-defined]
                    half.close()
                closed.append(True)

            thread = threading.Thread(target=let_go, daemon=True)
            thread.start()
            thread.join(20)
            self.assertEqual(closed, [True], "it waits for itself")


class Landings(unittest.TestCase):
    """What the page of layouts says of files."""

    def test_a_line_that_is_not_finished_waits_with_the_files_after_it(self) -> None:
        for name, rest in (("1.jsonl", '{"seq": 3, "k"'), ("1.csv", "3,3")):
            with Landing("*", 'settle = "30s"\n' + BY_SEQ) as town:
                town.land(name, (1, 1, 1), (2, 2, 2), end=rest)
                town.land("2" + name[1:], (4, 4, 4))
                self.assertEqual(town.step(), "stepped 2 ")
                self.assertIn("not finished", " ".join(town.project.status()[0].warnings))
                self.assertEqual(town.step(), "nothing 0 ")
                town.land(name, end=': 3, "a": 3, "b": "elm"}\n' if "json" in name else ',3,"elm"\n')
                self.assertEqual(town.step(), "stepped 2 ")
                self.assertEqual(town.rows(), {1: 1, 2: 2, 3: 3, 4: 4})
                town.land("3" + name[1:], (5, 5, 5), end="6,6" if "csv" in name else '{"seq"', old=True)
                self.assertIn("refused", town.step())

    def test_files_that_were_written_anew_as_one(self) -> None:
        for name in ("{}.jsonl", "{}.csv"):
            with self.subTest(name), Landing("*", BY_SEQ) as town:
                for number in range(3):
                    town.land(name.format(number), *((10 * number + n, 3 * number + n, n) for n in (1, 2)))
                self.assertEqual(town.step(), "stepped 6 ")
                merged = [(10 * number + n, 3 * number + n, n) for number in range(3) for n in (1, 2)]
                for number in range(3):
                    (town.folder / name.format(number)).unlink()
                town.land(name.format("all"), *merged)
                self.assertEqual(town.step(), "nothing 0 ")
                town.land(name.format("new"), (40, 17, 7))
                self.assertEqual(town.step(), "stepped 1 ")
                self.assertEqual(len(town.rows()), 7)
                self.assertEqual(town.step(), "nothing 0 ")

    def test_a_file_that_takes_the_place_of_others_and_holds_something_else(self) -> None:
        for parts, rows in (
            (2, [(1, 1, 1), (2, 2, 2), (3, 3, 3)]),
            (2, [(1, 1, 1), (12, 5, 5)]),
            (1, [(1, 1, 9), (2, 2, 2)]),
        ):
            with self.subTest(rows), Landing("*", BY_SEQ) as town:
                for number in range(parts):
                    town.land(f"{number}.jsonl", *((10 * number + n, 3 * number + n, n) for n in (1, 2)))
                town.step()
                for number in range(parts):
                    (town.folder / f"{number}.jsonl").unlink()
                town.land("all.jsonl", *rows)
                self.assertIn("came late", town.step())

    def test_csv_however_it_is_written(self) -> None:
        """No header, another separator, other words for null, another charset; lines that are added, and packed files."""
        texts = ["Ærø; 'Öst'", None, "", "NULL", "plain", 'a "b"', "x\ny"]
        for separator, header, nulls, charset, name in (
            (";", True, [""], "", "{}.csv"), ("\t", False, ["\\N"], "latin-1", "{}.txt"), ("", False, ["NULL", "-"], "cp1252", "{}.csv"),
            ("", True, [""], "iso-8859-15", "{}.tsv"), ("|", False, [""], "utf-8", "{}.csv.gz"), (";", True, ["-"], "latin-1", "{}.csv.gz"),
        ):  # fmt: skip
            mark = separator or ("\t" if "tsv" in name else ",")
            said = {"separator": separator, "nulls": nulls, "charset": charset} | (
                {} if header else {"header": ["seq", "k", "b"]}
            )
            csv = ", ".join(f"{one} = {json.dumps(value)}" for one, value in said.items())
            with self.subTest(csv), Landing("*", f"{BY_SEQ}\ncsv = {{ {csv} }}\n") as town:
                count = 0
                for number in range(3):
                    path = town.folder / name.format(number if name.endswith("gz") else 0)
                    lines = [mark.join(["seq", "k", "b"]) + "\n"] * (header and not path.exists())
                    for text in texts:
                        count += 1
                        cell = nulls[0] if text is None else '"' + text.replace('"', '""') + '"'
                        lines.append(mark.join([str(count), str(count), cell]) + "\n")
                    data = "".join(lines).encode(charset or "utf-8")
                    with path.open("ab") as stream:
                        stream.write(gzip.compress(data) if name.endswith("gz") else data)
                    self.assertEqual(town.step(), f"stepped {len(texts)} ")
                    self.assertEqual(town.step(), "nothing 0 ")
                with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
                    found = house.execute("SELECT b FROM tree ORDER BY k").fetchall()
                self.assertEqual([row[0] for row in found], texts * 3)

    def test_csv_that_is_not_as_it_is_said_to_be(self) -> None:
        for csv, words in (
            ('separator = ";"', "1 column|no column|does not have|names the column|what there is|What they have"), ('header = ["seq", "k"]', "has 4 values"),
            ('header = ["seq", "k", "a", "b"]', "its first line is a header"), ('charset = "utf-16"', "line ends are not those of ASCII"),
            ('charset = "klingon"', "not the name of a charset"), ('separator = "ab"', "not one character"), ('header = ["k", "k"]', "stands there twice"),
            ('header = ["no", "k", "a", "b"]\nnulls = ["1"]', "position|no value|key"),
        ):  # fmt: skip
            said = ", ".join(csv.splitlines())
            with self.subTest(csv), Landing("*", f"{BY_SEQ}\ncsv = {{ {said} }}\n") as town:
                town.land("1.csv", (1, 1, 1), (2, 2, 2))
                told = run(town, "step")
                self.assertNotEqual(told.exit_code, 0, told.output)
                self.assertRegex(told.stderr.replace("\n", " "), words)

    def test_a_compressed_file_that_is_not_finished_waits(self) -> None:
        with Landing() as town:
            whole = town.land("1.jsonl.gz", *[(n, n, n) for n in range(1, 200)]).read_bytes()
            (town.folder / "1.jsonl.gz").write_bytes(whole[:-30])
            self.assertRegex(town.step(), "no file|no rows")
            town.land("0.jsonl", (0, 1, 0))
            self.assertEqual(town.step(), "stepped 1 ")
            (town.folder / "1.jsonl.gz").write_bytes(whole)
            self.assertEqual(town.step(), "stepped 199 ")
            (town.folder / "2.jsonl.gz").write_bytes(whole[:-30])
            os.utime(town.folder / "2.jsonl.gz", (0, 0))
            self.assertIn("2.jsonl.gz cannot be read", town.step())

    def test_late_copied_changed_removed_and_grown(self) -> None:
        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            with self.subTest(layout), Landing("*.jsonl", layout) as town:
                town.land("b.jsonl", (10, 1, 1), (20, 2, 2))
                with mock.patch("plainstep.stores.files.feed.packed", packed_before):
                    self.assertEqual(town.step(), "stepped 2 ")
                shutil.copy(town.folder / "b.jsonl", town.folder / "c.jsonl")
                self.assertEqual(town.step(), "nothing 0 ")
                self.assertIn("once more", " ".join(town.project.status()[0].warnings))
                town.land("b.jsonl", (30, 3, 3))
                self.assertEqual(town.step(), "stepped 1 ")
                os.utime(town.folder / "b.jsonl", (0, 0))  # touched, and not changed
                self.assertEqual(town.step(), "nothing 0 ")
                late = town.land("a.jsonl", (15, 1, 99))
                self.assertRegex(town.step(), r"refused 0 a.jsonl came late.*\n.*older values")
                late.unlink()
                self.assertEqual(town.step(), "nothing 0 ")
                (town.folder / "b.jsonl").write_text('{"seq": 40, "k": 7, "a": 7, "b": "x"}\n')
                self.assertIn("was changed after", town.step())
                (town.folder / "b.jsonl").unlink()
                town.land("d.jsonl", (50, 5, 5))
                self.assertEqual(town.step(), "stepped 1 ")
                self.assertEqual(town.rows(), {1: 1, 2: 2, 3: 3, 5: 5})

    def test_files_that_land_while_the_folder_is_looked_at(self) -> None:
        """The system may tell of a file, and not of one that landed before it."""
        look = Path.glob

        def hasty(path: Path, pattern: str) -> Iterator[Path]:
            missed = next(misses, set[str]())
            return (found for found in look(path, pattern) if found.name not in missed)

        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            with self.subTest(layout), Landing("*.jsonl", layout) as town:
                town.land("a.jsonl", (10, 1, 1))
                self.assertEqual(town.step(), "stepped 1 ")
                town.land("b.jsonl", (20, 2, 2))
                town.land("c.jsonl", (30, 3, 3))
                misses = iter([{"b.jsonl"}])
                with mock.patch.object(Path, "glob", hasty):
                    self.assertRegex(town.step(), "^(stepped|nothing)")
                town.step()
                self.assertEqual((town.step(), town.rows()), ("nothing 0 ", {1: 1, 2: 2, 3: 3}))

    def test_what_may_not_be_read_is_not_passed_over(self) -> None:
        """A file, and a folder below, of which the system tells nothing else; with the right to read them it goes on."""
        without = ["setpriv", *(f"--{which}=-dac_override,-dac_read_search" for which in ("bounding-set", "inh-caps"))]
        with Landing("**/*.jsonl", BY_SEQ) as town:
            town.land("a.jsonl", (1, 1, 1))
            (town.folder / "below").mkdir()
            told = town.land("below/b.jsonl", (2, 2, 2))
            words = [sys.executable, "-m", "plainstep", "-c", str(town.config), "step"]
            for path, mode in ((told, 0o644), (told.parent, 0o755)):
                path.chmod(0)
                done = subprocess.run((without if os.geteuid() == 0 else []) + words, capture_output=True, text=True)
                self.assertEqual(done.returncode, 4, done.stderr)
                self.assertIn(f"{path} cannot be read: permission denied", done.stderr)
                path.chmod(mode)
            self.assertEqual(town.step(), "stepped 2 ")
        with Landing("a*/*.jsonl", BY_SEQ) as town:  # where nothing is meant, nothing is passed over
            for name in ("above", "below"):
                (town.folder / name).mkdir()
                town.land(f"{name}/1.jsonl", (1, 1, 1))
            (town.folder / "below").chmod(0)
            words = [*words[:4], str(town.config), "step"]
            done = subprocess.run((without if os.geteuid() == 0 else []) + words, capture_output=True, text=True)
            self.assertEqual((done.returncode, town.rows()), (0, {1: 1}), done.stderr)
            (town.folder / "below").chmod(0o755)

    def test_more_files_than_are_remembered_of_those_that_are_gone(self) -> None:
        """What is there is known however much it is; of what is gone, the newest."""
        with (
            Landing(layout='missing_field = "null"') as town,
            mock.patch("plainstep.stores.files.listing.REMEMBERED", 3),
        ):
            for number in range(9):
                town.land(f"{number:03}.jsonl", (number, number, 1))
            for number in range(9, 13):
                town.project.step()
                town.land(f"{number:03}.jsonl", (number, number, 1))
            (town.folder / "000.jsonl").unlink()
            [outcome] = town.project.step()
            self.assertEqual((outcome.outcome, outcome.changes), ("stepped", 1))
            town.land("000.jsonl", (0, 0, 1))  # again, as it was
            self.assertEqual([one.outcome for one in town.project.step()], ["nothing"])

    def test_what_files_told_that_are_gone_is_not_dropped_unless_somebody_says_so(self) -> None:
        """By ``reload`` and ``check --repair``: what is left tells nothing of these rows, and older values of others."""
        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            with self.subTest(layout), Landing("*.jsonl", layout) as town:
                for number, key in enumerate((1, 2, 3, 2), start=1):
                    town.land(f"{number}.jsonl", (number, key, number))
                town.step()
                for gone, left in (("1.jsonl", {2: 4, 3: 3}), ("4.jsonl", {1: 1, 2: 2, 3: 3})):
                    (town.folder / gone).rename(town.path / gone)
                    comparable = gone == "1.jsonl" or layout != BY_SEQ  # else what is left ends before the watermark
                    commands = [("reload", "tree"), *[("check", "tree", "--repair")] * comparable]
                    [found] = town.project.check("tree", raise_errors=False)
                    self.assertEqual((found.ok, found.incomplete, found.differing), (False, comparable, comparable))
                    for command in commands:
                        told = run(town, *command)
                        self.assertEqual((told.exit_code, town.rows()), (4, {1: 1, 2: 4, 3: 3}), told.output)
                        self.assertIn(f"plainstep {' '.join(command)} --yes", told.output)
                    if not comparable:
                        self.assertIn("reload tree --yes", str(found.error))
                    (town.path / gone).rename(town.folder / gone)
                    self.assertEqual(run(town, "reload", "tree").exit_code, 0)
                    (town.folder / gone).rename(town.path / gone)
                    for command in reversed(commands):
                        told = run(town, *command, "--yes")
                        self.assertEqual((told.exit_code, town.rows()), (0, left), told.output)
                    self.assertEqual([one.health for one in town.project.status()], ["ok"])
                    # Nothing is dropped: nobody has to say so.
                    self.assertEqual(run(town, "reload", "tree").exit_code, 0)
                    (town.path / gone).rename(town.folder / gone)
                    self.assertEqual(run(town, "reload", "tree").exit_code, 0)
                    self.assertEqual(town.rows(), {1: 1, 2: 4, 3: 3})

    def test_files_that_are_gone_beside_copies_and_beside_what_others_were_put_together_in(self) -> None:
        """A copy of one file, or one file made of several, stands for these, and for no other."""
        with Landing("*", BY_SEQ) as town:
            for number in range(1, 6):
                town.land(f"{number}.jsonl", (number, number, number))
            shutil.copy(town.folder / "1.jsonl", town.folder / "1-again.jsonl")
            town.step()
            (town.folder / "1.jsonl").unlink()
            town.project.reload("tree")
            for number in (3, 4):
                (town.folder / f"{number}.jsonl").unlink()
            town.land("3-4.jsonl", (3, 3, 3), (4, 4, 4))
            town.land("6.jsonl", (6, 6, 6))
            self.assertEqual(town.step(), "stepped 1 ")
            town.project.reload("tree")
            (town.folder / "2.jsonl").rename(town.path / "2.jsonl")
            with self.assertRaisesRegex(Refused, "does not tell any more of every row"):
                town.project.reload("tree")
            self.assertEqual(set(town.rows()), {1, 2, 3, 4, 5, 6})

    def test_files_that_are_gone_when_another_order_is_named(self) -> None:
        with Landing("*.jsonl", 'bookkeeping = ["seq"]\nmissing_field = "null"') as town:
            for number in (1, 2, 3):
                town.land(f"{number}.jsonl", (number, number, number))
            town.step()
            (town.folder / "1.jsonl").rename(town.path / "1.jsonl")
            town.config.write_text(town.config.read_text().replace("bookkeeping", "position"))
            self.assertIn("plainstep reload tree", town.step())
            told = run(town, "reload", "tree")
            self.assertEqual((told.exit_code, set(town.rows())), (4, {1, 2, 3}), told.output)
            (town.path / "1.jsonl").rename(town.folder / "1.jsonl")
            self.assertEqual(run(town, "reload", "tree").exit_code, 0)
            self.assertEqual((set(town.rows()), town.step()), ({1, 2, 3}, "nothing 0 "))

    def test_a_file_that_came_late_where_others_are_gone(self) -> None:
        with Landing("*.jsonl", BY_SEQ) as town:
            for number in (1, 2, 4):
                town.land(f"{number}.jsonl", (number, number, number))
            town.step()
            (town.folder / "1.jsonl").rename(town.path / "1.jsonl")
            town.land("3.jsonl", (3, 3, 3))
            told = town.step()
            self.assertRegex(
                told, "(?s)came late.*Bring back the files that are gone, then plainstep reload tree.*--yes"
            )
            self.assertEqual(run(town, "reload", "tree").exit_code, 4)
            (town.path / "1.jsonl").rename(town.folder / "1.jsonl")
            self.assertEqual(run(town, "reload", "tree").exit_code, 0)
            self.assertEqual((town.rows(), town.step()), ({1: 1, 2: 2, 3: 3, 4: 4}, "nothing 0 "))
            (town.folder / "1.jsonl").unlink()
            town.land("2b.jsonl", (2, 2, 9))
            town.step()
            self.assertEqual(run(town, "reload", "tree", "--yes").exit_code, 0)
            self.assertEqual((set(town.rows()), town.step()), ({2, 3, 4}, "nothing 0 "))
            self.assertEqual([one.health for one in town.project.status()], ["ok"])

    def test_a_file_that_goes_while_it_is_read(self) -> None:
        """Refused: its rows were counted among those that are read. The command does what is left when it is run again."""
        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            with self.subTest(layout), Landing("*.jsonl", layout) as town:
                for number in range(4):
                    town.land(f"{number}.jsonl", (10 * number, number, number))
                read = FileFeed._read

                def gone(
                    self: FileFeed, after: str | None, upto: str | None, one: Path = town.folder / "2.jsonl"
                ) -> Any:
                    one.unlink(missing_ok=True)
                    return read(self, after, upto)  # noqa: B023

                with mock.patch.object(FileFeed, "_read", gone):
                    self.assertRegex(town.step(), r"refused 0 .*2.jsonl of landing.*was removed while it was read")
                self.assertEqual(town.step(), "stepped 3 ")
                self.assertEqual(town.rows(), {0: 0, 1: 1, 3: 3})

    def test_a_file_that_goes_before_any_other_is_looked_into(self) -> None:
        """One that is merged is not missed, whenever it goes. One that is not is read, or as if it had never come, or refused."""
        opened = _LocalFile.open
        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            for gone, left in (("1.jsonl", {0, 1, 2, 3, 4}), ("4.jsonl", {0, 1, 2, 3})):
                for turn in range(0, 24, 2):
                    with self.subTest(layout, gone=gone, turn=turn), Landing("*.jsonl", layout) as town:
                        for number in range(5):
                            town.land(f"{number}.jsonl", (number, number, number))
                            if number == 2:
                                town.step()
                        turns = iter(range(10**6))

                        def goes(file: Any, *words: Any, **more: Any) -> Any:
                            if file.suffix == ".jsonl" and next(turns) == turn:  # noqa: B023
                                (town.folder / gone).unlink(missing_ok=True)  # noqa: B023
                            return opened(file, *words, **more)

                        with mock.patch.object(_LocalFile, "open", goes):
                            told = town.step()
                        if gone == "4.jsonl" and "refused" in told:
                            self.assertIn("4.jsonl of landing.*.jsonl was removed while it was read", told)
                        else:
                            self.assertRegex(told, "stepped [12] $")
                        town.step()
                        self.assertEqual(set(town.rows()) - {4}, left - {4})
                        self.assertEqual([one.health for one in town.project.status()], ["ok"])

    def test_files_that_go_when_a_part_of_them_is_merged(self) -> None:
        """Refused, and both remedies end right. One that was not begun may go by another name."""
        for layout in (BY_SEQ, 'bookkeeping = ["seq"]\nmissing_field = "null"'):
            for shape in ("journal", "mirror"):
                said = f'shape = "{shape}"\nat_most = 3'
                with self.subTest(layout, shape=shape), Landing("*.jsonl", layout, said) as town:
                    for number in range(4):
                        town.land(f"{number}.jsonl", *((number * 4 + n, n, number) for n in range(4)))
                    self.assertEqual(town.step(), "stepped 3 ")
                    (town.folder / "3.jsonl").rename(town.folder / "4.jsonl")
                    (town.folder / "0.jsonl").rename(town.folder / "9.jsonl")
                    told = town.step()
                    self.assertRegex(told, "refused 0 0.jsonl is gone, and tree had merged a part of it only")
                    self.assertRegex(told, "Bring it back under this name; or plainstep reload tree --yes")
                    if shape == "journal":
                        (town.folder / "9.jsonl").rename(town.folder / "0.jsonl")
                    else:
                        with self.assertRaisesRegex(Refused, "does not tell any more of every row"):
                            town.project.reload("tree")
                        town.project.reload("tree", incomplete=True)
                    town.project.step(until_done=True)
                    if shape == "journal":
                        with duckdb.connect(str(town.path / "house.duckdb"), read_only=True) as house:
                            found = house.execute(
                                "SELECT count(*), count(DISTINCT (now_k, now_a)) FROM tree"
                            ).fetchall()
                        self.assertEqual(found, [(16, 16)])
                    else:
                        last = 3 if layout == BY_SEQ else 0  # by name, 9.jsonl is the last one
                        self.assertEqual(town.rows(), dict.fromkeys(range(4), last))
                    self.assertEqual([one.health for one in town.project.status()], ["ok"])

    def test_changed_in_its_middle_only(self) -> None:
        with Landing("*.jsonl", BY_SEQ) as town:
            path = town.land("1.jsonl", *((seq, seq, 100_000 + seq) for seq in range(1, 5000)))
            self.assertEqual(town.step(), "stepped 4999 ")
            path.write_text(path.read_text().replace('"a": 102500', '"a": 102501'))
            self.assertIn("1.jsonl was changed after tree had merged it", town.step())
            town.project.reload("tree")
            self.assertEqual(town.rows()[2500], 102501)
            self.assertEqual(town.step(), "nothing 0 ")

    def test_a_late_file_is_put_in_its_place_by_reload_or_by_an_overlap(self) -> None:
        with Landing() as town:
            town.land("b.jsonl", (10, 1, 1), (20, 2, 2))
            town.step()
            town.land("a.jsonl", (5, 2, 99), (15, 1, 98))
            town.project.reload("tree")
            self.assertEqual(town.rows(), {1: 98, 2: 2})
            self.assertEqual(town.step(), "nothing 0 ")
        with Landing(more="overlap = 100") as town:
            town.land("b.jsonl", (10, 1, 1), (20, 2, 2))
            town.step()
            town.land("a.jsonl", (5, 2, 99), (15, 1, 98))
            self.assertIn("stepped", town.step())
            self.assertEqual(town.rows(), {1: 98, 2: 2})
            self.assertEqual(town.step(), "nothing 0 ")

    def test_positions_that_go_backwards_or_lack_are_refused_with_their_line(self) -> None:
        for rows, said in (
            ([(1, 1, 1), (3, 3, 3), (2, 2, 2)], "bad.jsonl, line 3: its position 2 comes after a later one"),
            ([(1, 1, 1), (None, 2, 2), (3, 3, 3)], "bad.jsonl, line 2: it has no position"),
            ([(1, 1, 1), ("x", 2, 2), (3, 3, 3)], "bad.jsonl, line 2: seq is 'x'"),
        ):
            with Landing() as town:
                town.land("a.jsonl", (0, 1, 1))
                town.step()
                town.land("bad.jsonl", *rows)
                self.assertIn(said, town.step())
                self.assertEqual(town.rows(), {1: 1})

    def test_positions_in_their_own_order(self) -> None:
        """E18: positions that are texts, over several files: their order is known, or they are refused; none is skipped."""
        plain = {
            "digits": [["98", "99"], ["100", "101"], ["18446744073709551616"]],
            "numbers": [[98, 99], [100], [2**62]],
            "times": [["2026-05-04T10:00:00+02:00"], ["2026-05-04T08:30:00Z", "2026-05-04T10:31:00.5+02:00"]],
            "one length": [["98", "99"], ["a0", "a1"], ["b0"]],
        }
        odd = {
            "pairs": [["0/9"], ["0/10"]],
            "lengths": [["v1.9"], ["v1.10"]],
            "exponents": [[99], ["1e+20"]],
            "beyond": [[99], [2**63]],
        }
        every: dict[str, Any] = {**plain, **odd}
        for what, files in every.items():
            with self.subTest(what), Landing() as town:
                said = []
                for number, places in enumerate(files):
                    town.land(f"{number}.jsonl", *[(place, number * 10 + row, 1) for row, place in enumerate(places)])
                    said.append(town.step())
                if what in plain:
                    self.assertEqual(said, [f"stepped {len(places)} " for places in files])
                    self.assertEqual(len(town.rows()), sum(map(len, files)))
                    self.assertEqual(town.step(), "nothing 0 ")
                else:
                    self.assertRegex(said[-1], "must all be of one length|which is not a valid int64")
        with (
            Landing() as town
        ):  # below its first position, and so below the watermark: never taken for one that is merged
            town.land("1.jsonl", (5, 1, 1), (6, 2, 2))
            town.step()
            town.land("2.jsonl", (9, 3, 3), (7, 4, 4), (2, 5, 5))
            self.assertIn("lies before its first", town.step())

    def test_every_file_is_judged(self) -> None:
        """E19: what speaks against a layout in a later file, or from one file to the next, refuses the step as well."""
        words = BY_SEQ + '\noperation = "op"\ninsert = ["i"]\nupdate = ["u"]\ndelete = ["d"]'
        first = [(n, n, "i") for n in range(1, 9)]
        swapped = [(n + 8, n, "i") for n in range(1, 9)]
        for later, said in ((swapped, "8 cannot follow it"), ([(8, 8, "u")], "at the position 8")):
            with self.subTest(said), Landing(layout=words) as town:
                for name, rows in (("1.jsonl", first), ("2.jsonl", later)):
                    lines = [json.dumps({"seq": seq, "k": k, "op": op, "a": seq, "b": "oak"}) for seq, k, op in rows]
                    (town.folder / name).write_text("\n".join(lines) + "\n")
                self.assertIn(said, town.step())

    def test_files_with_other_columns(self) -> None:
        with Landing("*.csv", 'position = ["seq"]') as town:
            town.land("1.csv", (1, 1, 1))
            self.assertEqual(town.step(), "stepped 1 ")
            (town.folder / "2.csv").write_text('seq,k,a,b,c\n2,2,2,"elm",hello\n')
            (town.folder / "3.csv").write_text("seq,k,b\n3,3,\n")
            self.assertEqual(town.step(), "stepped 2 ")
            self.assertEqual(town.rows(), {1: 1, 2: 2, 3: None})
            (town.folder / "4.csv").write_text("k,a\n4,4\n")
            self.assertIn("4.csv", town.step())
        with Landing("*.csv", 'position = ["seq"]\nskip = "b = \'beat\'"') as town:
            town.land("1.csv", (1, 1, 1))
            self.assertEqual(town.step(), "stepped 1 ")
            (town.folder / "2.csv").write_text("seq,k,a\n2,2,2\n")  # which of its rows to leave out, nothing tells
            self.assertIn("2.csv has no column 'b', which the layout needs", town.step())

    def test_files_whose_types_differ(self) -> None:
        layout, more = 'position = ["seq"]', 'columns = ["k", "a"]'
        with Landing("*.csv", layout) as town:  # texts are read as what the target holds, whatever a file seems to be
            town.land("1.csv", (1, 1, 1))
            (town.folder / "2.csv").write_text("seq,k,a,b\n2,2,2,7\n")
            (town.folder / "3.csv").write_text("seq,k,a,b\n3,3,3,2026-05-04\n")
            self.assertEqual(town.step(), "stepped 3 ")
        with Landing("*.parquet", layout, more) as town:
            pq.write_table(pa.table({"seq": [1], "k": [1], "a": [1]}), town.folder / "old-1.parquet")
            pq.write_table(pa.table({"seq": [2], "k": [2], "a": ["2"]}), town.folder / "new-1.parquet")
            said = town.step()
            self.assertIn("'a' of landing.*.parquet is string in new-1.parquet, and int64 in old-1.parquet", said)
            self.assertIn("a load of its own, with a pattern that only its files match", said)
            text = town.config.read_text()
            stores, _, load = text.partition("[loads.tree]")
            parts = [
                load.replace("*.parquet", f"{one}-*.parquet").replace("house.tree", f"house.{one}")
                for one in ("old", "new")
            ]
            parts[1] = parts[1].replace("loads.tree", "loads.new")
            town.config.write_text(
                f"{stores}[loads.old]{parts[0].replace('loads.tree', 'loads.old')}[loads.new]{parts[1]}"
            )
            self.assertEqual([one.outcome for one in town.project.step()], ["stepped", "stepped"])
            self.assertTrue(all(one.health == "ok" for one in town.project.status()))

    @settings(max_examples=examples(25), deadline=None)
    @given(st.lists(st.lists(st.integers(1, 60), max_size=12, unique=True), min_size=1, max_size=5), st.integers(1, 4))
    def test_rows_of_many_files_come_in_order_and_once(self, files: list[list[int]], block: int) -> None:
        import plainstep.formats.lines as lines

        before, lines.BLOCK = lines.BLOCK, block * 40  # so that a file is several blocks
        try:
            with Landing() as town:
                for number, seqs in enumerate(files):
                    town.land(f"{number}.jsonl", *[(seq, seq % 7, seq) for seq in sorted(seqs)])
                wanted = sorted({seq for seqs in files for seq in seqs})
                if not wanted:
                    return
                source = town.project.load("tree").source
                window = Window.between(Position(0), source.span().end)
                found = [place for changes in source.read(window) for place in changes.table["position"].to_pylist()]
                self.assertEqual(found, wanted)
        finally:
            lines.BLOCK = before


class Killed(unittest.TestCase):
    """A step over files that dies anywhere, and is run again: every row once, every row that is quarantined once."""

    def test_killed_anywhere_then_run_again(self) -> None:
        for point, patch in POINTS.items():
            if "reading" in point and "m._commit" not in patch and "commit_to" not in patch:
                patch = "import plainstep.stores.files.feed as m; m.FileFeed.read = die"
            with self.subTest(point), Landing(more='on_bad_row = "quarantine"') as town:
                for number in range(4):
                    town.land(f"{number}.jsonl", *[(number * 10 + row, row, number) for row in range(8)])
                town.land("4.jsonl", (50, None, 1), (51, 8, 1))
                script = f"{DIE}{patch}\nimport plainstep\nplainstep.load_project('plainstep.toml').step()"
                child = Script(script, (), town.path, os.environ)
                told = child.communicate(timeout=240)[0]
                self.assertEqual(child.returncode, -9, told)
                self.assertRegex(town.step(), "nothing" if point == "after the commit" else "stepped 33")
                self.assertEqual(town.rows(), dict.fromkeys(range(8), 3) | {8: 1})
                self.assertEqual([row.place for _, row in town.project.quarantine()], ["50"])
                self.assertEqual(len(town.project.ledger("tree")), 1)


class Damage(unittest.TestCase):
    """Whatever is done to a file: a clear error with its name, nothing merged; or all of its rows."""

    def files(self, town: Landing) -> list[Path]:
        rows = [{"seq": n, "k": n, "a": n, "b": "oak" * (n % 5)} for n in range(1, 300)]
        lines = "".join(json.dumps(row) + "\n" for row in rows)
        (town.folder / "x.jsonl").write_text(lines)
        (town.folder / "x.jsonl.gz").write_bytes(gzip.compress(lines.encode()))
        (town.folder / "x.csv").write_text(
            "seq,k,a,b\n" + "".join(f'{r["seq"]},{r["k"]},{r["a"]},"{r["b"]}"\n' for r in rows)
        )
        pq.write_table(pa.Table.from_pylist(rows), town.folder / "x.parquet", row_group_size=100)
        import fastavro

        kinds = {"seq": "long", "k": "long", "a": "long", "b": "string"}
        fields = [{"name": name, "type": kind} for name, kind in kinds.items()]
        with (town.folder / "x.avro").open("wb") as out:
            fastavro.writer(out, {"type": "record", "name": "row", "fields": fields}, rows, "deflate")
        return sorted(town.folder.iterdir())

    def test_cut_and_spoilt_anywhere(self) -> None:
        chance = random.Random(5)
        with Landing("x*") as town:
            made = {path: path.read_bytes() for path in self.files(town)}
            for path in made:
                path.unlink()
            for path, whole in made.items():
                for turn in range(14):
                    place = chance.randrange(1, len(whole))
                    spoilt = (
                        whole[:place]
                        if turn % 2
                        else whole[:place] + bytes([chance.randrange(256)]) + whole[place + 1 :]
                    )
                    path.write_bytes(spoilt)
                    os.utime(path, (0, 0))
                    self.judged(town, path, place)
                path.unlink()

    def judged(self, town: Landing, path: Path, place: int) -> None:
        """Either a refusal that names the file, or whole rows."""
        try:
            source = town.project.load("tree").source
            count = sum(len(changes) for changes in source.read(Window.between(Position(0), source.span().end)))
            self.assertLessEqual(count, 299)
        except PlainStepError as error:
            self.assertRegex(str(error), r"x\.|seq|landing", f"{path.name} at {place}")
        for left in town.path.glob("house*"):
            self.fail(f"{left} was written")

    def test_lies_and_monsters(self) -> None:
        with Landing("x*") as town:
            monster = b'{"seq": 1, "k": 1, "a": 1, "b": "' + b"x" * (70 << 20) + b'"}'
            for name, data, said in (
                ("x.jsonl", b'{"seq": 1, "k": 1, "a": 1, "b": "\xff\xfe"}\n', "line 1 is not text in UTF-8"),
                ("x.jsonl", monster, "longer than 64 MiB"),
                ("x.jsonl", b'{"seq": 1, "k": 1, "a": 1}\n[1, 2]\nnull\n', "x.jsonl"),
                ("x.jsonl", b'{"seq": 1, "k": 1, "a": 1e999, "b": ""}\n', "x.jsonl|a is"),
                ("x.csv", b"seq,seq,k\n1,1,1\n", "two columns are named 'seq'"),
                ("x.csv", b'seq,k,a,b\n1,1,1,"no end\n2,2,2,oak\n', "x.csv"),
                ("x.csv", b"seq,k,a,b\n1,1,1,oak\n2,2,2\n", "line 3 has 3 values, and the header 4"),
                ("x.parquet", b"PAR1" + b"\0" * 100 + b"\xff\xff\xff\x7fPAR1", "x.parquet cannot be read"),
                ("x.avro", b"Obj\x01\x04\x14avro.codec\xff\xff\xff\xff\x7f", "x.avro"),
            ):
                path = town.folder / name
                path.write_bytes(data)
                os.utime(path, (0, 0))
                began = time.monotonic()
                self.assertRegex(town.step(), f"(refused|failed) 0 .*({said})", name)
                self.assertLess(time.monotonic() - began, 60)
                path.unlink()


if __name__ == "__main__":
    unittest.main()
