"""What a store must keep to that loads read from."""

from __future__ import annotations

from typing import Any

from msgspec import structs

from plainstep.errors import Refused
from plainstep.project import Project
from plainstep.project_file import load_project
from plainstep.stores.api import DivisibleSource
from plainstep.testing.conformance import AWKWARD, EVERY_TYPE, SCHEMA, VALUES, Conformance, schema_of
from plainstep.testing.histories import Act, Row, history

TABLE = "tree"


class Following(Conformance):
    """A mirror of the store's table, in a SQLite file."""

    def following(self, **said: str) -> Project:
        """A project with a mirror of the store's table, in a SQLite file."""
        self.schema = schema_of(SCHEMA)
        said.setdefault("changes", f'"{self.harness.method}"')
        loads = [
            self.load(name, f"tested.{self.harness.named(TABLE)}", f"here.{name}", **said)
            for name in ("often", "seldom")
        ]
        project = self.project_with(*loads)
        self.harness.create(TABLE, self.schema, ["k"])
        self.captured(project, f"tested.{self.harness.named(TABLE)}", self.harness.method)
        return project


class SourceConformance(Following):
    """The suite for a store that tells the changes of its tables.

    Inherit it, ``unittest.TestCase``, and those of the other suites here that the store claims; and name the harness:
    ``harness_of = MyHarness``.
    """

    def test_truth_and_any_cut(self) -> None:
        """After every step the mirror is the source; and however changes are cut into windows, it ends the same."""
        for seed in range(self.histories):
            with self.subTest(seed=seed):
                self.setUp()
                project = self.following()
                rows: dict[Any, Row] = {}
                for part in range(4):
                    self.harness.write(TABLE, history(seed * 10 + part, rows, 2 + 5 * part, VALUES))
                    project.step("often")
                    self.equal(project, "often", rows, self.schema)
                    if part == 0:
                        project.step("seldom")
                project.step("seldom")
                self.equal(project, "seldom", rows, self.schema)
                self.once(project, "often")
                self.assertEqual({one.outcome for one in project.step()}, {"nothing"})

    def test_parts_of_a_window(self) -> None:
        """A step that takes so many changes at most stands between two transactions, and the next one goes on from there."""
        project = self.following(at_most="4")
        project.step()
        rows: dict[Any, Row] = {}
        states = [_listed(rows)]
        for part in range(8):
            before = dict(rows)
            acts = history(part, rows, 3, VALUES)
            self.harness.write(TABLE, acts)
            states += map(_listed, self.harness.stands(before, acts))
        if not isinstance(project.load("often").source, DivisibleSource):
            self._parts_are_refused(project, rows)
            return
        steps, place, more = 0, 0, True
        while more:
            [outcome] = project.step("often")
            steps, more = steps + 1, outcome.more
            stands = self.rows_of(project, "often", self.schema)
            self.assertIn(stands, states[place:])
            place = states.index(stands, place)
        self.assertGreater(steps, 2)
        self.equal(project, "often", rows, self.schema)
        self.once(project, "often")
        self.assertEqual([False], [one.more for one in project.step("seldom", until_done=True)][-1:])
        self.equal(project, "seldom", rows, self.schema)

    def _parts_are_refused(self, project: Project, rows: dict[Any, Row]) -> None:
        """Where a window cannot be cut, at_most is refused, and without it the step is made."""
        with self.assertRaisesRegex(Refused, "in parts") as caught:
            project.step("often")
        self.assertIn("Leave 'at_most' out", caught.exception.next)
        self.config.write_text(self.config.read_text().replace("at_most = 4\n", ""))
        project = load_project(self.config)
        project.step()
        self.equal(project, "often", rows, self.schema)

    def test_net_changes_tell_what_changed(self) -> None:
        """The old and the new values of every row that differs, and of no other."""
        project = self.following()
        rows: dict[Any, Row] = {}
        self.harness.write(TABLE, history(1, rows, 9, VALUES))
        project.step("often")
        before = dict(rows)
        self.harness.write(TABLE, history(2, rows, 30, VALUES))
        net = project.net("often").net
        self.assertEqual(net.read, project.look("often").total)
        told = {row["k"]: row["op"] for row in net.to_arrow().to_pylist()}
        wanted = {
            key: _op(before.get(key), rows.get(key)) for key in {*before, *rows} if before.get(key) != rows.get(key)
        }
        self.assertEqual({key: op for key, op in told.items() if key in wanted}, wanted)
        self.assertLessEqual({op for key, op in told.items() if key not in wanted}, {"update"})

    def test_every_type_and_awkward_names(self) -> None:
        """Values arrive as they are, whatever they are called."""
        every = {kind: values for kind, values in EVERY_TYPE.items() if self.harness.holds(kind)}
        columns = {"k": "int64", **{f"{AWKWARD} {number}": kind for number, kind in enumerate(every)}}
        schema = schema_of(columns)
        rows = [
            {"k": turn, **{f"{AWKWARD} {number}": values[turn] for number, values in enumerate(every.values())}}
            for turn in range(3)
        ]
        project = self.project_with(
            self.load(
                "odd", f"tested.{self.harness.named(AWKWARD)}", f"here.{AWKWARD}", changes=f'"{self.harness.method}"'
            )
        )
        self.harness.create(AWKWARD, schema, ["k"])
        self.captured(project, f"tested.{self.harness.named(AWKWARD)}", self.harness.method)
        self.harness.write(AWKWARD, [Act(None, rows[0])])
        project.step()
        self.harness.write(AWKWARD, [Act(None, row) for row in rows[1:]])
        project.step()
        self.equal(project, "odd", {row["k"]: row for row in rows}, schema)

    def test_looking_changes_nothing(self) -> None:
        """What only looks moves no watermark, writes no ledger row, and takes nothing away from what is read next."""
        project = self.following()
        rows: dict[Any, Row] = {}
        self.harness.write(TABLE, history(3, rows, 9, VALUES))
        project.step("often")
        self.harness.write(TABLE, history(4, rows, 9, VALUES))
        before = (self._standing(project), project.look("often").changes.table)
        for _ in range(2):
            project.net("often")
            project.status()
            project.trace("often", "1")
            project.check("often")
            project.ledger()
        self.assertEqual((self._standing(project), project.look("often").changes.table), before)

    def _standing(self, project: Project) -> Any:
        load = project.load("often")
        return load.target.watermark("often"), load.source.span(), [structs.asdict(one) for one in project.ledger()]


