"""The laws for every shape: generated histories of SQLite, into DuckDB, SQLite and PostgreSQL."""

from __future__ import annotations

import itertools
import re
import unittest
from collections.abc import Callable
from typing import Any

from hypothesis import example, given, settings
from hypothesis import strategies as st

from plainstep.testing.conformance import little_memory
from tests.histories import Model, Row, histories
from tests.postgres import Database, cluster
from tests.shapes import SHAPES, changes_of
from tests.support import TREE, WITHOUT_SHRINKING, Town, act, examples

REPLAY = """
[loads.{store}_replay]
from = "{store}.journal"
into = "{store}.replay"
key = ["k"]
[loads.{store}_replay.layout]
position = ["step_number", "change_number"]
operation = "op"
insert = ["insert"]
update = ["update", "put"]
delete = ["delete"]
truncate = ["truncate"]
time = "changed_at"
was = "was_*"
now = "now_*"
bookkeeping = ["stepped_at", "position", "txn", "changed_by"]
"""


def loads_of(store: str, first: str) -> str:
    """A load of every shape."""
    texts = [
        f'\n[loads.{store}_{name}]\nfrom = "town.tree"\ninto = "{store}.{name}"\n'
        + (said.replace("FIRST", first) if "FIRST" in said else f'first = "{first}"\n{said}')
        for name, said in SHAPES.items()
    ]
    return "\n".join(texts) + REPLAY.format(store=store)


class Truth:
    """What the source was at every position, and what every shape must make of it."""

    def __init__(self) -> None:
        self.changes: list[Row] = []

    def see(self, town: Town) -> None:
        """Take in what the next step is to merge."""
        self.changes += changes_of(town, after=None)

    def at(self, position: int, begin: dict[int, Row]) -> dict[int, Row]:
        """The rows as they were at a position."""
        rows = dict(begin)
        for change in self.changes:
            if change["position"] <= position:
                if change["op"] == "truncate":
                    rows.clear()
                if change["was"]:
                    rows.pop(change["was"]["k"], None)
                if change["now"]:
                    rows[change["now"]["k"]] = change["now"]
        return rows


def grouped(rows: dict[int, Row]) -> list[tuple[Any, ...]]:
    """The rollup, by hand."""
    kinds: dict[str, list[int | None]] = {}
    for row in rows.values():
        kinds.setdefault("-" if row["b"] is None else row["b"], []).append(row["a"])
    found = []
    for kind, every in kinds.items():
        known = [value for value in every if value is not None]
        total = sum(known) if known else None
        mean = sum(known) / len(known) if known else None
        found.append(
            (
                kind,
                len(every),
                len(known),
                total,
                mean,
                min(known, default=None),
                max(known, default=None),
                len(set(known)),
            )
        )
    return sorted(found, key=repr)


parts_of_histories = st.lists(histories, min_size=2, max_size=4)
firsts = st.sampled_from(["snapshot", "start"])


