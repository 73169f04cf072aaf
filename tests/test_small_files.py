"""Many small files are read together: what each of them says counts as if it were read alone."""

from __future__ import annotations

import json
import os
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.landing import BY_SEQ, Landing
from tests.support import examples

WORDS = '\noperation = "op"\nput = ["set"]\ndelete = ["gone"]'


def landed(town: Landing, name: str, rows: list[dict[str, Any]], ended: bool) -> None:
    """A file of rows, as JSON Lines or CSV, its last line with an end or without."""
    if name.endswith(".csv"):
        values = [",".join("" if value is None else str(value) for value in row.values()) for row in rows]
        lines = ["op,seq,k,a,b", *values]
    else:
        lines = [json.dumps(row) for row in rows]
    path = town.folder / name
    path.write_text("\n".join(lines) + ("\n" if ended else ""))
    os.utime(path, (0, 0))  # left alone for long: what has no end is whole


class SmallFiles(unittest.TestCase):
    @given(st.data())
    @settings(max_examples=examples(25), deadline=None)
    def test_every_file_counts(self, data: st.DataObject) -> None:
        """In the order of names, or of a column, in which files may overlap; in one step or in several."""
        in_names = data.draw(st.booleans())
        files = data.draw(st.integers(1, 12))
        drawn = data.draw(st.lists(st.tuples(st.integers(0, 9), st.integers(0, files - 1), st.booleans()), max_size=60))
        whose = sorted(file for _, file, _ in drawn) if in_names else [file for _, file, _ in drawn]
        contents: list[list[dict[str, Any]]] = [[] for _ in range(files)]
        expected: dict[int, int] = {}
        for seq, ((key, _, goes), file) in enumerate(zip(drawn, whose, strict=True), 1):
            row = {
                "op": "gone" if goes else "set",
                "seq": seq,
                "k": key,
                "a": None if goes else seq,
                "b": None if goes else "oak",
            }
            contents[file].append(row)
            expected = {known: value for known, value in expected.items() if known != key} | (
                {} if goes else {key: seq}
            )
        most = data.draw(st.sampled_from(["", "at_most = 7"]))
        with Landing("*", ("" if in_names else BY_SEQ) + WORDS, most) as town:
            for number, rows in enumerate(contents):
                if rows:
                    name = f"{number:02}.{data.draw(st.sampled_from(['jsonl', 'csv']))}"
                    landed(town, name, rows, data.draw(st.booleans()))
            if not drawn:
                return
            while town.step().startswith("stepped"):
                pass
            self.assertEqual(town.step(), "nothing 0 ")
            self.assertEqual(town.rows(), expected)

    def test_the_line_that_is_wrong_is_named(self) -> None:
        for layout in (BY_SEQ + WORDS, WORDS):
            with self.subTest(layout), Landing(layout=layout) as town:
                for number in range(9):
                    row = {"op": "set", "seq": number, "k": number, "a": 1, "b": "oak"}
                    landed(
                        town,
                        f"{number}.jsonl",
                        [row, row | {"op": "sett" if number == 5 else "set", "k": -number}],
                        number % 2 == 0,
                    )
                self.assertRegex(town.step(), r"5\.jsonl, line 2|landing\.\*\.jsonl\* at 5|5\.jsonl:2")


if __name__ == "__main__":
    unittest.main()
