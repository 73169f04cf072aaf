"""Feeds whose rows only suggest types: what has merged decides how they are read, and not which values happen to come."""

from __future__ import annotations

import csv
import itertools
import json
import unittest
from collections.abc import Sequence
from datetime import date
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.postgres import Database
from tests.support import WITHOUT_SHRINKING, Town, examples

import pyarrow as pa  # isort: skip

COLUMNS = ("tree_id", "height", "code", "planted", "measured", "is_old", "turn")
# By which each column shows what it can hold.
FIRST = (0, 2.5, "A1", "2026-03-01", "2026-03-01T10:30:00", True, -1)
ROWS = st.tuples(
    st.integers(0, 5),
    st.sampled_from([None, 3, 0.125, 1_000_000]),
    st.sampled_from([None, "12", "B2", "2026-03-01", "true"]),
    st.sampled_from([None, "2026-03-02"]),
    st.sampled_from([None, "2026-03-01T10:30:00", "2026-03-01T10:30:00.25"]),
    st.sampled_from([None, False]),
)
LOADS = """
[stores.land]
url = "file:///in"
[stores.house]
url = "{scheme}:///house.db"
[loads.tree]
from = "land.*.{form}"
into = "house.tree"
key = ["tree_id"]
first = "start"
shape = "{shape}"
{more}
[loads.tree.layout]
put = ["now"]
operation = "op"
"""


class Landing(Town):
    """Files that are taken away when they are merged."""

    def __init__(self, form: str, shape: str = "mirror", scheme: str = "sqlite", more: str = "") -> None:
        super().__init__()
        self.form, self.count = form, 0
        (self.path / "in").mkdir()
        self.config.write_text(LOADS.format(form=form, shape=shape, scheme=scheme, more=more))

    def land(self, *rows: tuple[Any, ...]) -> None:
        self.count += 1
        with (self.path / "in" / f"{self.count:02}.{self.form}").open("w") as file:
            if self.form == "jsonl":
                file.writelines(
                    json.dumps(dict(zip(("op", *COLUMNS), ("now", *row), strict=True))) + "\n" for row in rows
                )
            else:
                csv.writer(file).writerows([("op", *COLUMNS), *(("now", *map(_written, row)) for row in rows)])

    def merged(self, *batches: list[tuple[Any, ...]]) -> list[dict[str, Any]]:
        """What the target holds after steps over batches, each of which is taken away then."""
        for batch in batches:
            self.land(*batch)
            self.project.step()
            for file in (self.path / "in").iterdir():
                file.unlink()
        return self.held([*COLUMNS, *(f"now_{name}" for name in COLUMNS)])

    def held(self, columns: Sequence[str]) -> list[dict[str, Any]]:
        """What the target holds, of these columns those that it has."""
        load = self.project.load("tree")
        info = load.target.table("tree", ())
        assert info is not None
        schema = pa.schema([field for field in info.schema if field.name in columns])
        found = (row for batch in load.target.rows("tree", schema) for row in batch.to_pylist())
        return sorted(found, key=str)


def _written(value: Any) -> Any:
    return str(value).lower() if isinstance(value, bool) else value


