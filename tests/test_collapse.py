"""Collapsing: the truth table, and the laws that hold over every history."""

from __future__ import annotations

import datetime as dt
import itertools
import subprocess
import sys
import unittest
from decimal import Decimal
from importlib.util import find_spec
from typing import Any
from unittest import mock

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.changes import groups, keys
from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.collapse import Collapser, collapse, merge
from tests.histories import Model, Row, flat, histories, merged
from tests.support import PEAK, examples

# What the first and the last change of a key come to (DESIGN, section 5).
TRUTH = {
    ("insert", "insert"): "insert",
    ("insert", "update"): "insert",
    ("insert", "delete"): None,
    ("update", "insert"): "update",
    ("update", "update"): "update",
    ("update", "delete"): "delete",
    ("delete", "insert"): "update",
    ("delete", "update"): "update",
    ("delete", "delete"): "delete",
}


def facts(net: plainstep.NetChanges) -> list[Row]:
    """Everything a net says, in an order of its own."""
    rows = net.to_arrow().to_pylist()
    for row in rows:
        row.pop("last_at")
    return sorted(rows, key=repr)


def change(op: str, seq: int, was: Row | None = None, now: Row | None = None, **more: Any) -> Row:
    return {"op": op, "seq": seq, "was": was, "now": now, **more}


def row(k: Any, a: Any, b: Any = None) -> Row:
    return {"k": k, "a": a, "b": b}


