"""The laws over whole steps: SQLite into DuckDB, and SQLite into SQLite."""

from __future__ import annotations

import datetime as dt
import itertools
import sqlite3
import unittest
from dataclasses import replace
from decimal import Decimal
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import plainstep
from plainstep.core.positions import Mark, Place
from plainstep.core.schema_drift import Fit
from plainstep.core.shapes.edits import Edits
from plainstep.stores.api import Target
from plainstep.stores.capabilities import with_target
from plainstep.stores.duckdb.types import declaration as duckdb_declaration
from plainstep.stores.records import Commit, LedgerEntry, Part
from plainstep.stores.registry import open_store
from plainstep.stores.sqlite.types import arrow_type, declaration
from tests.histories import Model, histories
from tests.support import TREE, WITHOUT_SHRINKING, Town

TARGETS = ("house", "shed")


def act(town: Town, model: Model, acts: list[Any], store: str = "town") -> None:
    """Make the model's acts in the town's database, in one transaction each."""
    connection = sqlite3.connect(town.path / f"{store}.db", isolation_level=None)
    for what, key, value in acts:
        if what == "truncate":
            what, changed = "delete all", model.act("truncate", None, None)
        else:
            changed = model.act(what, key, value)
        if not changed:
            continue
        if what == "insert":
            connection.execute("INSERT INTO tree VALUES (?, ?, ?)", [key, value["a"], value["b"]])
        elif what == "update":
            connection.execute("UPDATE tree SET a = ?, b = ? WHERE k = ?", [value["a"], value["b"], key])
        elif what == "rekey":
            connection.execute("UPDATE tree SET k = ? WHERE k = ?", [value, key])
        else:
            connection.execute(
                "DELETE FROM tree" + ("" if what == "delete all" else " WHERE k = ?"),
                [key][: what == "delete"],
            )
    connection.close()


def expected(model: Model) -> list[tuple[Any, ...]]:
    return sorted(((row["k"], row["a"], row["b"]) for row in model.rows.values()), key=repr)


