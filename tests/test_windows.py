"""Windows of feeds: cut anywhere they are the whole; every position finds its way back; what is typed is what is meant."""

from __future__ import annotations

import itertools
import sqlite3
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import duckdb
import pyarrow as pa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.positions import Position, Window
from plainstep.errors import PlainStepError
from plainstep.sources.sql_feed import SqlFeed
from plainstep.sql.engine import connection, evaluated
from plainstep.sql.expressions import checked
from plainstep.stores.capabilities import with_tables
from plainstep.stores.registry import open_store
from tests import layouts
from tests.feed_town import HISTORY, Town
from tests.histories import histories
from tests.postgres import Database
from tests.support import WITHOUT_SHRINKING, examples

# Texts that would end a string, a name, a path or a comment, if they were let.
AWKWARD = ["", "'", '"', "a/b", "100%", "%2F", "ä ö", "--", ";", "\\", "2026-05-04", "0x01", "null", "a\tb"]
# The same, all of one length: only then is their order as texts plain.
PLAIN = [text.ljust(10, "_") for text in AWKWARD]


class Cuts(unittest.TestCase):
    """A feed read at once, and the same read window by window."""

    NAMES = ("pairs", "sides", "news", "docs", "json", "csv", "parquet", "avro")

    @settings(
        max_examples=examples(4), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=list(HealthCheck)
    )
    @given(st.lists(histories, min_size=1, max_size=3), st.data())
    def test_windows_put_together_are_the_whole(self, parts: list[Any], data: st.DataObject) -> None:
        with Town(*self.NAMES) as town:
            town.play([("insert", 0, {"a": 1, "b": "oak"}), ("update", 0, {"a": 2, "b": "elm"})])
            for part in parts:
                town.play(part)
            for name in self.NAMES:
                source: Any = town.project.load(name).source
                whole = self.read(source, Window.between(Position(0), source.span().end))
                places = [str(row["position"]) for row in whole]
                chosen = sorted(data.draw(st.sets(st.sampled_from(range(len(places))), max_size=3), label=name))
                ends = [Position(0), *(source.parse(places[row]) for row in chosen), source.span().end]
                windows = [Window.between(one, other) for one, other in itertools.pairwise(ends)]
                found = [row for window in windows for row in self.read(source, window)]
                self.assertEqual(found, whole, name)
                for row in chosen:
                    self.assertEqual(source.label(source.parse(places[row])), places[row])

    def read(self, source: Any, window: Window) -> list[dict[str, Any]]:
        rows = [row for changes in source.read(window) for row in changes.table.to_pylist()]
        return [{name: value for name, value in row.items() if name != "seq"} for row in rows]


class Positions(unittest.TestCase):
    """Every value that orders rows, in every store: as text, and back."""

    def check(self, feed: SqlFeed, count: int) -> None:
        ends = feed.ends()
        assert ends.last is not None
        found = [
            str(place) for table in feed.read(None, ends.last) for place in table["plainstep.position"].to_pylist()
        ]
        self.assertEqual(len(found), count)
        self.assertEqual((found[0], found[-1]), (ends.first, ends.last))
        for row, place in enumerate(found):
            self.assertEqual(feed.at_or_before(place), place)
            rest = [
                str(one) for table in feed.read(place, ends.last) for one in table["plainstep.position"].to_pylist()
            ]
            self.assertEqual(rest, found[row + 1 :])
            self.assertEqual(feed.count(place, ends.last)[0], count - row - 1)

    @contextmanager
    def feeds(self, create: str, insert: str, rows: list[tuple[Any, ...]], *position: str) -> Iterator[list[SqlFeed]]:
        """The same table in SQLite, DuckDB and PostgreSQL."""
        with Town("sides") as town, Database(create.replace("BLOB", "bytea")) as database:
            light = sqlite3.connect(town.path / "p.db")
            light.execute(create)
            light.executemany(insert, rows)
            light.commit()
            light.close()
            with duckdb.connect(str(town.path / "p.duckdb")) as house:
                house.execute(create)
                house.executemany(insert, rows)
            with database.connect() as server:
                server.cursor().executemany(insert.replace("?", "%s"), rows)
            urls = ("sqlite:///p.db", "duckdb:///p.duckdb", database.url)
            tables = [with_tables(open_store("s", url, town.path)).table("log", {}) for url in urls]
            yield [SqlFeed(table, position) for table in tables]

    def test_numbers_texts_and_bytes(self) -> None:
        kinds: list[tuple[str, list[Any]]] = [
            ("BIGINT", [-5, 0, 9, 10, 2**40]),
            ("TEXT", PLAIN),
            ("TEXT", ["8", "9", "98", "99", "100", "18446744073709551616"]),
            ("TEXT", ["2026-05-04 10:00", "2026-05-04 10:00:00.5", "2026-05-04 10:00:01"]),
            ("BLOB", [b"\x00\x01", b"\x00\xff", b"\xff"]),
        ]
        for kind, values in kinds:
            create, insert = f"CREATE TABLE log (p {kind}, k INTEGER)", "INSERT INTO log VALUES (?, ?)"
            with self.feeds(create, insert, [(value, row) for row, value in enumerate(values)], "p") as feeds:
                for feed in feeds:
                    with self.subTest(kind=kind, feed=type(feed.table).__name__):
                        self.check(feed, len(values))

    def test_several_columns(self) -> None:
        create, insert = "CREATE TABLE log (p TEXT, n INTEGER, k INTEGER)", "INSERT INTO log VALUES (?, ?, ?)"
        rows = [(text, number, 1) for text in PLAIN for number in (2, 10)]
        with self.feeds(create, insert, rows, "p", "n") as feeds:
            for feed in feeds:
                with self.subTest(feed=type(feed.table).__name__):
                    self.check(feed, len(rows))
                    self.assertRaises(PlainStepError, feed.at_or_before, "only one")

    def test_an_order_that_is_not_plain_is_refused(self) -> None:
        """E18: compared as texts, a later position may come before an earlier one."""
        odd = {
            "lengths": ["a", "b", "ab"],
            "hexadecimal": ["0/9", "0/A", "0/10"],
            "zones": ["2026-05-04 10:00:00+02:00", "2026-05-04 09:00:00+00:00"],
            "fractions": ["2026-05-04 10:00:00Z", "2026-05-04 10:00:00.5Z"],
            "exponents": ["99999999999999999999", "1e+20"],
        }
        for what, values in odd.items():
            create, insert = "CREATE TABLE log (p TEXT, k INTEGER)", "INSERT INTO log VALUES (?, ?)"
            with self.feeds(create, insert, [(value, row) for row, value in enumerate(values)], "p") as feeds:
                for feed in feeds:
                    refused = self.assertRaisesRegex(PlainStepError, "its order is not plain")
                    with self.subTest(what, feed=type(feed.table).__name__), refused:
                        feed.ends()

    def test_what_is_typed_is_never_run(self) -> None:
        create, insert = "CREATE TABLE log (p TEXT, k INTEGER)", "INSERT INTO log VALUES (?, ?)"
        with self.feeds(create, insert, [("b", 1)], "p") as feeds:
            for feed in feeds:
                for said in ("'; DROP TABLE log; --", "' OR '1'='1", "b' UNION SELECT 'x"):
                    feed.at_or_before(said)
                self.assertEqual(feed.ends().last, "b")