class Laws(unittest.TestCase):
    lake: Database | None = None

    @given(parts_of_histories, firsts, st.booleans())
    @settings(max_examples=examples(3), deadline=None, phases=WITHOUT_SHRINKING)
    def test_every_shape_is_true_whatever_the_windows(self, parts: list[Any], first: str, little: bool) -> None:
        loads = "".join(loads_of(store, first) for store in ("house", "shed"))
        with Town(TREE, loads=loads) as town, little_memory(little):
            self.play(town, parts, first, lambda model, acts: act(town, model, acts), ("house", "shed"))

    def rows(self, town: Town, store: str, table: str) -> list[tuple[Any, ...]]:
        """All rows of a target's table, sorted."""
        if store != "lake" or self.lake is None:
            return town.rows(store, table)
        return sorted(self.lake.rows(f'SELECT * FROM "{table}"'), key=repr)

    def play(
        self, town: Town, parts: Any, first: str, act: Callable[[Model, Any], None], stores: Any, how: str = "capture"
    ) -> None:
        """Make some histories, a step after each, and see what every shape has become."""
        model = Model()
        if first == "snapshot":
            act(model, parts[0])
        begin = {key: dict(row) for key, row in model.rows.items()}
        town.project.capture_on("town.tree", (), how)
        if how == "log":  # it tells nothing of what was before the first load
            town.project.step()
        truth = Truth()
        for number, part in enumerate(parts[1:] if first == "snapshot" else parts):
            # A window of nothing but truncates would be doubted where a feed has it.
            act(model, [("insert", 50 + number, {"a": 1, "b": "oak"}), *part] if part else part)
            truth.see(town)
            outcomes = town.project.step(raise_errors=False)
            self.assertEqual([one.error for one in outcomes if one.error], [])
            self.assertEqual({one.outcome for one in town.project.step()}, {"nothing"})
            for store in stores:
                self.holds(town, store, model.rows, truth, begin)
        for one in town.project.check(*[name for name in town.project.loads if not name.endswith("events")]):
            self.assertTrue(one.ok, one)

    def holds(self, town: Town, store: str, rows: dict[int, Row], truth: Truth, begin: dict[int, Row]) -> None:
        now = sorted(((row["k"], row["a"], row["b"]) for row in rows.values()), key=repr)
        self.assertEqual(self.rows(town, store, "mirror"), now)
        flagged = self.rows(town, store, "flagged")
        self.assertEqual([row[:3] for row in flagged if row[3] is None], now)
        self.assertTrue(all(row[4] is not None and row[5] >= 1 for row in flagged))
        self.assertEqual(self.rows(town, store, "replay"), now)
        self.scoped(self.rows(town, store, "scoped"), rows)
        self.assertEqual([row[:8] for row in self.rows(town, store, "rollup")], grouped(rows))
        for table in ("history", "watched"):
            self.versions(self.rows(town, store, table), now)
        [loaded, *_] = town.project.ledger(f"{store}_history")
        begun = loaded.upto if loaded.kind == "snapshot" else 0  # what was before, nobody told
        since = [change for change in truth.changes if change["position"] > begun]
        for position in {begun, *(change["position"] for change in since)}:
            then = [
                row[:3]
                for row in self.rows(town, store, "history")
                if row[7] <= position and (row[8] is None or row[8] > position)
            ]
            stood = sorted(((row["k"], row["a"], row["b"]) for row in truth.at(position, begin).values()), key=repr)
            self.assertEqual(then, stood)
        self.events(self.rows(town, store, "events"), since)

    def scoped(self, found: list[Any], rows: dict[int, Row]) -> None:
        inside = [row for row in rows.values() if (row["a"] or 0) > 1 or row["b"] == "oak"]
        told = [(row["k"], row["b"], None if row["a"] is None else row["a"] * 2) for row in inside]
        self.assertEqual(found, sorted(told, key=repr))

    def versions(self, found: list[Any], now: list[Any]) -> None:
        """No gap and no overlap, and one open version of every living key."""
        self.assertEqual([row[:3] for row in found if row[5] is None], now)
        lives: dict[int, list[Any]] = {}
        for row in found:
            lives.setdefault(row[0], []).append(row)
        for versions in lives.values():
            versions.sort(key=lambda row: row[3])
            self.assertEqual([row[3] for row in versions], list(range(1, len(versions) + 1)))
            for row, later in itertools.pairwise(versions):
                self.assertTrue(row[5] is not None and row[4] <= row[5] <= later[4], (row, later))
                self.assertLessEqual(row[7], row[8])
                self.assertLessEqual(row[8], later[7])

    def events(self, found: list[Any], changes: list[Row]) -> None:
        """Every transition has its event once."""
        rose = [
            ("rose", c["position"])
            for c in changes
            if c["op"] == "update" and None not in (c["was"]["a"], c["now"]["a"]) and c["now"]["a"] > c["was"]["a"]
        ]
        gone = [("gone", c["position"]) for c in changes if c["op"] == "delete"]
        self.assertEqual(sorted((row[1], row[6]) for row in found), sorted(rose + gone))
        self.assertEqual(len({row[0] for row in found}), len(found))


