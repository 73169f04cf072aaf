"""Databases that SQLAlchemy reaches, held against the suite for stores; and what is written for those that cannot be had here."""

from __future__ import annotations

import sqlite3
import tempfile
import unittest
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import sqlglot

import plainstep
from plainstep.errors import ConfigError, Refused
from plainstep.sql.literals import quoted
from plainstep.stores.capabilities import with_target
from plainstep.stores.ledger import Books
from plainstep.stores.registry import open_store
from plainstep.stores.sql.database import SqlDatabase
from plainstep.stores.sql.dialect import statement
from plainstep.stores.sql.traits import with_order
from plainstep.stores.sql.types import declaration
from plainstep.testing import (
    Act,
    KilledWriters,
    RacingWriters,
    RowTarget,
    SourceConformance,
    SqlHarness,
    TablesOfOthers,
    TargetConformance,
)
from plainstep.testing.histories import Row
from tests import mariadb
from tests.test_conformance import Duckdb, Mariadb, Postgresql, Sqlite


class Told(SqlHarness):
    """An application that itself notes what it changes, in a table that queries read."""

    method, has_keys, mark = "query", False, '"'

    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        super().create(table, schema, key)
        columns = ", ".join(f"{quoted(field.name)} {self.types[str(field.type)]}" for field in schema)
        with closing(self.connect()) as connection:
            connection.cursor().execute(
                f"CREATE TABLE {quoted(f'{table} changes')} (n BIGINT NOT NULL PRIMARY KEY, t BIGINT, op VARCHAR(10), {columns})"
            )
            connection.commit()

    def _act(self, connection: Any, table: str, acts: Sequence[Act]) -> None:
        cursor = connection.cursor()
        cursor.execute(f"SELECT coalesce(max(t), 0) + 1 FROM {quoted(f'{table} changes')}")
        [self._transaction] = cursor.fetchone()
        for act in acts:
            super()._act(connection, table, [act])
            if act.was is not None and act.now is not None and act.was["k"] == act.now["k"]:
                self._note(connection, table, "update", act.now)
                continue
            for op, row in (("delete", act.was), ("insert", act.now)):
                if row is not None:
                    self._note(connection, table, op, row)

    def _note(self, connection: Any, table: str, op: str, row: Row) -> None:
        cursor, changes = connection.cursor(), quoted(f"{table} changes")
        cursor.execute(f"SELECT coalesce(max(n), 0) + 1 FROM {changes}")
        [number] = cursor.fetchone()
        values = [number, self._transaction, op, *map(self.adapted, row.values())]
        names = ", ".join(map(quoted, ["n", "t", "op", *row]))
        cursor.execute(f"INSERT INTO {changes} ({names}) VALUES ({', '.join([self.parameter] * len(values))})", values)

    def said(self, table: str) -> dict[str, str]:
        changes = quoted(f"{table} changes", self.mark)
        read = f"select * from {changes} where n > :after and n <= :upto order by n"
        query = f"head = {toml(f'select max(n) from {changes}')}, oldest = 'select 0', read = {toml(read)}"
        layout = "position = ['n'], transaction = 't', operation = 'op', insert = ['insert'], update = ['update'], delete = ['delete']"
        return {
            "rows": toml(f"tested.{table}"),
            "first": '"snapshot"',
            "layout": f"{{ {layout}, query = {{ {query} }} }}",
        }