class TruthTable(unittest.TestCase):
    def test_first_and_last_decide(self) -> None:
        for first, last in itertools.product(("insert", "update", "delete"), repeat=2):
            pair = [
                change(
                    op,
                    seq,
                    None if op == "insert" else row(1, seq),
                    None if op == "delete" else row(1, seq + 10),
                )
                for seq, op in enumerate((first, last), 1)
            ]
            for net in (collapse(flat(pair), "k"), merge(*(collapse(flat([one]), "k") for one in pair))):
                found = net.to_arrow().to_pylist()
                self.assertEqual([one["op"] for one in found], [TRUTH[first, last]] if TRUTH[first, last] else [])
                if found:
                    self.assertEqual(found[0]["was.a"], None if first == "insert" else 1)
                    self.assertEqual(found[0]["now.a"], None if last == "delete" else 12)
                    self.assertEqual((found[0]["count"], found[0]["first_seq"], found[0]["last_seq"]), (2, 1, 2))

    def test_an_update_that_came_to_nothing_is_nothing(self) -> None:
        there_and_back = [
            change("update", 1, row(1, 1), row(1, 2)),
            change("update", 2, row(1, 2), row(1, 1)),
        ]
        self.assertEqual(len(collapse(flat(there_and_back), "k")), 0)
        nan = pa.table({"op": ["update"], "seq": [1], "was.k": [1], "now.k": [1]})
        nan = nan.append_column("was.x", pa.array([float("nan")])).append_column("now.x", pa.array([float("nan")]))
        self.assertEqual(len(collapse(nan, "k")), 0)

    def test_keys_that_swap_and_chain(self) -> None:
        swap = Model().play(
            [("insert", key, {"a": key, "b": None}) for key in (1, 2)]
            + [("rekey", *pair) for pair in ((1, 9), (2, 1), (9, 2))]
        )
        late = collapse(flat(swap.changes[2:]), "k")
        self.assertEqual(late.counts, {"insert": 0, "update": 2, "delete": 0})
        self.assertEqual(merged({1: row(1, 1), 2: row(2, 2)}, late), {1: row(1, 2), 2: row(2, 1)})

    def test_contradictions_are_counted_and_the_last_state_counts(self) -> None:
        odd = [
            change("delete", 1, row(1, 0)),
            change("update", 2, row(1, 0), row(1, 1)),
            change("insert", 3, None, row(1, 2)),
            change("insert", 4, None, row(2, 2)),
        ]
        for net in (
            collapse(flat(odd), "k"),
            merge(collapse(flat(odd[:2]), "k"), collapse(flat(odd[2:]), "k")),
        ):
            self.assertEqual(net.contradictions, 2)
            self.assertEqual(merged({}, net)[1]["a"], 2)

    def test_parts_of_rows_keep_what_was_not_sent(self) -> None:
        parts = [
            change("update", 1, row(1, None), row(1, 7), given=["a"]),
            change("update", 2, row(1, None), row(1, None, "elm"), given=["b"]),
            change("update", 3, row(1, None), row(1, None), given=["a"]),
            change("update", 4, row(2, None), row(2, 5), given=["a"]),
            change("insert", 5, None, row(3, 1, "oak")),
            change("delete", 6, row(4, 4)),
            change("insert", 7, None, row(4, 8), given=["a"]),
        ]
        before = {1: row(1, 1, "oak"), 2: row(2, 2, "oak"), 4: row(4, 4, "ash")}
        whole = collapse(flat(parts), "k")
        expected = {1: row(1, None, "elm"), 2: row(2, 5, "oak"), 3: row(3, 1, "oak")}
        self.assertEqual({k: v for k, v in merged(before, whole).items() if k != 4}, expected)
        for cut in range(1, len(parts)):
            again = merge(collapse(flat(parts[:cut]), "k"), collapse(flat(parts[cut:]), "k"))
            self.assertEqual({k: v for k, v in merged(before, again).items() if k != 4}, expected)
            # The row that came back in parts must not be patched onto what stood there before.
            ops = {one["k"]: (one["op"], one["given"]) for one in again.to_arrow().to_pylist()}
            self.assertEqual(ops[4], ("put", ["a"]))

    def test_images_where_there_should_be_none_are_left_out(self) -> None:
        both = [change("insert", 1, row(1, 9), row(1, 1)), change("delete", 2, row(2, 5), row(2, 5))]
        found = {one["k"]: one for one in collapse(flat(both), "k").to_arrow().to_pylist()}
        self.assertEqual((found[1]["op"], found[1]["was.a"], found[1]["now.a"]), ("insert", None, 1))
        self.assertEqual((found[2]["op"], found[2]["was.a"], found[2]["now.a"]), ("delete", 5, None))

    def test_latest_state_feeds(self) -> None:
        net = collapse(flat([change("put", 1, None, row(1, 1)), change("put", 2, None, row(2, 1)),
                             change("delete", 3, row(2, None))]), "k")  # fmt: skip
        self.assertEqual({one["k"]: one["op"] for one in net.to_arrow().to_pylist()}, {1: "put", 2: "delete"})


