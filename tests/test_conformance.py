"""Our own stores, and one of another package, held against the suite for stores."""

from __future__ import annotations

import shutil
import sqlite3
import sys
import tempfile
import tomllib
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import duckdb
import psycopg
import pyarrow as pa

from plainstep.testing import (
    Act,
    Captured,
    Harness,
    KeptVersions,
    KilledReaders,
    KilledWriters,
    OpenTransactions,
    RacingWriters,
    RowTarget,
    SourceConformance,
    SqlHarness,
    TablesOfOthers,
    TargetConformance,
    Trimmed,
    after_each,
)
from tests import iceberg, lake, mariadb
from tests.postgres import Database
from tests.storage import storage

STANDARD = {
    "int64": "BIGINT", "string": "TEXT", "double": "DOUBLE PRECISION", "bool": "BOOLEAN", "decimal128(12, 3)": "DECIMAL(12,3)",
    "date32[day]": "DATE", "timestamp[us]": "TIMESTAMP", "timestamp[us, tz=UTC]": "TIMESTAMPTZ", "binary": "BLOB",
}  # fmt: skip


class Sqlite(SqlHarness):
    types = STANDARD | {"int64": "INTEGER", "double": "REAL"}

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "sqlite:///tested.db"

    def connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self.folder / "tested.db")

    def stands(self, rows: dict[Any, Any], acts: Sequence[Act]) -> list[dict[Any, Any]]:
        """After each: its triggers are not told which statements are one transaction."""
        return after_each(rows, acts)

    def adapted(self, value: Any) -> Any:
        return value if isinstance(value, int | float | str | bytes | None) else str(value)


class Duckdb(SqlHarness):
    types = STANDARD

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "duckdb:///tested.duckdb"

    def connect(self) -> Any:
        return duckdb.connect(str(self.folder / "tested.duckdb"))


class Postgresql(SqlHarness):
    types = STANDARD | {"binary": "BYTEA"}
    parameter = "%s"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.database = Database()
        self.url = self.database.url

    def named(self, table: str) -> str:
        return table if table.isidentifier() else '"' + table.replace('"', '""') + '"'

    def connect(self) -> Any:
        return psycopg.connect(self.url)

    def close(self) -> None:
        self.database.__exit__()


class PostgresqlLog(Postgresql):
    method = "log"


class Mariadb(SqlHarness):
    types = STANDARD | {
        "string": "LONGTEXT", "double": "DOUBLE", "bool": "BOOLEAN", "timestamp[us]": "DATETIME(6)",
        "timestamp[us, tz=UTC]": "DATETIME(6)", "binary": "LONGBLOB",
    }  # fmt: skip
    parameter = "%s"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.database = mariadb.Database()
        self.url = self.database.url

    def connect(self) -> Any:
        return self.database.connect(autocommit=False, sql_mode="ANSI_QUOTES,STRICT_ALL_TABLES")

    def close(self) -> None:
        self.database.__exit__()


class MariadbCaptured(Mariadb):
    def holds(self, kind: str) -> bool:
        return kind != "timestamp[us, tz=UTC]"  # its TIMESTAMP begins in 1970


class MariadbLog(MariadbCaptured):
    method = "log"

    def holds(self, kind: str) -> bool:
        return kind != "timestamp[us, tz=UTC]"  # its TIMESTAMP begins in 1970


class Files(SqlHarness):
    url = "file:///tested"

    def connect(self) -> Any:
        raise NotImplementedError


class SqliteSource(SourceConformance, OpenTransactions, Trimmed, Captured, KilledReaders, unittest.TestCase):
    harness_of = Sqlite
    several_writers = False


