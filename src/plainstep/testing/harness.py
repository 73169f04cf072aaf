"""What the suite needs of a store beside the store itself: tables in it, and somebody who changes them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from pathlib import Path
from typing import Any

from plainstep.deferred import pa
from plainstep.sql.literals import quoted
from plainstep.testing.histories import Act, Row, after_each


class Harness(ABC):
    """Somebody who uses a store as its own applications do.

    Args:
        folder: an empty folder of the test's own; relative paths in the URL start from it.

    Attributes:
        url: the store's URL.
        method: in which way its changes are read (``changes`` in a load): ``capture``, ``log`` or ``versions``.
        has_keys: whether its tables have keys of their own; else the loads name them.
    """

    url: str
    method = "capture"
    has_keys = True

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def named(self, table: str) -> str:
        """A table's name as plainstep.toml has it."""
        return table

    def said(self, table: str) -> dict[str, str]:
        """What else loads say that read a table, as plainstep.toml has it: where changes are read by a layout, for one."""
        return {}

    def holds(self, kind: str) -> bool:
        """Whether the store has a type for one of Arrow's, by its name."""
        return True

    @abstractmethod
    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        """Make an empty table."""

    @abstractmethod
    def write(self, table: str, acts: Sequence[Act]) -> None:
        """Change a table, in one transaction where the store knows such."""

    def stands(self, rows: dict[Any, Row], acts: Sequence[Act]) -> list[dict[Any, Row]]:
        """How a table may stand, to a reader, at and after some acts that were written at once: as after all of them.

        Args:
            rows: the table before them, by key.
            acts: they.
        """
        return after_each(rows, acts)[-1:]

    def drop(self, table: str) -> None:
        """Remove a table."""
        raise NotImplementedError

    def held_open(self, table: str, acts: Sequence[Act]) -> AbstractContextManager[None]:
        """Meanwhile, the acts are made and not committed; they are at the end."""
        raise NotImplementedError

    def close(self) -> None:  # noqa: B027 (most have nothing to close)
        """Let go of the store: the test is over."""


class SqlHarness(Harness):
    """An application of a SQL database.

    Attributes:
        parameter: how a value is written in a statement.
        types: the declared types, by Arrow's names of them.
    """

    parameter = "?"
    types: dict[str, str]

    @abstractmethod
    def connect(self) -> Any:
        """A connection, as Python's database API has it, that commits by ``commit``."""

    def adapted(self, value: Any) -> Any:
        """A value as the driver takes it."""
        return value

    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        """Make an empty table."""
        columns = [
            f"{quoted(field.name)} {self.types[str(field.type)]}{' NOT NULL' if field.name in key else ''}"
            for field in schema
        ]
        names = ", ".join(map(quoted, key))
        with closing(self.connect()) as connection:
            connection.cursor().execute(f"CREATE TABLE {quoted(table)} ({', '.join(columns)}, PRIMARY KEY ({names}))")
            connection.commit()

    def write(self, table: str, acts: Sequence[Act]) -> None:
        """Change a table, in one transaction."""
        with closing(self.connect()) as connection:
            self._act(connection, table, acts)
            connection.commit()

    def drop(self, table: str) -> None:
        """Remove a table."""
        with closing(self.connect()) as connection:
            connection.cursor().execute(f"DROP TABLE {quoted(table)}")
            connection.commit()

    @contextmanager
    def held_open(self, table: str, acts: Sequence[Act]) -> Iterator[None]:
        """Meanwhile, the acts are made and not committed."""
        with closing(self.connect()) as connection:
            self._act(connection, table, acts)
            yield
            connection.commit()

    def _act(self, connection: Any, table: str, acts: Sequence[Act]) -> None:
        cursor, on = connection.cursor(), quoted(table)
        for act in acts:
            now = {} if act.now is None else {name: self.adapted(value) for name, value in act.now.items()}
            if act.was is None:
                names, watermarks = ", ".join(map(quoted, now)), ", ".join([self.parameter] * len(now))
                cursor.execute(f"INSERT INTO {on} ({names}) VALUES ({watermarks})", list(now.values()))
                continue
            where = f"{quoted('k')} = {self.parameter}"
            if act.now is None:
                cursor.execute(f"DELETE FROM {on} WHERE {where}", [act.was["k"]])
            else:
                sets = ", ".join(f"{quoted(name)} = {self.parameter}" for name in now)
                cursor.execute(f"UPDATE {on} SET {sets} WHERE {where}", [*now.values(), act.was["k"]])
