"""Files that come, come late, go and come back: whatever a command that ends well leaves is what was merged."""

from __future__ import annotations

import shutil
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.errors import Refused
from tests.landing import BY_SEQ, Landing
from tests.support import examples

BY_FILE = 'bookkeeping = ["seq"]\nmissing_field = "null"'
KEYS = 4
EVENTS = st.lists(
    st.tuples(
        st.sampled_from(["land", "land", "step", "step", "late", "go", "go", "back", "reload", "repair"]),
        st.integers(0, 9),
    ),
    min_size=8,
    max_size=30,
)


class Shore:
    """A landing, and what was merged from it, by the position of each row.

    Args:
        town: the landing.
        by_file: whether the names of files order their rows, and not positions in them.
    """

    def __init__(self, town: Landing, by_file: bool) -> None:
        self.town, self.by_file = town, by_file
        self.files: dict[str, list[tuple[int, int, int]]] = {}
        self.merged: dict[Any, tuple[int, int, int]] = {}
        self.taken, self.away = 0, town.path / "away"
        self.away.mkdir()

    def land(self, number: int, late: bool = False) -> None:
        """A file of two rows; a late one belongs between those that are there already."""
        self.taken += 2 * (not late)
        begin = 2 * (number % self.taken) + 1 if late else 2 * self.taken
        name = f"{begin:05}.jsonl"
        if name not in self.files:
            rows = [(begin, begin % KEYS, number)] if late else [(begin + n, (begin + n) % KEYS, n) for n in (0, 2)]
            self.files[name] = rows
            self.town.land(name, *rows, old=True)

    def move(self, number: int, back: bool) -> None:
        """A file goes, or comes back."""
        source, into = (self.away, self.town.folder) if back else (self.town.folder, self.away)
        there = sorted(source.glob("*.jsonl"))
        if there:
            shutil.move(there[number % len(there)], into)

    def see(self) -> None:
        """All files that are there are merged now."""
        for path in self.town.folder.glob("*.jsonl"):
            for line, row in enumerate(self.files[path.name]):
                self.merged[(path.name, line) if self.by_file else row[0]] = row

    def rows(self) -> dict[int, int]:
        """What was merged, as a mirror holds it."""
        return {key: value for _, (_, key, value) in sorted(self.merged.items())}


class Gone(unittest.TestCase):
    @settings(max_examples=examples(15))
    @given(EVENTS, st.booleans(), st.sampled_from(["", "at_most = 3"]))
    def test_nothing_is_dropped_that_only_files_told_that_are_gone(
        self, events: list[tuple[str, int]], by_file: bool, more: str
    ) -> None:
        with Landing("*.jsonl", BY_FILE if by_file else BY_SEQ, more) as town:
            shore = Shore(town, by_file)
            for what, number in [("land", 0), ("step", 0), *events]:
                try:
                    if what in ("land", "late"):
                        shore.land(number, late=what == "late")
                        continue
                    if what in ("go", "back"):
                        shore.move(number, back=what == "back")
                        continue
                    if what == "step":
                        town.project.step(until_done=True)
                    elif what == "reload":
                        town.project.reload("tree")
                    else:
                        town.project.check("tree", repair=True)
                except Refused:
                    continue  # with at_most, steps before it may have been made
                if what != "repair":  # which leaves what waits
                    shore.see()
                self.assertEqual(town.rows(), shore.rows(), what)
