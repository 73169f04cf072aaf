"""The parts by which raw rows become changes: documents, values, pairs, positions, comparing, doubts."""

from __future__ import annotations

import json
import unittest
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.core import casting as values
from plainstep.core import position_labels as places
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.ops import Op
from plainstep.core.diff import compared, difference
from plainstep.core.layouts import documents
from plainstep.core.layouts import pairing as pairs
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.interpret import Interpreted, interpret
from plainstep.core.layouts.plausibility import doubt
from plainstep.core.layouts.rows import POSITION, Raw
from plainstep.core.picked import Picked
from plainstep.errors import ConfigError
from plainstep.formats import csv as comma
from plainstep.formats.lines import kind_of
from plainstep.settings.layout import LayoutConfig
from plainstep.settings.load import LoadConfig
from plainstep.settings.reading import read_settings
from plainstep.sources.layout_binding import bound
from tests.histories import ROW, Model, flat, histories
from tests.support import examples

texts = st.text(max_size=6)
members = st.fixed_dictionaries(
    {}, optional={"i": st.none() | st.integers(-(2**63), 2**63 - 1), "f": st.none() | st.floats(-1e9, 1e9), "t": st.none() | texts,
                  "b": st.none() | st.booleans(), "d": st.none() | st.decimals(-999, 999, places=2)}
)  # fmt: skip
KINDS: dict[tuple[str, ...], pa.DataType] = {
    ("in", "i"): pa.int64(),
    ("in", "f"): pa.float64(),
    ("in", "t"): pa.string(),
    ("in", "b"): pa.bool_(),
    ("in", "d"): pa.decimal128(6, 2),
}


# What a text may be read as.
FITTING = [pa.int64(), pa.int32(), pa.float64(), pa.bool_(), pa.string(), pa.binary(), pa.date32(), pa.time64("us"), utc_time(),
           pa.timestamp("us"), pa.decimal128(10, 2), pa.decimal128(38, 0)]  # fmt: skip
CSV = kind_of("x.csv")


def written(value: Any) -> Any:
    return float(value) if isinstance(value, Decimal) else value


class Documents(unittest.TestCase):
    @given(st.lists(st.none() | members, max_size=20), st.booleans())
    def test_quickly_and_carefully_are_the_same(self, rows: list[Any], pretty: bool) -> None:
        text = [None if row is None else json.dumps({"in": {k: written(v) for k, v in row.items()}}, indent=2 if pretty else None)
                for row in rows]  # fmt: skip
        array = pa.array(text, pa.string())
        quick, wrong = documents.read(array, KINDS)
        self.assertEqual(wrong, {})
        careful, wrong = documents._carefully(array, KINDS)
        self.assertEqual(wrong, {})
        for path in KINDS:
            wanted = [None if row is None else row.get(path[1]) for row in rows]
            self.assertEqual(quick[path].to_pylist(), wanted)
            self.assertEqual(careful[path].to_pylist(), wanted)
        there = documents.present(array, list(KINDS))
        for path, mask in there.items():
            self.assertEqual(mask.tolist(), [row is not None and path[1] in row for row in rows])

    @given(
        st.lists(
            st.sampled_from(['{"a": 1}', '{"a": "x"}', "{", "null", "[1]", '"a"', "", " ", '{"a": 1} {"a": 2}', "7"]),
            max_size=9,
        )
    )
    def test_what_is_no_object_is_told_row_by_row(self, rows: list[str]) -> None:
        found, wrong = documents.read(pa.array(rows, pa.string()), {("a",): pa.int64()})
        good = {row for row, text in enumerate(rows) if text == '{"a": 1}'}
        self.assertEqual(set(range(len(rows))) - set(wrong), good)
        self.assertEqual({row for row, value in enumerate(found["a",].to_pylist()) if value == 1}, good)

    def test_what_a_sample_shows(self) -> None:
        rows = ['{"n": 1, "x": 1, "s": {"t": null}, "o": {}}', '{"n": null, "x": 2.5, "s": {"t": true}}', "no document"]
        found = documents.kinds_of(pa.array(rows))
        self.assertEqual(found["n",], pa.int64())
        self.assertEqual(found["x",], pa.float64())
        self.assertEqual(found["s", "t"], pa.bool_())


