"""Types and the five primitives, in every target."""

from __future__ import annotations

import datetime as dt
import sqlite3
import unittest
from decimal import Decimal
from typing import Any

import pyarrow as pa

import plainstep
from plainstep.copying import replace
from plainstep.core.positions import Watermark
from plainstep.core.schema_drift import Fit
from plainstep.core.shapes.edits import Edits
from plainstep.stores.api import Target
from plainstep.stores.capabilities import with_target
from plainstep.stores.duckdb.types import declaration as duckdb_declaration
from plainstep.stores.records import Commit, LedgerEntry, Part
from plainstep.stores.registry import open_store
from plainstep.stores.sqlite.types import arrow_type, declaration
from tests.support import TARGETS, Town


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
            places = ", ".join("?" * (len(self.TABLE) + 1))
            connection.execute(f"INSERT INTO tree VALUES ({places})", [1, *(row[2] for row in self.TABLE)])
            town.project.capture_on("town.tree")
            town.project.step()
            connection.execute(f"INSERT INTO tree VALUES ({places})", [2, *(row[2] for row in self.TABLE)])
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

    def commit(self, target: Target, edits: Edits, watermark: Watermark | None) -> tuple[Watermark, LedgerEntry]:
        step = watermark.step + 1 if watermark else 1
        moved = Watermark("tree", "x", step * 10, None, step)
        entry = LedgerEntry(
            "tree",
            step,
            "changes",
            "x",
            watermark.position if watermark else None,
            moved.position,
            at=dt.datetime.now(dt.UTC),
        )
        parts = [] if edits is None else [Part("tree", self.SCHEMA, self.KEY, [edits], lambda info: Fit())]
        target.commit(Commit(parts, watermark, moved, entry))
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
                watermark, entry = self.commit(target, Edits(append=self.table(one, two).to_batches()), None)
                self.assertEqual((rows(), entry.append), ([one, two], 2))
                watermark, entry = self.commit(
                    target, Edits(put=self.table(three, (1, "b", 5, "ash")), new=1), watermark
                )
                self.assertEqual((rows(), entry.put, entry.contradictions), ([one, (1, "b", 5, "ash"), three], 2, 0))
                patch = [
                    self.table((1, "b", None), columns="k w b"),
                    self.table((2, "a", 9), columns="k w n"),
                ]
                watermark, entry = self.commit(target, Edits(patch=patch), watermark)
                self.assertEqual((rows(), entry.patch), ([one, (1, "b", 5, None), (2, "a", 9, "elm")], 2))
                add = self.table((1, "a", 10), (3, "c", 4), columns="k w n")
                watermark, entry = self.commit(target, Edits(add=add), watermark)
                self.assertEqual(rows()[0], (1, "a", 11, "oak"))
                self.assertEqual((rows()[-1], entry.add), ((3, "c", 4, None), 2))
                drop = self.table((1, "a"), (7, "z"), columns="k w")
                watermark, entry = self.commit(target, Edits(drop=drop), watermark)
                self.assertEqual((len(rows()), entry.drop, entry.contradictions), (3, 1, 1))
                before = rows()
                with self.assertRaises(plainstep.Refused):
                    self.commit(target, Edits(patch=[self.table((8, "z", 1), columns="k w n")], clear=True), watermark)
                with self.assertRaises(plainstep.WatermarkMoved):
                    self.commit(target, Edits(clear=True), Watermark("tree", "x", 10, None, 1))
                self.assertEqual(
                    (rows(), target.watermark("tree")),
                    (before, replace(watermark, tables=target.watermark("tree").tables)),
                )
                self.commit(target, Edits(clear=True, put=self.table(one), new=1), watermark)
                self.assertEqual(rows(), [one])
                self.assertEqual([found.step for found in target.ledger("tree", 2)], [5, 6])


if __name__ == "__main__":
    unittest.main()