class Types(unittest.TestCase):
    @given(st.lists(st.lists(ROWS, min_size=1, max_size=3), max_size=4), st.sampled_from(["csv", "jsonl"]),
           st.sampled_from(["mirror", "history", "journal"]), st.sampled_from(["sqlite", "duckdb"]))  # fmt: skip
    @settings(
        max_examples=examples(25), deadline=None, phases=WITHOUT_SHRINKING, suppress_health_check=[HealthCheck.too_slow]
    )
    def test_any_cut_of_what_lands(
        self, batches: list[list[tuple[Any, ...]]], form: str, shape: str, scheme: str
    ) -> None:
        count = itertools.count()  # a file that is another once more is not read
        batches = [[(*row, next(count)) for row in batch] for batch in batches]
        every = [row for batch in batches for row in batch]
        with Landing(form, shape, scheme) as cut, Landing(form, shape, scheme) as whole:
            self.assertEqual(cut.merged([FIRST], *batches), whole.merged([FIRST, *every]))
            [outcome], [status] = cut.project.step(), cut.project.status()  # of an empty folder
            self.assertEqual((outcome.outcome, status.health), ("nothing", "ok"))

    def test_one_value_of_another_type_is_told_with_its_place(self) -> None:
        told = "types = { height = 'DOUBLE' }"
        for form, scheme, more in (("csv", "duckdb", ""), ("jsonl", "sqlite", told)):
            with self.subTest(form), Landing(form, scheme=scheme, more=more) as town:
                town.merged([FIRST])
                wrong = (None, None, "soon") if form == "csv" else ("tall", None, None)
                town.land((1, *wrong, None, None, 2), (2, 4, "7", None, None, None, 3))
                step = town.run("step")
                self.assertEqual(step.exit_code, 4)
                self.assertRegex(
                    step.stderr, rf"02.{form}:\d: \w+ is '(tall|soon)', which is not a valid (double|date32)"
                )
                look = json.loads(town.run("look", "tree", "--json").output)  # as the message says
                self.assertEqual([(one["key"], one["now"]["code"]) for one in look["changes"]], [({"tree_id": 2}, "7")])
                self.assertIn("rows that contradict the layout: 1", look["note"])
                net = json.loads(town.run("net", "tree", "--json").output)
                self.assertRegex(net["refusal"], "'(tall|soon)'")
                self.assertEqual(town.run("trace", "tree", "1").exit_code, 4)  # what it leaves out may be of that row
                town.config.write_text(
                    town.config.read_text().replace(
                        "[loads.tree.layout]", 'on_bad_row = "quarantine"\n[loads.tree.layout]'
                    )
                )
                self.assertEqual(town.run("step").exit_code, 0)
                [status] = json.loads(town.run("status", "--json").output)
                self.assertEqual(status["health"], "ok")
                [bad] = json.loads(town.run("quarantine", "--json").output)
                self.assertIn("is not a valid", bad["reason"])

    def test_texts_among_numbers_are_not_taken_for_some(self) -> None:
        for text in ("tall", "007", "inf", "nan"):
            with self.subTest(text), Landing("csv") as town:
                before = town.merged([FIRST])
                town.land((1, text, None, None, None, None, 2))
                [outcome] = town.project.step(raise_errors=False)
                self.assertIn("is double, and string arrives", str(outcome.error))
                self.assertEqual(town.merged(), before)

    def test_what_a_rollup_measures(self) -> None:
        more = "by = ['code']\nmeasures = { trees = 'count(*)', total = 'sum(height)', latest = 'max(planted)' }"
        with Landing("csv", "rollup", more=more) as town:
            layout = 'operation = "op"\ninsert = ["now"]\nwas = "old_*"\nnow = "*"\n'
            town.config.write_text(town.config.read_text().partition('put = ["now"]')[0] + layout)
            for turn, height in enumerate((2.5, 3, None)):
                town.merged([(turn, height, "A1", None if turn else "2026-03-01", "now", True, turn)])
            rows = town.held(["code", "trees", "total", "latest"])
        self.assertEqual(rows, [{"code": "A1", "trees": 3, "total": 5.5, "latest": date(2026, 3, 1)}])

    def test_a_table_that_was_made_before(self) -> None:
        with Landing("csv") as town, Database() as bank:
            town.config.write_text(
                town.config.read_text()
                .replace("sqlite:///house.db", bank.url)
                .replace("house.tree", "house.public.tree")
            )
            with bank.connect() as connection:
                connection.execute(
                    "CREATE TABLE tree (tree_id smallint PRIMARY KEY, height numeric(10,2), code text, planted date,"
                    " measured timestamptz, is_old boolean, turn bigint)"
                )
            town.land((1, 2.5, 7, "2026-03-01", "2026-03-01T10:30:00Z", True, 1), (2, 3, None, None, None, None, 2))
            town.project.step()
            with bank.connect() as connection:
                rows = connection.execute(
                    "SELECT height::text, code, planted::text FROM tree ORDER BY tree_id"
                ).fetchall()
            self.assertEqual(rows, [("2.50", "7", "2026-03-01"), ("3.00", None, None)])
            for column, value, told in (
                (1, "2.555", r"which is not a valid decimal128\(10, 2\)"),
                (3, "2026-03-01T00:00:00", r"which is not a valid date32"),
                (
                    4,
                    "2026-03-01T10:30:00",
                    "is timestamp.*tz=UTC.*, and string arrives",
                ),  # in which zone is not known
            ):
                row = [1, 2, "7", "2026-03-02", "2026-03-01T10:30:00Z", True, 3]
                row[column] = value
                town.land(tuple(row))
                [outcome] = town.project.step(raise_errors=False)
                self.assertRegex(str(outcome.error), told)
                (town.path / "in" / f"{town.count:02}.csv").unlink()