class Values(unittest.TestCase):
    def test_texts_are_read_and_never_bent(self) -> None:
        for text, kind, wanted in (
            ("7", pa.int64(), 7),
            ("1.50", pa.decimal128(6, 2), Decimal("1.50")),
            ("1.5e1", pa.decimal128(6, 2), Decimal("15.00")),
            ("Yes", pa.bool_(), True),
            ("0", pa.bool_(), False),
            ("0x0aff", pa.binary(), b"\x0a\xff"),
            ("2026-05-04", pa.date32(), date(2026, 5, 4)),
            ("2026-05-04T10:00:00+02:00", utc_time(), datetime(2026, 5, 4, 8, tzinfo=UTC)),
            ("2026-05-04 10:00", utc_time(), datetime(2026, 5, 4, 10, tzinfo=UTC)),
            ("oak", pa.string(), "oak"),
        ):
            column = pa.array([text, None, "nonsense of a value"], pa.string())
            found, bad = values.fitted(column, kind)
            self.assertEqual(found[0].as_py(), wanted, text)
            self.assertEqual(found[1].as_py(), None)
            self.assertEqual(bad.tolist(), [] if pa.types.is_string(kind) else [2], text)

    @given(
        st.one_of(
            st.sampled_from([*["5", "+5", "-0", "05", "0x10", "1e3", "1.50", "1.505", "true", "TRUE", "1", "0", "yes", "nan", "inf", "-inf", "2026-05-04", "10:00:00", "10:00", "abcd"],
                             "0xABCD", "\\xabcd", "20000", "1700000000", "9007199254740993", "9" * 20, "1e20", "null", " 5", "5 ",
                             "2026-05-04 10:00", "2026-05-04T10:00:00Z", "2026-05-04 10:00:00+02:00", "2026-05-04T10:00:00.123456789"]),
            st.from_regex(r"[-+ 0]?[0-9]{1,22}([.][0-9]{0,4})?([eE][0-9])?[ Z]?", fullmatch=True),
            st.text(st.characters(exclude_categories=["C", "Z"], exclude_characters='",'), min_size=1, max_size=5)),
        st.sampled_from(FITTING),
    )  # fmt: skip
    def test_one_meaning_on_every_path(self, text: str, kind: pa.DataType) -> None:
        """E20: a text, and what JSON writes, means the same where it is read quickly and where it is read with care."""
        with_care, bad = values.fitted(pa.array([text]), kind)
        try:
            block = comma._csv_block(
                memoryview(f"{text},1\n".encode()), ["a", "b"], CSV, pa.schema([("a", kind), ("b", pa.string())])
            )
        except comma._Odd:
            return
        found = block["a"].combine_chunks()
        if found.type == kind and text:
            self.assertEqual((str(found), len(bad)), (str(with_care), 0))
        for written in (json.dumps(text), text):
            documented = pa.array([f'{{"a": {written}}}\n'])
            careful, wrong = documents._carefully(documented, {("a",): kind})
            try:
                quick = documents._quickly(documented, {("a",): kind})
            except (pa.ArrowException, NotImplementedError):
                continue
            told = [
                str(side["a",]).replace("-0\n", "0\n") for side in (quick, careful)
            ]  # a sign of zero is not a value
            self.assertEqual((told[0], wrong), (told[1], {}))

    def test_other_types_that_do_not_fit(self) -> None:
        for column, kind, bad in (
            (pa.array([0, 1, 2]), pa.bool_(), [2]),
            (pa.array([1.0, 1.5]), pa.int64(), [1]),
            (pa.array([1, 2**40]), pa.int32(), [1]),
            (pa.array([True, False]), pa.int64(), [0, 1]),
            (pa.array([None, None]), pa.int64(), []),
        ):
            self.assertEqual(values.fitted(column, kind)[1].tolist(), bad)

    def test_yes_and_no(self) -> None:
        moment = pa.array([datetime(2026, 5, 4), None])
        self.assertEqual(values.truthy(moment).tolist(), [True, False])
        self.assertEqual(
            values.truthy(pa.array(["yes", "No", "", "2026-05-04", None])).tolist(), [True, False, False, True, False]
        )
        self.assertEqual(values.truthy(pa.array([0, 1, None])).tolist(), [False, True, False])
        self.assertEqual(values.truthy(pa.nulls(2)).tolist(), [False, False])

    def test_times_of_every_kind(self) -> None:
        wanted = datetime(2026, 5, 4, 9, tzinfo=UTC)
        since = int(wanted.timestamp())
        for column in (pa.array([since]), pa.array([since * 1000]), pa.array([since * 10**6]), pa.array([since * 10**9]),
                       pa.array(["2026-05-04T09:00:00Z"]), pa.array([datetime(2026, 5, 4, 9)])):  # fmt: skip
            self.assertEqual(Raw(pa.table({"at": column})).times("at").to_pylist(), [wanted])


