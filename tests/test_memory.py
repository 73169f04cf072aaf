"""Windows larger than memory: the same answer in parts, in order, in little room; and a refusal where there is no room at all."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import unittest
from collections import namedtuple
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.collapse import collapse
from plainstep.core.changes.ops import Op
from plainstep.core.changes.parts import NetParts
from plainstep.core.changes.ranks import END, ranks, within
from plainstep.loads.parted import ChangesByKey, PartedCollapser, ordered
from plainstep.sql.engine import spilling
from plainstep.testing.conformance import little_memory
from plainstep.workspace import Workspace, workspace
from tests import test_collapse
from tests.histories import Model, Row, flat, histories
from tests.support import PEAK, TREE, Town, examples

Usage = namedtuple("Usage", "total used free")


def in_parts(parts: list[list[Row]]) -> NetParts:
    """What a window comes to whose every batch goes to disk."""
    with little_memory():
        collapser = PartedCollapser(["k"])
        for part in parts:
            collapser.add(as_changes(flat(part), ("k",)))
        return collapser.result()


class Parts(unittest.TestCase):
    @given(histories, st.data())
    @settings(max_examples=examples(60), deadline=None)
    def test_the_answer_is_the_same(self, history: Any, data: st.DataObject) -> None:
        changes = Model().play(history).changes
        cuts = sorted(data.draw(st.lists(st.integers(0, len(changes)), max_size=4)))
        batches = [changes[low:high] for low, high in zip([0, *cuts], [*cuts, len(changes)], strict=True)]
        whole, found = collapse(flat(changes), "k"), in_parts(batches)
        joined = found.joined()
        self.assertEqual(test_collapse.facts(joined), test_collapse.facts(whole))
        for name in ("read", "truncated", "contradictions", "last_seq"):
            self.assertEqual(getattr(joined, name), getattr(whole, name), name)
        self.assertEqual((found.counts, len(found)), (whole.counts, len(whole)))
        self.assertEqual((found.partial, found.whole), (whole.partial, whole.whole))
        # In order, they are what the whole is in order; and all changes of each part are all changes of its keys.
        rows = [row for some in ordered(found) for row in some.table.to_pylist()]
        self.assertEqual(rows, whole.as_changes().table.to_pylist())
        among = ChangesByKey(lambda: iter([as_changes(flat(changes), ("k",))]), found, ["k"])
        for part in found.parts:
            again = collapse(list(among(part.ranks)), "k")
            self.assertEqual(test_collapse.facts(again), test_collapse.facts(part.read()))

    @given(st.data())
    @settings(max_examples=examples(100), deadline=None)
    def test_a_key_has_one_rank_whatever_stands_beside_it(self, data: st.DataObject) -> None:
        kinds = data.draw(st.lists(st.sampled_from(list(test_collapse.Laws.KEYS)), min_size=1, max_size=2))
        pool = data.draw(
            st.lists(st.tuples(*(test_collapse.Laws.KEYS[kind] for kind in kinds)), min_size=2, max_size=8)
        )

        def ranked(rows: list[Any]) -> list[int]:
            columns = [pa.array(column, kind) for column, kind in zip(zip(*rows, strict=True), kinds, strict=True)]
            found: list[int] = ranks(columns).tolist()
            return found

        together = ranked(pool)
        self.assertEqual(together, [rank for row in pool for rank in ranked([row])])
        if len(kinds) == 1 and kinds[0] in (pa.int64(), pa.date32(), pa.timestamp("us", "UTC")):
            self.assertEqual(
                [pool[at] for at in np.argsort(np.array(together, dtype=np.uint64), kind="stable")], sorted(pool)
            )
        middle = together[0]
        halves = [within(np.array(together, dtype=np.uint64), which) for which in ((0, middle), (middle, END))]
        self.assertTrue((halves[0] ^ halves[1]).all())

    def test_texts_that_begin_alike_are_kept_apart_by_what_follows(self) -> None:
        names = pa.array([f"larkmoor/street/{number:07}" for number in range(5000)])
        self.assertGreater(len(set(ranks([names]).tolist())), 4990)


class Room(unittest.TestCase):
    def test_no_room_is_told_before_it_is_used_and_a_folder_with_room_mends_it(self) -> None:
        with Town(TREE) as town, tempfile.TemporaryDirectory() as roomy:
            town.project.capture_on("town.tree")
            town.project.step("shed")
            town.sql("INSERT INTO tree VALUES " + ", ".join(f"({k}, 1, 'oak')" for k in range(50)))

            def usage(folder: str) -> Usage:
                return Usage(1 << 40, 0, 1 << 40 if str(folder).startswith(roomy) else 1 << 20)

            with little_memory(), mock.patch.object(shutil, "disk_usage", usage):
                [outcome] = town.project.step("shed", raise_errors=False)
                self.assertEqual(outcome.outcome, "refused")
                self.assertIn("scratch folder", str(outcome.error))
                self.assertIn("scratch = ", str(outcome.error))
                self.assertEqual(town.rows("shed"), [])
                config = Path(town.path / "plainstep.toml")
                config.write_text(config.read_text() + f'\n[engine]\nscratch = "{roomy}"\n')
                self.assertEqual([one.outcome for one in town.project.step("shed")], ["stepped"])
            self.assertEqual(len(town.rows("shed")), 50)
            self.assertEqual([one.health for one in town.project.status("shed")], ["ok"])

    def test_what_a_killed_process_left_is_removed(self) -> None:
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(workspace, "scratch", folder):
            script = "import sys; from plainstep import workspace as w; w.workspace.scratch = sys.argv[1]\nwith w.scratch_folder(): print(1, flush=True); input()"
            alive, killed = (
                subprocess.Popen([sys.executable, "-c", script, folder], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
                for _ in range(2)
            )
            for process in (alive, killed):
                process.stdout.readline()
            killed.kill()
            killed.communicate()
            self.assertEqual(len(list(Path(folder).iterdir())), 2)
            with spilling():
                self.assertEqual(len(list(Path(folder).iterdir())), 2)  # of the one that is alive, and its own
            self.assertEqual(len(list(Path(folder).iterdir())), 1)
            alive.communicate(b"\n")
            self.assertEqual(list(Path(folder).iterdir()), [])

    def test_settings_of_the_engine(self) -> None:
        with Town(TREE) as town:
            config = town.path / "plainstep.toml"
            begun = config.read_text()
            for said, told in (
                ('memory = "100MiB"', "that is too little"),
                ('memory = "much"', "not a valid size"),
                ('memmory = "1GiB"', "memory"),
            ):
                config.write_text(f"{begun}\n[engine]\n{said}\n")
                found = town.run("status")
                self.assertEqual(found.exit_code, 2, said)
                self.assertIn(told, found.output)
            config.write_text(f'{begun}\n[engine]\nmemory = "2GiB"\nscratch = "nowhere"\n')
            self.assertTrue(town.project.loads)
            self.assertEqual((workspace.limit, workspace.scratch), (2 << 30, str(town.path / "nowhere")))
            with little_memory():
                town.sql("INSERT INTO tree VALUES " + ", ".join(f"({k}, 1, 'oak')" for k in range(30)))
                town.project.capture_on("town.tree")
                town.sql("UPDATE tree SET a = 2")
                config.write_text(
                    config.read_text() + '[loads.all]\nfrom = "town.tree"\ninto = "shed.all"\nfirst = "start"\n'
                )
                [outcome] = town.project.step("all", raise_errors=False)
            self.assertIn("nowhere", str(outcome.error))
        self.addCleanup(setattr, workspace, "scratch", "")
        self.addCleanup(setattr, workspace, "memory", 0)
        self.assertGreaterEqual(Workspace().limit, 1 << 30)

    def test_a_window_of_many_keys_keeps_to_its_limit(self) -> None:
        """Two million keys, which would take some 600 MiB at once."""
        script = """
