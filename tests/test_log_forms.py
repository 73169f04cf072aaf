"""PostgreSQL's log, whose values are sent in binary form where all of a table's columns can be: what is read is what their texts say."""

from __future__ import annotations

import unittest
from datetime import datetime, time
from decimal import Decimal
from typing import Any
from unittest.mock import patch

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from plainstep.core.positions import Window
from plainstep.errors import PlainStepError
from plainstep.stores.postgresql.capture import slot_messages as slots
from plainstep.stores.postgresql.capture import slot_source
from plainstep.stores.postgresql.capture.slot_source import LogSource
from tests.postgres import park
from tests.support import WITHOUT_SHRINKING, examples


def decimals(digits: int, scale: int) -> st.SearchStrategy[Decimal]:
    most = 10**digits - 1
    return st.integers(-most, most).map(lambda number: Decimal(number).scaleb(-scale))


TEXTS = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12)
# Of each type some values, for a column of that type.
VALUES: dict[str, st.SearchStrategy[Any]] = {
    "smallint": st.integers(-(1 << 15), (1 << 15) - 1),
    "integer": st.integers(-(1 << 31), (1 << 31) - 1),
    "bigint": st.integers(-(1 << 63), (1 << 63) - 1),
    "real": st.floats(width=32),
    "double precision": st.floats(),
    "boolean": st.booleans(),
    "date": st.dates(),
    "time": st.times(),
    "timestamp": st.datetimes(),
    "timestamptz": st.datetimes(datetime(1900, 1, 1), datetime(9999, 12, 31)).map(lambda at: f"{at}+00"),
    "timestamp(3)": st.datetimes(max_value=datetime(9999, 12, 31)),
    "time(0)": st.times(max_value=time(23, 59, 59)),
    "text": TEXTS,
    "varchar(12)": TEXTS,
    "char(12)": TEXTS,
    "json": st.sampled_from(['{"a":  [1, null]}', '"é"', "1e3"]),
    "jsonb": st.sampled_from(['{"a":  [1, null]}', '"é"', "1e3"]),
    "bytea": st.binary(max_size=9),
    "uuid": st.uuids(),
    "numeric(10,2)": decimals(10, 2),
    "numeric(18,0)": decimals(18, 0),
    "numeric(18,9)": decimals(18, 9),
    "numeric(18,18)": decimals(18, 18),
    "mood": st.sampled_from(["fine", "façade"]),
    "small": st.integers(0, 9),
    "price": decimals(12, 3),
}
MADE = (
    "CREATE TYPE mood AS ENUM ('fine', 'façade')",
    "CREATE DOMAIN small AS int CHECK (value < 10)",
    "CREATE DOMAIN price AS numeric(12,3)",
)
OWN_TYPES = "CREATE TYPE pair AS (a int, b int)", "CREATE TYPE reach AS RANGE (subtype = int)"
NAMES = [f"c{place}" for place in range(len(VALUES))]
AT = list(VALUES).index("timestamp(3)")
TABLE = f"CREATE TABLE tree (k int PRIMARY KEY, {', '.join(map(' '.join, zip(NAMES, VALUES, strict=True)))})"
ROWS = st.lists(st.tuples(*(st.none() | values for values in VALUES.values())), min_size=1, max_size=6)
# Values that have no equivalent in other stores, or that need care.
ODD = (
    ("date", "'infinity'"),
    ("date", "'10000-01-01'"),
    ("date", "'0001-12-31 BC'"),
    ("timestamp", "'-infinity'"),
    ("timestamp", "'294276-12-31 23:59:59.999999'"),
    ("timestamptz", "'0044-03-15 12:00 BC'"),
    ("time", "'24:00'"),
    ("numeric(10,2)", "'NaN'"),
)


def reader(load: Any) -> LogSource:
    found = load.source
    while not isinstance(found, LogSource):
        found = found.source
    return found


class Reading:
    """What has come to a table since it was looked at first."""

    def __init__(self, town: Any) -> None:
        self.source = reader(town.project.load("into_duckdb"))
        self.after = self.source.span().end

    def read(self) -> str:
        """All changes, or why they cannot be read."""
        window = Window.between(self.after, self.source.span().end)
        try:
            tables = [changes.table for changes in self.source.read(window)]
        except PlainStepError as error:
            return str(error)
        found = pa.concat_tables(tables, promote_options="default")
        return f"{found.schema}\n" + "\n".join(map(str, found.to_pylist()))

    def as_text(self) -> str:
        with patch.object(LogSource, "_decoders", lambda source: {}):
            return self.read()


