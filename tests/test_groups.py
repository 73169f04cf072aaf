"""Loads that step together: to one moment, in one commit, and no foreign key between the targets is ever broken."""

from __future__ import annotations

import random
import sqlite3
import threading
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import plainstep
from tests.postgres import Database, cluster
from tests.support import Town

WARD = "CREATE TABLE ward (ward_id INTEGER PRIMARY KEY, name TEXT)"
TREE = "CREATE TABLE tree (tree_id INTEGER PRIMARY KEY, ward_id INTEGER REFERENCES ward (ward_id), height INTEGER)"
VISIT = "CREATE TABLE visit (visit_id INTEGER PRIMARY KEY, tree_id INTEGER REFERENCES tree (tree_id))"
TABLES = ("ward", "tree", "visit")
GROUP = """
[groups.register]
loads = ["ward", "tree"]
"""


def loads_into(store: str, url: str = "") -> str:
    more = f'\n[stores.{store}]\nurl = "{url}"\n' if url else ""
    return more + "".join(f'\n[loads.{name}]\nfrom = "town.{name}"\ninto = "{store}.{name}"\n' for name in TABLES)


class Writer:
    """Somebody who plants, fells and moves trees, all foreign keys being true at every commit."""

    def __init__(self, connect: Callable[[], Any], value: str = "?") -> None:
        self.connect, self.value = connect, value
        self.chance, self.stop = random.Random(11), threading.Event()
        self.thread = threading.Thread(target=self._write)

    def __enter__(self) -> Writer:
        self.thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stop.set()
        self.thread.join()

    def _write(self) -> None:
        connection = self.connect()
        number = 1000
        while not self.stop.is_set():
            number += 1
            tree, visit = number * 10, number * 100
            script = [
                ("INSERT INTO ward VALUES (?, 'new')", [number]),
                ("INSERT INTO tree VALUES (?, ?, 1)", [tree, number]),
                ("INSERT INTO visit VALUES (?, ?)", [visit, tree]),
                ("UPDATE ward SET name = name || '.' WHERE ward_id = ?", [number]),
            ]
            if self.chance.random() < 0.7:
                script += [
                    ("DELETE FROM visit WHERE visit_id = ?", [visit]),
                    ("DELETE FROM tree WHERE tree_id = ?", [tree]),
                ]
                script += [("DELETE FROM ward WHERE ward_id = ?", [number])]
            for sql, values in script:
                connection.execute(sql.replace("?", self.value), values)
            self.stop.wait(0.05)
        connection.close()


def _connect(town: Town) -> sqlite3.Connection:
    connection = sqlite3.connect(town.path / "town.db", timeout=30, isolation_level=None)
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


