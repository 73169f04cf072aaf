"""The laws for every shape: generated histories of SQLite, into DuckDB, SQLite and PostgreSQL."""

from __future__ import annotations

import contextlib
import itertools
import re
import signal
import unittest
from collections.abc import Callable
from typing import Any
from unittest import mock

from hypothesis import example, given, settings
from hypothesis import strategies as st

import plainstep
from tests.histories import Model, Row, histories
from tests.postgres import Database, cluster
from tests.support import TREE, WITHOUT_SHRINKING, Town
from tests.test_crashes import DIE, POINTS, STEP
from tests.test_steps import act

SHAPES = {
    "mirror": "",
    "flagged": 'deletes = "flag"\nstamp = true',
    "history": 'shape = "history"\ngrain = "change"',
    "watched": 'shape = "history"\nwatch = ["a"]',
    "journal": 'shape = "journal"',
    "nets": 'shape = "journal"\ngrain = "net"',
    "rollup": """shape = "rollup"
by = { kind = "coalesce(b, '-')" }
measures = { n = "count(*)", c = "count(a)", s = "sum(a)", m = "avg(a)", lo = "min(a)", hi = "max(a)", d = "count(distinct a)" }""",
    "events": """shape = "events"
first = "FIRST"
rules = { rose = "now.a > was.a", gone = "op = 'delete'" }""",
    "scoped": """where = "a > 1 or b = 'oak'"
columns = { id = "k", kind = "b" }
derive = { twice = "a * 2" }""",
}
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
        self.changes += _changes(town, after=None)

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


def _changes(town: Town, load: str = "house_mirror", after: str | None = "start") -> list[Row]:
    from plainstep.display import records as rows

    found = town.project.look(load, after=after, limit=None)
    return rows.changes(found.changes, ("k",))


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
firsts = st.sampled_from(["snapshot", "beginning"])


class Laws(unittest.TestCase):
    lake: Database | None = None

    @given(parts_of_histories, firsts)
    @settings(max_examples=3, deadline=None, phases=WITHOUT_SHRINKING)
    def test_every_shape_is_true_whatever_the_windows(self, parts: list[Any], first: str) -> None:
        with Town(TREE, loads="".join(loads_of(store, first) for store in ("house", "shed"))) as town:
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
        for part in parts[1:] if first == "snapshot" else parts:
            act(model, part)
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

    @example(HISTORY, "beginning")
    @given(parts_of_histories, firsts)
    @settings(max_examples=3, deadline=None, phases=WITHOUT_SHRINKING)
    def test_into_postgresql(self, parts: Any, first: str) -> None:
        with Database(server=cluster()) as self.lake:
            loads = f'\n[stores.lake]\nurl = "{self.lake.url}"\n' + loads_of("lake", first) + loads_of("house", first)
            with Town(TREE, loads=loads) as town:
                self.play(town, parts, first, lambda model, acts: act(town, model, acts), ("lake", "house"))

    @example(HISTORY, "beginning", "capture")
    @example(HISTORY, "snapshot", "log")
    @given(parts_of_histories, firsts, st.just("capture"))
    @settings(max_examples=2, deadline=None, phases=WITHOUT_SHRINKING)
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
                positions = [change["position"] for change in _changes(town, "it", None)]
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
            for remedy in re.findall(r"plainstep ((?:reload|mark)[^,.]*)", told):
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