class Forms(unittest.TestCase):
    maxDiff = None

    def same(self, reading: Reading, binary: bool = True) -> str:
        """What is read in either form."""
        self.assertEqual(bool(reading.source._decoders()), binary)
        found = reading.read()
        self.assertEqual(found, reading.as_text())
        return found

    def test_every_value_of_every_type(self) -> None:
        for identity in ("DEFAULT", "FULL"):
            with park(*MADE, TABLE, f"ALTER TABLE tree REPLICA IDENTITY {identity}", how="log") as (source, _, town):

                @settings(max_examples=examples(25), phases=WITHOUT_SHRINKING, deadline=None)
                @given(ROWS, ROWS)
                def holds(rows: list[Any], others: list[Any]) -> None:
                    reading = Reading(town)
                    with source.connect() as connection:
                        values = ", ".join(["%s", *(f"%s::{kind}" for kind in VALUES)])
                        for some in (rows, others):  # the others update some of them
                            connection.cursor().executemany(
                                f"INSERT INTO tree VALUES ({values}) ON CONFLICT (k) DO UPDATE SET "
                                + ", ".join(f"{name} = excluded.{name}" for name in NAMES),
                                [[number, *row] for number, row in enumerate(some)],
                            )
                        connection.execute("DELETE FROM tree")
                    found = self.same(reading)
                    self.assertEqual(found.count("'now.k'"), len(rows) + len(others) + max(len(rows), len(others)))
                    self.assertIn(f"\nnow.{NAMES[AT]}: timestamp[us]\n", found)
                    self.assertIn(f"\nnow.{NAMES[AT + 1]}: time64[us]\n", found)

                holds()

    def test_what_other_stores_do_not_have_is_told_as_before(self) -> None:
        for kind, value in ODD:
            with (
                self.subTest(kind=kind, value=value),
                park(f"CREATE TABLE tree (k int PRIMARY KEY, a {kind})", how="log") as (source, _, town),
            ):
                reading = Reading(town)
                source.sql(f"INSERT INTO tree VALUES (1, NULL), (2, {value})")
                self.assertIn("which has no equivalent", self.same(reading))

    def test_a_column_whose_type_changes_within_the_window(self) -> None:
        """Also where both types have as many bytes; and after many changes were told already."""
        for before, after, for_good in (
            ("int", "bigint", True),
            ("double precision", "bigint", True),
            ("double precision", "bigint", False),
            ("int", "text", False),
            ("numeric(9,2)", "numeric(12,4)", True),
        ):
            with (
                self.subTest(before=before, after=after, for_good=for_good),
                park(f"CREATE TABLE tree (k int PRIMARY KEY, a {before}, b text)", how="log") as (source, _, town),
            ):
                reading = Reading(town)
                source.sql(
                    "INSERT INTO tree SELECT n, n, 'long' FROM generate_series(1, 20000) n",
                    f"ALTER TABLE tree ALTER a TYPE {after} USING a::{after}",
                    "UPDATE tree SET a = a WHERE k % 100 = 0",
                    *([] if for_good else [f"ALTER TABLE tree ALTER a TYPE {before} USING a::{before}"]),
                )
                reading.source.span()  # which looks at the columns anew
                with patch.object(slots, "MOST_BYTES", 1 << 15):  # much is told before, in other lots than of texts
                    found = self.same(reading)
                with patch.object(LogSource, "_in_form", autospec=True, side_effect=LogSource._in_form) as forms:
                    reading.read()
                self.assertEqual(forms.call_count, 1 if "numeric" in before else 2)
                self.assertEqual(found.count("'now.k'"), 20_200)
                self.assertEqual(found.count("'seq': 300,"), 1)

    def test_a_scale_that_is_less_than_it_was(self) -> None:
        with park("CREATE TABLE tree (k int PRIMARY KEY, a numeric(12,4))", how="log") as (source, _, town):
            reading = Reading(town)
            source.sql("INSERT INTO tree VALUES (1, 1.25), (2, 1.2345)", "ALTER TABLE tree ALTER a TYPE numeric(9,2)")
            reading.source.span()
            self.assertIn("'1.2345', which has no equivalent", self.same(reading).replace("1.2500", "1.25"))

    def test_where_something_has_no_binary_form_that_is_known(self) -> None:
        for column in ("int4range", "interval", "numeric", "numeric(19,2)", "int[]", "inet", "pair", "reach"):
            with (
                self.subTest(column=column),
                park(*OWN_TYPES, f"CREATE TABLE tree (k int PRIMARY KEY, a {column})", how="log") as (source, _, town),
            ):
                reading = Reading(town)
                source.sql("INSERT INTO tree VALUES (1, NULL)")
                self.same(reading, binary=False)
        plain = "CREATE TABLE tree (k int PRIMARY KEY, a int)"
        with park(plain, how="log", more='types = { a = "TEXT" }') as (source, _, town):
            reading = Reading(town)
            source.sql("INSERT INTO tree VALUES (1, 2)")
            self.assertIn("'now.a': '2'", self.same(reading, binary=False))
        with park(plain, how="log") as (_, _, town), patch.object(slot_source, "BINARY_SINCE", 1 << 30):
            self.same(Reading(town), binary=False)


if __name__ == "__main__":
    unittest.main()