class OpenTransactions(Following):
    """The suite for a store whose writers have transactions.

    Attributes:
        several_writers: whether there may be several at a time.
    """

    several_writers = True

    def test_a_transaction_that_stays_open(self) -> None:
        """What is committed late is merged late, and not passed over."""
        project = self.following()
        rows: dict[Any, Row] = {}
        project.step("often")
        late = [Act(None, {"k": 100 + number, "a": number, "b": "late"}) for number in range(3)]
        with self.harness.held_open(TABLE, late):
            self.meanwhile(project, rows)
        project.step("often")
        self.equal(project, "often", rows | {act.now["k"]: act.now for act in late if act.now}, self.schema)

    def meanwhile(self, project: Project, rows: dict[Any, Row]) -> None:
        """Others write, and a step is made; where the store lets one writer in at a time, only the step."""
        if self.several_writers:
            self.harness.write(TABLE, history(5, rows, 9, VALUES))
        project.step("often", raise_errors=False)


class Trimmed(Following):
    """The suite for a store in which ``trim`` forgets changes."""

    def test_what_was_trimmed_is_refused_and_reload_fixes_it(self) -> None:
        """A load that stands before what is still held is told so, and goes on after the remedy."""
        project = self.following()
        rows: dict[Any, Row] = {}
        for part in range(2):
            self.harness.write(TABLE, history(part, rows, 9, VALUES))
            project.step()
        project.move_watermark("seldom", "start")
        self.harness.write(TABLE, history(7, rows, 9, VALUES))
        project.step("often")
        load = project.load("seldom")
        load.source.trim([project.load("often").source.span().end])
        self.assertRaises(Refused, project.step, "seldom")
        self.assertEqual(project.status("seldom")[0].health, "refuses")
        project.reload("seldom")
        project.step("seldom")
        self.equal(project, "seldom", rows, self.schema)


class Captured(Following):
    """The suite for a store in which capture is turned on and off."""

    def test_a_capture_that_was_off_meanwhile_is_refused_and_reload_fixes_it(self) -> None:
        """What changed while nobody recorded it is not silently missing."""
        project = self.following()
        rows: dict[Any, Row] = {}
        self.harness.write(TABLE, history(1, rows, 9, VALUES))
        project.step()
        project.capture_off(f"tested.{self.harness.named(TABLE)}", how=self.harness.method, really=True)
        self.harness.write(TABLE, history(2, rows, 9, VALUES))
        self.assertRaises(Refused, project.step, "often")
        project.capture_on(f"tested.{self.harness.named(TABLE)}", how=self.harness.method)
        self.assertRaises(Refused, project.step, "often")
        project.reload("often")
        self.equal(project, "often", rows, self.schema)


class KilledReaders(Following):
    """The suite for a store that other processes see."""

    def test_steps_that_are_killed(self) -> None:
        """Whenever a step is killed, the next one goes on: nothing is lost, and nothing is merged twice."""
        project = self.following()
        rows: dict[Any, Row] = {}
        self.harness.write(TABLE, history(1, rows, 9, VALUES))
        self.kill_steps("often", 6, lambda turn: self.harness.write(TABLE, history(turn, rows, 9, VALUES)))
        project.step("often")
        self.equal(project, "often", rows, self.schema)
        self.once(project, "often")


def _op(was: Row | None, now: Row | None) -> str:
    return "insert" if was is None else "delete" if now is None else "update"


def _listed(rows: dict[Any, Row]) -> list[Row]:
    """Rows as ``rows_of`` lists them."""
    return sorted(rows.values(), key=lambda row: str(row["k"]))
