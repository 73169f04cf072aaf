"""Loads of one process that wait for each other: none waits for ever."""

from __future__ import annotations

import re
import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import duckdb

import plainstep
from plainstep.errors import LostConnection
from plainstep.loads.runner import Tick
from plainstep.properties import cached_property
from plainstep.stores.duckdb.connection import opened

CONFIG = """
[stores.north]
url = "duckdb:///north.duckdb"
[stores.south]
url = "duckdb:///south.duckdb"
[loads.down]
from = "north.tree"
into = "south.copy"
key = ["tree_id"]
changes = "diff"
[loads.up]
from = "south.tree"
into = "north.copy"
key = ["tree_id"]
changes = "diff"
"""
# Seconds after which somebody waits for ever.
FOR_EVER = 60.0


def at_once(*work: Callable[[], object]) -> list[BaseException]:
    """Do some work, each in a thread of its own; what they ended with, if not well."""
    errors: list[BaseException] = []

    def done(one: Callable[[], object]) -> None:
        try:
            one()
        except BaseException as error:
            errors.append(error)

    threads = [threading.Thread(target=done, args=[one], daemon=True) for one in work]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(FOR_EVER)
        if thread.is_alive():
            errors.append(TimeoutError("it waits for ever"))
    return errors


class Waiting(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_two_files_in_both_directions(self) -> None:
        """One of two threads gives way, and the other gets its turn."""
        north, south = (self.folder / f"{name}.duckdb" for name in ("north", "south"))
        have, gave_way = threading.Barrier(2, timeout=FOR_EVER), []

        def both(first: Path, second: Path) -> None:
            with opened(first, False, 1.0):
                have.wait()
                try:
                    with opened(second, False, 1.0):
                        pass
                except LostConnection as error:
                    gave_way.append(error)

        for _ in range(5):
            self.assertEqual(at_once(lambda: both(north, south), lambda: both(south, north)), [])
        self.assertEqual(len(gave_way), 5)

    def test_whoever_gave_way_gets_its_turn(self) -> None:
        """At the second try at the latest, however often the other one comes back for the two files."""
        north, south = (self.folder / f"{name}.duckdb" for name in ("north", "south"))
        done, tries = threading.Event(), []

        def both(first: Path, second: Path) -> bool:
            try:
                with opened(first, False, 1.0):
                    time.sleep(0.001)
                    with opened(second, False, 1.0):
                        return True
            except LostConnection:
                return False

        def some_times() -> None:
            for _ in range(40):
                tries.append(both(north, south) or both(north, south))
            done.set()

        def again_and_again() -> None:
            while not done.is_set():
                both(south, north)

        self.assertEqual(at_once(some_times, again_and_again), [])
        self.assertEqual(tries, [True] * 40)

    def test_run_of_loads_between_two_files(self) -> None:
        for name in ("north", "south"):
            with duckdb.connect(str(self.folder / f"{name}.duckdb")) as file:
                file.execute("CREATE TABLE tree (tree_id BIGINT PRIMARY KEY, girth_cm BIGINT)")
                file.execute("INSERT INTO tree SELECT n, n % 300 FROM range(5000) t(n)")
        (self.folder / "plainstep.toml").write_text(CONFIG)
        ticks: list[Tick] = []

        def tell(tick: Tick) -> None:
            ticks.append(tick)
            if len(ticks) > 40:
                runner.stop()

        runner = plainstep.load_project(self.folder / "plainstep.toml").run(every=timedelta(0), tell=tell)
        self.assertEqual(at_once(runner.run), [])
        self.assertEqual({tick.outcome.load for tick in ticks}, {"down", "up"})
        self.assertEqual([str(tick.outcome.error) for tick in ticks if tick.outcome.error], [])

    def test_a_property_holds_up_nobody(self) -> None:
        """Whoever computes a property of one object may wait for another thread, which asks another object for it."""
        meeting = threading.Barrier(2, timeout=FOR_EVER)

        class Table:
            @cached_property
            def columns(self) -> int:
                return meeting.wait() * 0 + 1

        tables = [Table(), Table()]
        self.assertEqual(at_once(*[lambda table=table: self.assertEqual(table.columns, 1) for table in tables]), [])
        self.assertEqual([vars(table) for table in tables], [{"columns": 1}] * 2)

    def test_no_other_properties_are_used(self) -> None:
        source = Path(plainstep.__file__).parent
        found = [
            path.name
            for path in source.rglob("*.py")
            if re.search("from functools import.* cached_property", path.read_text())
        ]
        self.assertEqual(found, [])


if __name__ == "__main__":
    unittest.main()