class Laws(unittest.TestCase):
    @given(
        st.lists(histories, min_size=2, max_size=4),
        st.sampled_from(["snapshot", "beginning"]),
        st.sampled_from(["wal", "delete"]),
    )
    @settings(max_examples=12, deadline=None, phases=WITHOUT_SHRINKING)
    def test_truth_any_cut_once_and_looking_changes_nothing(self, parts: list[Any], first: str, journal: str) -> None:
        loads = "".join(
            f'[loads.{name}_late]\nfrom = "town.tree"\ninto = "{name}.late"\nfirst = "{first}"\n' for name in TARGETS
        )
        with Town(f"PRAGMA journal_mode = {journal}", TREE, loads=loads) as town:
            model = Model()
            if first == "snapshot":
                act(town, model, parts[0])
            town.project.capture_on("town.tree")
            for part in parts[1:]:
                act(town, model, part)
                self.looking_changes_nothing(town)
                told = [
                    town.project.net(name).counts if town.project.status(name)[0].mark else None for name in TARGETS
                ]
                outcomes = town.project.step(*TARGETS)
                for counts, one in zip(
                    told, outcomes, strict=True
                ):  # a step reads less than a look, and finds the same
                    self.assertIn(counts, (None, one.net))
                for store in TARGETS:
                    self.assertEqual(town.rows(store), expected(model))  # law 1
                self.assertTrue(all(one.entry is None or one.entry.contradictions == 0 for one in outcomes))
                before = town.fingerprint()
                self.assertEqual([one.outcome for one in town.project.step(*TARGETS)], ["nothing"] * 2)  # law 3
                self.assertEqual(town.fingerprint(), before)
            town.project.step()
            for store in TARGETS:
                self.assertEqual(town.rows(store, "late"), expected(model))  # law 2: all at once, or part by part
            checks = town.project.check()
            self.assertTrue(all(one.ok and one.source_rows == one.target_rows == len(model.rows) for one in checks))
            self.together(town)

    def looking_changes_nothing(self, town: Town) -> None:
        """Law 5, byte for byte."""
        before = town.fingerprint()
        for words in ("look", "net", "mark"):
            for name in TARGETS:
                self.assertEqual(town.run(words, name).exit_code, 0)
            self.assertEqual(town.run("trace", name, "1").exit_code, 0)
            self.assertEqual(town.run("look", name, "--format", "csv").exit_code, 0)
        for command in (["status", "--json", "--metrics", "-"], ["ledger", "--totals"], ["trim", "town"], ["aside"]):
            self.assertEqual(town.run(*command).exit_code, 0, command)
        if town.project.status("house")[0].mark:
            self.assertEqual(town.run("check", *TARGETS).exit_code, 0)
        self.assertEqual(town.fingerprint(), before)

    def together(self, town: Town) -> None:
        """Law 8: the ledger's windows follow on each other without a gap, and end at the mark."""
        for name in TARGETS:
            entries = town.project.ledger(name)
            self.assertEqual([one.step for one in entries], list(range(1, len(entries) + 1)))
            for earlier, later in itertools.pairwise(entries):
                self.assertEqual(earlier.upto, later.after)
            mark = town.project.status(name)[0].mark
            assert mark is not None
            self.assertEqual((mark.position, mark.step), (entries[-1].upto, entries[-1].step))

    def test_refuse_rather_than_lose(self) -> None:
        """Law 9: whatever happened to the source, the step refuses, writes nothing, and reload mends it."""

        def restored(town: Town) -> None:
            town.sql("DELETE FROM plainstep_changes_tree WHERE seq > 1", "UPDATE tree SET a = 1 WHERE k = 2")

        def restored_and_gone_on(town: Town) -> None:
            restored(town)
            town.sql(*["UPDATE tree SET a = a + 1 WHERE k = 1"] * 5)

        def trimmed(town: Town) -> None:
            town.sql("UPDATE tree SET a = 5", "UPDATE tree SET a = 6")
            self.assertEqual(town.project.load("house").source.trim([Place(5)]), 4)

        def holed(town: Town) -> None:
            town.sql("UPDATE tree SET a = 5", "DELETE FROM plainstep_changes_tree WHERE seq = 4")

        def emptied_and_gone_on(town: Town) -> None:
            town.sql("DELETE FROM plainstep_changes_tree", *["UPDATE tree SET a = a + 1"] * 4)
            town.sql("DELETE FROM plainstep_changes_tree WHERE seq = 3")

        def rebuilt(town: Town) -> None:
            town.project.capture_off("town.tree")
            town.project.capture_on("town.tree")
            town.sql("UPDATE tree SET a = 5", "UPDATE tree SET a = 6")

        told = {restored: "ahead of the source's head", restored_and_gone_on: "has another time", trimmed: "were trimmed",
                holed: "Missing: 1 of the 2 changes", emptied_and_gone_on: "is gone", rebuilt: "rebuilt"}  # fmt: skip
        for harm, words in told.items():
            with self.subTest(harm.__name__), Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
                town.project.capture_on("town.tree")
                town.project.step()
                town.sql(
                    "INSERT INTO tree VALUES (2, 0, 'elm')",
                    "UPDATE tree SET a = 3 WHERE k = 2",
                    "UPDATE tree SET a = 4 WHERE k = 1",
                )
                town.project.step()
                harm(town)
                stands = [town.fingerprint()["town.db"], *map(town.rows, TARGETS)]
                result = town.run("step")
                self.assertEqual(result.exit_code, 4, result.output)
                self.assertEqual([town.fingerprint()["town.db"], *map(town.rows, TARGETS)], stands)
                for name in TARGETS:
                    last = town.project.ledger(name)[-1]
                    self.assertEqual((last.kind, last.after), ("refused", last.upto))
                    self.assertIn(words, last.note)
                before = town.fingerprint()
                self.assertEqual(town.run("step").exit_code, 4)  # the same refusal again: nothing more is written down
                self.assertIn(words, result.output)
                self.assertIn("plainstep reload house", result.output.replace("LOAD", "house"))
                if harm is not holed:
                    self.assertEqual(town.project.status("house")[0].health, "refuses")
                self.assertEqual(town.fingerprint(), before)
                for name in TARGETS:
                    town.project.reload(name)
                    self.assertEqual(town.rows(name), town.rows())
                town.sql("INSERT INTO tree VALUES (9, 9, 'ash')")
                town.project.step()
                self.assertTrue(all(one.ok for one in town.project.check()))

    def test_changes_cleared_before_any_was_merged(self) -> None:
        for later in ([], ["UPDATE tree SET a = 9"]):
            with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
                town.project.capture_on("town.tree")
                town.project.step("shed")
                town.sql("UPDATE tree SET a = 5", "DELETE FROM plainstep_changes_tree", *later)
                result = town.run("step", "shed")
                self.assertEqual(result.exit_code, 4, result.output)
                self.assertIn("were trimmed or cleared" if later else "were cleared", result.output)
                if not later:  # positions would be given out twice
                    self.assertIn("plainstep capture refresh town.tree", result.output)
                    town.project.capture_refresh("town.tree")
                town.project.reload("shed")
                self.assertEqual(town.rows("shed"), town.rows())


