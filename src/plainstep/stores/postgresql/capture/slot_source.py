"""Reading a PostgreSQL table's changes out of the server's log, and the table itself at one moment."""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import closing, suppress
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import TYPE_CHECKING, Any

from plainstep.copying import replace
from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.words import name_lists
from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.deferred import np, pa
from plainstep.errors import Refused, StoreError
from plainstep.formats.prefetch import ahead
from plainstep.sql.literals import quoted
from plainstep.stores.misfit import Misfit
from plainstep.stores.postgresql import catalog, pgoutput
from plainstep.stores.postgresql.binary_form import Decode, decoder
from plainstep.stores.postgresql.capture import readers, snapshots
from plainstep.stores.postgresql.capture import slot as log
from plainstep.stores.postgresql.capture import slot_messages as slots
from plainstep.stores.postgresql.capture.source import TableSource
from plainstep.stores.postgresql.connection import Connection
from plainstep.stores.postgresql.row_images import TextNeeded, Values
from plainstep.stores.postgresql.types import from_text, misfit
from plainstep.stores.records import Batches

if TYPE_CHECKING:
    from plainstep.stores.postgresql.database import PostgresqlDatabase
    from plainstep.stores.postgresql.types import Column

# How much log without a change of the table is let stand before the slot moves past it.
IDLE = 16 << 20
# Bytes that a change takes in the log at least: windows that are smaller hold no more changes than that.
LEAST = 24
# Bytes of a page of the log, as the server is built: what is flushed ends at one unless the last record does.
PAGE = 8192

# The first version of the server whose messages can carry values in binary form.
BINARY_SINCE = 140_000

Begins = Callable[[pgoutput.Begin], bool]
# What decodes a column's values, by its name.
Decoders = dict[str, Decode]


