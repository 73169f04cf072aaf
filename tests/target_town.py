"""A town with one load into each kind of database."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

import duckdb

from tests.postgres import Database
from tests.support import TREE, Town

ROWS = ("INSERT INTO tree VALUES (1, 0, 'oak'), (2, 5, 'elm')",)
STORES = ("house", "shed", "lake")


@contextlib.contextmanager
def town_into(store: str, more: str = "") -> Iterator[tuple[Town, Any]]:
    """A town with one load, and a way to run SQL at its target."""
    with contextlib.ExitStack() as stack:
        town = stack.enter_context(Town(TREE, *ROWS))
        lake = stack.enter_context(Database()) if store == "lake" else None
        stores = f'[stores.lake]\nurl = "{lake.url}"\n' if lake else ""
        text = town.config.read_text().partition("[loads")[0] + stores
        town.config.write_text(f'{text}[loads.tree]\nfrom = "town.tree"\ninto = "{store}.tree"\n{more}\n')
        town.project.capture_on("town.tree")

        def run(*statements: str) -> list[Any]:
            if lake:
                with lake.connect() as connection:
                    results = [connection.execute(one) for one in statements]
                    return results[-1].fetchall() if results[-1].description else []
            if store == "shed":
                town.sql(*statements[:-1], store="shed")
                import sqlite3

                with contextlib.closing(sqlite3.connect(town.path / "shed.db", isolation_level=None)) as shed:
                    return shed.execute(statements[-1]).fetchall()
            with duckdb.connect(str(town.path / "house.duckdb")) as house:
                for one in statements:
                    found = house.execute(one)
                return found.fetchall()

        yield town, run


def set_to(town: Town, old: str, new: str) -> None:
    text = town.config.read_text()
    assert old in text, (old, text)
    town.config.write_text(text.replace(old, new))
