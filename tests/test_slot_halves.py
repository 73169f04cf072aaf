"""A large window of PostgreSQL's log, read in halves that the server makes at once: the same changes, whatever happens to either."""

from __future__ import annotations

import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from unittest.mock import patch

import psycopg
import pyarrow as pa

from plainstep.core.positions import Window
from plainstep.errors import LostConnection
from plainstep.loads.load import Load
from plainstep.stores.postgresql.capture import slot_messages as slots
from tests.postgres import TREE, Database, park

# What other sessions do, each statement in turn: transactions that cross each other, one that is undone in part, and a truncate.
CROSSING = (
    (0, "BEGIN; INSERT INTO tree SELECT n, n, 'first' FROM generate_series(1, 400) n"),
    (1, "INSERT INTO tree SELECT n, n, 'second' FROM generate_series(401, 900) n"),
    (0, "SAVEPOINT s; UPDATE tree SET b = 'undone'; ROLLBACK TO s; UPDATE tree SET b = 'kept' WHERE k < 50"),
    (1, "BEGIN; DELETE FROM tree WHERE k BETWEEN 401 AND 500"),
    (0, "COMMIT"),
    (2, "UPDATE tree SET k = k + 10000 WHERE k BETWEEN 600 AND 610"),
    (1, "COMMIT"),
    (2, "BEGIN; INSERT INTO tree VALUES (5000, 1, 'undone'); ROLLBACK"),
    (2, "TRUNCATE tree"),
    (0, "INSERT INTO tree SELECT n, n, repeat('long', 400) FROM generate_series(1, 300) n"),
    (1, "UPDATE tree SET a = 7 WHERE k = 1"),
)  # fmt: skip


@contextmanager
def written() -> Iterator[tuple[Database, Load, Window]]:
    """A table with changes that wait, the load that reads them, and their window."""
    with park(TREE, how="log") as (source, _, town):
        town.project.step("into_duckdb")
        writers = [source.connect() for _ in range(3)]
        for who, statement in CROSSING:
            writers[who].execute(statement)
        for writer in writers:
            writer.close()
        load = town.project.load("into_duckdb")
        watermark = load.target.watermark(load.name)
        assert watermark is not None
        yield source, load, Window.between(watermark.reached, load.source.span().end)


def read(load: Load, window: Window, first_half: float | None = None) -> pa.Table:
    """The changes of a window: as a whole, or cut so far into it."""
    with (
        patch.object(slots, "WORTH_HALVING", 1 if first_half is not None else 1 << 60),
        patch.object(slots, "FIRST_HALF", first_half),
    ):
        return pa.concat_tables(changes.table for changes in load.source.read(window))


def copies(source: Database) -> int:
    return len(source.rows("SELECT slot_name FROM pg_replication_slots WHERE slot_name LIKE 'plainstep_half%'"))


class Halves(unittest.TestCase):
    def test_wherever_it_is_cut_they_tell_what_the_whole_does(self) -> None:
        with written() as (source, load, window):
            whole = read(load, window)
            self.assertGreater(len(whole), 1_300)
            span = window.upto - window.after
            ends = sorted({position - 1 - window.after for position in whole["position"].to_pylist()})
            self.assertGreater(len(ends), 5)
            for place in (0, *(end + beside for end in ends for beside in (-1, 0, 1)), span // 2, span):
                with self.subTest(place=place, of=span):
                    self.assertTrue(read(load, window, place / span).equals(whole))
            self.assertEqual(copies(source), 0)

    def test_without_room_or_with_a_second_half_that_fails(self) -> None:
        with written() as (source, load, window):
            whole = read(load, window)
            with patch.object(slots, "ROOM", "SELECT false"):
                self.assertTrue(read(load, window, 0.5).equals(whole))
            with patch.object(slots, "ROOM", "SELECT this_fails"):
                self.assertTrue(read(load, window, 0.5).equals(whole))
            with patch.object(slots.Slot, "_begun", side_effect=psycopg.errors.QueryCanceled("a limit on time")):
                self.assertTrue(read(load, window, 0.5).equals(whole))
            self.assertEqual(copies(source), 0)

    def test_who_reads_no_further_leaves_nothing_behind(self) -> None:
        with written() as (source, load, window):
            whole = read(load, window)
            with patch.object(slots, "WORTH_HALVING", 1), patch.object(slots, "FIRST_HALF", 0.5):
                for batches in (1, 2):
                    reading = iter(load.source.read(window))
                    for _ in range(batches):
                        next(reading)
                    del reading
                    self.assertEqual(self.settled(source), 0)
            self.assertTrue(read(load, window).equals(whole))

    def test_a_second_half_whose_connection_is_cut(self) -> None:
        """The step is tried again, or the slot itself is read: never less than there is."""
        with written() as (source, load, window):
            whole = read(load, window)
            for pause in (0.0, 0.2):
                with patch.object(slots, "WORTH_HALVING", 1), patch.object(slots, "FIRST_HALF", 0.2):
                    reading = iter(load.source.read(window))
                    found = [next(reading), next(reading)]
                    time.sleep(pause)
                    source.sql("SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name LIKE 'plainstep_half%'")  # fmt: skip
                    try:
                        found += list(reading)
                    except LostConnection:
                        continue
                    self.assertTrue(pa.concat_tables(changes.table for changes in found).equals(whole))
            self.assertEqual(self.settled(source), 0)
            self.assertTrue(read(load, window, 0.5).equals(whole))

    def settled(self, source: Database) -> int:
        """How many copies are left, as soon as the server has ended what was cut off."""
        until = time.monotonic() + 10
        while copies(source) and time.monotonic() < until:
            time.sleep(0.05)
        return copies(source)