class LogSource(TableSource):
    """The changes of one table, as the server's log has them.

    Positions are places in the log, as whole numbers. Changes come in the order in which their transactions
    committed, so a window is told by its two places alone; only after a first load, whose snapshot cannot know
    its own place to the byte, the watermark carries that snapshot as its token.

    Args:
        store: the database.
        table: the table's name.
        types: types to use instead of the columns' own, by column.
        reader: who reads, by a name that is the same at every step.
    """

    def __init__(self, database: PostgresqlDatabase, table: str, types: dict[str, str], reader: str) -> None:
        super().__init__(database, table, types, log.Log(database))
        self.reader = reader

    def hidden(self, table: catalog.Table) -> frozenset[str]:
        """Computed columns are not in the log."""
        return table.generated

    def plain(self, column: Column) -> str:
        """A column of the table, as it is."""
        return quoted(column.name)

    def span(self) -> Span:
        """How far the log can be read now: all that is flushed."""
        if self.database.in_moment:
            with self.database.opened() as connection, connection.transaction():
                self.database.read_only(connection)
                self.renew(connection)
                return self.stands_at(connection)
        with self.database.opened() as connection:
            self.renew(connection)
            return self._span(connection)

    def stands_at(self, connection: Connection) -> Span:
        """Where the transaction's snapshot stands.

        The token is the snapshot itself: what it saw is not applied again, what it did not see is in the log after
        where the slot stood before.
        """
        row = connection.execute("SELECT pg_current_snapshot()::text").fetchone()
        assert row is not None
        return replace(self._span(connection, wait=True), token=row[0])

    def _span(self, connection: Connection, wait: bool = False) -> Span:
        row = connection.execute(log.SLOT, [self.state.changes]).fetchone()
        if row is None:
            raise StoreError(f"The slot {self.state.changes} is gone.")
        confirmed, _, held_back = row
        known = readers.known_reader(connection, self.state.identity, self.reader, "ACCESS SHARE")
        oldest = confirmed
        if known and known[0] is not None and known[1] >= confirmed:
            oldest = min(oldest, known[0])  # what lies between is known to hold nothing of this table
        head = max(_flushed(connection, wait), oldest)
        return Span(
            self.state.identity,
            oldest,
            head,
            start=self.state.trimmed,
            holds_back=held_back,
            since=self.state.since,
        )

    def time_of(self, position: Position) -> datetime | None:
        """The log does not tell the time of a place."""
        return None

    def waiting(self, window: Window) -> Waiting:
        """Whether a window holds anything; how much is only known by reading it."""
        if window.upto <= window.after and not window.after_token:
            return Waiting(0, False)
        # Where the slot stands at the window's beginning, its first transaction is the first there is.
        first = not window.after_token and window.after <= self._confirmed()
        for begin in self._begins(window, "1" if first else "NULL"):
            return Waiting(None, True, _time(begin.at))
        return Waiting(0, False)

    def _begins(self, window: Window, limit: str = "NULL") -> Iterator[pgoutput.Begin]:
        """The transactions of a window, each by its beginning."""
        wanted = _wanted(window)
        for messages in self._slot.messages(window.upto, slots.BEGINS, limit):
            for data in messages:
                begin = pgoutput.begin_of(data)
                if wanted(begin):
                    yield begin

    def _confirmed(self) -> int:
        with self.database.opened() as connection:
            row = connection.execute(log.SLOT, [self.state.changes]).fetchone()
            return int(row[0]) if row else 0

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: after a transaction."""
        if window.upto - window.after < most * LEAST:
            return None
        end = None
        for limit in (most, 8 * most, 64 * most):  # the slot may stand far behind, for another reader
            for begin in self._begins(window, str(limit)):
                end = Position(begin.position + 1)
                if limit > most:
                    break
            if end is not None:
                break
        return end if end is not None and end.number < window.upto else None

    def locate(self, point: int | datetime) -> Position:
        """The place itself, or the end of the last transaction that committed at or before a time."""
        if isinstance(point, int):
            return Position(point)
        with self.database.opened() as connection:
            oldest, head = self._confirmed(), _flushed(connection)
        found = Position(oldest)
        latest = (point - datetime.fromtimestamp(0, UTC)) // timedelta(microseconds=1)
        for begin in self._begins(Window(oldest, head)):
            if begin.at > latest:
                break
            found = Position(begin.position + 1, "", _time(begin.at))
        return found

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """The slot forgets by itself what every reader has merged."""
        return 0

    def reserve(self) -> None:
        """From here on the slot does not move past where it is, until this reader has merged."""
        with self.database.opened() as connection, connection.transaction():
            # Else another load could let the slot move on between looking where it is and being registered.
            connection.execute("LOCK TABLE plainstep.readers IN SHARE ROW EXCLUSIVE MODE")
            readers.known_reader(connection, self.state.identity, self.reader)
            readers.note_reader(connection, self.state.identity, self.reader, None, self._confirmed())

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Everything up to a place is merged, or holds nothing of this table: the slot may move on."""
        if watermark.token:
            return  # what the snapshot did not see may lie before its place: the slot waits for the next step
        with self.database.opened() as connection, connection.transaction():
            # Else of two loads that merge at once, each could take the other for the slowest, and neither move the slot.
            connection.execute("LOCK TABLE plainstep.readers IN SHARE ROW EXCLUSIVE MODE")
            known = readers.known_reader(connection, self.state.identity, self.reader)
            if known and known[0] == watermark.number and upto.number - known[1] < IDLE:
                return
            readers.note_reader(connection, self.state.identity, self.reader, watermark.number, upto.number)
            slowest = readers.slowest_reader(connection, self.state.identity)
        if slowest is not None and slowest > self._confirmed():
            self._advance(slowest)

    def _advance(self, position: int) -> None:
        with self.database.opened() as connection:
            self._slot.when_free(
                lambda: connection.execute(
                    "SELECT pg_replication_slot_advance(%s, %s)", [self.state.changes, log.lsn(position)]
                )
            )

    @property
    def _slot(self) -> slots.Slot:
        return slots.Slot(self.database, self.state.changes, log.publication(self.state.oid))

    def _decoders(self) -> Decoders:
        """What decodes each column's values, if all of them can be sent in binary form; nothing else."""
        with self.database.opened() as connection:
            if connection.info.server_version < BINARY_SINCE:
                return {}
        found = {column.name: decode for column in self.columns if (decode := decoder(column))}
        return found if len(found) == len(self.columns) else {}

    def _parts(self, window: Window, binary: bool) -> Generator[tuple[Begins, slots.Lots]]:
        """A window's messages, each part with which transactions are wanted of it: those of a large window are made in two halves at once."""
        slot, wanted, size = replace(self._slot, binary=binary), _wanted(window), window.upto - window.after
        if size < slots.WORTH_HALVING:
            yield wanted, slot.messages(window.upto)
            return
        middle = window.after + int(size * slots.FIRST_HALF)
        with slot.second_half(middle, window.upto) as second:
            if second is None:
                yield wanted, slot.messages(window.upto)
                return
            yield lambda begin: begin.position < middle and wanted(begin), slot.messages(middle)
            yield lambda begin: begin.position >= middle and wanted(begin), second()

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            DataError: a value has no equivalent in other stores.
        """
        return Batches(self._decoded(window))

    def _decoded(self, window: Window) -> Iterator[Changes]:
        yield self._changes(None, 0, {})  # so that the columns are known, whatever comes
        told = 0
        if decoders := self._decoders():
            with suppress(TextNeeded):
                for changes in self._in_form(window, decoders):
                    told += len(changes)
                    yield changes
                return
        for changes in self._in_form(window, {}):  # the window once more, for what was not told of it
            if len(changes) > told:
                yield Changes(changes.table.slice(told)) if told else changes
            told = max(0, told - len(changes))

    def _in_form(self, window: Window, decoders: Decoders) -> Iterator[Changes]:
        """The changes of a window, whose values are sent in binary form or, without decoders, as text.

        Raises:
            TextNeeded: a value in binary form is not as expected.
        """
        # Whoever reads no further, lets go of the slot at once.
        parts = self._parts(window, bool(decoders))
        with closing(parts), closing(self._runs(parts, bool(decoders))) as runs:
            yield from ahead(runs, lambda run: self._changes(run[0].rows(), run[1], decoders))

    def _runs(self, parts: Iterator[tuple[Begins, slots.Lots]], binary: bool) -> Generator[tuple[pgoutput.Run, int]]:
        """The changes of a window, not yet decoded, and how many come before them."""
        seq = 0
        types = {column.name: column.oid for column in self.columns}
        for wanted, messages in parts:
            decoding = pgoutput.Decoder(list(types), wanted, types if binary else None)
            with closing(messages):
                for some in messages:
                    for run in decoding.runs(some):
                        yield run, seq
                        seq += len(run)

    def _changes(self, rows: pgoutput.Rows | None, seq: int, decoders: Decoders) -> Changes:
        assert self.state.table is not None
        full = self.state.table.identity == "f"
        count = len(rows) if rows else 0
        op = rows.op if rows else np.zeros(0, np.int8)
        if rows:
            self._refuse_untold(rows, full)
        if rows and full:  # an update without its old row, from before the replica identity was set so
            op = np.where((op == Op.UPDATE) & ~rows.whole, np.int8(Op.PUT), op)
        columns: dict[str, Any] = {
            "op": pa.array(op, pa.int8()),
            "seq": pa.array(np.arange(seq + 1, seq + 1 + count)),
            "at": _of_each(rows, lambda begin: begin.at).cast(utc_time()),
            "txn": _of_each(rows, lambda begin: begin.xid),
            "position": _of_each(rows, lambda begin: begin.position + 1),  # the first that includes it
        }
        if rows and rows.sent:
            names = [column.name for column in self.columns]
            columns["given"] = name_lists(dict(zip(names, rows.sent, strict=True)), count)
        was, now = dict[str, pa.Array](), dict[str, pa.Array]()
        for place, column in enumerate(self.columns):
            decode = decoders.get(column.name) or partial(self._text, column)
            after = now[NOW + column.name] = decode(rows.now[place]) if rows else pa.nulls(0, column.kind)
            if full or column.name in self.state.key:
                again = rows and not _is_same(rows.was[place], rows.now[place], not decoders)
                was[WAS + column.name] = decode(rows.was[place]) if rows and again else after
        return Changes(pa.table(columns | was | now))

    def _refuse_untold(self, rows: pgoutput.Rows, full: bool) -> None:
        """Refuse changes that were logged while the table's replica identity was another.

        Raises:
            Refused: they do not tell which row changed, or what a row was that went.
        """
        gone = rows.op == Op.DELETE
        if (gone | (rows.op == Op.UPDATE)).any() and not set(self.state.key) <= rows.identifying:
            told = f"they do not tell the old {', '.join(self.state.key)}"
        elif full and (gone & ~rows.whole).any():
            told = "deleted rows come without their old values"
        else:
            return
        raise Refused(
            f"Changes of {self.name} were logged while its replica identity was another: {told}.",
            "Which rows changed, or what they were, is not known.",
            "plainstep reload LOAD compares the whole table and goes on from there.",
        )

    def _text(self, column: Column, values: Values) -> pa.Array:
        """A column's values that were sent as text."""
        texts = values.raw.cast(pa.string())
        try:
            return from_text(texts, column.kind)
        except Misfit as wrong:
            raise misfit(self.name, column, texts[wrong.index].as_py()) from None