class Steps(unittest.TestCase):
    def test_rows_that_came_back_as_they_were_are_not_touched(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, NULL), (3, 0, 'elm'), (4, 0, 'fir')") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            there_and_back = [
                "UPDATE tree SET a = 5, b = NULL WHERE k < 4",
                "UPDATE tree SET a = 0 WHERE k < 4",
                "UPDATE tree SET b = 'oak' WHERE k = 1",
            ]
            town.sql(*there_and_back, "UPDATE tree SET a = a WHERE k = 4")
            for name in TARGETS:
                counts = town.project.net(name).counts
                [outcome] = town.project.step(name)
                self.assertEqual(
                    (outcome.net, counts), ({"insert": 0, "update": 1, "delete": 0},) * 2
                )  # only 3 is another
                self.assertEqual((outcome.edits["put"], town.rows(name)), (1, town.rows()))

    def test_first_and_deletes(self) -> None:
        loads = "".join(
            f'[loads.{name}]\nfrom = "town.tree"\ninto = "{store}.{name}"\n{more}\n'
            for store in TARGETS
            for name, more in ((f"head_{store}", 'first = "head"'), (f"keep_{store}", 'deletes = "ignore"'))
        )
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "DELETE FROM tree WHERE k = 1",
                "UPDATE tree SET a = 1",
                "INSERT INTO tree VALUES (3, 1, 'ash')",
            )
            town.sql("INSERT INTO tree VALUES (4, 1, 'fir')", "DELETE FROM tree WHERE k = 4")
            town.project.step()
            for store in TARGETS:
                self.assertEqual(town.rows(store, f"head_{store}"), [(2, 1, "elm"), (3, 1, "ash")])
                self.assertEqual(town.rows(store, f"keep_{store}"), [(1, 0, "oak"), (2, 1, "elm"), (3, 1, "ash")])
            kept = town.project.check("keep_house")[0]
            self.assertEqual((kept.ok, kept.extra, kept.kept), (True, 1, True))
            self.assertEqual(town.run("check", "keep_shed").exit_code, 0)

    def test_one_file_may_be_source_and_target(self) -> None:
        for journal in ("delete", "wal"):
            loads = '[loads.copy]\nfrom = "town.tree"\ninto = "town.copy"\n'
            with Town(f"PRAGMA journal_mode = {journal}", TREE, loads=loads) as town:
                town.sql(*[f"INSERT INTO tree VALUES ({n}, 0, 'oak')" for n in range(100)])
                town.project.capture_on("town.tree")
                for statement in ("UPDATE tree SET a = 1", "DELETE FROM tree WHERE k < 50"):
                    self.assertEqual(town.project.step("copy")[0].outcome, "stepped")
                    town.sql(statement)
                town.project.step("copy")
                self.assertEqual(town.rows(table="copy"), town.rows())
                self.assertTrue(town.project.check("copy")[0].ok)

    def test_progress_is_told(self) -> None:
        from plainstep.progress import told_to

        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')") as town:
            town.project.capture_on("town.tree")
            heard: list[tuple[str, int, int | None]] = []
            with told_to(lambda *told: heard.append(told)):
                town.project.step("house")
                town.sql("UPDATE tree SET a = 1")
                town.project.step("house")
                town.project.check("house")
            self.assertEqual(heard[:2], [("house: rows", 2, None), ("house: changes", 2, 2)])
            self.assertEqual(
                {what for what, *_ in heard[2:]}, {"house: changes", "house: target rows", "house: source rows"}
            )

    def test_contradictions_are_counted_or_refused(self) -> None:
        loads = '[loads.strict]\nfrom = "town.tree"\ninto = "house.strict"\nstrict = true\n'
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm')", loads=loads) as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql("DELETE FROM tree WHERE k = 1", "INSERT INTO tree VALUES (5, 5, 'here')", store="shed")
            import duckdb

            with duckdb.connect(str(town.path / "house.duckdb")) as connection:
                for table in ("tree", "strict"):
                    connection.execute(f"DELETE FROM {table} WHERE k = 1; INSERT INTO {table} VALUES (5, 5, 'here')")
            town.sql(
                "UPDATE tree SET a = 7",
                "INSERT INTO tree VALUES (5, 0, 'ash')",
                "DELETE FROM tree WHERE k = 2",
            )
            outcomes = town.project.step(raise_errors=False)
            self.assertEqual([one.outcome for one in outcomes], ["refused", "stepped", "stepped"])
            self.assertIn("2 of the 4 changes of strict contradict", str(outcomes[0].error))
            for one, store in zip(outcomes[1:], TARGETS, strict=True):
                assert one.entry is not None
                self.assertEqual(one.entry.contradictions, 2)
                self.assertEqual(town.rows(store), town.rows())
            self.assertEqual(town.rows("house", "strict"), [(2, 0, "elm"), (5, 5, "here")])

    def test_check_finds_every_difference(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak'), (2, 0, 'elm'), (3, 0, NULL)") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(
                "DELETE FROM tree WHERE k = 1",
                "UPDATE tree SET b = 'x' WHERE k = 3",
                "INSERT INTO tree VALUES (4, 0, 'z')",
                store="shed",
            )
            town.sql(
                "UPDATE tree SET a = 1",
                "DELETE FROM tree WHERE k = 2",
                "INSERT INTO tree VALUES (9, 9, 'ash')",
            )
            good, bad = town.project.check("house", "shed")
            self.assertEqual((good.ok, good.waiting, good.source_rows), (True, 5, 3))
            self.assertEqual((bad.ok, bad.missing, bad.extra, bad.different), (False, 1, 1, 1))
            shown = town.run("check", "shed")
            self.assertEqual(shown.exit_code, 3)
            self.assertIn("b x -> null", shown.output)
            town.project.reload("shed")
            self.assertTrue(town.project.check("shed")[0].ok)

    def test_marks_by_position_and_time(self) -> None:
        with Town(TREE, "INSERT INTO tree VALUES (1, 0, 'oak')") as town:
            town.project.capture_on("town.tree")
            town.project.step()
            town.sql(*[f"UPDATE tree SET a = {n}" for n in range(1, 5)])
            town.sql("UPDATE plainstep_changes_tree SET at = 1000 * 60 * (seq + 1) WHERE seq > 0")
            town.sql("UPDATE plainstep_captures SET since = 0")
            project = town.project
            for after, upto, wanted in (("start", "head", 4), ("1", "3", 2), ("1970-01-01T00:02Z", "1970-01-01T01:03+01:00", 1),
                                        ("1970-01-01", "head", 4), ("2", None, 2), (None, "2", 2), ("4", "head", 0)):  # fmt: skip
                self.assertEqual(project.look("house", after, upto).total, wanted, (after, upto))
            self.assertEqual(project.look("house", limit=1).more, 3)
            result = town.run("mark", "house", "--to", "2", "--reason", "merged by hand")
            self.assertEqual(result.exit_code, 1)  # nobody there to say yes
            result = town.run("mark", "house", "--to", "2", "--reason", "merged by hand", "--yes")
            self.assertIn("merged up to 2", result.output)
            self.assertEqual(project.ledger("house")[-1].note, "merged by hand")
            self.assertEqual(project.step("house")[0].changes, 2)
            self.assertTrue(project.check("house")[0].ok)
            with self.assertRaises(plainstep.ConfigError):
                project.look("house", "3", "2")
            with self.assertRaises(plainstep.ConfigError):
                project.move_mark("house", "99")