class Laws(unittest.TestCase):
    @given(histories, st.data())
    @settings(max_examples=examples(300), deadline=None)
    def test_truth_and_any_cut(self, history: Any, data: st.DataObject) -> None:
        start = data.draw(st.integers(0, len(history)))
        model = Model().play(history[:start])
        before, seen = dict(model.rows), len(model.changes)
        later = model.play(history[start:]).changes[seen:]
        whole = collapse(flat(later), "k")
        self.assertEqual(merged(before, whole), model.rows)
        self.assertEqual((whole.read, whole.contradictions), (len(later), 0))
        cuts = sorted(data.draw(st.lists(st.integers(0, len(later)), max_size=4)))
        windows = [later[low:high] for low, high in itertools.pairwise([0, *cuts, len(later)])]
        nets = [collapse(flat(part), "k") for part in windows]
        together = nets[0]
        for net in nets[1:]:
            together = merge(together, net)
        self.assertEqual(facts(together), facts(whole))
        self.assertEqual((together.read, together.truncated), (whole.read, whole.truncated))
        one_by_one = dict(before)
        for net in nets:
            one_by_one = merged(one_by_one, net)
        self.assertEqual(one_by_one, model.rows)

    @given(histories, st.randoms(use_true_random=False))
    @settings(max_examples=examples(100), deadline=None)
    def test_once_however_delivered(self, history: Any, random: Any) -> None:
        changes = Model().play(history).changes
        twice = changes + [change for change in changes if random.random() < 0.5]
        random.shuffle(twice)
        self.assertEqual(facts(collapse(flat(twice), "k")), facts(collapse(flat(changes), "k")))
        collapser = Collapser(["k"])
        collapser.SMALLEST = 3
        at = 0
        collapser.add(as_changes(flat([])))
        while at < len(changes):  # batches that overlap, as a feed does that sends again what was not acknowledged
            size = random.randint(1, 5)
            collapser.add(as_changes(flat(changes[max(0, at - 2) : at + size])))
            at += size
        self.assertEqual(facts(collapser.result()), facts(collapse(flat(changes), "k")))

    @given(histories, histories, st.integers(1, 9))
    @settings(max_examples=examples(100), deadline=None)
    def test_all_of_a_transaction_at_one_position(self, first: Any, then: Any, size: int) -> None:
        """D17: there and back and there again is three changes, as a log tells them, and not one that was told twice."""
        model = Model().play(first)
        before, known = dict(model.rows), len(model.changes)
        changes = model.play([*then, *then]).changes[known:]
        at_one = [change | {"seq": 7} for change in changes]
        self.assertEqual(merged(before, collapse(flat(at_one), "k")), model.rows)
        parts = [at_one[at : at + size] for at in range(0, len(at_one), size)] or [[]]
        self.assertEqual(merged(before, collapse([flat(part) for part in parts], "k")), model.rows)

    KEYS = {
        pa.int64(): st.integers(-(2**63), 2**63 - 1),
        pa.int16(): st.integers(-5, 5),
        pa.uint64(): st.integers(0, 2**64 - 1),
        pa.float64(): st.floats(allow_nan=False),
        pa.bool_(): st.booleans(),
        pa.string(): st.text(max_size=80),
        pa.large_binary(): st.binary(max_size=20),
        pa.binary(16): st.binary(min_size=16, max_size=16),
        pa.decimal128(20, 3): st.decimals(-(10**15), 10**15, places=3),
        pa.decimal256(60, 3): st.decimals(-(10**15), 10**15, places=3),
        pa.date32(): st.dates(),
        pa.time64("us"): st.times(),
        pa.timestamp("us", "UTC"): st.datetimes(timezones=st.just(dt.UTC)),
        pa.dictionary(pa.int8(), pa.string()): st.sampled_from(["oak", "elm"]),
    }

    @classmethod
    def drawn_keys(cls, data: st.DataObject) -> tuple[list[pa.DataType], list[tuple[Any, ...]]]:
        """The types of some key columns, and keys of which some stand several times."""
        kinds = data.draw(st.lists(st.sampled_from(list(cls.KEYS)), min_size=1, max_size=3))
        pool = data.draw(st.lists(st.tuples(*(cls.KEYS[kind] for kind in kinds)), min_size=1, max_size=8))
        picked = data.draw(st.lists(st.sampled_from(pool), min_size=1, max_size=30))
        return kinds, picked

    @given(st.data())
    @settings(max_examples=examples(200), deadline=None)
    def test_keys_of_every_type(self, data: st.DataObject) -> None:
        kinds, picked = Laws.drawn_keys(data)
        columns = [pa.array(column, kind) for column, kind in zip(zip(*picked, strict=True), kinds, strict=True)]
        codes, bound = keys.code(columns)
        self.assertTrue((codes >= 0).all() and (codes < bound).all())
        for (left, one), (right, other) in itertools.combinations(zip(codes, picked, strict=True), 2):
            self.assertEqual(left == right, one == other)

    def test_keys_that_collide_are_told_apart_all_the_same(self) -> None:
        picked = np.random.default_rng(3).integers(0, 5000, 20_000) * 7919
        rounds, keys.ROUNDS = keys.ROUNDS, 1  # as if every further table were full of collisions
        try:
            codes, bound = keys.code([pa.array(picked), pa.array(picked.astype(str))])
        finally:
            keys.ROUNDS = rounds
        self.assertEqual(len({*zip(codes.tolist(), picked.tolist(), strict=True)}), len(set(picked.tolist())))
        self.assertEqual(len(set(codes.tolist())), len(set(picked.tolist())))
        self.assertLess(codes.max(), bound)

    def test_many_keys_on_all_cores(self) -> None:
        size = keys.WORTH_SPLITTING * 2
        picked = np.random.default_rng(7).integers(0, size // 3, size) * 1_000_003
        for column in (pa.array(picked), pa.array([f"tree {number}" for number in picked])):
            codes, _ = keys.code([column])
            pairs = np.unique(np.stack([codes, picked], axis=1), axis=0)
            self.assertEqual(len(pairs), len(np.unique(picked)))
            self.assertEqual(len(pairs), len(np.unique(codes)))


@unittest.skipUnless(find_spec("numba"), "numba is not installed: pip install 'plainstep[fast]'")
class Compiled(unittest.TestCase):
    """Compiled loops and whole arrays give the same answer."""

    def answer(self, table: Any, key: list[str], compiled: bool) -> plainstep.NetChanges:
        """The net changes by compiled loops, which deal out even a few rows, or by whole arrays."""
        rows = 0 if compiled else 1 << 60
        with (
            mock.patch.multiple(groups, WORTH_LOADING=rows, WORTH_CALLING=rows),
            mock.patch("plainstep.core.changes.compiled.SHARE_ROWS", 4),
            mock.patch("plainstep.core.changes.compiled_numbers.SHARE_KEY_BITS", 1),
        ):
            return collapse(table, key)

    def both(self, table: Any, key: list[str]) -> tuple[plainstep.NetChanges, plainstep.NetChanges]:
        """The net changes by whole arrays, and by compiled loops."""
        return self.answer(table, key, False), self.answer(table, key, True)

    def same(self, table: Any, key: list[str]) -> None:
        arrays, compiled = self.both(table, key)
        self.assertEqual(facts(compiled), facts(arrays))
        self.assertEqual(compiled.contradictions, arrays.contradictions)

    @given(histories, st.data())
    @settings(max_examples=examples(100), deadline=None)
    def test_histories(self, history: Any, data: st.DataObject) -> None:
        changes = Model().play(history).changes
        lost = data.draw(st.sets(st.integers(0, 30), max_size=4))  # what follows contradicts what is left
        self.same(flat([one for place, one in enumerate(changes) if place not in lost]), ["k"])

    @given(st.data())
    @settings(max_examples=examples(60), deadline=None)
    def test_keys_of_every_type(self, data: st.DataObject) -> None:
        kinds, picked = Laws.drawn_keys(data)
        columns = {f"now.{at}": pa.array(one, kinds[at]) for at, one in enumerate(zip(*picked, strict=True))}
        columns |= {"op": pa.array(["put"] * len(picked)), "seq": pa.array(range(len(picked)))}
        arrays, compiled = self.both(pa.table(columns), [str(at) for at in range(len(kinds))])
        for net in (arrays, compiled):
            self.assertEqual(sum(row["count"] for row in net.to_arrow().to_pylist()), len(picked))
        ends = [sorted(zip(*(net.to_arrow()[name].to_pylist() for name in ("first_seq", "last_seq")), strict=True))
                for net in (arrays, compiled)]  # fmt: skip
        self.assertEqual(*ends)

    @given(st.data())
    @settings(max_examples=examples(150), deadline=None)
    def test_both_sides_of_the_key(self, data: st.DataObject) -> None:
        """Keys that move, that are lacking, and that stand where there is no row; also in tables that are cut out of others."""
        kinds = data.draw(
            st.lists(
                st.sampled_from([pa.int64(), pa.int32(), pa.date32(), pa.string(), pa.binary()]), min_size=1, max_size=2
            )
        )
        count = data.draw(st.integers(1, 60))
        ops = data.draw(st.lists(st.sampled_from([1, 2, 2, 3, 5]), min_size=count, max_size=count))
        apart, lacking = data.draw(st.sampled_from([0, 0, 0, 9])), data.draw(st.sampled_from([0, 0, 9]))
        seqs = [0, 0, *range(2, count)] if count > 2 and data.draw(st.booleans()) else list(range(count))
        columns: dict[str, Any] = {"op": pa.array(ops, pa.int8()), "seq": pa.array(seqs)}
        strays = data.draw(st.booleans())
        for place, kind in enumerate(kinds):
            now = data.draw(st.lists(st.integers(0, 5), min_size=count, max_size=count))
            was = [
                value + data.draw(st.integers(0, 1)) if apart and row % apart == 0 else value
                for row, value in enumerate(now)
            ]
            for side, values, absent in (("was.", was, (1, 5)), ("now.", now, (3,))):
                gone = [(lacking and row % lacking == 0) or (not strays and op in absent) for row, op in enumerate(ops)]
                texts = pa.types.is_string(kind) or pa.types.is_binary(kind)
                made = [
                    None if none else "x" * (value * 4) if texts else value
                    for none, value in zip(gone, values, strict=True)
                ]
                columns[f"{side}{place}"] = pa.array(made, kind)
        columns |= {side + "a": pa.array([row % 3 for row in range(count)]) for side in ("was.", "now.")}
        table = as_changes(pa.table(columns)).table.slice(data.draw(st.integers(0, count)))
        key = [str(place) for place in range(len(kinds))]
        try:
            self.answer(Changes(table), key, False)
        except plainstep.DataError as error:
            with self.assertRaisesRegex(plainstep.DataError, str(error).split(":")[0].split(".")[0]):
                self.answer(Changes(table), key, True)
        else:
            self.same(Changes(table), key)

    def test_many_rows_on_all_cores(self) -> None:
        chance = np.random.default_rng(5)
        for keys_of in (
            chance.integers(0, 40_000, 200_000),
            chance.integers(-(2**63), 2**63 - 1, 50_000)[chance.integers(0, 50_000, 200_000)],
        ):
            self.same(_any_operations(keys_of, chance), ["k"])
        texts = pa.array([f"tree {number}" for number in chance.integers(0, 40_000, 200_000)])
        self.same(_any_operations(texts, chance), ["k"])

    @given(st.data())
    @settings(max_examples=examples(60), deadline=None)
    def test_some_rows_of_a_column(self, data: st.DataObject) -> None:
        """As Arrow takes them, also out of columns that are cut out of others; of two columns, the second's where the first has none."""
        kind: pa.DataType = data.draw(
            st.sampled_from([pa.int8(), pa.int32(), pa.int64(), pa.float64(), pa.date32(), pa.string()])
        )
        count = data.draw(st.integers(1, 40))
        sides: list[list[int | None]] = data.draw(
            st.sampled_from([[[0, 1, 7, None], [2, None]], [[0, 1], [3]], [[None], [1, None]]])
        )
        drawn = [data.draw(st.lists(st.sampled_from(values), min_size=count, max_size=count)) for values in sides]
        whole = [pa.array(values, pa.int32()).cast(kind) for values in drawn]
        cut = data.draw(st.integers(0, count - 1))
        column, other = (one.slice(cut) for one in whole)
        rows = pa.array(data.draw(st.lists(st.integers(0, count - cut - 1), max_size=30)), pa.int32())
        with mock.patch.multiple(groups, WORTH_LOADING=0, WORTH_CALLING=0):
            self.assertEqual(groups.picked(column, rows), column.take(rows))
            either = groups.picked(column, rows, other)
        self.assertEqual(either, pc.coalesce(column.take(rows), other.take(rows)))
        self.assertIsNone(either.validate(full=True))

    def test_keys_that_were_made_to_collide(self) -> None:
        """They would take a second for every ten thousand; whole arrays tell them apart."""
        wanted = [(0x1234567 << 36) | number for number in range(30_000)]
        table = _any_operations(
            np.array([_unhashed(one) for one in wanted], dtype=np.uint64).view(np.int64), np.random.default_rng(2)
        )
        words, ones = [table["now.k"].to_numpy().view(np.uint64)], np.ones(table.num_rows, dtype=np.int8)
        self.assertIsNone(groups.grouped(words, ones, ones.astype(np.bool_), None))
        self.same(table, ["k"])


def _any_operations(key: Any, chance: np.random.Generator) -> pa.Table:
    """Changes of some keys, by whatever operations, at positions with gaps or without."""
    op = pa.array(chance.integers(1, 4, len(key)).astype(np.int8))
    seq = pa.array(np.cumsum(chance.integers(1, chance.integers(2, 4), len(key))))
    values = {side + "a": pa.array(chance.integers(0, 3, len(key))) for side in ("was.", "now.")}
    return pa.table({"op": op, "seq": seq, "was.k": pa.array(key), "now.k": pa.array(key)} | values)


def _unhashed(found: int) -> int:
    """The key of one word that has a hash in the compiled loops."""
    whole = 1 << 64
    for shift, factor in ((29, 0xC2B2AE3D27D4EB4F), (32, 0x9E3779B97F4A7C15)):
        value = found
        for _ in range(3):
            value = found ^ (value >> shift)
        found = value * pow(factor, -1, whole) % whole
    return found


class Orders(unittest.TestCase):
    @given(st.sampled_from([1, 2, 1 << 16, (1 << 16) + 1, 1 << 33]), st.lists(st.integers(0, 1 << 33), max_size=60))
    def test_rows_in_the_order_of_their_codes(self, bound: int, drawn: list[int]) -> None:
        codes = np.array(drawn, dtype=np.int64) % bound
        self.assertEqual(keys.by_code(codes, bound).tolist(), np.argsort(codes, kind="stable").tolist())


class Memory(unittest.TestCase):
    def test_a_window_takes_room_for_its_keys_not_for_its_changes(self) -> None:
        script = """
import sys
import numpy as np, pyarrow as pa
from plainstep.core.changes import groups
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.collapse import Collapser

groups.WORTH_LOADING = 0  # numba takes as much room in both
chance, keys, size = np.random.default_rng(1), 50_000, 1 << 18
collapser = Collapser(["k"])
before = peak()
for turn in range(int(sys.argv[1])):
    columns = {"op": pa.array(np.full(size, 2, np.int8)), "seq": pa.array(np.arange(size) + turn * size + 1),
               "at": pa.nulls(size, pa.timestamp("us", "UTC")), "was.k": pa.array(chance.integers(0, keys, size))}
    columns |= {"now.k": columns["was.k"], "was.a": pa.array(chance.random(size)), "now.a": pa.array(chance.random(size))}
    collapser.add(Changes(pa.table(columns)))
assert collapser.result().read == size * int(sys.argv[1]) and len(collapser.result()) == keys
print(int(peak() - before))
"""
        took = [
            int(
                subprocess.run(
                    [sys.executable, "-c", PEAK + script, turns], capture_output=True, text=True, check=True
                ).stdout
            )
            for turns in ("8", "64")  # 2 and 16 million changes, of which 16 would be 700 MB at once
        ]
        self.assertLess(took[1], took[0] * 2 + 50, f"MiB for 2 and for 16 million changes: {took}")


class Input(unittest.TestCase):
    def test_any_table_will_do(self) -> None:
        changes = Model().play(
            [("insert", 1, {"a": 1, "b": "oak"}), ("delete", 1, None), ("insert", 2, {"a": None, "b": ""})]
        )
        table = flat(changes.changes)
        frame = pd.DataFrame(table.to_pylist())  # integers with holes arrive as floats
        for data in (
            table,
            table.to_batches()[0],
            table.to_reader(),
            frame,
            [table.slice(0, 1), table.slice(1)],
        ):
            self.assertEqual(
                [(one["k"], one["op"]) for one in collapse(data, "k").to_arrow().to_pylist()], [(2, "insert")]
            )
        self.assertEqual(collapse(frame, ["k"]).to_arrow().schema.field("k").type, pa.float64())
        self.assertEqual(str(collapse(table, "k").to_pandas()["now.a"].dtype), "int64[pyarrow]")

    def test_what_cannot_be_right_is_refused(self) -> None:
        good = flat([change("insert", 1, None, row(1, 1))])
        for data, key, told in (
            (good.drop_columns(["seq"]), "k", "'seq'"),
            (good, "species", "'species'"),
            (good, (), "at least one column"),
            (good.set_column(0, "op", pa.array(["felled"])), "k", "'felled'"),
            (good.set_column(1, "seq", pa.array([None], pa.int64())), "k", "no seq"),
            (flat([change("insert", 1, None, row(None, 1))]), "k", "no value in the key column 'k'"),
            ({"not": "a table"}, "k", "dict"),
        ):
            with self.assertRaises(plainstep.DataError) as caught:
                collapse(data, key)
            self.assertIn(told, str(caught.exception))

    def test_only_an_equal_row_is_a_repeat(self) -> None:
        """What shares a position keeps its order, as project.changes() of a log gives it; batches out of order are refused."""
        shared = [
            change("insert", 7, None, row(1, 1)),
            change("update", 7, row(1, 1), row(1, 2)),
            change("insert", 7, None, row(2, 5)),
        ]
        for changes in (shared, [*shared, shared[0], shared[2]]):
            net = collapse(flat(changes), "k")
            self.assertEqual((net.read, [(one["k"], one["now.a"]) for one in facts(net)]), (3, [(1, 2), (2, 5)]))
        renamed = flat(shared).rename_columns(
            ["position" if name == "seq" else name for name in flat(shared).column_names]
        )
        self.assertEqual(facts(collapse(renamed, "k")), facts(collapse(flat(shared), "k")))
        early = [change("delete", 3, row(2, 5))]
        with self.assertRaisesRegex(plainstep.DataError, "a change with the seq 3, after one with the seq 7"):
            collapse([flat(shared), flat(early)], "k")
        views = flat(shared).cast(
            pa.schema(
                [(one.name, pa.string_view() if one.type == pa.string() else one.type) for one in flat(shared).schema]
            )
        )
        self.assertEqual(len(collapse(views, "k")), 2)
        floats = flat(shared).set_column(2, "was.k", pa.array([None, None, None], pa.float64())).drop_columns(["now.k"])
        with self.assertRaisesRegex(plainstep.DataError, "NaN in the key column"):
            collapse(floats.append_column("now.k", pa.array([1.0, float("nan"), 2.0])), "k")

    def test_types_stay_true(self) -> None:
        kinds = pa.schema(
            [
                ("k", pa.int64()),
                ("cost", pa.decimal128(12, 2)),
                ("at", pa.timestamp("us")),
                ("raw", pa.binary()),
            ]
        )
        value = {"k": 1, "cost": Decimal("0.10"), "at": dt.datetime(2026, 5, 4), "raw": b"\x00"}
        net = collapse(flat([change("insert", 1, None, value)], kinds), "k").to_arrow()
        self.assertEqual(net.schema.field("now.cost").type, pa.decimal128(12, 2))
        self.assertEqual(net.to_pylist()[0]["now.raw"], b"\x00")


if __name__ == "__main__":
    unittest.main()
