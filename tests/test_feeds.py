"""Feeds that are not our own capture, through whole steps: truncates, parts of rows, latest states, bare keys.

The source here is a list in memory behind the same protocol that every source has; the targets are real.
"""

from __future__ import annotations

import contextlib
import itertools
import unittest
import unittest.mock
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from importlib.metadata import EntryPoint
from pathlib import Path
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.changes.batch import Changes, as_changes
from plainstep.core.changes.parts import NetParts
from plainstep.core.diff import compared, difference
from plainstep.core.points import parse_point
from plainstep.core.positions import Position, Span, Waiting, Watermark, Window, continuity_error
from plainstep.core.schema_drift import Fit, fit, holds, widens
from plainstep.core.shapes.base import StepContext, TargetReader, WindowParts
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.mirror import Mirror
from plainstep.loads.check import check
from plainstep.loads.load import Load
from plainstep.loads.reload import reload
from plainstep.loads.step import step
from plainstep.settings.load import LoadConfig
from plainstep.settings.reading import read_settings
from plainstep.sources.factory import SourceFactory
from plainstep.stores import registry
from plainstep.stores.capabilities import BaseStore, with_target
from plainstep.stores.records import Batches, Snapshot
from plainstep.stores.registry import open_store
from tests.histories import ROW, Model, Row, flat, histories, merged
from tests.support import WITHOUT_SHRINKING, Town, examples

BEGAN = datetime(2026, 3, 2, 9, tzinfo=UTC)


