"""Capture in SQLite: whatever any client does, one change a change, with both images as they were."""

from __future__ import annotations

import contextlib
import itertools
import json
import shutil
import sqlite3
import threading
import time
import unittest
import unittest.mock
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.stores.sqlite.database import SqliteDatabase
from tests.sqlite_tables import AWKWARD, KINDS, statements
from tests.support import TREE, WITHOUT_SHRINKING, Town, examples

# The embedded stores of a town.
STORES = ("house", "shed")

scripts = st.lists(
    st.one_of(
        statements,
        st.builds("BEGIN;\n{}\n{}\n{};".format, statements, statements, st.sampled_from(["COMMIT", "ROLLBACK"])),
        st.builds("SAVEPOINT s;\n{}\nROLLBACK TO s;\n{}\nRELEASE s;".format, statements, statements),
    ),
    max_size=12,
)


def replayed(test: unittest.TestCase, before: dict[Any, Any], changes: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Replay changes one by one: each old image must be just what stands there."""
    rows = dict(before)
    for change in changes:
        was, now = change["was"], change["now"]
        if was is not None:
            test.assertEqual(rows.pop(name(was), None), was, change)
        if now is not None:
            test.assertNotIn(name(now), rows, change)
            rows[name(now)] = now
    return sorted(rows.values(), key=repr)


def name(row: dict[str, Any]) -> Any:
    return row["k"], row["a"] if "composite" in row else None


class Recording(unittest.TestCase):
    maxDiff = None

    def table(self, town: Town) -> list[dict[str, Any]]:
        connection = sqlite3.connect(town.path / "town.db")
        connection.row_factory = sqlite3.Row
        found = sorted((dict(row) for row in connection.execute("SELECT * FROM tree")), key=repr)
        connection.close()
        return found

    @given(st.sampled_from(list(KINDS)), scripts, scripts, st.sampled_from(["wal", "delete"]))
    @settings(max_examples=examples(120), deadline=None, phases=WITHOUT_SHRINKING)
    def test_every_change_once_with_both_images(self, kind: str, before: Any, script: Any, journal: str) -> None:
        from plainstep.display.records import changes

        with Town() as town:
            town.shell(f"PRAGMA journal_mode = {journal}; {KINDS[kind]};" + "\n".join(before))
            start = self.table(town)
            town.project.capture_on("town.tree")
            self.assertNotIn("no such", town.shell("\n".join(script)))
            looked = town.project.look("house", limit=None)
            found = changes(looked.changes, looked.key)
            watermark = {"composite": True} if kind == "composite" else {}
            for one in found:
                for side in ("was", "now"):
                    if one[side] is not None:
                        one[side] = {**one[side], **watermark}
            rows = replayed(self, {name(row | watermark): row | watermark for row in start}, found)
            self.assertEqual([{k: v for k, v in row.items() if k != "composite"} for row in rows], self.table(town))
            self.assertEqual(
                [one["position"] if "position" in one else one["seq"] for one in found],
                list(range(1, len(found) + 1)),
            )

    def test_cascades_and_awkward_names(self) -> None:
        table = AWKWARD.replace('"', '""')
        with Town(table=AWKWARD) as town:
            town.shell(
                f'CREATE TABLE ward (w INTEGER PRIMARY KEY); CREATE TABLE "{table}" ("order by" TEXT PRIMARY KEY NOT NULL, '
                '"was.x" INTEGER REFERENCES ward ON DELETE CASCADE ON UPDATE SET NULL, "q""q" REAL);'
                "INSERT INTO ward VALUES (1), (2), (3);"
                f"""INSERT INTO "{table}" VALUES ('a', 1, 1.5), ('b', 2, NULL), ('c', 3, 2);"""
            )
            town.project.capture_on("town." + AWKWARD)
            town.project.step()
            town.shell(
                "PRAGMA foreign_keys = ON; DELETE FROM ward WHERE w = 1; UPDATE ward SET w = 9 WHERE w = 2; "
                "REPLACE INTO ward VALUES (3);"
            )
            found = town.project.net("house")
            self.assertEqual(found.counts, {"insert": 0, "update": 1, "delete": 2})
            town.project.step()
            for store in ("house", "shed"):
                self.assertEqual(town.rows(store, table), [("b", None, None)])
            self.assertIn(AWKWARD, town.run("capture", "list").output)

    def test_other_users_notice_nothing(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (7, 1, 'oak')") as town:
            town.project.capture_on("town.tree")
            told = town.shell(
                "PRAGMA trusted_schema = OFF; INSERT INTO tree (a) VALUES (5); SELECT last_insert_rowid(), changes(); "
                "UPDATE tree SET a = 6; SELECT changes();\nINSERT INTO tree VALUES (7, 1, 'x') RETURNING k;\nSELECT count(*) FROM tree;"
            )
            self.assertEqual([line for line in told.splitlines() if "|" in line or line.isdigit()], ["8|1", "2", "2"])
            self.assertIn("UNIQUE constraint failed: tree.k", told)


class Beside(unittest.TestCase):
    """Whoever writes while a table is read."""

    def test_a_writer_that_waits_for_a_reading_to_end(self) -> None:
        """No second connection is opened while a snapshot is read: it would wait for the writer, who waits for the first one."""
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')") as town:
            town.project.capture_on("town.tree")
            town.project.step("house")
            town.sql("UPDATE tree SET a = 2")
            town.project.step("house")
            load = town.project.load("house")
            watermark = load.target.watermark("house")
            assert watermark is not None
            with ThreadPoolExecutor(1) as pool:
                with load.source.snapshot() as snapshot:
                    writing = pool.submit(town.sql, "UPDATE tree SET a = 3")
                    with self.assertRaises(TimeoutError):
                        writing.result(0.5)
                    self.assertIsNotNone(load.source.time_of(watermark.reached))
                    self.assertEqual(sum(batch.num_rows for batch in snapshot.batches), 1)
                writing.result(5)
            town.project.step("house")
            self.assertTrue(town.project.check("house")[0].ok)


class Switching(unittest.TestCase):
    def refused(self, what: Any, *told: str) -> None:
        with self.assertRaises(plainstep.PlainStepError) as caught:
            what()
        for words in told:
            self.assertIn(words, str(caught.exception))
        self.assertLessEqual(len(str(caught.exception).splitlines()), 3)

    def test_a_table_without_a_key(self) -> None:
        with Town("CREATE TABLE tree (k INTEGER NOT NULL, a INTEGER, b TEXT)") as town:
            on = town.project.capture_on
            self.refused(lambda: on("town.tree"), "no primary key", "--key COLUMN")
            self.refused(
                lambda: on("town.tree", ("k",)),
                "nothing makes them unique",
                'CREATE UNIQUE INDEX "tree_key" ON "tree" ("k")',
            )
            self.refused(lambda: on("town.tree", ("z",)), "no column 'z'")
            town.sql('CREATE UNIQUE INDEX "tree_key" ON "tree" ("k")', "CREATE UNIQUE INDEX other ON tree (a)")
            self.refused(lambda: on("town.tree", ("a",)), "may be null")
            self.refused(lambda: on("town.tree"), "--key k")
            self.assertEqual(on("town.tree", ("K",))[0].key, ("k",))
            town.project.step("house")
            town.shell("INSERT INTO tree VALUES (1, 1, 'oak'); REPLACE INTO tree VALUES (2, 1, 'elm');")
            town.project.step("house")
            self.assertEqual(town.rows("house"), [(2, 1, "elm")])

    def test_what_cannot_be_captured(self) -> None:
        with Town("CREATE VIEW v AS SELECT 1", "CREATE VIRTUAL TABLE f USING fts5(x)", TREE,
                  "CREATE UNIQUE INDEX e ON tree (lower(b))") as town:  # fmt: skip
            on = town.project.capture_on
            self.refused(lambda: on("town.v"), "no table 'v'", "views")
            self.refused(lambda: on("town.tre"), "Did you mean 'tree'?")
            self.refused(lambda: on("town.tree"), "unique index on an expression")
            self.refused(lambda: on("house.tree"), "DuckDB file")
            self.refused(lambda: town.project.look("house"), "Capture is off", "plainstep capture on town.tree")

    def test_on_off_and_on_again_is_another_capture(self) -> None:
        with Town(TREE) as town:
            first, new = town.project.capture_on("town.tree")
            again, newer = town.project.capture_on("town.TREE")
            self.assertEqual((new, newer, first.identity), (True, False, again.identity))
            town.project.step()
            town.sql("INSERT INTO tree VALUES (1, 1, 'x')")
            self.assertEqual(town.project.capture_off("town.tree", really=True).held, 1)
            self.refused(lambda: town.project.step("house"), "Capture is off")
            town.project.capture_on("town.tree")
            self.refused(lambda: town.project.step("house"), "rebuilt", "plainstep reload house")
            self.assertEqual(town.project.reload("house").net["insert"], 1)
            self.assertEqual(town.project.step("house")[0].outcome, "nothing")

    def test_a_column_that_comes_later_is_not_lost(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')") as town:
            project = town.project  # one that lives on while the columns change
            project.capture_on("town.tree")
            project.step()
            town.shell("ALTER TABLE tree ADD COLUMN girth DECIMAL(6,1); UPDATE tree SET girth = 30.5 WHERE k = 1;")
            for words in (["capture", "list"], ["status"]):
                self.assertIn("plainstep capture refresh town.tree", town.run(*words).output)
            self.assertEqual([one.outcome for one in project.step()], ["stepped", "stepped"])
            self.assertIn("girth", project.capture_refresh("town.tree")[1])
            town.sql("INSERT INTO tree VALUES (3, 3, 'ash', 12)")
            project.step()
            self.assertEqual(town.rows("shed"), town.rows())
            self.assertEqual([row[3] and float(row[3]) for row in town.rows("house")], [30.5, None, 12.0])
            self.assertTrue(all(one.ok for one in project.check()))
            self.assertIn("nothing to do", project.capture_refresh("town.tree")[1])

    @contextlib.contextmanager
    def every_shape(self) -> Iterator[tuple[Town, list[str], Callable[[], None]]]:
        """Loads of one table in three shapes into two stores, stepped once, and a check that all of them are equal to it."""
        shapes = {"mirror": "", "history": 'shape = "history"', "journal": 'shape = "journal"'}
        loads = "".join(
            f'\n[loads.{store}_{name}]\nfrom = "town.tree"\ninto = "{store}.{name}"\n{said}\n'
            for name, said in shapes.items()
            for store in STORES
        )
        names = [f"{store}_{name}" for store in STORES for name in shapes]
        with Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak'), (2, 2, 'elm')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step(*names)

            def equal() -> None:
                self.assertEqual([one.load for one in town.project.check(*names) if not one.ok], [])
                self.assertEqual({one.outcome for one in town.project.step(*names)}, {"nothing"})

            yield town, names, equal

    def test_columns_under_other_names(self) -> None:
        with self.every_shape() as (town, names, equal):
            town.shell("UPDATE tree SET b = 'ash' WHERE k = 1; ALTER TABLE tree RENAME COLUMN b TO species;")
            town.shell(
                "UPDATE tree SET species = 'yew' WHERE k = 2; INSERT OR REPLACE INTO tree VALUES (1, 5, 'lime');"
            )
            self.refused(
                lambda: town.project.step("house_mirror"),
                "was renamed to species",
                "plainstep capture refresh town.tree",
            )
            self.assertIn("columns missing", town.run("capture", "list").output)
            self.assertIn("b as species", town.project.capture_refresh("town.tree")[1])
            for outcome in town.project.step(*names):
                assert outcome.entry
                self.assertRegex(outcome.entry.note, r"added the column.*species; no longer arriving: .*b")
            equal()
            self.assertEqual(town.rows("shed", "mirror"), [(1, 5, None, "lime"), (2, 2, None, "yew")])

    def test_columns_that_went(self) -> None:
        """SQLite drops no column that a trigger names: capture is begun anew, its positions with it."""
        with self.every_shape() as (town, names, equal):
            town.sql("UPDATE tree SET b = 'ash' WHERE k = 1", "REPLACE INTO tree VALUES (1, 5, 'lime')")
            town.project.step(*names)
            kept = {store: town.rows(store, "history") for store in STORES}
            town.project.capture_off("town.tree")
            town.sql("ALTER TABLE tree DROP COLUMN a", "UPDATE tree SET b = 'fir' WHERE k = 1")
            town.project.capture_on("town.tree")
            for name in names:
                town.project.reload(name)
            equal()
            for value in ("oak", "elm", "ash"):
                town.sql(f"UPDATE tree SET b = '{value}'")
                for outcome in town.project.step(*names):
                    assert outcome.entry
                    self.assertEqual(outcome.entry.note, "")  # what is gone is told once
            equal()
            for store in STORES:
                ends = {(row[0], row[3]): row[5] for row in town.rows(store, "history")}
                for row in kept[store]:  # no version went, and none that had ended has another end
                    self.assertIn((row[0], row[3]), ends)
                    self.assertIn(row[5], (None, ends[row[0], row[3]]))
                versions = sorted(town.rows(store, "history"), key=lambda row: (row[0], row[3]))
                for one, later in itertools.pairwise(versions):
                    self.assertEqual(one[5], later[4] if one[0] == later[0] else None)

    def test_changes_that_may_have_been_missed_are_refused(self) -> None:
        harms = {
            "its change table plainstep_changes_tree is gone": "DROP TABLE plainstep_changes_tree",
            "trigger plainstep_update_tree is gone": "DROP TRIGGER plainstep_update_tree",
            "changed since its triggers were made": "CREATE UNIQUE INDEX later ON tree (a)",
            "no longer has the column b": "ALTER TABLE tree RENAME COLUMN b TO c; DROP TRIGGER plainstep_update_tree",
        }
        for told, harm in harms.items():
            with self.subTest(told), Town(TREE, "INSERT INTO tree VALUES (1, 1, 'oak')") as town:
                town.project.capture_on("town.tree")
                town.project.step("shed")
                town.shell(harm)
                town.shell("UPDATE tree SET a = 9;")
                self.refused(lambda town=town: town.project.step("shed"), told, "plainstep capture refresh town.tree")
                self.assertIn("cannot be trusted", town.run("capture", "list").output)
                self.assertIn("begun anew", town.project.capture_refresh("town.tree")[1])
                self.refused(lambda town=town: town.project.step("shed"), "rebuilt")
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.sql("DROP TABLE tree")
            self.refused(lambda: town.project.step("shed"), "is gone", "plainstep capture off town.tree")
            town.project.capture_off("town.tree")
            self.assertEqual(town.project.captures(), [])

    def test_a_row_that_enters_a_partial_index(self) -> None:
        """Found by the long form of test_chains.Fuzzed: the indexed column stays as it is, the index's condition does not."""
        with Town(*KINDS["partial index"].split("; ")) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "INSERT INTO tree VALUES (2, NULL, 'Oak'), (4, 0, NULL)", "UPDATE OR REPLACE tree SET a = 0, b = 'oak'"
            )
            town.project.step()
            self.assertEqual(town.rows(), [(4, 0, "oak")])
            self.assertEqual(town.rows("shed"), town.rows())

    def test_a_note_of_another_row_with_the_same_key_is_kept(self) -> None:
        """Found by the long form: OR REPLACE holds for the statements of triggers, too, and one of them displaces the new row."""
        triggers = (
            "CREATE TEMP TRIGGER t0 AFTER INSERT ON tree BEGIN DELETE FROM tree WHERE k <> NEW.k AND a = NEW.a; END;"
            "CREATE TEMP TRIGGER t1 AFTER INSERT ON tree BEGIN INSERT OR IGNORE INTO tree VALUES (NEW.k + 5, NEW.a, NEW.b); END;"
        )
        with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT, b TEXT UNIQUE)") as town:
            town.sql("INSERT INTO tree VALUES (2, NULL, 'elm')")
            town.project.capture_on("town.tree")
            town.project.step()
            town.shell(f"{triggers} INSERT OR REPLACE INTO tree VALUES (2, 2, 'Oak');")
            town.project.step()
            self.assertEqual(town.rows(), [(7, 2, "Oak")])
            self.assertEqual(town.rows("shed"), town.rows())

    def test_a_note_that_an_ignored_statement_made_of_the_new_row_displaces_nothing(self) -> None:
        """Found by the long form. A row that did go, and that a trigger brought back just as it was, is still told to have gone."""
        triggers = (
            "CREATE TEMP TRIGGER t0 BEFORE INSERT ON tree BEGIN UPDATE tree SET a = 8 WHERE k = NEW.k; END;"
            "CREATE TEMP TRIGGER t1 AFTER INSERT ON tree BEGIN INSERT OR IGNORE INTO tree VALUES (NEW.k, 7, 'again'); END;"
        )
        with Town(TREE) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.shell(f"{triggers} INSERT INTO tree VALUES (1, 0, NULL);")
            town.project.step()
            self.assertEqual(town.rows(), [(1, 8, None)])
            self.assertEqual(town.rows("shed"), town.rows())
            seen = "CREATE TEMP TRIGGER t AFTER INSERT ON tree BEGIN UPDATE tree SET a = 8 WHERE k = NEW.k; END;"
            town.shell(f"{seen} INSERT OR REPLACE INTO tree VALUES (1, 0, NULL);")
            changes = json.loads(town.run("look", "shed", "--json").stdout)["changes"]
            self.assertEqual([one["op"] for one in changes], ["delete", "insert", "update"])

    def test_a_row_that_was_replaced_with_one_just_as_it(self) -> None:
        """Found by the long form. Nothing tells of it where a trigger replaces it once more: the step is refused."""
        again = "BEGIN REPLACE INTO tree VALUES ({}.k, 7, 'again'); END;"
        triggers = (
            f"CREATE TEMP TRIGGER t0 BEFORE DELETE ON tree {again.format('OLD')}"
            f"CREATE TEMP TRIGGER t1 AFTER INSERT ON tree {again.format('NEW')}"
        )
        with Town(TREE) as town:
            town.sql("INSERT INTO tree VALUES (2, 7, 'again')")
            town.project.capture_on("town.tree")
            town.project.step()
            town.shell(f"{triggers} DELETE FROM tree;")
            with self.assertRaisesRegex(plainstep.Refused, "do not follow on each other"):
                town.project.step("shed")
            self.assertEqual(town.run("reload", "shed").exit_code, 0)
            self.assertEqual(town.rows("shed"), town.rows())