import numpy as np, pyarrow as pa
from plainstep.core.changes.batch import Changes
from plainstep.loads.parted import PartedCollapser
from plainstep.workspace import workspace

workspace.memory, size = 512 << 20, 1 << 17
collapser = PartedCollapser(["k"])
for turn in range(16):
    k = pa.array(np.arange(size) + turn * size)
    columns = {"op": pa.array(np.full(size, 2, np.int8)), "seq": pa.array(np.arange(size) + turn * size + 1),
               "at": pa.nulls(size, pa.timestamp("us", "UTC")), "was.k": k, "now.k": k}
    columns |= {side + name: pa.array(np.random.default_rng([turn, ord(side[0]), ord(name)]).random(size)) for side in ("was.", "now.") for name in "abcdefgh"}
    collapser.add(Changes(pa.table(columns)))
found = collapser.result()
assert len(found) == 16 * size and len(found.parts) > 3
assert sum(len(net) for net in found) == 16 * size
print(int(peak()))
"""
        told = subprocess.run([sys.executable, "-c", PEAK + script], capture_output=True, text=True, check=True).stdout
        self.assertLess(int(told), 512, "MiB")


class Moves(unittest.TestCase):
    def test_a_row_that_moves_out_of_a_part_leaves_it(self) -> None:
        model = Model().play([("insert", k, {"a": k, "b": None}) for k in range(6)])
        begun = len(model.changes)
        model.play([("rekey", k, k + 100) for k in range(6)])
        changes = as_changes(flat(model.changes[begun:]), ("k",))
        self.assertEqual(set(changes.op().tolist()), {int(Op.UPDATE)})
        found = in_parts([model.changes[begun:]])
        self.assertGreater(len(found.parts), 1)
        among = ChangesByKey(lambda: iter([changes]), found, ["k"])
        told = [Changes(some.table) for part in found.parts for some in among(part.ranks)]
        self.assertEqual(sum(map(len, told)), 12)


if __name__ == "__main__":
    unittest.main()
