"""Types that files and DuckDB have, and other targets do not: each is held by a rule, or refused with what to say."""

from __future__ import annotations

import datetime as dt
import unittest
from decimal import Decimal
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from plainstep.stores.capabilities import with_tables
from tests.postgres import Database
from tests.support import Town

# What arrives, and what targets hold.
WIDER: dict[str, tuple[pa.Array, Any]] = {
    "u8": (pa.array([255], pa.uint8()), 255),
    "u16": (pa.array([65535], pa.uint16()), 65535),
    "u32": (pa.array([4294967295], pa.uint32()), 4294967295),
    "u64": (pa.array([18446744073709551615], pa.uint64()), Decimal(18446744073709551615)),
    "half": (pa.array(np.array([1.5], dtype=np.float16)), 1.5),
    "s": (pa.array([1], pa.timestamp("s")), dt.datetime(1970, 1, 1, 0, 0, 1)),
    "ms": (pa.array([1], pa.timestamp("ms")), dt.datetime(1970, 1, 1, 0, 0, 0, 1000)),
    "ns": (pa.array([1000], pa.timestamp("ns")), dt.datetime(1970, 1, 1, 0, 0, 0, 1)),
    "zoned": (pa.array([1], pa.timestamp("ms", "Europe/Paris")), dt.datetime(1970, 1, 1, 0, 0, 0, 1000, dt.UTC)),
    "time": (pa.array([1500], pa.time32("ms")), dt.time(0, 0, 1, 500000)),
    "fine": (pa.array([1000], pa.time64("ns")), dt.time(0, 0, 0, 1)),
    "day": (pa.array([86400000], pa.date64()), dt.date(1970, 1, 2)),
    "coded": (pa.array(["oak"]).dictionary_encode(), "oak"),
    "fixed": (pa.array([b"0123456789abcdef"], pa.binary(16)), b"0123456789abcdef"),
    "long": (pa.array(["oak"], pa.large_string()), "oak"),
    "list": (pa.array([[1, None, 3]]), "[1, null, 3]"),
    "rows": (pa.array([[{"x": Decimal("1.50"), "at": dt.date(2026, 5, 4)}]]), '[{"x": "1.50", "at": "2026-05-04"}]'),
    "map": (pa.array([[("oak", 1)]], pa.map_(pa.string(), pa.int64())), '{"oak": 1}'),
    "wide": (pa.array([Decimal("1.5")], pa.decimal256(38, 2)), Decimal("1.50")),
}
LOAD = """
[stores.landing]
url = "file:///in"
[stores.lake]
url = "{lake}"
"""


class Wider(unittest.TestCase):
    def test_each_is_held_by_its_rule_in_every_target(self) -> None:
        table = pa.table({"n": [1], "k": [1]} | {name: column for name, (column, _) in WIDER.items()})
        with Town() as town, Database() as lake:
            (town.path / "in").mkdir()
            pq.write_table(table, town.path / "in/a.parquet")
            text = town.config.read_text().partition("[loads.")[0] + LOAD.format(lake=lake.url)
            for store in ("house", "shed", "lake"):
                text += f'[loads.{store}]\nfrom = "landing.*.parquet"\ninto = "{store}.wider"\nkey = ["k"]\n'
                text += f'[loads.{store}.layout]\nposition = ["n"]\n'
            town.config.write_text(text)
            project = town.project
            project.step()
            self.assertTrue(all(one.ok for one in project.check()))
            for store in ("house", "shed", "lake"):
                held = with_tables(project.load(store).into_store).table("wider", {})
                with held.reading() as reading:
                    [row] = pa.Table.from_batches(reading.select(list(WIDER), {}, "")).to_pylist()
                for name, (_, expected) in WIDER.items():
                    self.assertEqual(row[name], expected, f"{store} {name}")

    def test_what_has_no_equivalent_is_refused_with_what_to_say(self) -> None:
        for name, column, said, types in (
            ("fine", pa.array([1001], pa.timestamp("ns")), 'types = { "v" = "TEXT" }', 'v = "TEXT"'),
            ("lasting", pa.array([1500], pa.duration("ms")), "types = { COLUMN", 'v = "BIGINT"'),
            ("large", pa.array([Decimal(1)], pa.decimal256(50, 2)), "types = { COLUMN", 'v = "TEXT"'),
        ):
            with self.subTest(name), Town() as town:
                (town.path / "in").mkdir()
                pq.write_table(pa.table({"n": [1], "k": [1], "v": column}), town.path / "in/a.parquet")
                text = town.config.read_text().partition("[loads.")[0] + LOAD.format(lake="sqlite:///lake.db")
                text += '[loads.house]\nfrom = "landing.*.parquet"\ninto = "house.wider"\nkey = ["k"]\nTYPES\n[loads.house.layout]\nposition = ["n"]\n'
                town.config.write_text(text.replace("TYPES\n", ""))
                self.assertIn(said, str(town.project.step(raise_errors=False)[0].error))
                town.config.write_text(text.replace("TYPES", f"types = {{ {types} }}"))
                town.project.step()
                [(_, value)] = town.rows("house", "wider")
                self.assertIn(value, ("1970-01-01 00:00:00.000001001", 1500000, "1.00"))

    def test_tables_of_duckdb_have_them_too(self) -> None:
        for changes in ('changes = "diff"', 'changes = "column"\ncolumn = ["n"]'):
            with self.subTest(changes), Town() as town:
                with duckdb.connect(str(town.path / "town.duckdb")) as connection:
                    connection.execute(
                        "CREATE TABLE tree (k INTEGER PRIMARY KEY, n UBIGINT, planted TIMESTAMP_MS, tags VARCHAR[], size STRUCT(a INTEGER))"
                    )
                    connection.execute("INSERT INTO tree VALUES (1, 7, '2026-05-04 09:00:00.5', ['x', 'y'], {'a': 1})")
                text = '[stores.town]\nurl = "duckdb:///town.duckdb"\n[stores.shed]\nurl = "sqlite:///shed.db"\n'
                text += f'[loads.shed]\nfrom = "town.tree"\ninto = "shed.tree"\n{changes}\n'
                town.config.write_text(text)
                town.project.step()
                self.assertEqual(town.rows("shed"), [(1, "7", "2026-05-04 09:00:00.500000", '["x","y"]', '{"a":1}')])
                self.assertTrue(town.project.check()[0].ok)


if __name__ == "__main__":
    unittest.main()