class Evaluator(unittest.TestCase):
    def test_it_reaches_nothing_outside(self) -> None:
        rows = pa.table({"a": [1]})
        self.assertEqual(evaluated(rows, "a + 1 AS b").to_pylist(), [{"b": 2}])
        for sql in (
            "(SELECT content FROM read_text('/etc/hostname')) AS b",
            "(SELECT count(*) FROM '/etc/passwd') AS b",
        ):
            self.assertRaises(duckdb.Error, evaluated, rows, sql)
        for statement in (
            "SET enable_external_access = true",
            "COPY (SELECT 1) TO '/tmp/plainstep-never'",
            "ATTACH 'never.db'",
            "INSTALL httpfs",
        ):
            self.assertRaises(duckdb.Error, connection().execute, statement)

    def test_an_expression_gives_the_same_whenever_it_is_asked(self) -> None:
        """Whatever the evaluator has loaded: arithmetic with time zones comes only with the first use of one."""
        evaluated(pa.table({"a": [1]}), "TIMESTAMPTZ '2026-03-02 10:00:00+01' + INTERVAL 1 DAY AS t")
        for sql in ("a + 1", "t + INTERVAL 1 DAY", "date_trunc('hour', t)", "year(t AT TIME ZONE 'Europe/Dublin')"):
            checked(sql, ["a", "t"], "derive")
        for sql in ("now()", "today() - a", "random() + a", "age(t)", "getvariable('a')", "uuid()"):
            self.assertRaisesRegex(plainstep.ConfigError, "depend on the row alone", checked, sql, ["a", "t"], "derive")


class Strictness(unittest.TestCase):
    """What speaks against a layout is refused, counted or let pass, as it is said."""

    def outcome(self, strict: str) -> plainstep.StepOutcome:
        text = layouts.config("news").replace('key = ["k"]', f'key = ["k"]\n{strict}')
        with Town(
            config=text.replace('insert = ["planted"]', 'insert = ["grew"]').replace(
                'update = ["grew"]', 'update = ["planted"]'
            )
        ) as town:
            town.play(list(HISTORY))
            [outcome] = town.project.step(raise_errors=False)
            if outcome.outcome == "stepped":  # whatever the words, the last state is the last state
                self.assertEqual(town.target("news"), town.truth)
            return outcome

    def test_by_default_by_will_and_never(self) -> None:
        self.assertIn("insert and update may be swapped", str(self.outcome("").error))
        self.assertIn("contradict what is there", str(self.outcome("strict = true").error))
        merged = self.outcome("strict = false")
        self.assertEqual(merged.outcome, "stepped")
        self.assertGreater(merged.entry.contradictions if merged.entry else 0, 5)


if __name__ == "__main__":
    unittest.main()
