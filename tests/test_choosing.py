"""Choosing, following and comparing, held against plain Python: no store, only tables in and tables out."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from datetime import timedelta
from typing import Any
from unittest import mock

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep import ConfigError, DataError, Filter, Scope
from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.describe import positioned
from plainstep.core.changes.filter import key_values
from plainstep.core.changes.ops import Op
from plainstep.core.changes.parts import NetParts
from plainstep.core.changes.row_history import life
from plainstep.core.diff import compared, net_of
from plainstep.core.durations import duration
from plainstep.display.text import many, shown, size, span
from plainstep.loads.load import Load
from plainstep.sql.literals import insertion, literal
from tests.histories import ROW, Model, Row, flat, histories, merged
from tests.support import TREE, Town, examples

Change = dict[str, Any]
Test = Callable[[Row, Row], bool]

# Conditions in SQL, and what they mean of a change: nulls make neither true nor false, and what is not there is null.
CONDITIONS: dict[str, Callable[[Change], bool]] = {
    "was IS NULL": lambda one: one["was"] is None,
    "now IS NULL": lambda one: one["now"] is None,
    "op = 'update'": lambda one: one["op"] == "update",
    "was.a < now.a": lambda one: _both(one, lambda was, now: _known(was["a"], now["a"]) and was["a"] < now["a"]),
    "was.b IS DISTINCT FROM now.b": lambda one: _value(one["was"], "b") != _value(one["now"], "b"),
    "now.b IN ('oak', 'elm') AND was.k IS NULL": lambda one: (
        _value(one["now"], "b") in ("oak", "elm") and _value(one["was"], "k") is None
    ),
    "coalesce(now.a, was.a, 0) % 2 = 1": lambda one: (
        next((value for value in (_value(one["now"], "a"), _value(one["was"], "a")) if value is not None), 0) % 2 == 1
    ),
    "NULL": lambda one: False,
    "time > '2026-01-01' OR op = 'truncate'": lambda one: one["op"] == "truncate",
}


def _value(row: Row | None, name: str) -> Any:
    return None if row is None else row[name]


def _known(*values: Any) -> bool:
    return all(value is not None for value in values)


def _both(one: Change, test: Test) -> bool:
    return one["was"] is not None and one["now"] is not None and test(one["was"], one["now"])


def batches(history: list[Any], cuts: list[int]) -> tuple[list[Change], list[Changes]]:
    """A history as the model tells it, and as batches cut anywhere."""
    told = Model().play(history).changes
    table = as_changes(flat(told)).table
    ends = sorted({0, len(told), *(cut for cut in cuts if cut < len(told))})
    parts = [Changes(table.slice(start, end - start)) for start, end in itertools.pairwise(ends)]
    return told, parts or [Changes(table)]


cuts = st.lists(st.integers(0, 30), max_size=3)


class Filters(unittest.TestCase):
    def kept(self, only: Filter, parts: list[Changes]) -> list[int]:
        return [seq for part in parts for seq in only.of(part, ("k",)).seq().tolist()]

    @given(histories, cuts, st.sampled_from(sorted(CONDITIONS)))
    @settings(max_examples=examples(80), deadline=None)
    def test_a_condition_means_what_it_says(self, history: list[Any], cut: list[int], sql: str) -> None:
        told, parts = batches(history, cut)
        self.assertEqual(self.kept(Filter(where=sql), parts), [one["seq"] for one in told if CONDITIONS[sql](one)])

    @given(
        histories,
        cuts,
        st.sets(st.sampled_from(["insert", "update", "delete", "truncate"])),
        st.none() | st.integers(0, 5),
        st.sets(st.sampled_from(["a", "b", "k"])),
    )
    @settings(max_examples=examples(80), deadline=None)
    def test_every_part_narrows(
        self, history: list[Any], cut: list[int], ops: set[str], key: int | None, changed: set[str]
    ) -> None:
        told, parts = batches(history, cut)
        only = Filter(tuple(ops), () if key is None else (str(key),), tuple(changed))

        def fits(one: Change) -> bool:
            of_key = key is None or key in (_value(one["was"], "k"), _value(one["now"], "k"))
            some = not changed or _both(one, lambda was, now: any(was[name] != now[name] for name in changed))
            return (not ops or one["op"] in ops) and of_key and some

        self.assertEqual(self.kept(only, parts), [one["seq"] for one in told if fits(one)])
        self.assertEqual(bool(only), bool(ops or key is not None or changed))

    def test_what_cannot_be_asked(self) -> None:
        changes = as_changes(flat(Model().play([("insert", 1, {"a": 1, "b": "oak"})]).changes))
        for only in (
            Filter(ops=("grow",)),
            Filter(key=("1", "2")),
            Filter(key=("oak",)),
            Filter(changed=("height",)),
            Filter(txn="7"),
            Filter(where="was.a +"),
            Filter(where="now.height > 1"),
            Filter(where="b::DATE > now.k"),
            Filter(where="(SELECT count(*) FROM glob('/*')) > 0"),
        ):
            with self.subTest(only), self.assertRaises(ConfigError):
                only.of(changes, ("k",))
        with self.assertRaises(ConfigError):
            key_values(changes, ("k",), ("99999999999999999999",))

    @given(histories, cuts)
    @settings(max_examples=examples(40), deadline=None)
    def test_in_the_form_that_is_written_out(self, history: list[Any], cut: list[int]) -> None:
        told, parts = batches(history, cut)
        rows = [row for part in parts for row in positioned(part, ("k",)).to_pylist()]
        self.assertEqual([row["position"] for row in rows], [one["seq"] for one in told])
        for row, one in zip(rows, told, strict=True):
            self.assertEqual(row["op"], one["op"])
            differs = [name for name in ROW.names if _value(one["was"], name) != _value(one["now"], name)]
            self.assertEqual(row["changed"], differs if one["op"] == "update" else [])
            self.assertEqual({name: row[f"now.{name}"] for name in ROW.names if one["now"]}, one["now"] or {})


class Lives(unittest.TestCase):
    @given(histories, cuts, st.integers(0, 5))
    @settings(max_examples=examples(80), deadline=None)
    def test_a_row_is_followed_from_key_to_key(self, history: list[Any], cut: list[int], key: int) -> None:
        told, parts = batches(history, cut)
        keys, before = {key}, set[int]()
        while keys != before:  # every key that the row, or one before or after it, went to or came from
            before = set(keys)
            for one in told:
                if one["op"] == "update" and keys & {one["was"]["k"], one["now"]["k"]}:
                    keys |= {one["was"]["k"], one["now"]["k"]}
        own = [one for one in told if keys & {_value(one["was"], "k"), _value(one["now"], "k")}]
        began = own[0]["seq"] if own else 0
        wanted = [one["seq"] for one in told if one in own or (one["op"] == "truncate" and one["seq"] > began)]
        found = life(lambda: iter(parts), pa.table({"k": pa.array([key])}))
        self.assertEqual(found.seq().tolist(), wanted)


class Comparing(unittest.TestCase):
    """Two tables, and what differs between them, in memory that does not grow with them."""

    @given(
        histories,
        histories,
        st.sampled_from([(), ("a",), ("b",), ("a", "b")]),
        st.sampled_from(["", "a > 1", "b = 'oak' OR a IS NULL", "k % 2 = 0"]),
        st.sampled_from([1.0, 0.5]),
    )
    @settings(max_examples=examples(60), deadline=None)
    def test_only_what_is_asked_for(
        self, here: list[Any], there: list[Any], columns: tuple[str, ...], where: str, sample: float
    ) -> None:
        meant: dict[str, Callable[[Row], bool]] = {
            "": lambda row: True,
            "a > 1": lambda row: row["a"] is not None and row["a"] > 1,
            "b = 'oak' OR a IS NULL": lambda row: row["b"] == "oak" or row["a"] is None,
            "k % 2 = 0": lambda row: row["k"] % 2 == 0,
        }
        rows = [Model().play(history).rows for history in (here, there)]
        sides = [pa.Table.from_pylist(list(one.values()), ROW).to_batches() for one in rows]
        target, source = ({key: row for key, row in one.items() if meant[where](row)} for one in rows)
        names = ("k", *(columns or ("a", "b")))
        with compared(("k",), ROW, *sides, scope=Scope(columns, where, sample)) as found:
            differ = {key for table in found.tables() for key in _keys(table)}
            counts = (found.missing, found.extra, found.different)
            shown = [key for table in found.tables(limit=2) for key in _keys(table)]
        missing, extra = source.keys() - target.keys(), target.keys() - source.keys()
        both = source.keys() & target.keys()
        different = {key for key in both if any(source[key][name] != target[key][name] for name in names)}
        every = missing | extra | different
        if sample == 1:
            self.assertEqual((differ, counts), (every, (len(missing), len(extra), len(different))))
            self.assertEqual(shown, sorted(every)[:2])
        self.assertLessEqual(differ, every)

    def test_a_step_in_its_midst(self) -> None:
        """What waited is merged by then, and of a comparison nothing tells any more what it was: it is begun again."""
        loads = "[loads.bare]\nfrom = 'town.tree'\ninto = 'shed.bare'\nkey = ['k']\nchanges = 'diff'\n"
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=loads) as town:
            town.project.step("bare")
            town.sql("UPDATE tree SET a = 2")
            steps: list[str] = []
            at_step = Load.at_step

            def stepped(*words: Any) -> Any:
                if not steps:
                    steps.append(town.project.step("bare")[0].outcome)
                return at_step(*words)

            with mock.patch.object(Load, "at_step", stepped):
                [found] = town.project.check("bare")
            self.assertEqual((steps, found.ok, found.waiting), (["stepped"], True, 0))

    @given(histories, histories, histories)
    @settings(max_examples=examples(40), deadline=None)
    def test_what_waits_is_allowed_for(self, before: list[Any], later: list[Any], spoilt: list[Any]) -> None:
        """Undone, or where it cannot be, left out with its keys: what was spoilt besides is found all the same."""
        source = Model().play(before)
        merged_to, seen = dict(source.rows), len(source.changes)
        source.play([act for act in later if act[0] != "truncate"])
        waiting = plainstep.collapse(flat(source.changes[seen:]), "k")
        target = Model(dict(merged_to)).play(spoilt).rows
        sides = [pa.Table.from_pylist(list(rows.values()), ROW).to_batches() for rows in (target, source.rows)]
        with compared(("k",), ROW, *sides, waiting=NetParts.of(waiting), undo=True) as found:
            net = net_of(found)
            self.assertEqual(found.source_rows, len(merged_to))
        self.assertEqual(merged(target, net), merged_to)
        with compared(("k",), ROW, *sides, waiting=NetParts.of(waiting), undo=False) as found:
            left = {key for table in found.tables() for key in _keys(table)}
        waits = set(waiting.to_arrow()["k"].to_pylist())
        wrong = {key for key in {*target, *merged_to} if target.get(key) != merged_to.get(key)}
        self.assertEqual(left, wrong - waits)

    def test_what_cannot_be_compared(self) -> None:
        rows = pa.table({"k": [1, 2], "a": [1, None], "b": ["oak", "elm"]}).cast(ROW)
        for scope in (Scope(("height",)), Scope(where="height > 1"), Scope(where="b::INTEGER > 1"), Scope(where="a >")):
            with self.subTest(scope), self.assertRaises(ConfigError):
                compared(("k",), ROW, rows.to_batches(), rows.to_batches(), scope=scope).__enter__()
        headless = rows.set_column(0, "k", pa.array([1, None], pa.int64()))
        with self.assertRaises(DataError):
            compared(("k",), ROW, rows.to_batches(), headless.to_batches()).__enter__()


def _keys(table: pa.Table) -> list[int]:
    sides = zip(table["was.k"].to_pylist(), table["now.k"].to_pylist(), strict=True)
    return [was if now is None else now for was, now in sides]


class Words(unittest.TestCase):
    @given(st.integers(0, 10**6), st.sampled_from(["s", "m", "min", "h", "d"]))
    def test_lengths_of_time(self, number: int, unit: str) -> None:
        seconds = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86400}[unit]
        self.assertEqual(duration(f" {number} {unit} "), timedelta(seconds=number * seconds))
        self.assertIsNone(duration(f"{number} {unit}s"))
        self.assertIsNone(duration(unit))

    @given(st.text())
    def test_a_value_is_one_safe_line(self, value: str) -> None:
        told = shown(value)
        self.assertTrue(told.isprintable())
        self.assertLessEqual(len(told), 60)

    def test_numbers_for_people(self) -> None:
        self.assertEqual([many(1, "row"), many(2_000, "row")], ["1 row", "2,000 rows"])
        self.assertEqual(
            [size(number) for number in (0, 1023, 1536, 5 << 30)], ["0 bytes", "1023 bytes", "1.5 KiB", "5.0 GiB"]
        )
        self.assertEqual(
            [span(number) for number in (None, 0, 119, 120, 7200, 200_000)],
            ["-", "0 s", "119 s", "2 min", "2 h", "2 d"],
        )

    def test_values_as_sql(self) -> None:
        row = {'odd "name"': "o'clock", "yes": True, "blob": b"\x00\xff", "none": None, "n": 1.5, "inf": float("inf")}
        self.assertEqual(
            insertion('"tree"', row, "X'{}'", "OVERRIDING SYSTEM VALUE "),
            'INSERT INTO "tree" ("odd ""name""", "yes", "blob", "none", "n", "inf") OVERRIDING SYSTEM VALUE '
            "VALUES ('o''clock', TRUE, X'00ff', NULL, 1.5, 'inf');",
        )
        self.assertEqual(literal(int(Op.DELETE), ""), "3")