class Pairs(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.integers(0, 4), st.integers(0, 4)), max_size=12),
        st.sampled_from(["beside", "first"]),
    )
    def test_every_new_row_finds_its_old_one(self, updates: list[tuple[int, int]], order: str) -> None:
        """Rows of updates, side by side, or in transactions of three with all old rows first."""
        rows: list[tuple[str, int, int, int]] = []  # role, key, transaction, number of the update
        for begin in range(0, len(updates), 3):
            some = list(enumerate(updates))[begin : begin + 3]
            keys = [key for _, (key, _) in some]
            if order != "beside" and (
                len(set(keys)) < len(keys) or any(new in keys and new != old for _, (old, new) in some)
            ):
                some = [(number, (key, key)) for number, (key, _) in some[:1]]
            olds = [("old", old, begin, number) for number, (old, _) in some]
            news = [("new", new, begin, number) for number, (_, new) in some]
            if order == "beside":
                rows += [row for pair in zip(olds, news, strict=True) for row in pair]
            else:
                rows += olds + news
        old = np.array([place for place, row in enumerate(rows) if row[0] == "old"], dtype=np.int64)
        new = np.array([place for place, row in enumerate(rows) if row[0] == "new"], dtype=np.int64)
        key = pa.array([row[1] for row in rows], pa.int64())
        found = pairs.paired(old, new, [key], pa.array([row[2] for row in rows], pa.int64()))
        self.assertEqual((len(found.lone_old), len(found.lone_new)), (0, 0))
        for place in new.tolist():
            self.assertEqual(rows[found.partner[place]][3], rows[place][3], rows)

    def test_what_lacks_its_other_half(self) -> None:
        key, group = pa.array([1, 1, 2, 3]), pa.array([1, 1, 1, 2])
        found = pairs.paired(np.array([0, 3]), np.array([1, 2]), [key], group)
        self.assertEqual((found.lone_old.tolist(), found.lone_new.tolist()), ([3], [2]))


class Places(unittest.TestCase):
    @given(st.lists(st.text(max_size=5), min_size=2, max_size=4))
    def test_several_values_as_one_text_and_back(self, parts: list[str]) -> None:
        self.assertEqual(places.parted(places.joined(parts), len(parts)), parts)

    @given(st.datetimes(datetime(1990, 1, 1), datetime(2090, 1, 1)), st.sampled_from(["T", " "]), st.sampled_from(["", "Z", "+02:00", "+00"]),
           st.sampled_from(["seconds", "milliseconds", "microseconds"]), st.integers(1, 10**6))  # fmt: skip
    def test_a_time_moved_back_stays_written_as_it_was(
        self, moment: datetime, sep: str, zone: str, spec: str, seconds: int
    ) -> None:
        text = moment.isoformat(sep, spec) + zone
        moved = places.earlier(text, timedelta(seconds=seconds))
        self.assertEqual(len(moved), len(text))
        before, after = places.as_time(moved), places.as_time(text)
        assert before and after
        self.assertEqual(after - before, timedelta(seconds=seconds))

    def test_spans_and_numbers(self) -> None:
        self.assertEqual(places.overlap_of("90s"), timedelta(seconds=90))
        self.assertEqual(places.overlap_of("12"), 12)
        self.assertIsNone(places.overlap_of(""))
        self.assertEqual(places.earlier("100", 30), "70")
        self.assertEqual(places.number("41/7"), 41)
        self.assertLess(places.number("2026-05-04T09:00:00Z"), places.number("2026-05-04 09:00:00.5"))
        for wrong in (
            lambda: places.overlap_of("soon"),
            lambda: places.earlier("100", timedelta(1)),
            lambda: places.parted("1", 2),
        ):
            self.assertRaises(ConfigError, wrong)


class Comparing(unittest.TestCase):
    @settings(max_examples=examples(40), deadline=None)
    @given(histories, histories)
    def test_in_bounded_memory_it_is_the_same(self, one: list[Any], other: list[Any]) -> None:
        sides = [
            pa.Table.from_pylist(list(Model().play(history).rows.values()), ROW).to_batches()
            for history in (one, other)
        ]
        net, _ = difference(("k",), ROW, *sides)
        with compared(("k",), ROW, *sides) as comparison:
            parts = [part for part in comparison.tables() if part.num_rows]
            self.assertEqual(comparison.missing + comparison.extra + comparison.different, len(net))
        numbered = [part.append_column("seq", pa.array(range(part.num_rows), pa.int64())) for part in parts]
        found = Changes(pa.concat_tables(numbered)) if numbered else None
        self.assertEqual(len(found) if found else 0, len(net))
        wanted = {
            row["k"]: (row["op"], row["now.a"], row["now.b"], row["was.a"], row["was.b"])
            for row in net.to_arrow().to_pylist()
        }
        for row in found.table.to_pylist() if found else ():
            key = row["was.k"] if row["now.k"] is None else row["now.k"]
            self.assertEqual((Op(row["op"]).word, row["now.a"], row["now.b"], row["was.a"], row["was.b"]), wanted[key])