def _is_same(was: Values, now: Values, costly: bool) -> bool:
    """Whether a column's values before are those after: most changes do not change most columns, and what is made need not be made twice.

    Args:
        costly: whether to make them costs more than to compare them.
    """
    if np.array_equal(was.given, now.given) and np.array_equal(was.start, now.start):
        return True
    return costly and bool(was.raw.equals(now.raw))


def _of_each(rows: pgoutput.Rows | None, number: Callable[[pgoutput.Begin], int]) -> pa.Array:
    """Of each change, a number of its transaction."""
    if rows is None:
        return pa.array([], pa.int64())
    return pa.array(np.array([number(begin) for begin in rows.begins], np.int64)[rows.made_by])


def _wanted(window: Window) -> Begins:
    """Whether a transaction belongs to a window.

    By the place where its commit is written; but after a snapshot, by whether the snapshot saw it, and up to one,
    likewise.
    """
    after = snapshots.Snapshot.parse(window.after_token) if window.after_token else None
    upto = snapshots.Snapshot.parse(window.upto_token) if window.upto_token else None

    def wanted(begin: pgoutput.Begin) -> bool:
        late = not after.includes(after.widened(begin.xid)) if after else begin.position >= window.after
        early = upto.includes(upto.widened(begin.xid)) if upto else begin.position < window.upto
        return late and early

    return wanted


def _flushed(connection: Connection, all_of_it: bool = False) -> int:
    """How far the log is written for good, at the end of a record.

    Where it ends with a page, a record may go on behind it; the server writes the rest within a moment. The same
    moment is waited for where everything is wanted that others see already (they may not wait for it to be written).
    """
    began = None
    for _ in range(50):  # a second: the log writer flushes every 0.2 seconds at the latest (wal_writer_delay)
        row = connection.execute(
            f"SELECT {log.NUMBER.format('pg_current_wal_flush_lsn()')}, {log.NUMBER.format('pg_current_wal_insert_lsn()')}"
        ).fetchone()
        assert row is not None
        flushed, inserted = row
        began = inserted if began is None else began
        if flushed >= began or (flushed % PAGE and not all_of_it):
            break
        time.sleep(0.02)
    return int(flushed)


def _time(microseconds: int) -> datetime:
    return datetime.fromtimestamp(microseconds / 1_000_000, UTC)