def toml(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


class SqlPostgresql(Told, Postgresql):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = self.url.replace("postgresql://", "postgresql+psycopg://")

    def named(self, table: str) -> str:
        return table

    def connect(self) -> Any:
        return psycopg.connect(self.database.url)


class SqlMariadb(Told, Mariadb):
    mark = "`"

    def holds(self, kind: str) -> bool:
        return kind != "timestamp[us, tz=UTC]"  # its TIMESTAMP begins in 1970

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "mysql+pymysql://" + self.url.partition("://")[2]


class SqlSqlite(Told, Sqlite):
    def holds(self, kind: str) -> bool:
        return not kind.startswith(
            "decimal"
        )  # the driver gives floating-point numbers, which are not taken for decimals

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "sql+sqlite:///tested.db"


class SqlDuckdb(Told, Duckdb):
    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = "sql+duckdb:///tested.duckdb"


class IntoPostgresql(TargetConformance, RowTarget, TablesOfOthers, KilledWriters, RacingWriters, unittest.TestCase):
    harness_of = SqlPostgresql
    histories = 2


class IntoMariadb(TargetConformance, RowTarget, TablesOfOthers, RacingWriters, unittest.TestCase):
    harness_of = SqlMariadb
    histories = 2


class IntoSqlite(TargetConformance, RowTarget, unittest.TestCase):
    harness_of = SqlSqlite
    histories = 2


class IntoDuckdb(TargetConformance, RowTarget, unittest.TestCase):
    harness_of = SqlDuckdb
    histories = 2


class FromPostgresql(SourceConformance, unittest.TestCase):
    harness_of = SqlPostgresql
    histories = 2


class FromMariadb(SourceConformance, unittest.TestCase):
    harness_of = SqlMariadb
    histories = 2


class FromSqlite(SourceConformance, unittest.TestCase):
    harness_of = SqlSqlite
    histories = 2


class FromDuckdb(SourceConformance, unittest.TestCase):
    harness_of = SqlDuckdb
    histories = 2


class TablesOfMariadb(unittest.TestCase):
    """Tables that would not keep what is merged: refused, with what mends them."""

    def test_without_transactions_or_with_loose_keys(self) -> None:
        with (
            mariadb.Database() as database,
            tempfile.TemporaryDirectory() as folder,
            closing(sqlite3.connect(f"{folder}/town.db")) as town,
        ):
            town.executescript(
                "CREATE TABLE tree (k TEXT PRIMARY KEY, a INTEGER); INSERT INTO tree VALUES ('a', 1), ('b', 2)"
            )
            loads = "".join(
                f'[loads.{name}]\nfrom = "town.tree"\ninto = "house.{name}"\n' for name in ("made", "loose", "bare")
            )
            url = "mysql+pymysql://" + database.url.partition("://")[2]
            config = Path(folder) / "plainstep.toml"
            config.write_text(f'[stores.town]\nurl = "sqlite:///town.db"\n[stores.house]\nurl = "{url}"\n{loads}')
            database.sql(
                "CREATE TABLE bare (k VARCHAR(50) COLLATE utf8mb4_nopad_bin PRIMARY KEY, a BIGINT) ENGINE = MyISAM"
            )
            database.sql("CREATE TABLE loose (k VARCHAR(50) COLLATE utf8mb4_general_ci PRIMARY KEY, a BIGINT)")
            project = plainstep.load_project(config)
            project.capture_on("town.tree")
            outcomes = {one.load: one for one in project.step(raise_errors=False)}
            self.assertEqual(
                {load: one.outcome for load, one in outcomes.items()},
                {"made": "stepped", "loose": "stepped", "bare": "refused"},
            )
            database.sql(outcomes["bare"].error.next.rstrip(";"))
            town.executescript("INSERT INTO tree VALUES ('A', 3), ('a ', 4)")
            outcomes = {one.load: one for one in project.step(raise_errors=False)}
            self.assertEqual(
                {load: one.outcome for load, one in outcomes.items()},
                {"made": "stepped", "loose": "refused", "bare": "stepped"},
            )
            self.assertIn("binary collation", outcomes["loose"].error.next)
            database.sql(
                "ALTER TABLE loose MODIFY k VARCHAR(50) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL"
            )
            project.step()
            self.assertEqual(
                {one.load: (one.ok, one.target_rows) for one in project.check()},
                dict.fromkeys(("made", "loose", "bare"), (True, 4)),
            )


class WrittenOffline(unittest.TestCase):
    """What is written for databases of which no server can be had: whole statements, in their own words, for every dialect that installs."""

    URLS = {
        "mssql": "mssql+pymssql://town@host/larkmoor", "oracle": "oracle+oracledb://town@host/?service_name=larkmoor",
        "snowflake": "snowflake://town@account/larkmoor/public", "redshift": "redshift+psycopg2://town@host/larkmoor",
        "cockroachdb": "cockroachdb+psycopg://town@host/larkmoor", "bigquery": "bigquery://project/larkmoor",
    }  # fmt: skip
    # How each dialect is called where statements are parsed.
    PARSED_AS = {"mssql": "tsql", "cockroachdb": "postgres"}

    def test_statements_are_parsed_in_their_dialect(self) -> None:
        for backend, url in self.URLS.items():
            with self.subTest(backend), tempfile.TemporaryDirectory() as folder:
                database = SqlDatabase("town", url, Path(folder), 1.0)
                self.assertEqual(database.backend, backend)
                for sql in written(database):
                    parsed = sqlglot.parse(
                        sql, dialect=self.PARSED_AS.get(backend, backend), error_level=sqlglot.ErrorLevel.RAISE
                    )
                    self.assertEqual(len(parsed), 1, sql)
                    compiled = statement(sql, [None] * sql.count("?"))[0].compile(
                        dialect=database.engine_url.get_dialect()()
                    )
                    self.assertNotIn("None", str(compiled))

    def test_what_is_not_promised_is_refused(self) -> None:
        for backend in ("oracle", "bigquery"):
            store = open_store("house", self.URLS[backend], Path(), 1.0)
            with self.assertRaisesRegex(Refused, "cannot be merged into"):
                with_target(store).target()
        with self.assertRaisesRegex(ConfigError, "no store is known"):
            open_store("house", "nosuch://host/x", Path(), 1.0)


def written(database: SqlDatabase) -> list[str]:
    """The statements that are written for a database."""
    dialect, traits = database.dialect, database.traits
    quoted, table, staged = dialect.quoted, dialect.quoted("Street tree"), "plainstep_staged_0"
    number, text = quoted("tree_id"), quoted("Species")
    ordered = with_order if database.backend == "mssql" else str
    found = [
        ordered(
            f"SELECT {traits.time_text.format(quoted('planted'))} AS {quoted('at')} FROM {table} {dialect.first(1)}"
        ),
        f"SELECT {number} FROM {table} WHERE {number} IN (?, ?) AND {traits.time.format(dialect.string('2026-01-02 03:04:05'))} > {quoted('planted')}",
        f"SELECT {traits.bytes_text.format(quoted('image'))} FROM {table} WHERE {quoted('image')} = {traits.bytes.format(dialect.string('00ff'))}",
    ]
    if traits.not_a_target:
        return found
    books = Books.under("plainstep_", dialect)
    schema = pa.schema(
        [
            ("tree_id", pa.int64()),
            ("Species", pa.string()),
            ("height_m", pa.decimal128(5, 2)),
            ("planted", pa.timestamp("us")),
        ]
    )
    columns = ", ".join(f"{quoted(one.name)} {declaration(one, one.name == 'tree_id', traits)}" for one in schema)
    on = f"{'t' if traits.aliased else table}.{number} = s.{number}"
    said = {"table": table, "staged": staged, "on": on, "sets": f"{text} = s.{text}"}
    found += [
        *books.create, books.find_watermark, books.move_watermark, books.insert_watermark, books.insert_entry, books.find_standing,
        ordered(books.find_entries("tree", 5)[0]), f"CREATE TABLE {table} ({columns}, PRIMARY KEY ({number}))",
        traits.staging.format(**said), traits.delete.format(**said), traits.update.format(**said),
        f"INSERT INTO {table} ({number}) SELECT {number} FROM {staged} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE t.{number} = s.{number})",
        dialect.widening.format(table=table, column=number, type=traits.types["int64"]),
    ]  # fmt: skip
    return found