class Doubts(unittest.TestCase):
    def placed(self, changes: list[Any]) -> Changes:
        found = as_changes(flat(changes))
        return Changes(found.table.append_column("position", found.table["seq"]))

    @given(histories)
    def test_a_true_history_raises_none(self, history: list[Any]) -> None:
        self.assertIsNone(doubt(self.placed(Model().play(history).changes), ("k",), True))

    def test_what_is_read_wrong_does(self) -> None:
        acts = [("insert", 1, {"a": 0, "b": "oak"})] + [("update", 1, {"a": n, "b": "oak"}) for n in range(1, 9)]
        true = Model().play(acts).changes
        swapped = [true[0]] + [change | {"was": change["now"], "now": change["was"]} for change in true[1:]]
        shuffled = [change | {"seq": place + 1} for place, change in enumerate([true[0], *true[5:], *true[1:5]])]
        codes = [change | ({"op": "insert", "was": None} if change["op"] == "update" else {}) for change in true]
        for changes, said in ((swapped, "may be swapped"), (codes, "insert and update may be swapped")):
            found = doubt(self.placed(changes), ("k",), True)
            self.assertIn(said, found.likely if found else "")
        self.assertIn("do not begin with the values", getattr(doubt(self.placed(shuffled), ("k",), True), "what", ""))
        lost = [change | {"seq": place + 1} for place, change in enumerate([*true[:4], *true[5:]])]
        self.assertIsNone(doubt(self.placed(lost), ("k",), True))  # one break may be chance
        back = [change | {"seq": 100 - change["seq"]} for change in true]
        self.assertIsNotNone(doubt(self.placed(back), ("k",), True))

    def test_times_and_places(self) -> None:
        changes = self.placed(Model().play([("insert", key, {"a": key, "b": ""}) for key in range(5)]).changes)
        at = pa.array([datetime(2026, 5, 9 - day, tzinfo=UTC) for day in range(5)], pa.timestamp("us", "UTC"))
        late = Changes(changes.table.set_column(changes.table.schema.get_field_index("at"), "at", at))
        self.assertIn("are older than", getattr(doubt(late, ("k",), True), "what", ""))
        one = changes.table.set_column(
            changes.table.schema.get_field_index("now.k"), "now.k", pa.array([1] * 5, pa.int64())
        )
        same = Changes(one.set_column(one.schema.get_field_index("position"), "position", pa.array([7] * 5)))
        self.assertIn("Two changes of one key", getattr(doubt(same, ("k",), True), "what", ""))