class Types(unittest.TestCase):
    # Declared in SQLite, what that means, values as SQLite holds them, and as they arrive.
    TABLE = [
        ("INTEGER", pa.int64(), -(2**63), -(2**63)),
        ("BIGINT UNSIGNED", pa.int64(), 5, 5),
        ("REAL", pa.float64(), 0.1, 0.1),
        ("double precision", pa.float64(), 3, 3.0),
        ("NUMERIC", pa.float64(), 2.5, 2.5),
        ("DECIMAL(10,2)", pa.decimal128(10, 2), 0.1, Decimal("0.10")),
        ("numeric(4)", pa.decimal128(4, 0), 12, Decimal(12)),
        ("DECIMALTEXT(38,10)", pa.decimal128(38, 10), "1234567890123456789012345678.0123456789", Decimal("1234567890123456789012345678.0123456789")),
        ("VARCHAR(20)", pa.string(), "Größe 木", "Größe 木"),
        ("TEXT", pa.string(), "", ""),
        ("UUID", pa.string(), "2b9e", "2b9e"),
        ("BOOLEAN", pa.bool_(), 1, True),
        ("DATE", pa.date32(), "2026-02-28", dt.date(2026, 2, 28)),
        ("TIME", pa.time64("us"), "23:59:59.000001", dt.time(23, 59, 59, 1)),
        ("DATETIME", pa.timestamp("us"), "2026-05-04 09:30:00", dt.datetime(2026, 5, 4, 9, 30)),
        ("TIMESTAMP", pa.timestamp("us"), "2026-05-04T09:30:00.25", dt.datetime(2026, 5, 4, 9, 30, 0, 250000)),
        ("TIMESTAMPTZ", pa.timestamp("us", "UTC"), "2026-05-04 09:30:00+02:00", dt.datetime(2026, 5, 4, 7, 30, tzinfo=dt.UTC)),
        ("BLOB", pa.binary(), b"\x00\xff", b"\x00\xff"),
    ]  # fmt: skip

    def test_every_type_arrives_as_it_was(self) -> None:
        columns = ", ".join(f'c{index} "{declared}"' if " " not in declared and "(" not in declared else f"c{index} {declared}"
                            for index, (declared, *_) in enumerate(self.TABLE))  # fmt: skip
        with Town(f"CREATE TABLE tree (k INTEGER PRIMARY KEY, {columns})") as town:
            connection = sqlite3.connect(town.path / "town.db", isolation_level=None)
            marks = ", ".join("?" * (len(self.TABLE) + 1))
            connection.execute(f"INSERT INTO tree VALUES ({marks})", [1, *(row[2] for row in self.TABLE)])
            town.project.capture_on("town.tree")
            town.project.step()
            connection.execute(f"INSERT INTO tree VALUES ({marks})", [2, *(row[2] for row in self.TABLE)])
            connection.execute("INSERT INTO tree (k) VALUES (3)")
            connection.execute("DELETE FROM tree WHERE k = 1")
            connection.close()
            town.project.step()
            self.assertTrue(all(one.ok for one in town.project.check()))
            for name in TARGETS:
                load = town.project.load(name)
                schema = load.source.schema()
                self.assertEqual([field.type for field in schema][1:], [kind for _, kind, *_ in self.TABLE])
                found = (
                    pa.Table.from_batches(load.target.rows("tree", load.target.fits(schema))).sort_by("k").to_pylist()
                )
                self.assertEqual(list(found[0].values()), [2, *(row[3] for row in self.TABLE)])
                self.assertEqual(list(found[1].values()), [3, *[None] * len(self.TABLE)])
                self.assertEqual(load.target.fits(load.target.fits(schema)), load.target.fits(schema))

    def test_values_that_do_not_fit_are_refused_by_row_column_and_value(self) -> None:
        misfits = [
            ("INTEGER", "'many'", "'many'"), ("INTEGER", "2.5", "2.5"), ("REAL", "'tall'", "'tall'"), ("TEXT", "x'00'", "b'\\x00'"),
            ("BOOLEAN", "2", "2"), ("DATE", "'4 May'", "'4 May'"), ("DATE", "20260504", "20260504"),
            ("DATETIME", "'2026-05-04 09:30Z'", "09:30Z"), ("DECIMAL(4,2)", "1.005", "'1.005'"), ("DECIMAL(4,2)", "12345", "'12345'"),
            ("BLOB", "'text'", "'text'"), ("NUMERIC", "9007199254740993", "9007199254740993"),
        ]  # fmt: skip
        for declared, value, told in misfits:
            for late in (False, True):
                with (
                    self.subTest(declared, value=value, late=late),
                    Town(f"CREATE TABLE tree (k INTEGER PRIMARY KEY, v {declared})") as town,
                ):
                    insert = f"INSERT INTO tree VALUES (1, NULL), (2, {value})"
                    town.project.capture_on("town.tree")
                    if late:
                        town.project.step("shed")
                    town.sql(insert)
                    result = town.run("step", "shed")
                    self.assertEqual(result.exit_code, 4, result.output)
                    for words in (
                        "the change at position 2" if late else "the row k = 2",
                        "the column v holds",
                        told,
                        declared,
                        "on_bad_value = ",
                    ):
                        self.assertIn(words, result.output)
                    kinds = [one.kind for one in town.project.ledger("shed")]
                    self.assertEqual(kinds, ["snapshot", "refused"] if late else [])

    def test_what_is_declared_can_be_said_otherwise(self) -> None:
        loads = '[loads.said]\nfrom = "town.tree"\ninto = "house.said"\n[loads.said.types]\nv = "INTEGER"\n'
        with Town(
            "CREATE TABLE tree (k INTEGER PRIMARY KEY, v DATE, w)",
            "INSERT INTO tree VALUES (1, 1777777777, 'x')",
            loads=loads,
        ) as town:
            town.project.capture_on("town.tree")
            self.assertIn('types = { "w" = "TEXT" }', town.run("step", "said").output)
            town.config.write_text(town.config.read_text().replace('v = "INTEGER"', 'v = "INTEGER"\nw = "TEXT"'))
            town.project.step("said")
            self.assertEqual(town.rows("house", "said"), [(1, 1777777777, "x")])

    def test_the_type_tables_agree(self) -> None:
        for declared, kind, *_ in self.TABLE:
            self.assertEqual(arrow_type("tree", "c", declared), kind)
            self.assertEqual(arrow_type("tree", "c", declaration(kind)), kind)
            self.assertTrue(duckdb_declaration(kind))


