"""What changes say in words: as written one by one, also where some rows are written as one."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.changes import net
from plainstep.core.changes.words import MANY, name_lists, op_words, words
from tests.support import examples


class Words(unittest.TestCase):
    def test_many_operations(self) -> None:
        for most in (3, 5):
            ops = pa.array(np.random.default_rng(5).integers(1, most + 1, MANY).astype(np.int8))
            self.assertEqual(words(ops), op_words().take(ops))

    @given(st.integers(0, 10), st.integers(0, 70), st.sampled_from([0.0, 0.5, 1.0]), st.sampled_from([0, MANY]))
    @settings(max_examples=examples(40), deadline=None)
    def test_lists_of_names(self, count: int, rows: int, often: float, more: int) -> None:
        chance = np.random.default_rng(rows)
        masks = {"tree" * (place % 4) + str(place): chance.random(more + rows) < often for place in range(count)}
        made = name_lists(masks, more + rows)
        self.assertIsNone(made.validate(full=True))
        some = range(rows) if more == 0 else range(0, more + rows, 97)
        self.assertEqual(
            made.take(pa.array(some, pa.int64())).to_pylist(),
            [[name for name, mask in masks.items() if mask[row]] for row in some],
        )

    def test_more_lists_than_one_array_holds(self) -> None:
        images = {
            f"{side}.{name}": [turn % 3, turn % 5] for side, turn in (("was", 1), ("now", 4)) for name in ("a", "b")
        }
        table = pa.table({"seq": [1, 2], "op": ["update"] * 2, "was.k": [1, 2], "now.k": [1, 2], **images})
        whole = plainstep.collapse(table, "k").to_arrow()
        with mock.patch.object(net, "MOST_TEXT", 2):
            found = plainstep.collapse(table, "k").to_arrow()
        self.assertEqual((found["changed"].num_chunks, found.to_pylist()), (3, whole.to_pylist()))


if __name__ == "__main__":
    unittest.main()
