"""Databases that SQLAlchemy reaches, held against the suite for stores; and what is written for those that cannot be had here."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import duckdb

from plainstep.testing import KilledWriters, RacingWriters, RowTarget, TablesOfOthers, TargetConformance
from tests.test_conformance import Duckdb, Mariadb, Postgresql, Sqlite


class SqlPostgresql(Postgresql):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = self.url.replace("postgresql://", "postgresql+psycopg://")

    def named(self, table: str) -> str:
        return table

    def connect(self) -> Any:
        return self.database.connect()


class SqlMariadb(Mariadb):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "mysql+pymysql://" + self.url.partition("://")[2]


class SqlSqlite(Sqlite):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "sql+sqlite:///tested.db"


class SqlDuckdb(Duckdb):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "sql+duckdb:///tested.duckdb"

    def connect(self) -> Any:
        return duckdb.connect(str(self.folder / "tested.duckdb"))


class IntoPostgresql(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = SqlPostgresql
    histories = 6


class IntoMariadb(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = SqlMariadb
    histories = 6


class IntoSqlite(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = SqlSqlite
    histories = 6


class IntoDuckdb(TargetConformance, RowTarget, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = SqlDuckdb
    histories = 6
