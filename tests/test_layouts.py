"""Feeds that something else wrote: every layout, read right and read wrong."""

from __future__ import annotations

import contextlib
import sqlite3
import unittest
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.cutting import Cut
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.layouts.plausibility import doubt
from tests import layouts
from tests.feed_town import HISTORY, Refusing, Town
from tests.histories import histories
from tests.support import WITHOUT_SHRINKING, examples

ROOT = Path(__file__).parents[1]


class Laws(unittest.TestCase):
    """One history, in every layout, cut anywhere: always the same rows."""

    @settings(
        max_examples=examples(4), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(st.lists(histories, min_size=1, max_size=3))
    def test_every_layout_ends_in_the_same_rows(self, cuts: list[list[tuple[str, Any, Any]]]) -> None:
        with Town() as town:
            town.project.capture_on("town.tree")
            town.play([("insert", 0, {"a": 1, "b": "oak"})])
            for number, cut in enumerate(cuts):
                # A window of nothing but truncates would be doubted.
                town.play([("insert", 10 + number, {"a": 1, "b": "oak"}), *cut])
                for outcome in town.project.step(raise_errors=False):
                    self.assertIsNone(outcome.error, f"{outcome.load}: {outcome.error}")
                    found = town.target(outcome.load)
                    if outcome.load in layouts.BLIND:
                        found = {key: row for key, row in found.items() if key in town.truth}
                    self.assertEqual(found, town.truth, outcome.load)
            for outcome in town.project.step():
                self.assertEqual(outcome.outcome, "nothing", outcome.load)
            for check in town.project.check():
                self.assertTrue(check.ok or check.load in layouts.BLIND, check.load)


class Parts(unittest.TestCase):
    """So many changes a step at most, in every layout: always the same rows, after more steps."""

    def test_every_layout_in_parts(self) -> None:
        said = 'key = ["k"]\nat_most = 3\n'
        with Town(config=layouts.config(*LAYOUTS_IN_PARTS).replace('key = ["k"]\n', said)) as town:
            town.project.capture_on("town.tree")
            town.play(list(HISTORY[:8]))
            town.play(list(HISTORY[8:]))
            steps: dict[str, int] = {}
            for outcome in town.project.step(raise_errors=False, until_done=True):
                self.assertIsNone(outcome.error, f"{outcome.load}: {outcome.error}")
                steps[outcome.load] = steps.get(outcome.load, 0) + 1
            for load, count in steps.items():
                found = town.target(load)
                found = {key: row for key, row in found.items() if load not in layouts.BLIND or key in town.truth}
                self.assertEqual(found, town.truth, load)
                self.assertTrue(count > 1 or town.project.load(load).config.first == "snapshot", (load, count))
            self.assertEqual({"nothing"}, {outcome.outcome for outcome in town.project.step()})

    @settings(max_examples=examples(200), deadline=None)
    @given(
        st.lists(st.tuples(st.integers(0, 2), st.booleans()), max_size=14),
        st.lists(st.integers(0, 5), min_size=1, max_size=8),
        st.integers(1, 9),
    )
    def test_where_rows_are_parted(self, made: list[tuple[int, bool]], sizes: list[int], most: int) -> None:
        """At the first place after so many rows at which neither a position nor a transaction goes on, whatever the batches."""
        positions, transactions = list[int](), list[int | None]()
        for number, (step, goes_on) in enumerate(made):
            positions.append((positions[-1] if positions else 0) + step)
            transactions.append(transactions[-1] if goes_on and transactions else number if step else None)
        places = [
            row
            for row in range(most, len(positions))
            if positions[row] != positions[row - 1]
            and (transactions[row] is None or transactions[row] != transactions[row - 1])
        ]
        table = pa.table({"at": pa.array(positions, pa.int64()), "txn": pa.array(transactions, pa.int64())})
        cut, start = Cut(most), 0
        for size in [*sizes, len(positions)]:
            some = table.slice(start, size)
            start += size
            if cut.found(some["at"], some["txn"]):
                break
        self.assertEqual(cut.place, str(positions[places[0] - 1]) if places else None)

    def test_what_cannot_be_parted(self) -> None:
        for load, words in (
            ("column", "at_most cannot be told beside overlap"),
            ("diff", "at_most does nothing here"),
            ("marked", "name their 'transaction', too"),
        ):
            text = layouts.config(load).replace('key = ["k"]\n', 'key = ["k"]\nat_most = 3\n')
            with self.assertRaisesRegex(plainstep.ConfigError, words), Town(config=text) as town:
                self.assertIsNotNone(town.project)
        group = '[groups.all]\nloads = ["docs", "puts"]\n'
        text = layouts.config("docs", "puts").replace('key = ["k"]\n', 'key = ["k"]\nat_most = 3\n') + group
        with self.assertRaisesRegex(plainstep.ConfigError, "stand at one moment"), Town(config=text) as town:
            self.assertIsNotNone(town.project)


LAYOUTS_IN_PARTS = [name for name in layouts.LOADS if name not in ("column", "diff", "marked")]


class Wrong(Refusing):
    """Each mistake that a person would make in a layout is refused, and nothing is merged."""

    def swap(self, one: str, other: str) -> tuple[tuple[str, str], ...]:
        return (one, "#1#"), (other, one), ("#1#", other)

    def test_swapped_codes(self) -> None:
        for one, other in (("planted", "felled"), ("planted", "grew"), ("grew", "felled")):
            said = self.refused("parts", *self.swap(f'"{one}"', f'"{other}"'))
            self.assertRegex(said, "may be swapped|contradict what is there|is null|was never|not sent")
        said = self.refused("sides", ("insert = [1, 11]", "insert = [3]"), ("delete = [3]", "delete = [1, 11]"))
        self.assertIn("a delete without old values", said)

    def test_old_and_new_swapped(self) -> None:
        self.assertIn("is not before it", self.refused("pairs", *self.swap('"before"', '"after"')))
        self.assertIn("without new values", self.refused("sides", *self.swap('"old_*"', '"new_*"')))

    def test_old_and_new_swapped_where_only_updates_come(self) -> None:
        with Town("sides") as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(6)])
            town.project.step()
            text = town.config.read_text()
            town.config.write_text(
                text.replace('"old_*"', '"#"').replace('"new_*"', '"old_*"').replace('"#"', '"new_*"')
            )
            self.assertIn("`layout` was", str(town.project.step(raise_errors=False)[0].error))
            town.config.write_text(text)
            town.play([("update", key, {"a": key + 7, "b": "elm"}) for key in range(6)])
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:  # as if these were merged before
                connection.execute("UPDATE sides SET a = k + 7, b = 'elm'")
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("already hold the new values", str(outcome.error))
            town.project.reload("sides")
            self.assertEqual(town.target("sides"), town.truth)

    def test_a_wrong_order_or_key(self) -> None:
        self.assertIn(
            "do not begin with the values",
            self.refused("sides", ('["batch", "line"]', '["new_b", "line"]'), ('new_b"', 'what"')),
        )
        self.assertIn("its order is not plain", self.refused("news", ('["at", "n"]', '["what", "n"]')))
        self.assertRegex(self.refused("sides", ('key = ["k"]', 'key = ["b"]')), "key|was never|no value")

    def test_nothing_but_truncates(self) -> None:
        """E21: a code taken for that of truncates would empty the target."""
        said = self.refused("news", ('insert = ["planted"]', "insert = []"), ('["grew"]', "[]"), ('["felled"]', "[]"),
                            ('["cleared"]', '["cleared", "planted", "grew", "felled"]'))  # fmt: skip
        self.assertIn("changes are truncates", said)

    def test_sql_over_the_feeds_fields(self) -> None:
        skip = "skip = \"kind <> 'tree'\""
        for sql, words in (
            ("knid <> 'tree'", "'knid', which is not a field of the feed.*Did you mean 'kind'"),
            ("kind <>", "is not SQL"),
            ("max(kind) = 'tree'", "looks at many rows"),
            ("kind <> 'tree' or random() < 0.5", "does not give the same"),
            ("n + 1", "Convert them"),  # a text, in SQLite
        ):
            said = self.refused("mixed", (skip, f'skip = "{sql}"')).replace("\n", " ")
            self.assertRegex(said, words)
        said = self.refused("mixed", ("action || coalesce(half, '0')", "upper(action)"))
        self.assertRegex(said, "operation_sql is '?REMOVE'?|operation_sql is '?ADD'?, which is not a code")
        said = self.refused("mixed", (skip + "\n", ""))  # what should have been skipped has no code
        self.assertIn("which is not a code of the layout", said)

    def test_pairs_at_one_position_that_sql_tells(self) -> None:
        """The store does not evaluate it, so what comes first at one position is for a further column to say."""
        with Town("docs") as town:
            town.play(list(HISTORY))
            with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.executescript(
                    "CREATE TABLE tied AS SELECT CASE WHEN action = 'add' AND half THEN n - 1 ELSE n END AS n, n AS row, kind, action, "
                    "half, k, a, b FROM mixed ORDER BY 1, 2 DESC"
                )
            text = layouts.config("mixed").replace("town.mixed", "town.tied").replace('["kind"', '["row", "kind"')
            town.config.write_text(text)
            with self.assertRaisesRegex(plainstep.DataError, "half|before it|after it"):
                town.project.step()
            town.config.write_text(text.replace('["n"]', '["n", "row"]'))
            town.project.step()
            self.assertEqual(town.target("mixed"), town.truth)

    def test_messages_of_a_kind_that_has_not_come_yet(self) -> None:
        skip = "skip = \"doc.kind = 'beat'\""
        text = layouts.config("coded").replace(skip, "skip = \"doc.progress is not null or doc.kind = 'beat'\"")
        with Town(config=text) as town:
            for _ in range(2):
                town.play(list(HISTORY[:9]))
                town.project.step()
                self.assertEqual(town.target("coded"), town.truth)
                with contextlib.closing(sqlite3.connect(town.path / "town.db", isolation_level=None)) as connection:
                    connection.execute('INSERT INTO coded SELECT max(n) + 3, \'{"progress": {"done": 7}}\' FROM coded')
                town.project.step()
        self.assertIn(
            "Did you mean 'doc.kind'", self.refused("coded", (skip, "skip = \"doc.knd = 'beat'\"")).replace("\n", " ")
        )

    def test_operations_by_images(self) -> None:
        said = self.refused("images", ('only_new = "insert"', 'only_new = "insert"\noperation = "n"'))
        self.assertIn("has both operation and only_new", said)
        self.assertIn("only_new, and no 'was'", self.refused("images", ('was = "old_*"\n', "")))
        self.assertRegex(self.refused("images", *self.swap('"old_*"', '"new_*"')), "was never|contradict|do not begin")
        self.assertIn("two meanings", self.refused("puts", ('delete = ["unset"]', 'delete = ["set"]')))

    def test_a_key_that_stands_once_for_both_images(self) -> None:
        with Town("docs") as town:
            town.play(list(HISTORY))
            with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
                connection.executescript(
                    """CREATE TABLE once (n INTEGER PRIMARY KEY, k INTEGER, old_a INTEGER, old_b TEXT, new_a INTEGER, new_b TEXT);
                    INSERT INTO once SELECT n, coalesce(new_k, old_k), old_a, old_b, new_a, new_b FROM images;"""
                )
            text = layouts.config("images").replace("town.images", "town.once")
            town.config.write_text(text)
            town.project.step()
            self.assertEqual(town.target("images"), town.truth)

    def test_values_that_are_not_of_their_encoding(self) -> None:
        self.assertIn(
            "how many places",
            self.refused("coded", ('a = "INTEGER", b', "b"), ("types = { k", 'types = { a = "TEXT", k')),
        )
        self.assertIn("Did you mean 'b'?", self.refused("coded", ('b = "tagged"', 'b = "tagged", bb = "hex"')))
        for old, new in (('"decimal_bytes"', '"hex"'), ('b = "tagged"', 'b = "base64"'), ('"decimal_bytes"', '"days"')):
            self.assertRegex(self.refused("coded", (old, new)), "is not a valid|does not fit|is not valid")

    def test_one_sign_in_ten_may_be_chance(self) -> None:
        """F22: what the page of layouts promises, at its very bounds."""
        for changes, signs, doubtful in (
            (30, 3, False),
            (30, 4, True),
            (20, 2, False),
            (20, 3, True),
            (2, 1, False),
            (2, 2, True),
        ):
            with self.subTest(changes=changes, signs=signs):
                ops = [int(Op.INSERT)] + [int(Op.UPDATE)] * changes
                was = [None] + [row - (row <= signs) for row in range(1, changes + 1)]
                table = {"op": pa.array(ops, pa.int8()), "seq": range(changes + 1), "position": [str(row) for row in range(changes + 1)],
                         "at": pa.nulls(changes + 1, utc_time()), WAS + "k": [None] + [1] * changes, NOW + "k": [1] * (changes + 1),
                         WAS + "a": pa.array(was, pa.int64()), NOW + "a": range(1, changes + 2)}  # fmt: skip
                self.assertEqual(doubt(Changes(pa.table(table)), ("k",), True) is not None, doubtful)

    def test_names_that_are_not_there(self) -> None:
        for turns, said in (
            ((('"what"', '"waht"'),), "Did you mean 'what'?"),
            ((('["n"]', '["m"]'),), "position names the column 'm'"),
            ((('key = ["k"]', 'key = ["q"]'),), "'q'"),
            ((('delete = ["felled"]', 'delete = ["planted"]'),), "two meanings"),
            ((('delete = ["felled"]', "delete = []"),), "is not a code of the layout"),
        ):
            with Town(config=self.changed("flags", turns)) as town:
                town.play(list(HISTORY))
                try:
                    town.project.step()
                except plainstep.PlainStepError as error:
                    self.assertIn(said, str(error))
                else:
                    self.fail(f"{turns} was not refused")

    def changed(self, load: str, turns: tuple[tuple[str, str], ...]) -> str:
        text = layouts.config(load)
        for old, new in turns:
            text = text.replace(old, new)
        return text