class SharedConnections(unittest.TestCase):
    """The loads of a command use a file's connections one after the other."""

    @contextlib.contextmanager
    def town(self, loads: int, *first: str) -> Iterator[Town]:
        """A town with some more loads, from and into SQLite, that have begun; changes wait in all of them."""
        more = "".join(f'[loads.l{i}]\nfrom = "town.t{i}"\ninto = "shed.t{i}"\n' for i in range(loads))
        tables = [f"CREATE TABLE t{i} (k INTEGER PRIMARY KEY, a INTEGER)" for i in range(loads)]
        with Town(*first, TREE, *tables, loads=more) as town:
            for name in ["tree", *(f"t{i}" for i in range(loads))]:
                town.project.capture_on(f"town.{name}")
            town.project.step()
            town.sql(*(f"INSERT INTO t{i} VALUES (1, 1)" for i in range(loads)))
            yield town

    def test_many_loads_need_few(self) -> None:
        opened = []
        for loads in (3, 12):
            with (
                self.town(loads) as town,
                unittest.mock.patch("sqlite3.connect", wraps=sqlite3.connect) as connect,
            ):
                self.assertEqual(sum(one.outcome == "stepped" for one in town.project.step()), loads)
                opened.append(connect.call_count)
        self.assertEqual(opened[0], opened[1])

    def test_they_hold_no_lock_between_loads_and_are_closed_at_the_end(self) -> None:
        for mode, jobs in itertools.product(("delete", "wal"), (1, 3)):
            with self.subTest(mode=mode, jobs=jobs), self.town(4, f"PRAGMA journal_mode = {mode}") as town:
                with contextlib.closing(sqlite3.connect(town.path / "town.db", timeout=0.0)) as writer:
                    for number, made in enumerate(town.project.steps(jobs=jobs)):
                        self.assertIsNone(made[0].error)
                        if jobs == 1:
                            writer.execute("INSERT INTO t3 VALUES (?, 0)", [number + 10])
                            writer.commit()
                self.assertEqual(town.rows("shed", "t3"), [one for one in town.rows("town", "t3") if one[0] < 13])
                # No other connection may be open where a file leaves the write-ahead log.
                town.sql("PRAGMA journal_mode = wal", "PRAGMA journal_mode = delete", "VACUUM")
                self.assertEqual({one.name for one in town.path.glob("town.db*")}, {"town.db"})

    def test_a_group_reads_on_one_while_a_writer_waits_for_it(self) -> None:
        """In the usual journal mode, a second one would wait for the writer, who waits for the first, and gives up."""
        moment, errors = SqliteDatabase.moment, []

        def write(town: Town) -> None:
            with contextlib.closing(sqlite3.connect(town.path / "town.db", timeout=5.0)) as writer:
                try:
                    writer.execute("INSERT INTO t0 VALUES (2, 2)")
                    writer.commit()
                except sqlite3.Error as error:
                    errors.append(error)

        with self.town(2) as town:
            town.config.write_text(town.config.read_text() + '[groups.both]\nloads = ["l0", "l1"]\n')
            writer = threading.Thread(target=write, args=[town])

            @contextlib.contextmanager
            def beside_a_writer(database: SqliteDatabase, tables: list[str]) -> Iterator[None]:
                with moment(database, tables):
                    writer.start()
                    time.sleep(0.3)  # until it has written, and is to commit
                    yield

            with unittest.mock.patch.object(SqliteDatabase, "moment", beside_a_writer):
                outcomes = town.project.step("l0", "l1")
            writer.join()
            self.assertEqual([one.outcome for one in outcomes], ["stepped", "stepped"])
            self.assertEqual(errors, [])
            town.project.step("l0")
            self.assertEqual(town.rows("shed", "t0"), [(1, 1), (2, 2)])

    def test_a_file_that_was_replaced_between_two_loads_is_not_taken_for_the_former(self) -> None:
        with self.town(2) as town:
            steps = town.project.steps("l0", "l1")
            next(steps)
            shutil.copy(town.path / "town.db", town.path / "new.db")
            town.sql("UPDATE t1 SET a = 7", store="new")
            (town.path / "new.db").replace(town.path / "town.db")
            self.assertIsNone(next(steps)[0].error)
            self.assertEqual(town.rows("shed", "t1"), [(1, 7)])

    def test_what_a_killed_writer_left_meanwhile_is_taken_back(self) -> None:
        script = (
            "import os, signal, sqlite3\nwriter = sqlite3.connect('town.db')\nwriter.execute('PRAGMA cache_size = 2')\n"
            "writer.executemany('INSERT INTO t0 VALUES (?, 0)', [(k,) for k in range(10, 5000)])\n"
            "os.kill(os.getpid(), signal.SIGKILL)"
        )
        with self.town(1) as town:
            store: Any = town.project.stores["town"]
            with store.reused():
                before = store.tables()
                with town.fresh(script) as killed:
                    killed.communicate()
                self.assertTrue((town.path / "town.db-journal").stat().st_size)
                self.assertEqual(store.tables(), before)
            self.assertEqual(town.rows("town", "t0"), [(1, 1)])


if __name__ == "__main__":
    unittest.main()
