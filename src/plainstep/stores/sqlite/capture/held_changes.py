"""The change table of one captured table: what it is, and how far its changes can be read."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.errors import Refused
from plainstep.properties import cached_property
from plainstep.sql.literals import quoted
from plainstep.stores.sqlite.capture import state as capture
from plainstep.stores.sqlite.connection import begin

if TYPE_CHECKING:
    from plainstep.stores.sqlite.database import SqliteDatabase


class HeldChanges:
    """The changes of one captured table, by their positions.

    Args:
        database: the file.
        table: the table's name.
        types: declared types to use instead of the table's own, by column.
        reader: who reads, by a name that is the same at every step.

    Raises:
        Refused: capture is off, or may have missed changes.
    """

    # What a subclass knows of the state, and finds anew with it.
    follows_state: tuple[str, ...] = ()

    def __init__(self, database: SqliteDatabase, table: str, types: dict[str, str], reader: str = "") -> None:
        self.database, self.name, self.types, self.reader = database, table, types, reader

    @cached_property
    def _state(self) -> capture.State:
        with self.database.opened() as connection:
            return self._look(connection)

    def _look(self, connection: sqlite3.Connection) -> capture.State:
        state = capture.inspect(connection, self.database.name, self.name)
        if state is None:
            raise capture.off(connection, self.database, self.name)
        for old, new in state.renamed.items():
            raise Refused(
                f"The column {old} of {self.database.name}.{self.name} was renamed to {new}.",
                "Its changes are recorded, and can be merged as soon as capture knows the new name.",
                state.remedy,
            )
        if state.problem:
            raise Refused(
                f"The capture of {self.database.name}.{self.name} cannot be trusted: {state.problem}.",
                "Changes may have been missed or recorded out of order.",
                state.remedy,
            )
        return state

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart; none where the table has none."""
        return () if self._state.numbered else self._key

    @property
    def _key(self) -> tuple[str, ...]:
        """What tells rows apart in the change table: the key, or the number that SQLite gives every row."""
        return self._state.what.key

    def span(self) -> Span:
        """How far the changes can be read now."""
        with self.database.opened() as connection:
            begin(connection)
            return self._renewed_span(connection)

    def end(self) -> Position:
        """Where its changes end now."""
        with self.database.opened() as connection:
            return Position(capture.bounds(connection, self._state)[1])

    def _renewed_span(self, connection: sqlite3.Connection) -> Span:
        """The span, and with it the state of the capture and the columns, as they are now."""
        self.__dict__["_state"] = self._look(connection)
        for one in self.follows_state:
            self.__dict__.pop(one, None)
        oldest, head, at = capture.bounds(connection, self._state)
        when = None if at is None else capture.since_epoch(at)
        return Span(self._state.identity, oldest, head, when, since=self._state.since)

    def time_of(self, position: Position) -> datetime | None:
        """When the change at a position was recorded, if it is held."""
        with self.database.opened() as connection:
            row = connection.execute(
                f"SELECT at FROM {quoted(self._state.what.changes)} WHERE seq = ?", [position.number]
            ).fetchone()
            return capture.since_epoch(row[0]) if row else None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds: positions have no gaps."""
        count = window.upto - window.after
        return Waiting(count, count > 0, self.time_of(Position(window.after + 1)) if count else None)

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: between two statements. Which of them were one transaction, SQLite does not tell."""
        changes, nth = quoted(self._state.what.changes), window.after + most
        if nth >= window.upto:
            return None
        with self.database.opened() as connection:
            row = connection.execute(
                f"SELECT min(seq) - 1 FROM {changes} WHERE seq > ?1 AND seq <= ?2 "
                f"AND at <> (SELECT at FROM {changes} WHERE seq = ?1)",
                [nth, window.upto],
            ).fetchone()
        return None if row[0] is None else Position(row[0], "", self.time_of(Position(row[0])))

    def locate(self, point: int | datetime) -> Position:
        """A position itself, or the last one before the first change that was made after a time."""
        return Position(point if isinstance(point, int) else self._before(point))

    def _before(self, time: datetime) -> int:
        changes = quoted(self._state.what.changes)
        with self.database.opened() as connection:
            row = connection.execute(
                f"SELECT coalesce((SELECT seq - 1 FROM {changes} WHERE at > ? AND seq > 0 ORDER BY seq LIMIT 1), "
                f"(SELECT max(seq) FROM {changes}), 0)",
                [time.timestamp() * 1000],
            ).fetchone()
            return int(row[0])

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Forget changes before all of these positions. The newest change always stays, so that numbers are not reused."""
        changes = quoted(self._state.what.changes)
        old = f"FROM {changes} WHERE seq < min(?, (SELECT max(seq) FROM {changes}))"
        before = [min(one.number for one in positions)]
        with self.database.opened("rw" if really else "ro") as connection:
            connection.execute("BEGIN IMMEDIATE" if really else "BEGIN")
            gone = int(connection.execute(f"SELECT count(*) {old} AND seq > 0", before).fetchone()[0])
            if really:
                connection.execute(f"DELETE {old}", before)
            connection.execute("COMMIT")
            return gone
