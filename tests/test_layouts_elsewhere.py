"""Every form of a change table, in the other databases, and into two kinds of targets."""

from __future__ import annotations

import contextlib
import sqlite3
import unittest
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import duckdb

from tests import layouts, mariadb
from tests.feed_town import Town
from tests.histories import story
from tests.postgres import Database
from tests.support import examples

# Forms that are tables of changes.
FORMS = [
    name
    for name, (place, _, layout) in layouts.LOADS.items()
    if place.startswith("town.") and layout and name != "keys"
]
TYPES = {"BLOB": "bytea", "INTEGER": "bigint"}
# What is changed in place is brought over whole.
CLEARED = {"periods": "DELETE FROM periods"}
Put = Callable[[str, Sequence[tuple[Any, ...]]], None]


def declarations() -> dict[str, list[tuple[str, str]]]:
    """The columns of each table, with their types, as SQLite has them."""
    with contextlib.closing(sqlite3.connect(":memory:")) as connection:
        connection.executescript(layouts.TABLES)
        return {name: [(row[1], row[2]) for row in connection.execute(f"PRAGMA table_info({name})")] for name in FORMS}


def created(of: dict[str, str]) -> list[str]:
    """Statements that make the tables, with some types by other names."""
    made = []
    for name, columns in declarations().items():
        told = ", ".join(f'"{column}" {of.get(kind, kind)}' for column, kind in columns)
        made.append(f"CREATE TABLE {name} ({told})")
    return made


@contextmanager
def in_duckdb(town: Town) -> Iterator[tuple[str, Put]]:
    path = str(town.path / "town.duckdb")
    with duckdb.connect(path) as connection:
        for statement in created({}):
            connection.execute(statement)

    def put(table: str, rows: Sequence[tuple[Any, ...]]) -> None:
        with duckdb.connect(path) as connection:
            connection.execute(CLEARED.get(table, "SELECT 1"))
            connection.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * len(rows[0]))})", rows)

    yield "duckdb:///town.duckdb", put


@contextmanager
def in_postgresql(_: Town) -> Iterator[tuple[str, Put]]:
    kinds = declarations()
    with Database(*created(TYPES)) as source:

        def put(table: str, rows: Sequence[tuple[Any, ...]]) -> None:
            typed = [f"%s::{TYPES.get(kind, kind)}" for _, kind in kinds[table]]
            with source.connect() as connection, connection.cursor() as cursor:
                cursor.execute(CLEARED.get(table, "SELECT 1"))
                cursor.executemany(f"INSERT INTO {table} VALUES ({', '.join(typed)})", rows)

        yield source.url, put


@contextmanager
def in_mariadb(_: Town) -> Iterator[tuple[str, Put]]:
    statements = [one.replace('"', "`") for one in created({"INTEGER": "BIGINT", "TIMESTAMP": "DATETIME"})]
    with mariadb.Database(*statements) as source:

        def put(table: str, rows: Sequence[tuple[Any, ...]]) -> None:
            with source.connect(autocommit=False) as connection, connection.cursor() as cursor:
                cursor.execute(CLEARED.get(table, "SELECT 1"))
                cursor.executemany(f"INSERT INTO {table} VALUES ({', '.join(['%s'] * len(rows[0]))})", rows)
                connection.commit()

        yield source.url, put


class Elsewhere(unittest.TestCase):
    def test_every_form_of_a_table_ends_in_the_same_rows(self) -> None:
        for seed in range(examples(1)):
            for made in (in_duckdb, in_postgresql, in_mariadb):
                with self.subTest(made.__name__, seed=seed), Town(*FORMS) as town, made(town) as (url, put):
                    self.steps(town, url, put, story(seed, keys=12, changes=60))

    def test_by_sqlalchemy(self) -> None:
        for made, scheme in (
            (in_postgresql, "postgresql+psycopg"),
            (in_mariadb, "mysql+pymysql"),
        ):
            with self.subTest(scheme), Town(*FORMS) as town, made(town) as (url, put):
                self.steps(town, f"{scheme}://{url.partition('://')[2]}", put, story(3, keys=12, changes=60))

    def steps(self, town: Town, url: str, put: Put, acts: list[Any]) -> None:
        text = town.config.read_text().replace('url = "sqlite:///town.db"', f'url = "{url}"\nwait = 1.5')
        text += '\n[stores.shed]\nurl = "sqlite:///shed.db"\n'
        known = dict.fromkeys(FORMS, 0)
        for start in range(0, 60, 30):
            town.play(acts[start : start + 30])
            self.copy(town, put, known)
            for store in ("house", "shed"):
                town.config.write_text(text.replace("house.", f"{store}.") if store == "shed" else text)
                for outcome in town.project.step():
                    self.assertEqual(outcome.outcome, "stepped", outcome.load)
            for name in FORMS:
                self.assertEqual(town.target(name), town.truth, name)
                self.assertEqual(self.in_shed(town, name), town.truth, name)

    def in_shed(self, town: Town, name: str) -> dict[int, tuple[Any, ...]]:
        with contextlib.closing(sqlite3.connect(town.path / "shed.db")) as connection:
            return {row[0]: row for row in connection.execute(f"SELECT k, a, b FROM {name}").fetchall()}

    def copy(self, town: Town, put: Put, known: dict[str, int]) -> None:
        """Bring what was written into SQLite over: new rows, and of periods all, because these are changed."""
        with contextlib.closing(sqlite3.connect(town.path / "town.db")) as connection:
            for name in FORMS:
                rows = connection.execute(f"SELECT * FROM {name} ORDER BY rowid").fetchall()
                kinds = [kind for _, kind in declarations()[name]]
                typed = [tuple(None if value is None else bool(value) if kind == "BOOLEAN" else value
                               for value, kind in zip(row, kinds, strict=True)) for row in rows]  # fmt: skip
                if name == "periods":
                    put(name, typed)
                elif len(typed) > known[name]:
                    put(name, typed[known[name] :])
                known[name] = len(typed)


if __name__ == "__main__":
    unittest.main()