class Feed:
    """A source that is a list of changes, delivered in small batches that overlap."""

    is_managed = False
    overlaps = False
    has_exact_operations = True

    def __init__(self, model: Model, form: str = "whole") -> None:
        self.model, self.form = model, form
        self.has_before_images = form != "bare keys"

    def key(self) -> tuple[str, ...]:
        return ("k",)

    def warnings(self) -> list[str]:
        return []

    def schema(self) -> pa.Schema:
        return ROW

    def span(self) -> Span:
        head = len(self.model.changes)
        return Span("feed", 0, head, self.time_of(Position(head)))

    def time_of(self, position: Position) -> datetime | None:
        return BEGAN + timedelta(minutes=position.number) if position.number else None

    def waiting(self, window: Window) -> Waiting:
        return Waiting(None, window.upto > window.after)

    def locate(self, point: int | datetime) -> Position:
        return Position(point if isinstance(point, int) else int((point - BEGAN).total_seconds() // 60))

    def read(self, window: Window) -> Batches:
        return Batches(self.batches(window))

    def batches(self, window: Window) -> Iterator[Changes]:
        changes = [self.said(change) for change in self.model.changes[window.after : window.upto]]
        left_out = ["was.a", "was.b"] if self.form == "bare keys" else []
        yield as_changes(flat([]).drop_columns(left_out))
        for at in range(0, len(changes), 3):
            yield as_changes(flat(changes[max(0, at - 1) : at + 3]).drop_columns(left_out))

    def said(self, change: Row) -> Row:
        """The change as this feed would tell it."""
        was, now = change["was"], change["now"]
        if self.form == "latest" and change["op"] == "insert":
            return change | {"op": "put"}
        if self.form == "latest" and change["op"] == "update" and was["k"] == now["k"]:
            return change | {"op": "put", "was": None}
        if self.form == "parts" and change["op"] == "update" and was["k"] == now["k"]:
            given = [name for name in ("a", "b") if was[name] != now[name]]
            part = {"k": now["k"], **{name: now[name] for name in given}}
            return change | {"now": part, "given": given}
        return change

    def reserve(self) -> None:
        pass

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        pass

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        rows = pa.Table.from_pylist(list(self.model.rows.values()), ROW)
        yield Snapshot(self.span(), ROW, iter(rows.to_batches()))

    def trim(self, positions: Any) -> int:
        raise NotImplementedError


class Given(SourceFactory):
    """Opens one source for every load."""

    def __init__(self, feed: Any) -> None:
        self.feed = feed

    def whole(self, load: Load) -> Any:
        return self.feed

    def taken(self, load: Load, whole: Any) -> Any:
        return whole


def load_of(feed: Feed, url: str, folder: Path, **settings: Any) -> Load:
    config = read_settings(LoadConfig, {"from": "feed.tree", "into": "t.tree", **settings})
    store = with_target(open_store("t", url, folder))
    return Load(Given(feed), "tree", config, store, "tree", store, "tree")


def rows_of(load: Load) -> dict[int, Row]:
    return {row["k"]: row for batch in load.target.rows("tree", ROW) for row in batch.to_pylist()}


class Steps(unittest.TestCase):
    @given(st.lists(histories, min_size=1, max_size=3), st.sampled_from(["whole", "latest", "bare keys", "parts"]))
    @settings(max_examples=examples(15), deadline=None, phases=WITHOUT_SHRINKING)
    def test_every_form_ends_the_same(self, parts: list[Any], form: str) -> None:
        with Town() as town:
            model = Model().play([("insert", 1, {"a": 1, "b": "oak"})])
            loads = [load_of(Feed(model, form), url, town.path) for url in ("duckdb:///f.duckdb", "sqlite:///f.db")]
            for part in [[], *parts]:
                model.play(part)
                for load in loads:
                    outcome = step(load)
                    self.assertIsNone(outcome.error)
                    self.assertEqual(rows_of(load), model.rows)
                    self.assertTrue(check(load).ok)

    def test_half_a_row_is_never_inserted(self) -> None:
        for url in ("duckdb:///f.duckdb", "sqlite:///f.db"):
            with self.subTest(url), Town() as town:
                model = Model().play([("insert", 1, {"a": 1, "b": "oak"}), ("insert", 9, {"a": 9, "b": "yew"})])
                load = load_of(Feed(model, "parts"), url, town.path)
                step(load)
                with load.into_store.opened(False) if "duckdb" in url else load.into_store.opened("rw") as connection:  # type: ignore[attr-defined]
                    connection.execute("DELETE FROM tree WHERE k = 1")
                model.play([("update", 1, {"a": 2, "b": "oak"}), ("insert", 2, {"a": 1, "b": "elm"})])
                outcome = step(load)
                self.assertEqual((outcome.outcome, list(rows_of(load))), ("refused", [9]))
                self.assertIn("part of a row", str(outcome.error))
                self.assertFalse(check(load).ok)
                self.assertEqual(reload(load).net["insert"], 2)
                self.assertEqual(rows_of(load), model.rows)

    def test_a_row_that_came_and_went_is_dropped_all_the_same(self) -> None:
        net = plainstep.collapse(
            flat(Model().play([("insert", 1, {"a": 1, "b": None}), ("delete", 1, None)]).changes), "k"
        )
        schema = pa.schema([("k", pa.int64()), ("a", pa.int64()), ("b", pa.string())])
        now = StepContext(datetime.now(UTC), 1, 2)

        def edits(deletes: str, own: bool) -> Edits:
            mirror = Mirror(schema, ("k",), deletes, is_managed=own)
            [[found]] = mirror.rounds(WindowParts.of(net), now, unittest.mock.create_autospec(TargetReader))
            return found

        self.assertEqual(edits("drop", own=True).drop.num_rows, 0)
        self.assertEqual(edits("drop", own=False).clean.to_pylist(), [{"k": 1}])
        self.assertEqual(edits("ignore", own=False).drop, None)

    def test_one_loads_trouble_does_not_hold_up_the_others(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INTEGER, b TEXT)") as town:
            town.project.capture_on("town.tree")
            (town.path / "house.duckdb").write_text("no database" * 100)
            with self.assertRaises(plainstep.StoreError):
                town.project.step()
            self.assertEqual([one.outcome for one in town.project.step(raise_errors=False)], ["failed", "nothing"])
            result = town.run("step")
            self.assertEqual(result.exit_code, 1)
            self.assertIn("shed", result.output)


class OtherPeoplesStore(BaseStore):
    """A store as another package would add it."""

    methods = ("log",)

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.place, self.wait = name, url, url, wait

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> Feed:
        return Feed(Model().play([("insert", 1, {"a": 1, "b": table}), ("insert", 2, {"a": 2, "b": None})]))

    def moment(self, tables: Any) -> contextlib.AbstractContextManager[None]:
        return contextlib.nullcontext()


class EntryPoints(unittest.TestCase):
    def test_a_store_from_another_package_is_found_by_its_scheme(self) -> None:
        point = EntryPoint("feed", f"{__name__}:OtherPeoplesStore", "plainstep.stores")
        registry._others.cache_clear()
        self.addCleanup(registry._others.cache_clear)
        with (
            Town() as town,
            unittest.mock.patch("plainstep.stores.registry.metadata.entry_points", return_value=[point]),
        ):
            loads = '[loads.feed]\nfrom = "line.oak"\ninto = "house.oak"\nchanges = "log"\n[stores.line]\nurl = "feed://anywhere"\nwait = 3\n'
            town.config.write_text(town.config.read_text().replace("[loads.house]", loads + "[loads.house]", 1))
            project = town.project
            self.assertEqual(project.step("feed")[0].outcome, "stepped")
            self.assertEqual(town.rows("house", "oak"), [(1, 1, "oak"), (2, 2, None)])
            self.assertEqual(project.step("feed")[0].outcome, "nothing")
            self.assertTrue(project.check("feed")[0].ok)
            self.assertEqual(project.captures("line"), [])
        registry._others.cache_clear()
        with Town() as town:
            town.config.write_text('[stores.line]\nurl = "feed://anywhere"\n')
            self.assertIn("no store is known for 'feed'", town.run("status").output)


class Pure(unittest.TestCase):
    """What decides, without a store."""

    @given(histories, histories, histories)
    @settings(max_examples=examples(100), deadline=None)
    def test_a_difference_makes_two_tables_equal(self, here: Any, there: Any, later: Any) -> None:
        target, source = Model().play(here), Model().play(there)
        tables = [pa.Table.from_pylist(list(model.rows.values()), ROW).to_batches() for model in (target, source)]
        net, count = difference(("k",), ROW, *tables)
        self.assertEqual(merged(target.rows, net), source.rows)
        self.assertEqual(count, len(target.rows))
        self.assertEqual(len(net) == 0, target.rows == source.rows)
        # What still waits is undone, so that a target that is merely behind has no difference.
        before, seen = dict(source.rows), len(source.changes)
        source.play([act for act in later if act[0] != "truncate"])
        waiting = plainstep.collapse(flat(source.changes[seen:]), "k")
        now = pa.Table.from_pylist(list(source.rows.values()), ROW).to_batches()
        then = pa.Table.from_pylist(list(before.values()), ROW).to_batches()
        with compared(("k",), ROW, then, now, NetParts.of(waiting)) as found:
            self.assertEqual((found.missing, found.extra, found.different), (0, 0, 0))

    def test_points_people_write(self) -> None:
        self.assertEqual([parse_point(text) for text in ("17", " head ", "start")], [17, "head", "start"])
        self.assertEqual(parse_point("2026-03-02T09:00Z"), BEGAN)
        self.assertEqual(parse_point("2026-03-02T10:00+01:00"), BEGAN)
        local = parse_point("2026-03-02")
        assert isinstance(local, datetime)
        self.assertEqual(local.astimezone().strftime("%H:%M"), "00:00")
        for text in ("", "noon", "-3", "1.5", "2026-13-01"):
            with self.assertRaises(plainstep.ConfigError):
                parse_point(text)
        with self.assertRaises(plainstep.ConfigError):
            Window(5, 4)

    @given(st.integers(0, 9), st.integers(0, 9), st.integers(0, 9), st.booleans(), st.booleans())
    def test_going_on_is_refused_just_when_something_would_be_lost(
        self, position: int, oldest: int, more: int, same: bool, same_time: bool
    ) -> None:
        watermark = Watermark("tree", "a", position, BEGAN, 1)
        span = Span("a" if same else "b", oldest, oldest + more)
        made_at = BEGAN if same_time else BEGAN + timedelta(seconds=1)
        held = oldest <= position <= oldest + more
        refusal = continuity_error(watermark, span, made_at if held else None)
        fine = same and held and same_time
        self.assertEqual(refusal is None, fine)
        if refusal:
            self.assertIn("plainstep reload tree", refusal.next)
        cleared = continuity_error(watermark, Span("a", oldest, oldest + more), None)
        self.assertIsNotNone(cleared)

    def test_columns_that_fit(self) -> None:
        wanted = pa.schema([("k", pa.int64()), ("cost", pa.decimal128(8, 2)), ("b", pa.string())])
        wider = pa.schema([("b", pa.large_string()), ("cost", pa.decimal128(12, 3)), ("k", pa.int32())])
        self.assertEqual(fit("t", "house.t", wanted, wider, started=False), Fit())
        fewer = pa.schema([("k", pa.int64()), ("b", pa.string())])
        self.assertEqual(fit("t", "house.t", wanted, fewer, started=True), Fit(added=["cost"]))
        more = wanted.append(pa.field("mine", pa.string()))
        other = pa.schema([("k", pa.int64()), ("cost", pa.decimal128(6, 2)), ("b", pa.string())])
        self.assertEqual(fit("t", "house.t", wanted, other, started=True), Fit(widened=["cost"]))
        self.assertEqual(
            fit("t", "house.t", wanted, more, started=True, dropped=["mine"]).note, "no longer arriving: mine"
        )
        refused = [(fewer, False, "add"), (more, True, "add"), (more, False, "add"), (other, False, "add")]
        refused += [(found, True, "refuse") for found in (fewer, more, other)] + [(other, True, "ignore")]
        for found, started, drift in refused:
            with self.subTest(found=found, drift=drift), self.assertRaises(plainstep.Refused):
                fit("t", "house.t", wanted, found, started, drift=drift)
        kinds = [pa.int64(), pa.float64(), pa.string(), pa.date32(), pa.decimal128(8, 2), pa.bool_()]
        for left, right in itertools.product(kinds, repeat=2):
            self.assertEqual(holds(left, right), left == right)
            self.assertFalse(widens(left, right))


if __name__ == "__main__":
    unittest.main()