class Together(unittest.TestCase):
    @contextmanager
    def target(self, kind: str) -> Iterator[tuple[Town, Any]]:
        """A town whose target has foreign keys, and a way to run statements there."""
        create = [WARD, TREE, VISIT]
        if kind == "postgresql":
            with (
                Database(*create, server=cluster()) as database,
                Town(
                    "PRAGMA journal_mode = wal",
                    WARD,
                    TREE,
                    VISIT,
                    table="nothing",
                    loads=GROUP + loads_into("lake", database.url),
                ) as town,
            ):
                yield town, database.sql
            return
        store = {"duckdb": "house", "sqlite": "shed"}[kind]
        with Town(
            "PRAGMA journal_mode = wal", WARD, TREE, VISIT, table="nothing", loads=GROUP + loads_into(store)
        ) as town:
            if kind == "sqlite":
                town.sql(*create, store="shed")
                yield town, None
            else:
                yield town, None

    def test_no_foreign_key_is_ever_broken_while_others_write(self) -> None:
        for kind in ("duckdb", "sqlite", "postgresql"):
            with self.subTest(kind), self.target(kind) as (town, _):
                self.stay_whole(town, Writer(lambda town=town: _connect(town)))

    def test_nor_where_the_source_is_postgresql(self) -> None:
        for how in ("capture", "log"):
            with (
                self.subTest(how),
                Database(WARD, TREE, VISIT, server=cluster()) as source,
                self.target("postgresql") as (town, _),
            ):
                text = town.config.read_text().replace("sqlite:///town.db", source.url)
                town.config.write_text(text.replace('from = "town.', f'changes = "{how}"\nfrom = "town.'))
                [[begun]] = source.rows("SELECT pg_current_wal_lsn()::text")
                self.stay_whole(town, Writer(source.connect, "%s"), how)
                slots = source.rows(
                    "SELECT confirmed_flush_lsn > %s FROM pg_replication_slots WHERE database = current_database()",
                    [begun],
                )
                self.assertEqual(slots, [(True,)] * 3 if how == "log" else [])  # they let go of what is merged

    def stay_whole(self, town: Town, writer: Writer, how: str = "capture") -> None:
        """Step while somebody writes; a load joins the group in the middle of it."""
        for name in TABLES:
            town.project.capture_on(f"town.{name}", (), how)
        with writer:
            for _ in range(3):
                outcomes = town.project.step("ward")  # the group steps, whichever of its loads is named
                self.assertEqual([one.load for one in outcomes], ["ward", "tree"])
                self.agree(town)
            text = town.config.read_text().replace('loads = ["ward", "tree"]', 'loads = ["ward", "tree", "visit"]')
            town.config.write_text(text)
            for _ in range(3):  # one that is added later catches up by its own snapshot, in the group's commit
                town.project.step("visit")
                self.agree(town)
        town.project.step(*TABLES)
        for one in town.project.check(*TABLES):
            self.assertTrue(one.ok, one)
        kinds = [one.kind for one in town.project.ledger("visit")]
        self.assertEqual((kinds[0], set(kinds[1:])), ("snapshot", {"changes"}))

    def agree(self, town: Town) -> None:
        """Both stand at one moment: a tree whose ward is missing could not have been written."""
        for one in town.project.check("ward", "tree"):
            self.assertTrue(one.ok, one)

    def test_duckdb_cannot_remove_a_row_and_its_parent_at_once_and_says_so(self) -> None:
        import duckdb

        with self.target("duckdb") as (town, _):
            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                for statement in (WARD, TREE):
                    connection.execute(statement)
            for name in TABLES:
                town.project.capture_on(f"town.{name}")
            town.project.step("ward")
            town.sql("INSERT INTO ward VALUES (1, 'Coldwell')", "INSERT INTO tree VALUES (1, 1, 7)")
            town.project.step("ward")
            town.sql("UPDATE ward SET name = 'Eastfield'", "UPDATE tree SET height = 8")  # in place: others point there
            town.project.step("ward")
            town.sql("DELETE FROM tree", "DELETE FROM ward")
            found = town.project.step("ward", raise_errors=False)
            self.assertEqual([one.outcome for one in found], ["refused", "refused"])
            self.assertIn("without the foreign key", str(found[0].error))
            self.assertEqual(town.rows("house", "ward"), [(1, "Eastfield")])

    def test_what_is_refused_for_one_is_written_for_none(self) -> None:
        with self.target("sqlite") as (town, _):
            for name in TABLES:
                town.project.capture_on(f"town.{name}")
            town.project.step("ward")
            before = town.rows("shed", "ward")
            town.sql("INSERT INTO ward VALUES (1, 'Coldwell')", "INSERT INTO tree VALUES (1, 1, 'tall')")
            found = town.project.step("ward", raise_errors=False)
            self.assertEqual([one.outcome for one in found], ["refused", "refused"])
            self.assertEqual(town.rows("shed", "ward"), before)
            town.sql("UPDATE tree SET height = 7")
            town.project.capture_off("town.tree", really=True)

    def test_groups_that_cannot_be_are_refused_at_once(self) -> None:
        for loads, told in (
            ('["ward", "tre"]', "There is no load 'tre'"),
            ('["ward", "ward"]', "already"),
            ('["ward", "visit"]', "one target store"),
        ):
            text = GROUP.replace('["ward", "tree"]', loads) + loads_into("house").replace(
                '"house.visit"', '"shed.visit"'
            )
            with (
                self.subTest(loads),
                Town(table="nothing", loads=text) as town,
                self.assertRaisesRegex(plainstep.ConfigError, told),
            ):
                _ = town.project


if __name__ == "__main__":
    unittest.main()
