"""The changes of one table, as the server's binary log has them."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.batch import Changes
from plainstep.core.changes.cutting import Cut
from plainstep.core.positions import Position, Span, Waiting, Watermark, Window
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.stores.mysql.log import preconditions, reader
from plainstep.stores.mysql.log.decoder import Decoder
from plainstep.stores.mysql.log.server import Event, LogServer
from plainstep.stores.mysql.rows import read as read_rows
from plainstep.stores.mysql.table import MysqlTable
from plainstep.stores.records import Batches, Snapshot

if TYPE_CHECKING:
    from plainstep.stores.mysql.database import MysqlDatabase
    from plainstep.stores.mysql.log.server import LogState
    from plainstep.stores.mysql.wire import Packets, Wire

# How often a moment is looked for at which a table stands at one place of the log, and seconds to wait in between.
TRIES, PAUSE = 100, 0.01
# So many bytes of log without a change of the table are read again at each step; then the watermark moves past them.
IDLE = 16 << 20


class LogSource:
    """The changes of one table. A position is the newest transaction of each domain: see ``State``.

    Args:
        database: where the table is.
        name: its name.
        types: types to use instead of its columns' own, by column.
    """

    is_managed = False
    overlaps = False
    has_before_images = True
    has_exact_operations = True

    def __init__(self, database: MysqlDatabase, name: str, types: dict[str, str]) -> None:
        self.database, self.name, self.types = database, name, types
        self.rows = MysqlTable(database, name, types)
        self.place = self.rows.place

    @cached_property
    def server(self) -> LogServer:
        """How the server's log is read."""
        return reader.server_of(self.database.opened)

    def _look(self, connection: Wire) -> None:
        """Look at the settings, and at the table as it is now: a source may be asked for days.

        Raises:
            Refused: the log does not tell all changes of the table.
        """
        self._renew()
        preconditions.refuse_untold(connection, self.rows)

    def _renew(self) -> None:
        """Have the columns looked up again: after it is told how far to read, so that no column that came before is unknown."""
        self.rows = MysqlTable(self.database, self.name, self.types)

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        key = self.rows.key()
        if not key:
            raise ConfigError(
                f"{self.place} has no primary key.",
                "Without one, the changes of one row cannot be told from those of another.",
                f'ALTER TABLE {self.rows.sql} ADD PRIMARY KEY (...); or read it with changes = "diff" and a key.',
            )
        return key

    def warnings(self) -> list[str]:
        """Nothing that a person should know."""
        return []

    def limitations(self) -> list[str]:
        """What the log does not tell."""
        return ["changes that a session makes with sql_log_bin = 0 (plainstep check finds them)"]

    def schema(self) -> pa.Schema:
        """The columns that changes and snapshots carry."""
        return self.rows.schema()

    def span(self) -> Span:
        """How far the log can be read now."""
        with self.database.opened() as connection:
            self._look(connection)
            shared = self.database.moment_connection
            state = self._snapshot_state(shared) if shared else self.server.head(connection)
            if state is None:
                raise self._unsettled()
            self._renew()
            return self._span(connection, state)

    def _snapshot_state(self, connection: Wire) -> Any | None:
        return self.server.snapshot_state(connection, self._decoder(self.server.parse("")).concerns)

    def _unsettled(self) -> Refused:
        return Refused(
            f"{self.place} is written so often that no moment was found at which it stands at one place of the log.",
            "Changes might be missed, or counted twice.",
            "Run the command again when less is written.",
        )

    def span_after(self, watermark: Watermark) -> Span:
        """How far the log can be read now, going on from a watermark."""
        return self.span()

    def _span(self, connection: Wire, state: LogState) -> Span:
        begins = self.server.oldest(connection).number
        # Not the server's own number: another one that has taken over holds the same transactions.
        return Span(
            f"{self.rows.found.schema}.{self.rows.found.name} in the log",
            begins,
            state.number,
            None,
            state.token,
            begins,
        )

    def time_of(self, position: Position) -> datetime | None:
        """The log tells it only when it is read."""
        return None

    def continuity_error(self, watermark: Watermark, span: Span) -> Refused | None:
        """Why a load cannot go on from its watermark, or None if it can."""
        reload = f"plainstep reload {watermark.load} compares the whole table and goes on from there."
        if watermark.identity != span.identity:
            return Refused(
                f"{watermark.load} was reading {watermark.identity}; now it reads {span.identity}.",
                "Positions in one mean nothing in the other.",
                reload,
            )
        state = self.server.parse(watermark.token)
        with self.database.opened() as connection:
            if not self.server.is_same_log(connection, state, self.server.parse(span.token)):
                return Refused(
                    f"{watermark.load} is merged up to {state.gtids}, which the log of {self.database.name} does not hold.",
                    "The server is another one, or was restored, or its log was reset.",
                    reload,
                )
            if not state.holds(self.server.oldest(connection)):
                return Refused(
                    f"{watermark.load} is merged up to {state.gtids}, and the log of {self.database.name} begins later.",
                    "What lies between was purged before it was merged.",
                    f"{reload} (binlog_expire_logs_seconds says how long the log is kept.)",
                )
        return None

    def waiting(self, window: Window) -> Waiting:
        """Whether a window holds anything; how much is only known by reading it."""
        after, upto = self.server.parse(window.after_token), self.server.parse(window.upto_token)
        if after.gtids == upto.gtids:
            return Waiting(0, False)
        decoder = self._decoder(after)
        size = 0
        for event in self._events(after, upto):
            size += event.end - event.start
            if decoder.concerns(event):
                return Waiting(None, True, datetime.fromtimestamp(event.header.at, UTC))
        return Waiting(0, None if size > IDLE else False)

    def _decoder(self, after: LogState) -> Decoder:
        found = self.rows.found
        columns = list(self.rows.columns.values())
        return Decoder(self.server, found.schema, found.name, columns, after, self.place, found.folds)

    def _events(self, after: LogState, upto: LogState) -> Iterator[Event]:
        def read() -> Iterator[Packets]:
            with self.database.opened() as connection:
                yield from self.server.packets(connection, after, upto, self.place)

        sent = self.database.packets(f"{after.gtids} {upto.gtids}", read)
        return reader.events_in(self.server, sent, after, upto, self.place)

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no equivalent in other stores.
            Refused: the log does not tell all that changed.
        """
        return Batches(self._changes(self.server.parse(window.after_token), self.server.parse(window.upto_token)))

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: after a transaction. What comes before is read for that.

        Where transactions are prepared first, it is not: one could be prepared before the cut and committed after it.
        """
        after, upto = self.server.parse(window.after_token), self.server.parse(window.upto_token)
        cut, decoder = Cut(most), self._decoder(after)
        for changes in decoder.decoded(self._events(after, upto)):
            if cut.found(changes.table["position"]) or decoder.prepares:
                break
        return self.parse(cut.place) if cut.place and not decoder.prepares else None

    def _changes(self, after: LogState, upto: LogState) -> Iterator[Changes]:
        decoder = self._decoder(after)
        yield decoder.nothing()
        if after.gtids != upto.gtids:
            yield from decoder.decoded(self._events(after, upto))

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the position it stands at, from one read transaction."""
        with self.database.opened() as connection:
            self._look(connection)
            _ = self.schema(), self.key()
        with self._settled() as (connection, state):
            span = self._span(connection, state)
            columns = list(self.rows.columns.values())
            selected = ", ".join(column.read_sql(self.rows.dialect.quoted(column.name)) for column in columns)
            sql = f"SELECT {selected} FROM {self.rows.sql}"
            yield Snapshot(span, self.schema(), self.database.kept(read_rows(connection, sql, columns, self.place)))

    @contextmanager
    def _settled(self) -> Iterator[tuple[Wire, Any]]:
        """A connection that sees one moment, and where that stands in the log."""
        for turn in range(TRIES):
            with self.database.snapshot() as connection:
                self._renew()
                state = self._snapshot_state(connection)
                if state is not None:
                    yield connection, state
                    return
            time.sleep(random.random() * min(turn, 10) * PAUSE)  # not in step with a writer that works by the clock
        raise self._unsettled()

    def label(self, position: Position) -> str:
        """A position as people know it: the newest transaction of each domain."""
        return position.token.partition(" ")[0] or "start"

    def parse(self, said: str) -> Position:
        """A position, as a person wrote it.

        Raises:
            ConfigError: it is not a position of a log.
        """
        try:
            state = self.server.parse(said)
        except ValueError:
            raise ConfigError(
                f"{said!r} is not a position here.",
                "A position is the newest transaction of each domain, as in 0-17-24; in MySQL, the transactions of each server, as in UUID:1-24.",
            ) from None
        return Position(state.number, state.gtids)

    def locate(self, point: int | datetime) -> Position:
        """The position that a number stands for, or the last one whose changes were all made at or before a time."""
        with self.database.opened() as connection:
            self._look(connection)
            begin, end = self.server.oldest(connection), self.server.head(connection)
        found = begin
        last = int(point.timestamp()) if isinstance(point, datetime) else point
        for state, at in (
            self._decoder(begin).transactions(self._events(begin, end)) if begin.gtids != end.gtids else ()
        ):
            if (at if isinstance(point, datetime) else state.number) > last:
                break
            found = state
        return Position(found.number, found.gtids)

    def reserve(self) -> None:
        """Nothing to do: how long the log is kept is the server's to say."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Nothing to do: the server forgets by itself."""

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Always refused: the log is the server's, and others may read it."""
        raise Refused(
            f"The log of {self.database.name} is not Plain Step's to trim.",
            "Other readers may need it.",
            "PURGE BINARY LOGS, or binlog_expire_logs_seconds, is how the server forgets.",
        )