class Primitives(unittest.TestCase):
    """The five primitives, on every target alike."""

    KEY = ("k", "w")
    SCHEMA = pa.schema([("k", pa.int64()), ("w", pa.string()), ("n", pa.int64()), ("b", pa.string())])

    def commit(self, target: Target, edits: Edits, mark: Mark | None) -> tuple[Mark, LedgerEntry]:
        step = mark.step + 1 if mark else 1
        moved = Mark("tree", "x", step * 10, None, step)
        entry = LedgerEntry(
            "tree",
            step,
            "changes",
            "x",
            mark.position if mark else None,
            moved.position,
            at=dt.datetime.now(dt.UTC),
        )
        parts = [] if edits is None else [Part("tree", self.SCHEMA, self.KEY, edits, lambda info: Fit())]
        target.commit(Commit(parts, mark, moved, entry))
        return moved, entry

    def table(self, *rows: tuple[Any, ...], columns: str = "k w n b") -> pa.Table:
        names = columns.split()
        return pa.table(
            [
                pa.array(column, self.SCHEMA.field(name).type)
                for name, column in zip(names, zip(*rows, strict=True), strict=True)
            ],
            names,
        )

    def test_put_patch_drop_append_add(self) -> None:
        for url in ("duckdb:///house.duckdb", "sqlite:///shed.db"):
            with self.subTest(url), Town() as town:
                target = with_target(open_store("t", url, town.path)).target()

                def rows(target: Target = target) -> list[tuple[Any, ...]]:
                    found = pa.Table.from_batches(target.rows("tree", self.SCHEMA), self.SCHEMA).to_pylist()
                    return sorted(tuple(row.values()) for row in found)

                one, two, three = (1, "a", 1, "oak"), (1, "b", 2, None), (2, "a", None, "elm")
                mark, entry = self.commit(target, Edits(append=self.table(one, two).to_batches()), None)
                self.assertEqual((rows(), entry.append), ([one, two], 2))
                mark, entry = self.commit(target, Edits(put=self.table(three, (1, "b", 5, "ash")), new=1), mark)
                self.assertEqual((rows(), entry.put, entry.contradictions), ([one, (1, "b", 5, "ash"), three], 2, 0))
                patch = [
                    self.table((1, "b", None), columns="k w b"),
                    self.table((2, "a", 9), columns="k w n"),
                ]
                mark, entry = self.commit(target, Edits(patch=patch), mark)
                self.assertEqual((rows(), entry.patch), ([one, (1, "b", 5, None), (2, "a", 9, "elm")], 2))
                add = self.table((1, "a", 10), (3, "c", 4), columns="k w n")
                mark, entry = self.commit(target, Edits(add=add), mark)
                self.assertEqual(rows()[0], (1, "a", 11, "oak"))
                self.assertEqual((rows()[-1], entry.add), ((3, "c", 4, None), 2))
                drop = self.table((1, "a"), (7, "z"), columns="k w")
                mark, entry = self.commit(target, Edits(drop=drop), mark)
                self.assertEqual((len(rows()), entry.drop, entry.contradictions), (3, 1, 1))
                before = rows()
                with self.assertRaises(plainstep.Refused):
                    self.commit(target, Edits(patch=[self.table((8, "z", 1), columns="k w n")], clear=True), mark)
                with self.assertRaises(plainstep.MarkMoved):
                    self.commit(target, Edits(clear=True), Mark("tree", "x", 10, None, 1))
                self.assertEqual(
                    (rows(), target.mark("tree")), (before, replace(mark, tables=target.mark("tree").tables))
                )
                self.commit(target, Edits(clear=True, put=self.table(one), new=1), mark)
                self.assertEqual(rows(), [one])
                self.assertEqual([found.step for found in target.ledger("tree", 2)], [5, 6])


if __name__ == "__main__":
    unittest.main()
