"""What both halves of the suite share: a project with the store, a captured table beside it, and what is compared."""

from __future__ import annotations

import itertools
import os
import shutil
import signal
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any
from unittest import TestCase
from unittest.mock import patch

from plainstep.core.changes.collapse import Collapser
from plainstep.deferred import pa
from plainstep.project import Project
from plainstep.project_file import load_project
from plainstep.stores.capabilities import HasCapture
from plainstep.testing.harness import Harness
from plainstep.testing.histories import Row
from plainstep.testing.processes import Script
from plainstep.workspace import Workspace

SCHEMA = {"k": "int64", "a": "int64", "b": "string"}
VALUES: list[Row] = [
    {"a": 1, "b": "oak"}, {"a": 2, "b": None}, {"a": None, "b": ""}, {"a": 2, "b": "elm"}, {"a": -7, "b": "lime 'n' \\ \"lime\"\n"},
]  # fmt: skip
# Values that are easily spoilt on the way, of every type that a store should hold.
AWKWARD = 'Größe "x" of [select] 木'
EVERY_TYPE: dict[str, list[Any]] = {
    "int64": [2**63 - 1, -(2**63), None],
    "string": ["", "NULL", "a,b;\t'\"\n\\N 木"],
    "double": [0.1, -1e300, None],
    "bool": [True, False, None],
    "decimal128(12, 3)": [Decimal("-123456789.125"), Decimal("0.000"), None],
    "date32[day]": [date(1, 1, 1), date(9999, 12, 31), None],
    "timestamp[us]": [datetime(2026, 3, 29, 2, 30, 0, 1), datetime(1969, 12, 31, 23, 59, 59, 999999), None],
    "timestamp[us, tz=UTC]": [datetime(2026, 10, 25, 1, 30, tzinfo=UTC), datetime(1900, 1, 1, tzinfo=UTC), None],
    "binary": [b"", b"\x00\xff'", None],
}
# A step in another process.
STEP = (
    "import sys, plainstep; print(plainstep.load_project(sys.argv[1]).step(sys.argv[2], raise_errors=False)[0].outcome)"
)


def types() -> dict[str, pa.DataType]:
    """Arrow's types by their names."""
    known = [pa.int64(), pa.string(), pa.float64(), pa.bool_(), pa.decimal128(12, 3), pa.date32(), pa.timestamp("us"),
             pa.timestamp("us", "UTC"), pa.binary()]  # fmt: skip
    return {str(kind): kind for kind in known}


def schema_of(columns: dict[str, str]) -> pa.Schema:
    """A schema out of columns and the names of their types."""
    kinds = types()
    return pa.schema([(name, kinds[kind]) for name, kind in columns.items()])


# Bytes in which three or four net changes fit: with fewer, a lake table of some rows has as many files.
LITTLE = 300


@contextmanager
def little_memory(little: bool = True) -> Iterator[None]:
    """While this lasts, hardly any rows fit in memory: windows of a few keys are merged in rounds, as those of millions are."""
    with ExitStack() as stack:
        if little:
            stack.enter_context(patch.object(Workspace, "rows", LITTLE))
            stack.enter_context(patch.object(Collapser, "SMALLEST", 1))
        yield


if TYPE_CHECKING:
    _Case = TestCase
else:  # what is imported into a module of tests must be no test of its own
    _Case = object


class Conformance(_Case):
    """Makes a project with the store (``tested``) and a SQLite file beside it (``here``)."""

    harness_of: type[Harness]
    #: How many histories are tried.
    histories = 12

    def setUp(self) -> None:
        """Make a folder, and the harness in it."""
        self.folder = Path(tempfile.mkdtemp(prefix="plainstep-conformance-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.harness = self.harness_of(self.folder)
        self.addCleanup(self.harness.close)
        self.config = self.folder / "plainstep.toml"
        self.loads = ""

    def project_with(self, *loads: str) -> Project:
        """A project with some loads, as plainstep.toml has them."""
        stores = f'[stores.tested]\nurl = {_toml(self.harness.url)}\n[stores.here]\nurl = "sqlite:///here.db"\n'
        self.config.write_text(stores + "".join(loads))
        return load_project(self.config)

    def load(self, name: str, source: str, into: str, **said: str) -> str:
        """A load, as plainstep.toml has it."""
        if source.startswith("tested.") and not self.harness.has_keys:
            said.setdefault("key", '["k"]')
        if source.startswith("tested."):
            said = self.harness.said(source.partition(".")[2]) | said
        lines = [f"[loads.{_toml(name)}]", f"from = {_toml(source)}", f"into = {_toml(into)}"]
        return "\n".join([*lines, *(f"{setting} = {value}" for setting, value in said.items())]) + "\n"

    def captured(self, project: Project, place: str, how: str) -> None:
        """Turn capture on, where the store must be asked for it."""
        if isinstance(project.stores[place.partition(".")[0]], HasCapture):
            project.capture_on(place, how=how)

    def rows_of(self, project: Project, load: str, schema: pa.Schema) -> list[Row]:
        """What the target of a load holds, by key."""
        one = project.load(load)
        batches = list(one.target.rows(one.into_table, schema))
        return sorted(pa.Table.from_batches(batches, schema).to_pylist(), key=lambda row: str(row["k"]))

    def equal(self, project: Project, load: str, rows: dict[Any, Row], schema: pa.Schema) -> None:
        """The target of a load holds these rows, and status and check say so."""
        self.assertEqual(self.rows_of(project, load, schema), sorted(rows.values(), key=lambda row: str(row["k"])))
        [status] = project.status(load)
        self.assertEqual((status.health, status.reason), ("ok", ""))
        [check] = project.check(load)
        self.assertTrue(check.ok, check)

    def once(self, project: Project, load: str) -> None:
        """The ledger tells of every step once: each goes on where the one before it ended."""
        steps = project.ledger(load)
        self.assertEqual([one.step for one in steps], list(range(1, len(steps) + 1)))
        for one, other in itertools.pairwise(steps):
            self.assertEqual(one.upto, other.after)

    def step_elsewhere(self, load: str) -> Script:
        """Begin a step in another process."""
        return Script(STEP, (str(self.config), load), self.folder, os.environ)

    def kill_steps(self, load: str, times: int, between: Any) -> None:
        """Kill steps of a load at one moment after another, from their very beginning to after their end."""
        begun = time.monotonic()
        child = self.step_elsewhere(load)
        told, _ = child.communicate(timeout=120)
        self.assertIn(told.strip(), ("stepped", "nothing"))
        whole = time.monotonic() - begun
        for turn in range(times):
            between(turn)
            child = self.step_elsewhere(load)
            time.sleep(whole * 1.1 * turn / times)
            child.send_signal(signal.SIGKILL)
            child.communicate(timeout=120)


def _toml(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'