class Layouts(unittest.TestCase):
    """Settings of a layout that no other test reads."""

    def read(self, rows: pa.Table, **said: Any) -> Interpreted:
        types = said.pop("types", {})
        rows = rows.append_column(POSITION, pa.array([str(row) for row in range(rows.num_rows)]))
        load = read_settings(LoadConfig, {"from": "a.b", "into": "c.d", "key": ["k"], "types": types})
        layout = bound("this", load, read_settings(LayoutConfig, said), rows, None, ("k",))
        return interpret(layout, rows, True)

    def test_suffixes_and_what_stands_once_for_both_sides(self) -> None:
        rows = pa.table(
            {"k": [1, 1], "what": [True, False], "a_before": [None, 2], "a_after": [2, 3], "by": ["ida", "per"]}
        )
        found = self.read(
            rows, operation="what", insert=[True], update=[False], was="*_before", now="*_after", bookkeeping=["by"]
        )
        self.assertEqual(found.bad, {})
        [inserted, updated] = found.table.to_pylist()
        self.assertEqual((inserted["now.k"], inserted["now.a"], inserted["was.k"]), (1, 2, None))
        self.assertEqual((updated["now.a"], updated["was.a"], updated["was.k"], updated["now.k"]), (3, 2, 1, 1))
        self.assertNotIn("now.by", found.table.column_names)

    def test_lists_of_columns_and_names_that_are_none(self) -> None:
        rows = pa.table({"k": [1, 1, 1], "a": [1, 2, 3], "b": ["x", "y", "z"],
                         "fields": pa.array([["a"], ["b", "a"], ["colour"]])})  # fmt: skip
        found = self.read(rows, sent_columns="fields")
        self.assertEqual(found.table["given"].to_pylist(), [["a"], ["a", "b"]])
        self.assertIn("'colour', which is not a column", found.bad[2])
        texts = rows.set_column(3, "fields", pa.array(['["a"]', "b; a", "a,b"]))
        self.assertEqual(
            self.read(texts, sent_columns="fields").table["given"].to_pylist(), [["a"], ["a", "b"], ["a", "b"]]
        )

    def test_a_document_that_lacks_a_field_is_refused_until_it_is_said_what_that_means(self) -> None:
        rows = pa.table({"doc": ['{"k": 1, "a": 1}', '{"k": 1, "a": null}', '{"k": 1}']})
        self.assertIn("missing_field =", self.read(rows, now="doc.*").bad[2])
        self.assertEqual(self.read(rows, now="doc.*", missing_field="null").table["now.a"].to_pylist(), [1, None, None])
        self.assertEqual(
            self.read(rows, now="doc.*", missing_field="unsent").table["given"].to_pylist(), [["a"], ["a"], []]
        )

    def test_values_that_do_not_fit_are_told_and_the_others_read(self) -> None:
        rows = pa.table({"k": ["1", "x", "3"], "a": ["1.5", "2", "many"]})
        found = self.read(rows, types={"k": "INTEGER", "a": "DECIMAL(4,1)"})
        self.assertEqual(found.table["now.a"].to_pylist(), [Decimal("1.5")])
        self.assertEqual(sorted(found.bad), [1, 2])
        self.assertIn("k is 'x'", found.bad[1])

    def test_what_rows_are_made_of(self) -> None:
        rows = pa.table({"s": pa.array([{"a": 1, "t": {"b": "x"}}]), "d": ['{"q": {"r": 1.5}}'], "n": [1]})
        self.assertEqual(list(fields_of(rows)), ["s.a", "s.t.b", "d.q.r", "d", "n"])


class Judged(unittest.TestCase):
    """Of many changes, those of some rows are judged; of a position that is there twice, all are."""

    def changes(self, rows: int, **others: Any) -> Changes:
        """Each row in turn is updated from one number to the next."""
        numbers = np.arange(60_000)
        turn = numbers // rows
        columns: dict[str, Any] = {
            "op": pa.array(np.full(60_000, int(Op.UPDATE)), pa.int8()),
            "seq": numbers,
            "position": numbers,
        }
        columns |= {"at": pa.nulls(60_000, pa.timestamp("us", "UTC")), "was.k": numbers % rows, "now.k": numbers % rows}
        return Changes(pa.table(columns | {"was.a": turn, "now.a": turn + 1} | others))

    def test_many_changes(self) -> None:
        for rows in (1, 7, 20_000):
            turn = np.arange(60_000) // rows
            self.assertIsNone(doubt(self.changes(rows), ("k",), True))
            swapped = doubt(self.changes(rows, **{"was.a": turn + 1, "now.a": turn}), ("k",), True)
            assert swapped
            self.assertIn("old and new values may be swapped", swapped.likely)
            self.assertTrue(rows == 7 or ("of one row in 8" in swapped.what) == (rows > 7))
            numbers = np.arange(60_000)
            numbers[-1] = numbers[-1 - rows]  # of one row only
            twice = doubt(self.changes(rows, position=numbers), ("k",), True)
            assert twice
            self.assertIn("Two changes of one key stand at the position", twice.what)

    @given(st.lists(st.integers(-1, 5), max_size=6), st.integers(0, 2), st.integers(1, 3), st.booleans())
    def test_picked_rows(self, rows: list[int], start: int, step: int, evenly: bool) -> None:
        picked = Picked(np.arange(start, 6, step) if evenly else np.array(rows, dtype=np.int64))
        numbers = pa.array([None if row < 0 else row for row in picked.rows.tolist()], pa.int64())
        for column in (
            pa.array([1, 2, 3, 4, 5, 6, 7])[1:], pa.array([1, None, 3, 4, 5, 6]), pa.array(["a", "b", None, "d", "e", "f"]),
            pa.array([True, False] * 3), pa.array(["a", "b"] * 3).dictionary_encode(), pa.array([1, 2, 3] * 2, pa.decimal128(5, 0)),
            pa.array([1, 2, 3] * 2, pa.timestamp("us", "UTC")), pa.array([[1], [2], []] * 2),
        ):  # fmt: skip
            self.assertEqual(picked.of(column), column.take(numbers))


if __name__ == "__main__":
    unittest.main()
