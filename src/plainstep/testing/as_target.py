"""What a store must keep to that loads merge into."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import timedelta
from typing import Any
from unittest import mock

from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.states import LoadState
from plainstep.project import Project
from plainstep.project_file import load_project
from plainstep.sql.literals import quoted
from plainstep.testing.conformance import AWKWARD, EVERY_TYPE, SCHEMA, VALUES, Conformance, little_memory, schema_of
from plainstep.testing.histories import Act, Row, history

DECLARED = {
    "int64": "INTEGER", "string": "TEXT", "double": "REAL", "bool": "BOOLEAN", "decimal128(12, 3)": "DECIMAL(12,3)",
    "date32[day]": "DATE", "timestamp[us]": "TIMESTAMP", "timestamp[us, tz=UTC]": "TIMESTAMPTZ", "binary": "BLOB",
}  # fmt: skip
# Every shape, beside the mirror.
SHAPES = {
    "history": {"shape": '"history"'},
    "journal": {"shape": '"journal"'},
    "rollup": {"shape": '"rollup"', "by": '["b"]', "where": "\"b is not null\"",
               "measures": '{ n = "count(*)", total = "sum(a)", least = "min(a)", kinds = "count(distinct a)" }'},
    "events": {"shape": '"events"', "rules": '{ oak = "now.b = '"'"'oak'"'"'" }'},
}  # fmt: skip


class Followed(Conformance):
    """A captured SQLite table, and loads of it into the store.

    Attributes:
        keeps_rows: whether rows can be changed in the store; else it only holds journals.
    """

    keeps_rows = True

    def followed_by(self, columns: dict[str, str], table: str = "tree", **loads: dict[str, str]) -> Project:
        """A project with loads of a captured SQLite table into the store."""
        self.schema = schema_of(columns)
        declared = ", ".join(
            f"{quoted(name)} {DECLARED[kind]}{' PRIMARY KEY' if name == 'k' else ''}" for name, kind in columns.items()
        )
        self._sql(f"CREATE TABLE {quoted(table)} ({declared})")
        texts = [
            self.load(name, f"here.{table}", f"tested.{self.harness.named(name)}", **said)
            for name, said in loads.items()
        ]
        project = self.project_with(*texts)
        project.capture_on(f"here.{table}")
        return project

    def mirrored(self) -> Project:
        """A project with a mirror in the store; or where rows are only appended there, with a journal."""
        return self.followed_by(SCHEMA, mirror={} if self.keeps_rows else SHAPES["journal"])

    def equal(self, project: Project, load: str, rows: dict[Any, Row], schema: pa.Schema) -> None:
        """The target holds these rows, and status and check say so; of a journal, only these tell."""
        if self.keeps_rows:
            super().equal(project, load, rows, schema)
        self.assertEqual([one.health for one in project.status(load)], ["ok"])
        self.assertEqual([one.ok for one in project.check(load)], [True])

    def _sql(self, sql: str, parameters: Sequence[Any] = ()) -> None:
        with closing(sqlite3.connect(self.folder / "here.db", isolation_level=None)) as connection:
            connection.execute(sql, parameters)

    def write(self, acts: Sequence[Act], table: str = "tree") -> None:
        """Change the captured table."""
        on = quoted(table)
        for act in acts:
            if act.was is not None and (act.now is None or act.now["k"] != act.was["k"]):
                self._sql(f"DELETE FROM {on} WHERE k = ?", [act.was["k"]])
            if act.now is not None:
                names = ", ".join(map(quoted, act.now))
                watermarks = ", ".join("?" * len(act.now))
                self._sql(f"REPLACE INTO {on} ({names}) VALUES ({watermarks})", list(map(_adapted, act.now.values())))


class TargetConformance(Followed):
    """The suite for a store that loads merge into.

    Inherit it, ``unittest.TestCase``, and those of the other suites here that the store claims; and name the harness:
    ``harness_of = MyHarness``.

    Attributes:
        shapes: the shapes that it claims to hold beside ``mirror``.
    """

    shapes: Sequence[str] = ("history", "journal", "rollup", "events")

    def test_truth_and_any_cut(self) -> None:
        """After every step the mirror is the source; and however changes are cut into windows, it ends the same."""
        for seed in range(self.histories):
            with self.subTest(seed=seed):
                self.setUp()
                project = self.mirrored()
                rows: dict[Any, Row] = {}
                for part in range(4):
                    self.write(history(seed * 10 + part, rows, 1 + 5 * part, VALUES))
                    with little_memory(seed % 2 == 1):
                        project.step()
                        self.equal(project, "mirror", rows, self.schema)
                self.once(project, "mirror")
                self.assertEqual(project.step()[0].outcome, "nothing")

    def test_every_shape(self) -> None:
        """Every shape that is claimed is as its source has it, after every step."""
        project = self.followed_by(SCHEMA, "tree", **{name: SHAPES[name] for name in self.shapes})
        rows: dict[Any, Row] = {}
        for part in range(4):
            self.write(history(part, rows, 1 + 8 * part, VALUES))
            with little_memory(part % 2 == 1):
                project.step()
            for status in project.status():
                self.assertEqual((status.health, status.reason), ("ok", ""), status.load)
            for check in project.check():
                self.assertTrue(check.ok, check)
        self.assertEqual({one.outcome for one in project.step()}, {"nothing"})


class KeptVersions(Followed):
    """The suite for a store whose tables can be read as they stood before."""

    def test_the_target_as_it_stood(self) -> None:
        """After every step, the tables of all steps before it are there; and so is each row, though its changes were trimmed."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        kept: dict[int, tuple[Any, list[Row]]] = {}
        for part in range(6):
            self.write(history(part, rows, 6, VALUES))
            [outcome] = project.step()
            assert outcome.entry is not None
            kept[outcome.entry.step] = outcome.upto, sorted(rows.values(), key=lambda row: str(row["k"]))
        for number, (_, stood) in kept.items():
            then = project.load("mirror").at_step(number)
            assert then is not None
            batches = list(then.target.rows(then.into_table, self.schema))
            found = pa.Table.from_batches(batches, self.schema).to_pylist()
            self.assertEqual(sorted(found, key=lambda row: str(row["k"])), stood)
        self.assertIsNone(project.load("mirror").at_step(max(kept) + 1))
        for trimmed in (False, True):
            for upto, stood in kept.values():
                for key in range(8):
                    told = project.trace("mirror", str(key), at=upto)
                    want = next((row for row in stood if row["k"] == key), None)
                    self.assertEqual(told.target, want, (trimmed, upto, key))
                    self.assertTrue(told.row == want if told.known else trimmed, (trimmed, upto, key))
            project.trim("here", keep=timedelta(0), really=True)

    def test_a_check_beside_steps(self) -> None:
        """A check compares the table as it stood at the watermark, whatever is merged while it reads."""
        project = self.mirrored()
        self._sql("PRAGMA journal_mode = WAL")  # so that the source may be written while it is read
        rows: dict[Any, Row] = {}
        self.write(history(1, rows, 9, VALUES))
        [first] = project.step()
        held = LoadState.in_held_types

        def meanwhile(state: LoadState) -> LoadState:
            self.write(history(2, rows, 9, VALUES))
            [outcome] = load_project(self.config).step()
            self.assertEqual(outcome.outcome, "stepped")
            return held(state)

        with mock.patch.object(LoadState, "in_held_types", meanwhile):
            [check] = project.check()
        self.assertEqual((check.ok, check.position), (True, first.upto))
        self.equal(project, "mirror", rows, self.schema)