class Postgresql(Laws):
    """The same with PostgreSQL on either side."""

    HISTORY = (
        [
            ("insert", 0, {"a": 1, "b": "oak"}),
            ("insert", 1, {"a": 2, "b": None}),
            ("insert", 2, {"a": None, "b": "elm"}),
        ],
        [
            ("update", 0, {"a": 3, "b": "oak"}),
            ("rekey", 1, 4),
            ("delete", 2, None),
            ("insert", 2, {"a": 0, "b": "oak"}),
        ],
        [("truncate", None, None), ("insert", 0, {"a": 2, "b": "elm"}), ("update", 0, {"a": 1, "b": "elm"})],
        [("delete", 0, None), ("insert", 5, {"a": 3, "b": "oak"})],
    )
    test_every_shape_is_true_whatever_the_windows = None  # type: ignore[assignment]

    @example(HISTORY, "start")
    @given(parts_of_histories, firsts)
    @settings(max_examples=examples(3), deadline=None, phases=WITHOUT_SHRINKING)
    def test_into_postgresql(self, parts: Any, first: str) -> None:
        with Database(server=cluster()) as self.lake:
            loads = f'\n[stores.lake]\nurl = "{self.lake.url}"\n' + loads_of("lake", first) + loads_of("house", first)
            with Town(TREE, loads=loads) as town:
                self.play(town, parts, first, lambda model, acts: act(town, model, acts), ("lake", "house"))

    @example(HISTORY, "start", "capture")
    @example(HISTORY, "snapshot", "log")
    @given(parts_of_histories, firsts, st.just("capture"))
    @settings(max_examples=examples(2), deadline=None, phases=WITHOUT_SHRINKING)
    def test_from_postgresql(self, parts: Any, first: str, how: str) -> None:
        whole = "ALTER TABLE tree REPLICA IDENTITY FULL"
        with Database(TREE, whole, server=cluster()) as source, Town(loads=loads_of("house", first)) as town:
            text = town.config.read_text().replace("sqlite:///town.db", source.url)
            town.config.write_text(text.replace('from = "town.', f'changes = "{how}"\nfrom = "town.'))
            self.play(town, parts, first, lambda model, acts: _act_there(source, model, acts), ("house",), how)

    def test_every_event_of_a_transaction_has_an_id_of_its_own_in_the_log_as_well(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "events"\nchanges = "log"\nrules = { any = "" }\n'
        with Database(TREE, "ALTER TABLE tree REPLICA IDENTITY FULL") as source, Town(loads=load) as town:
            town.config.write_text(town.config.read_text().replace("sqlite:///town.db", source.url))
            town.project.capture_on("town.tree", (), "log")
            town.project.step("it")
            for turn in range(3):
                source.sql(f"INSERT INTO tree SELECT n, {turn}, 'oak' FROM generate_series({turn}0, {turn}9) n")
                source.sql("UPDATE tree SET a = a + 1")
                positions = [change["position"] for change in changes_of(town, "it", None)]
                self.assertEqual(len(set(positions)), 2)  # a transaction's changes stand where its commit does
                self.assertLessEqual(max(positions), int(town.project.status("it")[0].head or 0))
                town.project.step("it")
            self.assertEqual(len({row[0] for row in town.rows("house", "it")}), 30 + 10 + 20 + 30)

    def test_old_values_out_of_a_mirror_in_the_same_group(self) -> None:
        """A log that tells no old values: the mirror beside the rollup has them."""
        load = """
[loads.groups]
from = "town.feed"
into = "house.groups"
key = ["k"]
shape = "rollup"
by = ["b"]
measures = {{ n = "count(*)", s = "sum(a)" }}
old_values = "copy"
{layout}
[loads.copy]
from = "town.feed"
into = "house.copy"
key = ["k"]
{layout}
"""
        layout = '[loads.{name}.layout]\nposition = ["n"]\noperation = "op"\ninsert = ["i"]\nupdate = ["u"]\ndelete = ["d"]\n'
        text = load.replace("{layout}", "{}", 1).format(layout.format(name="groups"), layout=layout.format(name="copy"))
        with Town(
            "CREATE TABLE feed (n INTEGER PRIMARY KEY, op TEXT, k INTEGER, a INTEGER, b TEXT)", loads=text
        ) as town:
            town.sql("INSERT INTO feed (op, k, a, b) VALUES ('i', 1, 5, 'oak'), ('i', 2, 6, 'oak'), ('i', 3, 7, 'elm')")
            told = town.run("step", "copy", "groups").output
            self.assertIn("Put both in a group", told)
            town.sql("INSERT INTO feed (op, k, a, b) VALUES ('i', 9, 5, 'oak')")
            town.config.write_text(town.config.read_text() + '\n[groups.both]\nloads = ["groups", "copy"]\n')
            for remedy in re.findall(r"plainstep ((?:reload|watermark)[^,.]*)", told):
                self.assertEqual(town.run(*remedy.split()).exit_code, 0, remedy)
            self.assertEqual([row[:3] for row in town.rows("house", "groups")], [("elm", 1, 7), ("oak", 3, 16)])
            town.sql("INSERT INTO feed (op, k, a, b) VALUES ('d', 9, NULL, NULL)")
            expected = [
                ("INSERT INTO feed (op, k, a, b) VALUES ('u', 1, 9, 'elm'), ('d', 2, NULL, NULL)", [("elm", 2, 16)]),
                (
                    "INSERT INTO feed (op, k, a, b) VALUES ('u', 3, 1, 'oak'), ('i', 4, 2, 'oak')",
                    [("elm", 1, 9), ("oak", 2, 3)],
                ),
            ]
            for statement, groups in expected:
                town.project.step("copy")
                town.sql(statement)
                town.project.step("copy")
                self.assertEqual([row[:3] for row in town.rows("house", "groups")], groups)


def _act_there(source: Database, model: Model, acts: list[Any]) -> None:
    """Make the model's acts in a PostgreSQL database."""
    with source.connect() as connection:
        for what, key, value in acts:
            if not model.act(what, key, value):
                continue
            if what == "truncate":
                connection.execute("TRUNCATE tree")
            elif what == "insert":
                connection.execute("INSERT INTO tree VALUES (%s, %s, %s)", [key, value["a"], value["b"]])
            elif what == "update":
                connection.execute("UPDATE tree SET a = %s, b = %s WHERE k = %s", [value["a"], value["b"], key])
            elif what == "rekey":
                connection.execute("UPDATE tree SET k = %s WHERE k = %s", [value, key])
            else:
                connection.execute("DELETE FROM tree WHERE k = %s", [key])


if __name__ == "__main__":
    unittest.main()
