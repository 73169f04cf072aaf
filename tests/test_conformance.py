"""Our own stores, and one of another package, held against the suite for stores."""

from __future__ import annotations

import sqlite3
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import duckdb
import psycopg

from plainstep.testing import (
    Captured,
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
)
from tests.postgres import Database

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


class Files(SqlHarness):
    url = "file:///tested"

    def connect(self) -> Any:
        raise NotImplementedError


class SqliteSource(SourceConformance, OpenTransactions, Trimmed, Captured, KilledReaders, unittest.TestCase):
    harness_of = Sqlite
    several_writers = False


class SqliteTarget(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Sqlite


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


class FilesTarget(TargetConformance, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = Files
    keeps_rows = False
    shapes: Sequence[str] = ("journal",)


if __name__ == "__main__":
    unittest.main()