class RowTarget(Followed):
    """The suite for a store whose rows are changed."""

    def test_every_type_and_awkward_names(self) -> None:
        """Values are held as they are, whatever they are called."""
        columns = {"k": "int64", **{f"{AWKWARD} {number}": kind for number, kind in enumerate(EVERY_TYPE)}}
        project = self.followed_by(columns, AWKWARD, **{AWKWARD: {}})
        rows = {
            turn: {"k": turn, **{f"{AWKWARD} {n}": values[turn] for n, values in enumerate(EVERY_TYPE.values())}}
            for turn in range(3)
        }
        for row in rows.values():  # by the first load, and by those after it
            self.write([Act(None, row)], AWKWARD)
            project.step()
        self.equal(project, AWKWARD, rows, self.schema)

    def test_columns_that_come(self) -> None:
        """A column that the source has from now on comes to the target, with its values."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        self.write(history(1, rows, 9, VALUES))
        project.step()
        self._sql("ALTER TABLE tree ADD COLUMN c TEXT")
        project.capture_refresh("here.tree")
        rows[99] = {"k": 99, "a": 1, "b": "oak", "c": "new"}
        self.write([Act(None, rows[99])])
        project.step()
        schema = schema_of({**SCHEMA, "c": "string"})
        self.equal(project, "mirror", {key: {"c": None, **row} for key, row in rows.items()}, schema)

    def test_what_is_refused_leaves_everything_as_it_was(self) -> None:
        """Rows, watermark and ledger are written together, or nothing is."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        self.write(history(1, rows, 9, VALUES))
        project.step()
        text = self.config.read_text()
        self.config.write_text(text + "strict = true\n")
        strict = load_project(self.config)
        load = strict.load("mirror")
        held = self.rows_of(strict, "mirror", self.schema)
        strict.move_watermark("mirror", "start")  # what is merged once more contradicts what is there
        watermark = load.target.watermark("mirror")
        self.assertRaises(Refused, strict.step, "mirror")
        self.assertEqual(self.rows_of(strict, "mirror", self.schema), held)
        self.assertEqual(load.target.watermark("mirror"), watermark)
        strict.reload("mirror")
        self.equal(strict, "mirror", rows, self.schema)


