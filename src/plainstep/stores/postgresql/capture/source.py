"""What both ways of reading a PostgreSQL table have in common: its capture, its columns, and its rows at one moment."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

from plainstep.core.positions import Span
from plainstep.deferred import pa
from plainstep.properties import cached_property
from plainstep.sql.literals import quoted
from plainstep.stores.postgresql import catalog
from plainstep.stores.postgresql.capture.method import CaptureMethod
from plainstep.stores.postgresql.capture.registry import State
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.copy import read
from plainstep.stores.records import CaptureInfo, Snapshot

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase
    from plainstep.stores.postgresql.types import Column


class TableSource(ABC):
    """A captured table.

    Args:
        store: the database.
        table: the table's name.
        types: types to use instead of the columns' own, by column.
        way: how it is captured.

    Raises:
        Refused: capture is off, or may have missed changes.
    """

    is_managed = True
    overlaps = False
    has_before_images = True
    has_exact_operations = True

    def __init__(self, database: PostgresqlDatabase, table: str, types: dict[str, str], way: CaptureMethod) -> None:
        self.database, self.name, self.types, self.way = database, table, types, way

    @abstractmethod
    def hidden(self, table: catalog.Table) -> frozenset[str]:
        """Columns of the table whose changes are not told."""

    def plain(self, column: Column) -> str:
        """A column of the table, in the form in which changes carry it."""
        return quoted(column.name)

    @abstractmethod
    def stands_at(self, connection: Connection) -> Span:
        """Where the transaction's snapshot stands."""

    @cached_property
    def state(self) -> State:
        """The capture, as it was when last looked at."""
        with self.database.opened() as connection:
            return self.way.trusted(connection, self.name)

    def renew(self, connection: Connection) -> None:
        """Look at the capture and the columns, as they are now."""
        self.__dict__["state"] = self.way.trusted(connection, self.name)
        self.__dict__.pop("columns", None)

    @cached_property
    def columns(self) -> list[Column]:
        """The columns that changes carry."""
        table = self.state.table
        assert table is not None
        hidden = {*self.state.dropped, *self.state.waiting, *self.hidden(table)}
        return catalog.typed(
            tuple(table.column(name) for name in self.state.columns if name not in hidden), self.types, self.name
        )

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self.state.key

    def warnings(self) -> list[str]:
        """Columns that came to the table, or changed their type; new partitions."""
        refresh = self.way.command("refresh", self.name)
        came = [f"the column {name} of {self.name} is not captured yet: {refresh}" for name in self.state.waiting]
        other = [f"the column {name} of {self.name} has another type now: {refresh}" for name in self.state.retyped]
        parts = [f"{self.name} has a new partition: {refresh}"] if self.state.new_partitions else []
        old = [f"the capture of {self.name} was made for the table as it was: {refresh}"] if self.state.outdated else []
        return came + other + parts + old

    def held(self) -> CaptureInfo:
        """What its capture holds."""
        with self.database.opened() as connection:
            return self.way.info(connection, self.state)

    def schema(self) -> pa.Schema:
        """The captured columns."""
        return pa.schema([column.field for column in self.columns])

    def _estimate(self) -> int | None:
        """How many rows the table has, as the server's last analysis found; None where there was none."""
        with self.database.opened() as connection:  # the other one is being copied out
            sql = "SELECT sum(greatest(reltuples, 0))::bigint FROM pg_class WHERE oid IN (SELECT relid FROM pg_partition_tree(%s) UNION SELECT %s::regclass)"
            row = connection.execute(sql, [catalog.sql_of(catalog.parts_of(self.name))] * 2).fetchone()
        return int(row[0]) or None if row and row[0] is not None else None

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the place it stands at, from one transaction."""
        with self.database.opened() as connection, connection.transaction():
            self.database.read_only(connection)
            # Before the snapshot is taken: a truncate in between would show through it.
            table = catalog.find_and_lock(connection, self.name)
            self.renew(connection)
            span = self.stands_at(connection)
            selected = ", ".join(self.plain(column) for column in self.columns)
            rows = read(connection, f"SELECT {selected} FROM {table}", self.columns, self.name)
            with closing(rows) as batches:  # a copy that is not read to its end would block the transaction's
                yield Snapshot(span, self.schema(), batches, total=lambda: self._estimate())