class SqliteTarget(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Sqlite


class DeltaSource(SourceConformance, KilledReaders, unittest.TestCase):
    harness_of = lake.Lake


class DeltaTarget(TargetConformance, RowTarget, KeptVersions, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = lake.Lake
    shapes = ("history", "journal", "events")  # a rollup that counts different values keeps them in a second table


class RecordedDeltaSource(SourceConformance, unittest.TestCase):
    harness_of = lake.RecordedLake


class IcebergSource(SourceConformance, KilledReaders, unittest.TestCase):
    harness_of = iceberg.Catalogued
    histories = 3


class IcebergTarget(TargetConformance, RowTarget, KeptVersions, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = iceberg.Catalogued
    histories = 3
    shapes = ("history", "journal", "events")


class InBucket(unittest.TestCase):
    """One server for all tests of a class."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.enterClassContext(storage())


class DeltaSourceInBucket(SourceConformance, InBucket):
    harness_of = lake.LakeInBucket
    histories = 2


class DeltaTargetInBucket(TargetConformance, RowTarget, KeptVersions, RacingWriters, InBucket):
    harness_of = lake.LakeInBucket
    histories = 2
    shapes = ("history", "journal", "events")


class IcebergSourceInBucket(SourceConformance, InBucket):
    harness_of = iceberg.CataloguedInBucket
    histories = 1


class IcebergTargetInBucket(TargetConformance, RowTarget, KeptVersions, InBucket):
    harness_of = iceberg.CataloguedInBucket
    histories = 1
    shapes = ("history", "journal", "events")


class DuckdbTarget(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Duckdb


class PostgresqlSource(SourceConformance, OpenTransactions, Trimmed, Captured, KilledReaders, unittest.TestCase):
    harness_of = Postgresql
    histories = 3


class PostgresqlLogSource(SourceConformance, OpenTransactions, Captured, KilledReaders, unittest.TestCase):
    harness_of = PostgresqlLog
    histories = 3


class PostgresqlTarget(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Postgresql
    histories = 3


class MariadbTarget(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Mariadb
    histories = 3


class MariadbSource(SourceConformance, OpenTransactions, Trimmed, Captured, KilledReaders, unittest.TestCase):
    harness_of = MariadbCaptured
    histories = 3


class MariadbLogSource(SourceConformance, OpenTransactions, KilledReaders, unittest.TestCase):
    harness_of = MariadbLog
    histories = 3


class FilesTarget(TargetConformance, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Files
    keeps_rows = False
    shapes: Sequence[str] = ("journal",)


# The example lies in a folder of its own, as another package does that is installed.
EXAMPLE = Path(__file__).parents[1] / "examples" / "memory_store"


class Memory(Harness):
    """Tables in memory, which only this process sees."""

    method = "log"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        import memory_store

        self.store, self.url = memory_store, f"memory://{folder.name}"
        self.memory = memory_store.MEMORIES.setdefault(self.url, memory_store.Memory())

    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        self.memory.tables[table] = self.store.MemoryTable(schema, tuple(key))

    def write(self, table: str, acts: Sequence[Act]) -> None:
        for act in acts:
            self.memory.tables[table].write(act.was, act.now)


class Installed:
    """Makes the example known as an installed package is: by its name on the path, and its entry point."""

    folder_of_the_package: str

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="plainstep-example-"))
        about = tomllib.loads((EXAMPLE / "pyproject.toml").read_text())["project"]
        told = folder / f"memory_store-{about['version']}.dist-info"
        told.mkdir()
        (told / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {about['name']}\nVersion: {about['version']}\n")
        [(group, points)] = about["entry-points"].items()
        lines = [f"[{group}]", *(f"{name} = {value}" for name, value in points.items())]
        (told / "entry_points.txt").write_text("\n".join(lines))
        shutil.copy(EXAMPLE / "memory_store.py", folder)
        cls.folder_of_the_package = str(folder)
        sys.path.insert(0, str(folder))

    @classmethod
    def tearDownClass(cls) -> None:
        sys.path.remove(cls.folder_of_the_package)
        shutil.rmtree(cls.folder_of_the_package)


class MemorySource(Installed, SourceConformance, unittest.TestCase):
    harness_of = Memory


class MemoryTarget(Installed, TargetConformance, RowTarget, RacingWriters, unittest.TestCase):
    harness_of = Memory

    def test_it_is_small(self) -> None:
        self.assertLess(len((EXAMPLE / "memory_store.py").read_text().splitlines()), 200)


if __name__ == "__main__":
    unittest.main()