class TablesOfOthers(Followed):
    """The suite for a store in which others make and drop tables."""

    def test_a_table_that_is_gone_is_refused_and_reload_fixes_it(self) -> None:
        """What was merged into a table that is gone is not silently missing from the next."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        self.write(history(1, rows, 9, VALUES))
        project.step()
        self.harness.drop("mirror")
        self.write(history(2, rows, 9, VALUES))
        self.assertRaises(Refused, project.step, "mirror")
        project.reload("mirror")
        self.equal(project, "mirror", rows, self.schema)

    def test_a_table_that_holds_rows_already_is_refused(self) -> None:
        """A first load does not mix with rows that somebody else put there."""
        project = self.mirrored()
        self.write([Act(None, {"k": 1, **VALUES[0]})])
        self.harness.create("mirror", self.schema, ["k"])
        self.harness.write("mirror", [Act(None, {"k": 5, **VALUES[0]})])
        self.assertRaises(Refused, project.step, "mirror")
        self.assertEqual(project.status("mirror")[0].health, "refuses")


class KilledWriters(Followed):
    """The suite for a store that other processes see."""

    def step_at_once(self) -> list[str]:
        """Three steps in three processes."""
        return [child.communicate(timeout=120)[0] for child in [self.step_elsewhere("mirror") for _ in range(3)]]

    def test_steps_that_are_killed(self) -> None:
        """Whenever a step is killed, the next one goes on: nothing is lost, and nothing is merged twice."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        self.write(history(1, rows, 9, VALUES))
        self.kill_steps("mirror", 6, lambda turn: self.write(history(turn, rows, 9, VALUES)))
        project.step()
        self.equal(project, "mirror", rows, self.schema)
        self.once(project, "mirror")


class RacingWriters(Followed):
    """The suite for steps at the same moment."""

    def step_at_once(self) -> list[str]:
        """Three steps in three threads."""

        def step(_: int) -> str:
            return load_project(self.config).step("mirror", raise_errors=False)[0].outcome

        with ThreadPoolExecutor(3) as pool:
            return list(pool.map(step, range(3)))

    def test_steps_that_race(self) -> None:
        """Of steps at the same moment, each window is merged by one."""
        project = self.mirrored()
        rows: dict[Any, Row] = {}
        project.step()
        for turn in range(4):
            self.write(history(turn, rows, 9, VALUES))
            self.assertLessEqual({one.strip() for one in self.step_at_once()}, {"stepped", "nothing", "failed"})
        project.step()
        self.equal(project, "mirror", rows, self.schema)
        self.once(project, "mirror")


def _adapted(value: Any) -> Any:
    """A value as Python's SQLite driver takes it."""
    return value if isinstance(value, int | float | str | bytes | None) else str(value)
