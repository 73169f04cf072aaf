"""What the events of a log mean for one table: its changes, in the order in which they were committed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import Any

from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa
from plainstep.errors import DataError, Refused
from plainstep.stores.misfit import Misfit
from plainstep.stores.mysql.log import events, mysql_events, statements, values
from plainstep.stores.mysql.log.events import Query, RowsBody, TableMap
from plainstep.stores.mysql.log.images import rows_in
from plainstep.stores.mysql.log.server import Event, LogServer, LogState, Transaction
from plainstep.stores.mysql.log.statements import Effect
from plainstep.stores.mysql.types import Column

# Bytes of rows that are made into columns at a time.
CHUNK = 1 << 22
RELOAD = "plainstep reload LOAD compares the whole table and goes on from there."


class Decoder:
    """Makes changes of events.

    Args:
        server: how the server's log is read.
        schema, name: the table.
        columns: its columns, as they are now.
        after: the state after which the events come.
        place: the table's name, for messages.
        folds: whether names of tables are the same in large and in small letters.

    Attributes:
        prepares: whether some transaction was prepared before it was committed.
    """

    def __init__(
        self,
        server: LogServer,
        schema: str,
        name: str,
        columns: Sequence[Column],
        after: LogState,
        place: str,
        folds: bool = False,
    ) -> None:
        self.server = server
        self.schema, self.name, self.columns, self.place, self.folds = schema, name, columns, place, folds
        self._state = after
        self._transaction: Transaction | None = None
        self._maps: dict[int, TableMap] = {}
        self._batch = _Batch()
        self._seq = 0
        # What transaction managers prepared, and did not commit yet.
        self._prepared: dict[bytes, _Batch] = {}
        self._preparing = self.prepares = False

    def concerns(self, event: Event) -> bool:
        """Whether an event may be about the table. (Without looking at rows.)"""
        kind = event.header.kind
        if kind == events.TABLE_MAP:
            _, found = events.table_of(event.body, self.server.is_mysql)
            return self._is_ours(found)
        if kind == events.GTID:
            return bool(events.transaction_of(event.body, event.server).flags & (events.PREPARED | events.COMPLETED))
        if kind in (events.QUERY, events.QUERY_COMPRESSED):
            query = events.query_of(event.body, kind == events.QUERY_COMPRESSED)
            return self._effect(query) is not Effect.NONE or bool(mysql_events.xa_of(query)[0])
        return False

    def _effect(self, query: Query) -> Effect:
        return statements.effect_of(query.sql, query.database, self.schema, self.name, self.folds)

    def _is_ours(self, found: TableMap) -> bool:
        ours, theirs = f"{self.schema}.{self.name}", f"{found.database}.{found.table}"
        return ours.lower() == theirs.lower() if self.folds else ours == theirs

    def transactions(self, found: Iterator[Event]) -> Iterator[tuple[LogState, int]]:
        """Every transaction: the state that it ends in, and when it began, in seconds since 1970."""
        for event in found:
            one = self.server.transaction_of(event)
            if one is not None:
                self._state = self._state.after(one)
                yield self._state, event.header.at

    def decoded(self, found: Iterator[Event]) -> Iterator[Changes]:
        """The changes of the table.

        Raises:
            Refused: they are not told in full.
            DataError: a value has no equivalent in other stores.
        """
        for event in found:
            one = self.server.transaction_of(event)
            if one is not None:
                self._begin(one)
            elif event.header.kind == events.TABLE_MAP:
                number, table = events.table_of(event.body, self.server.is_mysql)
                self._maps[number] = table
            else:
                yield from self._changes_in(event)
        yield from self._flushed()
        if any(batch.starts for batch in self._prepared.values()):
            raise Refused(
                f"A transaction that changed {self.place} is prepared, and neither committed nor rolled back.",
                "What it changed lies before others that are committed already, and would be missed.",
                "XA RECOVER lists it: XA COMMIT or XA ROLLBACK it, and run the command again.",
            )

    def _changes_in(self, event: Event) -> Iterator[Changes]:
        """What is to be told once an event came."""
        kind = event.header.kind
        if kind in events.ROWS or kind == mysql_events.PARTIAL_ROWS:
            table = self._maps.get(events.table_number(event.body[:6]), TableMap("", "", (), ()))
            if self._is_ours(table):
                yield from self._rows(kind, table, event)
        elif kind in (events.QUERY, events.QUERY_COMPRESSED):
            yield from self._query(events.query_of(event.body, kind == events.QUERY_COMPRESSED), event)
        elif kind == events.XA_PREPARE and self._preparing and self._transaction is not None:
            self._preparing = False
            if self.server.is_mysql and mysql_events.is_one_phase(event.body):
                yield from self._completed(self._transaction, commits=True)

    def _begin(self, one: Transaction) -> None:
        self._transaction = one
        self._state = self._state.after(one)
        self._prepare(one)

    def _prepare(self, one: Transaction) -> None:
        self._preparing = bool(one.flags & events.PREPARED)
        self.prepares |= self._preparing
        if self._preparing:
            self._prepared[one.xid] = _Batch()

    def _rows(self, kind: int, table: TableMap, event: Event) -> Iterator[Changes]:
        if kind == mysql_events.PARTIAL_ROWS:
            raise Refused(
                f"A session changed {self.place} and logged only some parts of its documents.",
                "What the rows are now is not known.",
                f"SET GLOBAL binlog_row_value_options = ''; then {RELOAD}",
            )
        body = events.rows_of(kind, event.body)
        self._refuse_partial(table, body)
        op = Op.INSERT if kind in events.WRITE else Op.UPDATE if kind in events.UPDATE else Op.DELETE
        if self._preparing and self._transaction is not None:
            prepared = self._prepared[self._transaction.xid]
            if prepared.table not in (None, table):
                raise Refused(f"The columns of {self.place} changed while a transaction was prepared.", "", RELOAD)
            prepared.add(table, body.data, op, self._state.gtids, event.header.at)
            return
        if self._batch.table not in (None, table) or self._batch.size > CHUNK:
            yield from self._flushed()
        self._batch.add(table, body.data, op, self._state.gtids, event.header.at)

    def _refuse_partial(self, table: TableMap, body: RowsBody) -> None:
        count = len(table.kinds)
        if any(int.from_bytes(one, "little") & ((1 << count) - 1) != (1 << count) - 1 for one in body.present):
            raise Refused(
                f"A session changed {self.place} and logged only some of its columns.",
                "What the rows were, or are, is not known.",
                f"SET GLOBAL binlog_row_image = 'FULL'; then {RELOAD}",
            )
        names = {*table.names}
        if not names:
            raise Refused(
                f"The log does not name the columns of {self.place}.",
                "Which values are whose is not known, if columns have changed since.",
                f"SET GLOBAL binlog_row_metadata = 'FULL'; then {RELOAD}",
            )

    def _query(self, query: Query, event: Event) -> Iterator[Changes]:
        one, word = self._transaction, query.sql.strip().lower()
        if one is not None and self.server.is_mysql:
            told = mysql_events.told_by(query, one)
            if told is not one and told.flags & events.PREPARED:
                self._transaction = told
                self._prepare(told)
                return
            one = told
        if one is not None and one.flags & events.COMPLETED:
            yield from self._completed(one, commits=word.startswith("xa commit"))
            return
        effect = self._effect(query)
        if effect in (Effect.NONE, Effect.COLUMNS):
            return
        if effect is Effect.TRUNCATED:
            yield from self._flushed()
            yield self._without_rows([Op.TRUNCATE], event.header.at)
            return
        shown = " ".join(query.sql.split())[:80]
        if effect is Effect.AS_STATEMENT:
            raise Refused(
                f"A session logged a statement instead of the rows that it changed: {shown}",
                "Which rows these are is not known.",
                f"SET GLOBAL binlog_format = 'ROW'; then {RELOAD}",
            )
        raise Refused(
            f"{self.place} was changed as a whole: {shown}", "What became of its rows, the log does not tell.", RELOAD
        )

    def _completed(self, one: Transaction, commits: bool) -> Iterator[Changes]:
        """The rows of a transaction that was prepared before, or nothing if it was rolled back."""
        batch = self._prepared.pop(one.xid, None)
        if batch is None:
            if not commits:
                return
            raise Refused(
                f"A transaction was committed that had been prepared before {self.place} was read.",
                "What it changed lies before what is merged already.",
                RELOAD,
            )
        if commits and batch.starts:
            yield from self._flushed()
            batch.gtids = [self._state.gtids] * len(batch.gtids)
            self._batch = batch
            yield from self._flushed()

    def _flushed(self) -> Iterator[Changes]:
        batch, self._batch = self._batch, _Batch()
        if batch.table is not None:
            yield self._changes(batch, batch.table)

    def _changes(self, batch: _Batch, table: TableMap) -> Changes:
        try:
            rows = rows_in(table, bytes(batch.data), batch.starts, batch.ends, batch.ops)
        except NotImplementedError as unknown:
            raise DataError(
                f"The log of {self.place} holds a type that is not known ({unknown}).", "", RELOAD
            ) from None
        count = len(rows.event)
        texts = pa.array(batch.gtids, pa.string()).take(pa.array(rows.event))
        times = pa.array(np.array(batch.times, dtype=np.int64) * 1_000_000).cast(utc_time()).take(pa.array(rows.event))
        columns: dict[str, Any] = {
            "op": pa.array(rows.op, pa.int8()), "seq": self._numbers(count), "at": times, "txn": texts, "position": texts,
        }  # fmt: skip
        places = {name.lower(): place for place, name in enumerate(table.names)}
        for side, slots in ((WAS, rows.was), (NOW, rows.now)):
            for column in self.columns:
                place = places.get(column.name.lower())
                if place is None:
                    columns[side + column.name] = pa.nulls(count, column.kind)  # it came later, and was null
                    continue
                kind, told = table.kinds[place], table.metadata[place]
                self._refuse_other(column, kind, table.unsigned[place])
                try:
                    columns[side + column.name] = values.values_of(column, kind, told, rows.data, slots[place])
                except Misfit:
                    raise DataError(
                        f"A row of {self.place} was logged whose {column.name} ({column.declared}) has no equivalent in other stores.",
                        "Merging it would change it.",
                        f'Fix the value, and {RELOAD} Or read it with changes = "capture" and types = {{ "{column.name}" = "TEXT" }}.',
                    ) from None
        return Changes(pa.table(columns))

    def _refuse_other(self, column: Column, kind: int, unsigned: bool) -> None:
        """Refuse values that were of another type when they were logged.

        Raises:
            Refused: they were.
        """
        signs = kind not in values.INTEGERS or unsigned == (
            "unsigned" in column.declared or "zerofill" in column.declared
        )
        if not values.is_read(column, kind) or not signs:
            raise Refused(
                f"The column {column.name} of {self.place} is {column.declared}, and was something else when rows were logged, or is "
                "of a type or a charset that is not read from the log.",
                "What they held cannot be told.",
                f'{RELOAD} Or read it with changes = "diff".',
            )

    def _numbers(self, count: int) -> pa.Array:
        numbers = pa.array(np.arange(self._seq + 1, self._seq + 1 + count))
        self._seq += count
        return numbers

    def _without_rows(self, ops: list[Op], at: int) -> Changes:
        """Changes that carry no values."""
        count = len(ops)
        gtids = pa.array([self._state.gtids] * count, pa.string())
        columns: dict[str, Any] = {
            "op": pa.array(ops, pa.int8()), "seq": self._numbers(count),
            "at": pa.array([datetime.fromtimestamp(at, UTC)] * count, utc_time()), "txn": gtids, "position": gtids,
        }  # fmt: skip
        for side in (WAS, NOW):
            columns |= {side + column.name: pa.nulls(count, column.kind) for column in self.columns}
        return Changes(pa.table(columns))

    def nothing(self) -> Changes:
        """No changes, with the columns that changes have."""
        return self._without_rows([], 0)


class _Batch:
    """Rows of several events of one table."""

    def __init__(self) -> None:
        self.table: TableMap | None = None
        self.data = bytearray()
        self.starts: list[int] = []
        self.ends: list[int] = []
        self.ops: list[Op] = []
        self.gtids: list[str] = []
        self.times: list[int] = []

    @property
    def size(self) -> int:
        """How many bytes there are."""
        return len(self.data)

    def add(self, table: TableMap, data: bytes, op: Op, gtids: str, at: int) -> None:
        """Add the rows of an event."""
        self.table = table
        self.starts.append(len(self.data))
        self.data += data
        self.ends.append(len(self.data))
        self.ops.append(op)
        self.gtids.append(gtids)
        self.times.append(at)