class Scoped(unittest.TestCase):
    """What a load takes: rows, columns, operations; and what it does when it cannot tell."""

    def test_expressions_are_checked_before_anything_runs(self) -> None:
        wrong = {
            "where = \"statsu = 'x'\"": "names 'statsu', which is no column here",
            'where = "a + 1"': "not true or false",
            'where = "a > (SELECT 1)"': "a query of its own",
            'where = "random() > 0.5"': "does not give the same",
            'where = "count(*) > 1"': "looks at many rows",
            'derive = { c = "a + oak" }': "names 'oak'",
            'derive = { b = "a" }': "there is such a column already",
            'columns = ["a", "b"]': "leaves out 'k'",
            'columns = ["k", "girth"]': "names 'girth'",
            'shape = "rollup"\nby = ["b"]\nmeasures = { n = "median(a)" }': "is no measure",
            'shape = "rollup"\nby = ["b"]\nmeasures = { n = "sum(b)" }': "no number",
            'shape = "history"\nwatch = ["girth"]': "names the column 'girth'",
            'shape = "events"\nrules = { r = "was.girth > 1" }': "is no condition",
            'shape = "rollup"\nby = ["b"]': "needs 'measures'",
            'shape = "events"\nrules = { r = "" }\ndeliver = "ftp://larkmoor"': "events cannot be sent there",
            'shape = "events"\nrules = { r = "" }\ndeliver = "http://larkmoor:tree/"': "events cannot be sent there",
            'measures = { n = "count(*)" }': "is of the shape rollup",
        }
        for said, told in wrong.items():
            with (
                self.subTest(said),
                Town(TREE, loads=f'\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\n{said}\n') as town,
            ):
                with contextlib.suppress(plainstep.ConfigError):
                    town.project.capture_on("town.tree")
                result = town.run("step", "it")
                self.assertIn(result.exit_code, (2, 4), result.output)
                self.assertIn(told, result.output)
                self.assertFalse((town.path / "house.duckdb").exists())

    def test_operations_that_are_left_out(self) -> None:
        expected = {
            '["insert", "update"]': [(1, 9, "oak"), (2, 2, "elm"), (3, 3, "ash")],
            '["insert"]': [(1, 1, "oak"), (2, 2, "elm"), (3, 3, "ash")],
            '["update", "delete"]': [(1, 9, "oak")],
            '["delete"]': [(1, 1, "oak")],
        }
        for operations, rows in expected.items():
            for store in ("house", "shed"):
                load = f'\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.it"\noperations = {operations}\n'
                with (
                    self.subTest(operations, store=store),
                    Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=load) as town,
                ):
                    town.project.capture_on("town.tree")
                    town.project.step("it")
                    town.sql(
                        "UPDATE tree SET a = 9 WHERE k = 1",
                        "DELETE FROM tree WHERE k = 2",
                        "INSERT INTO tree VALUES (3, 3, 'ash')",
                    )
                    town.project.step("it")
                    self.assertEqual(town.rows(store, "it"), rows)
                    self.assertTrue(town.project.check("it")[0].ok)

    def test_a_feed_without_old_values_and_a_filter_does_the_safe_thing(self) -> None:
        feed = ["CREATE TABLE feed (n INTEGER PRIMARY KEY, op TEXT, k INTEGER, a INTEGER)"]
        load = """
[loads.it]
from = "town.feed"
into = "house.it"
key = ["k"]
where = "a > 1"
[loads.it.layout]
position = ["n"]
operation = "op"
insert = ["i"]
update = ["u"]
delete = ["d"]
"""
        with Town(*feed, loads=load) as town:
            rows = [("i", 1, 5), ("i", 2, 0), ("u", 1, 0), ("u", 2, 7), ("d", 3, 9), ("i", 4, 4), ("d", 4, 4)]
            for op, key, value in rows:
                town.sql(f"INSERT INTO feed (op, k, a) VALUES ('{op}', {key}, {value})")
                result = town.run("step", "it")
                self.assertEqual(result.exit_code, 0, result.output)
            self.assertEqual(town.rows("house", "it"), [(2, 7)])
            self.assertIn("tells no old values", town.run("step", "it").output)
            text = (
                town.config.read_text()
                .replace('where = "a > 1"', 'shape = "rollup"\nby = ["a"]\nmeasures = { n = "count(*)" }')
                .replace("house.it", "house.other")
            )
            town.config.write_text(text.replace("loads.it", "loads.other"))
            result = town.run("step", "other")
            self.assertEqual(result.exit_code, 4)
            self.assertIn("tells no old values", result.output)

    def test_columns_that_come_and_widen(self) -> None:
        for drift, rows in (
            ("add", [(1, 1, "oak", 5), (2, 2, "elm", 5)]),
            ("ignore", [(1, 1, "oak"), (2, 2, "elm")]),
            ("refuse", [(1, 1, "oak")]),
        ):
            for store in ("house", "shed"):
                load = f'\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.it"\ndrift = "{drift}"\n'
                with (
                    self.subTest(drift, store=store),
                    Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=load) as town,
                ):
                    town.project.capture_on("town.tree")
                    town.project.step("it")
                    town.sql(
                        "ALTER TABLE tree ADD COLUMN girth INTEGER DEFAULT 5",
                        "INSERT INTO tree (k, a, b) VALUES (2, 2, 'elm')",
                    )
                    town.project.capture_refresh("town.tree")
                    result = town.run("step", "it")
                    self.assertEqual(result.exit_code, 4 if drift == "refuse" else 0, result.output)
                    self.assertEqual(town.rows(store, "it"), rows)
                    told = {"add": "added the column girth", "ignore": "", "refuse": "new: girth"}[drift]
                    self.assertIn(told, town.project.ledger("it")[-1].note)
                    if drift != "refuse":
                        self.assertTrue(town.project.check("it")[0].ok)

    def test_a_column_that_widens_is_widened_in_every_store(self) -> None:
        create = "CREATE TABLE tree (k INTEGER PRIMARY KEY, height NUMERIC(6, 2), girth NUMERIC(20, 2))"
        shapes = {"mirror": "", "history": 'shape = "history"', "journal": 'shape = "journal"'}
        with (
            Database(create, "INSERT INTO tree VALUES (1, 3.5, 10), (2, NULL, 20)") as source,
            Database() as self.lake,
        ):
            loads = f'\n[stores.woods]\nurl = "{source.url}"\n[stores.lake]\nurl = "{self.lake.url}"\n'
            stores = ("house", "shed", "lake")
            loads += "".join(
                f'[loads.{store}_{name}]\nfrom = "woods.tree"\ninto = "{store}.{name}"\n{said}\n'
                for store in stores
                for name, said in shapes.items()
            )
            with Town(loads=loads) as town:
                names = [f"{store}_{name}" for store in stores for name in shapes]
                town.project.capture_on("woods.tree")
                town.project.step(*names)
                source.sql(
                    "ALTER TABLE tree ALTER height TYPE NUMERIC(12, 4), ALTER girth TYPE NUMERIC(24, 3)",
                    "UPDATE tree SET height = 123456.1234, girth = 123456789012345678901.123 WHERE k = 1",
                )
                town.project.capture_refresh("woods.tree")
                for turn in range(2):
                    for outcome in town.project.step(*names):
                        assert outcome.entry
                        told = "widened the column" if turn == 0 else ""
                        self.assertEqual(told in outcome.entry.note, bool(told) or not outcome.entry.note)
                    self.assertEqual([one.load for one in town.project.check(*names) if not one.ok], [])
                    source.sql("UPDATE tree SET height = 0.0001 WHERE k = 2")

    def test_a_column_that_narrows_changes_nothing_or_is_refused_before_anything_is_written(self) -> None:
        create = "CREATE TABLE tree (k INTEGER PRIMARY KEY, a NUMERIC(12, 4), b TEXT)"
        shapes = {"copy": "", "versions": 'shape = "history"', "archive": 'shape = "journal"', "sums": SHAPES["rollup"]}
        loads = "".join(
            f'[loads.{name}]\nfrom = "woods.tree"\ninto = "house.{name}"\n{said}\n' for name, said in shapes.items()
        )
        for kind, refused in (("NUMERIC(6, 2)", False), ("INTEGER", True)):
            rows = "INSERT INTO tree VALUES (1, 1.2345, 'oak'), (2, 8, 'elm')"
            with Database(create, rows) as source, Town(loads=f'[stores.woods]\nurl = "{source.url}"\n{loads}') as town:
                town.project.capture_on("woods.tree")
                town.project.step(*shapes)
                source.sql(f"ALTER TABLE tree ALTER a TYPE {kind}", "UPDATE tree SET a = 3 WHERE k = 2")
                town.project.capture_refresh("woods.tree")
                before = {name: town.rows("house", name) for name in shapes}
                for name in shapes:
                    result = town.run("step", name)
                    if refused or name == "sums":  # what it held before it narrowed is not known
                        self.assertEqual(result.exit_code, 4, result.output)
                        self.assertEqual(town.rows("house", name), before[name])
                    if name == "sums" and not refused:
                        self.assertIn("plainstep reload", result.output)
                        self.assertEqual(town.run("reload", name).exit_code, 0)
                    if not refused:
                        self.assertTrue(town.project.check(name)[0].ok, name)

    def test_what_a_load_makes_is_not_changed_halfway(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\n'
        grouped = 'shape = "rollup"\nby = ["b"]\nmeasures = { n = "count(*)" }'
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=load) as town:
            plain = town.config.read_text()

            def said(more: str) -> None:
                town.config.write_text(plain.replace('into = "house.it"', f'into = "house.it"\n{more}'))

            said('where = "a < 2"')
            town.project.capture_on("town.tree")
            town.project.step("it")
            said('where = "a < 9"')
            result = town.run("step", "it")
            self.assertEqual(result.exit_code, 4)
            self.assertIn('`where` was "a < 2"', result.output)
            self.assertEqual(town.project.status("it")[0].health, "refuses")
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual(len(town.rows("house", "it")), 2)
            said('where = "a < 1"')
            town.project.move_mark("it", "head")  # as it is, and from here on by the new one
            town.sql("UPDATE tree SET b = 'ash'")
            town.project.step("it")
            self.assertEqual(town.rows("house", "it"), [(1, 1, "oak"), (2, 2, "elm")])
            said(grouped)
            for command in ("step", "reload"):
                self.assertIn("drop house.it", town.run(command, "it").output)
            import duckdb

            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                connection.execute("DROP TABLE it")
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("ash", 2)])
            town.sql("INSERT INTO tree (k, a) VALUES (3, 3)")
            self.assertIn("coalesce", town.run("step", "it").output)  # a group must have a name
            said(grouped.replace('["b"]', """{ b = "coalesce(b, 'unknown')" }"""))
            self.assertIn('`by` was ["b"]', town.run("step", "it").output)
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("ash", 2), ("unknown", 1)])
            self.assertEqual(town.run("step", "it").exit_code, 0)

    def test_columns_that_come_where_no_table_shows_them(self) -> None:
        """Messages and files carry all columns: drift is carried, left out or refused there, too."""
        loads = {
            "told": '[loads.told]\nfrom = "town.tree"\ninto = "house.told"\nshape = "events"\nrules = { any = "" }\n',
            "archive": ARCHIVE.format(first="head", format="jsonl"),
            "sums": f'[loads.sums]\nfrom = "town.tree"\ninto = "house.sums"\n{SHAPES["rollup"]}\n',
        }
        for drift in ("add", "ignore", "refuse"):
            text = "".join(loads.values()).replace('from = "town.tree"', f'from = "town.tree"\ndrift = "{drift}"')
            with self.subTest(drift), Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=text) as town:
                town.project.capture_on("town.tree")
                town.project.step(*loads)
                town.sql("ALTER TABLE tree ADD COLUMN girth INTEGER", "UPDATE tree SET a = 2")
                town.project.capture_refresh("town.tree")
                town.sql("UPDATE tree SET girth = 5")
                self.assertEqual(town.run("step", "sums").exit_code, 0)
                for name in ("told", "archive"):
                    result = town.run("step", name)
                    self.assertEqual(result.exit_code, 4 if drift == "refuse" else 0, result.output)
                    told = {"add": "added the column girth", "ignore": "", "refuse": "drift = 'refuse'"}[drift]
                    self.assertIn(told, town.project.ledger(name)[-1].note)
                carried = drift == "add"
                self.assertEqual("girth" in str(town.rows("house", "told")), carried)
                files = "".join(path.read_text() for path in (town.path / "archive" / "tree").rglob("*.jsonl"))
                self.assertEqual("now_girth" in files, carried)

    def test_sums_that_were_added_in_another_order_are_equal_and_others_are_mended(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "rollup"\nby = ["b"]\nmeasures = { s = "sum(a / 10.0)", m = "max(a)" }\n'
        with Town(TREE, *(f"INSERT INTO tree VALUES ({n}, {n * 7}, 'oak')" for n in range(1, 40)), loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("it")
            for turn in range(5):
                town.sql(
                    f"UPDATE tree SET a = a * 3 + 1 WHERE k % 3 = {turn % 3}", f"DELETE FROM tree WHERE k = {turn + 1}"
                )
                self.assertEqual(town.run("step", "it").exit_code, 0)
                [checked] = town.project.check("it")
                self.assertTrue(checked.ok, checked)
            import duckdb

            [kept] = town.rows("house", "it")
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                connection.execute("UPDATE it SET s = s + 1; DELETE FROM it_m_values WHERE value > 1000")
            self.assertFalse(town.project.check("it")[0].ok)
            self.assertTrue(town.project.check("it", mend=True)[0].mended)
            [mended] = town.rows("house", "it")
            self.assertAlmostEqual(mended[1], kept[1])
            self.assertEqual(town.project.reload("it").edits["put"], 0)
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:  # what would go wrong only later
                connection.execute("UPDATE it_m_values SET row_count = row_count + 1")
            result = town.run("check", "it", "--mend")
            self.assertIn("beside its groups differ", result.output)
            self.assertTrue(town.project.check("it")[0].ok)

    def test_what_could_not_be_taken_away_again_is_not_added(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "rollup"\nby = ["b"]\nmeasures = { s = "sum(a)" }\n'
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a REAL, b TEXT)", loads=load) as town:
            town.sql("INSERT INTO tree VALUES (1, 1.5, 'oak')")
            town.project.capture_on("town.tree")
            town.project.step("it")
            town.sql("INSERT INTO tree VALUES (2, 9e999, 'oak'), (3, NULL, 'elm')")
            result = town.run("step", "it")
            self.assertEqual(result.exit_code, 4)
            finite = "sum(CASE WHEN isfinite(a) THEN a END)"
            self.assertIn(finite, result.output)
            town.config.write_text(town.config.read_text().replace("sum(a)", finite))
            self.assertEqual(town.run("reload", "it").exit_code, 0)
            town.sql("DELETE FROM tree WHERE k > 1")
            town.project.step("it")
            self.assertEqual([row[:2] for row in town.rows("house", "it")], [("oak", 1.5)])

    def test_a_row_as_it_stood_out_of_its_history(self) -> None:
        load = '\n[loads.it]\nfrom = "town.tree"\ninto = "house.it"\nshape = "history"\nwhere = "a < 9"\n'
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')", loads=load) as town:
            town.project.capture_on("town.tree")
            town.project.step("it")
            for value in (2, 3, 9):
                town.sql(f"UPDATE tree SET a = {value}")
                town.project.step("it")
            at = [town.project.trace("it", "1", at=str(position)).row for position in (0, 1, 2, 3)]
            self.assertEqual([row and row["a"] for row in at], [1, 2, 3, None])
            self.assertIsNone(town.project.trace("it", "1").target)
            last = [
                town.run("look", "it", "--after", "2", "--upto", "3", *more).output for more in ([], ["--unfiltered"])
            ]
            self.assertTrue("delete" in last[0] and "update" in last[1] and "a 3 -> 9" in last[1], last)
            town.project.trim("town", really=True)
            at = [town.project.trace("it", "1", at=str(position)).row for position in (0, 1, 2, 3)]
            self.assertEqual([row and row["a"] for row in at], [1, 2, 3, None])


IN_THE_MIDDLE = "import plainstep.stores.merge as m; m.Merge._write = lambda self, edits, done=m.Merge._write: (done(self, edits), die())"
COMMITTED = """
import plainstep.stores.postgresql.target as p
p.PostgresqlTarget.commit = lambda self, *commits, done=p.PostgresqlTarget.commit: (done(self, *commits), die())
"""


KILLED = ("flagged", "history", "journal", "rollup", "events")


class Killed(unittest.TestCase):
    """Killed while it is written, every shape is merged once, when the step is made again."""

    def test_killed_anywhere_then_run_again(self) -> None:
        for number, name in enumerate(KILLED):
            store = ("house", "shed")[number % 2]
            with self.subTest(name, store=store), self.town(name, store) as here:
                self.kill(here)
                self.once(here, name, here.rows(store, name))

    def test_killed_while_it_is_written_to_postgresql(self) -> None:
        for name in KILLED:
            with self.subTest(name), Database(server=cluster()) as lake, self.town(name, "lake", lake.url) as here:
                self.kill(here)
                self.once(here, name, lake.rows(name))

    def town(self, name: str, store: str, url: str = "duckdb:///nothing.duckdb") -> Town:
        """A town with a load of one of the shapes into one of the stores."""
        load = f'\n[stores.lake]\nurl = "{url}"\n[loads.it]\nfrom = "town.tree"\ninto = "{store}.{name}"\n'
        said = SHAPES[name].replace("FIRST", "snapshot")
        return Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=f"{load}{said}\n")

    def kill(self, here: Town) -> None:
        """A step that dies at each of some points, and is made again."""
        points = {
            "in the middle": IN_THE_MIDDLE,
            "before the commit": POINTS["before the commit"],
            "after the commit": POINTS["after the commit"] + COMMITTED,
        }
        here.project.capture_on("town.tree")
        here.project.step("it")
        for turn, (point, harm) in enumerate(points.items()):
            here.sql(
                f"UPDATE tree SET a = a + {turn + 1}",
                f"INSERT INTO tree VALUES ({turn + 3}, 1, 'oak')",
                "DELETE FROM tree WHERE k = (SELECT min(k) FROM tree)",
            )
            before = len(here.project.ledger("it"))
            child = here.child(DIE + harm + STEP, "it")
            told = child.communicate(timeout=60)[0]
            self.assertEqual(child.returncode, -signal.SIGKILL, told)
            [outcome] = here.project.step("it")
            self.assertEqual(outcome.outcome, "nothing" if point == "after the commit" else "stepped")
            self.assertEqual(len(here.project.ledger("it")), before + 1)

    def once(self, here: Town, name: str, held: list[Any]) -> None:
        """Everything is there once."""
        changes = _changes(here, "it")
        if name == "events":
            rose = sum(c["op"] == "update" for c in changes) + sum(c["op"] == "delete" for c in changes)
            self.assertEqual(len(held), rose)
        else:
            self.assertTrue(here.project.check("it")[0].ok)
        if name == "journal":
            self.assertEqual(len(held), 2 + len(changes))


ARCHIVE = """
[stores.archive]
url = "file:///archive"
[loads.archive]
from = "town.tree"
into = "archive.tree"
shape = "journal"
first = "{first}"
format = "{format}"
partition = ["date", "b"]
"""
DIES = {
    "while a file is written": "from plainstep.stores.files import target\ntarget._Parts._write = lambda *a: os._exit(9)",
    "before the commit": "from plainstep.stores.files import target\ntarget._Append.end = lambda *a: os._exit(9)",
    "before files have their names": """from plainstep.stores.files import target
real, calls = target.FolderTarget._name_what_was_committed, []
def named(self):
    if calls: os._exit(9)
    calls.append(1); real(self)
target.FolderTarget._name_what_was_committed = named""",
}


class Archive(unittest.TestCase):
    """A journal in files: no file without its mark, no file half written, nothing to clean up after a crash."""

    def rows(self, town: Town) -> list[tuple[int, str]]:
        """Every change in every file that a reader sees."""
        import duckdb

        files = [str(path) for path in (town.path / "archive" / "tree").rglob("*") if path.is_file()]
        if not files:
            return []
        return sorted(duckdb.sql(f"SELECT position, op FROM read_parquet({files!r}, union_by_name = true)").fetchall())

    def test_killed_anywhere_each_change_is_there_once(self) -> None:
        for where, dies in DIES.items():
            with self.subTest(where), Town(TREE, loads=ARCHIVE.format(first="beginning", format="parquet")) as town:
                town.project.capture_on("town.tree")
                town.sql("INSERT INTO tree VALUES (1, 1, 'oak'), (2, 1, 'elm'), (3, 1, NULL)")
                for turn in (1, 2):
                    if turn == 2:
                        town.sql("UPDATE tree SET a = 5", "DELETE FROM tree WHERE k = 2")
                    child = town.child(
                        f"import os, plainstep\n{dies}\nplainstep.load_project('plainstep.toml').step('archive')"
                    )
                    said = child.communicate(timeout=60)[0]
                    self.assertEqual(child.returncode, 9, said)
                    mark = town.project.status("archive")[0].mark
                    told = [row for row in self.rows(town) if mark is None or row[0] > mark.position]
                    self.assertEqual(told, [])  # nothing that the mark does not know
                    town.project.step("archive")
                changes = [(change["position"], change["op"]) for change in _changes(town, "archive")]
                self.assertEqual(self.rows(town), changes)
                self.assertTrue(town.project.check("archive")[0].ok)
                self.assertFalse((town.path / "archive" / ".plainstep" / "new").exists())

    def test_folders_and_formats(self) -> None:
        for form in ("parquet", "jsonl", "csv"):
            with (
                self.subTest(form),
                Town(
                    TREE, "INSERT INTO tree VALUES (7, 0, 'oak')", loads=ARCHIVE.format(first="snapshot", format=form)
                ) as town,
            ):
                town.project.capture_on("town.tree")
                town.project.step("archive")
                town.sql("INSERT INTO tree VALUES (8, 0, NULL)", "DELETE FROM tree WHERE k = 7")
                [outcome] = town.project.step("archive")
                self.assertEqual(outcome.edits["append"], 2)
                self.assertEqual(town.project.step("archive")[0].outcome, "nothing")
                names = sorted(
                    path.relative_to(town.path / "archive" / "tree").as_posix()
                    for path in (town.path / "archive" / "tree").rglob(f"*.{form}")
                )
                days = {name.partition("/")[0] for name in names}
                self.assertTrue(all(day.startswith("date=20") for day in days))
                kinds = sorted(name.split("/", 1)[1] for name in names)
                self.assertEqual(
                    kinds,
                    sorted(
                        [
                            f"b=none/archive-00000002.{form}",
                            f"b=oak/archive-00000001.{form}",
                            f"b=oak/archive-00000002.{form}",
                        ]
                    ),
                )
                self.assertEqual([one.kind for one in town.project.ledger("archive")], ["snapshot", "changes"])

    def test_more_partitions_than_may_be_open_at_a_time(self) -> None:
        rows = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 70000) INSERT INTO tree SELECT i, 0, i % 5 FROM n"
        text = ARCHIVE.format(first="beginning", format="parquet").replace('["date", "b"]', '["b"]')
        limits = mock.patch.multiple("plainstep.stores.files.target", MOST_OPEN=2, AT_ONCE=10_000)
        with Town(TREE, loads=text) as town, limits:
            town.project.capture_on("town.tree")
            town.sql(rows)
            [outcome] = town.project.step("archive")
            self.assertEqual(outcome.edits["append"], 70000)
            self.assertEqual(self.rows(town), [(n, "insert") for n in range(1, 70001)])
            files = list((town.path / "archive" / "tree").rglob("*.parquet"))
            self.assertTrue(any(path.name.endswith("-2.parquet") for path in files))
            folders = {path.parent.name for path in files}
            self.assertEqual(folders, {f"b={n}" for n in range(5)})
            self.assertTrue(town.project.check("archive")[0].ok)

    def test_what_is_no_journal_is_refused_at_once(self) -> None:
        with (
            Town(
                TREE,
                loads=ARCHIVE.format(first="head", format="csv")
                .replace('shape = "journal"', "")
                .replace('format = "csv"', "")
                .replace('partition = ["date", "b"]', ""),
            ) as town,
            self.assertRaisesRegex(plainstep.ConfigError, "Only a journal is appended to"),
        ):
            _ = town.project


if __name__ == "__main__":
    unittest.main()