class QuarantinedRow(unittest.TestCase):
    """Rows that contradict the layout are quarantined, kept, listed and put back."""

    def test_a_row_is_put_back_without_putting_older_values_over_newer_ones(self) -> None:
        text = layouts.config("news").replace('key = ["k"]', 'key = ["k"]\non_bad_row = "quarantine"')
        with Town(config=text) as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(9)])
            self.spoil(town, "UPDATE news SET what = 'Planted' WHERE k IN (3, 4)")
            [outcome] = town.project.step()
            self.assertIn("rows quarantined: 2", outcome.entry.note if outcome.entry else "")
            town.play([("update", 3, {"a": 70, "b": "elm"})])
            town.project.step()
            self.assertEqual([row.step for _, row in town.project.quarantine()], [1, 1])
            self.assertEqual(town.project.retry("news").left, 2)
            town.config.write_text(text.replace('["planted"]', '["planted", "Planted"]'))
            found = town.project.retry("news")
            self.assertEqual((found.merged, found.left, found.gone), (2, 0, 0))
            self.assertEqual(town.target("news"), town.truth)
            self.assertEqual(town.project.quarantine(), [])
            self.assertEqual(town.project.retry("news").merged, 0)

    def test_most_rows_are_never_quarantined(self) -> None:
        text = layouts.config("news").replace('key = ["k"]', 'key = ["k"]\non_bad_row = "quarantine"')
        with Town(config=text.replace('"planted"', '"sown"')) as town:
            town.play([("insert", key, {"a": key, "b": "oak"}) for key in range(9)])
            [outcome] = town.project.step(raise_errors=False)
            self.assertIn("Most rows", str(outcome.error))

    def spoil(self, town: Town, sql: str) -> None:
        connection = sqlite3.connect(town.path / "town.db")
        connection.execute(sql)
        connection.commit()
        connection.close()


class Examples(unittest.TestCase):
    """The page of layouts is what the examples print."""

    def test_the_page_is_true(self) -> None:
        import runpy

        made = runpy.run_path(str(ROOT / "examples/layouts/show.py"))["page"]()
        self.assertEqual((ROOT / "docs/layouts.md").read_text(encoding="utf-8"), made)


if __name__ == "__main__":
    unittest.main()
