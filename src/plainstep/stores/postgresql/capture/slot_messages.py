"""The messages of a replication slot, as they come from the server; those of a large window in halves, which the server makes at once."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Generator, Iterator
from concurrent.futures import wait
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING, Any, cast

import psycopg
from psycopg import capabilities
from psycopg.pq import TransactionStatus

from plainstep.errors import StoreError
from plainstep.formats.prefetch import fetched, workers
from plainstep.sql.literals import text
from plainstep.stores.garbage_collection import held_off
from plainstep.stores.postgresql.capture import slot as log

if TYPE_CHECKING:
    from plainstep.stores.postgresql.connection import Connection
    from plainstep.stores.postgresql.database import PostgresqlDatabase

Lots = Generator[list[bytes]]

# Messages decoded at a time: at first, at most, and at most by their bytes; and so many come from the
# server at a time, however long they are.
FIRST, MOST, MOST_BYTES = 1 << 8, 1 << 14, 1 << 26
CHUNK = 1 << 8
# Bytes of log from which on a window is read in halves: the server makes all messages before it sends the first, by one process. (To go
# to the middle took it 0.2 to 0.5 s, of a window that took 3.6 s.)
WORTH_HALVING = 128 << 20
# The second half goes through the log before it once more, without making messages of it: it is the smaller one.
FIRST_HALF = 0.6

MESSAGES = (
    "SELECT data FROM pg_logical_slot_peek_binary_changes({slot}, {upto}, {limit}, "
    "'proto_version', '1', 'publication_names', {published}{form}) WHERE {kinds}"
)
BINARY_FORM = ", 'binary', 'true'"
EVERYTHING, BEGINS = "true", "get_byte(data, 0) = ascii('B')"
# Whether a slot can be copied and leave one free for others.
ROOM = "SELECT count(*) + 1 < current_setting('max_replication_slots')::int FROM pg_replication_slots"


@dataclass(frozen=True)
class Slot:
    """A replication slot, and the publication that is read through it.

    Args:
        database: where it is.
        name, publication: their names.
        binary: whether values are asked for in binary form.
    """

    database: PostgresqlDatabase
    name: str
    publication: str
    binary: bool = False

    def messages(self, upto: int, kinds: str = EVERYTHING, limit: str = "NULL") -> Lots:
        """The messages from where the slot stands up to a place in the log, some at a time.

        Args:
            upto: the place.
            kinds: a condition on messages, in SQL.
            limit: after how many changes to end, with a transaction, in SQL.
        """
        with self.database.opened() as connection:
            yield from _all(*self.when_free(lambda: self._asked(connection, self.name, upto, kinds, limit)))

    def _asked(
        self, connection: Connection, slot: str, upto: int, kinds: str = EVERYTHING, limit: str = "NULL"
    ) -> tuple[list[bytes], Generator[tuple[bytes]]]:
        """The first messages, and those after them."""
        query = MESSAGES.format(
            slot=text(slot),
            upto=text(log.lsn(upto)),
            limit=limit,
            published=text(self.publication),
            form=BINARY_FORM if self.binary else "",
            kinds=kinds,
        )
        rows = connection.cursor(binary=True).stream(query, size=CHUNK if capabilities.has_stream_chunked() else 1)
        return _taken(rows, FIRST), cast("Generator[tuple[bytes]]", rows)

    def when_free(self, work: Callable[[], Any]) -> Any:
        """Do something with the slot as soon as no other reader is at it."""
        until = time.monotonic() + self.database.wait
        while True:
            try:
                return work()
            except psycopg.errors.ObjectInUse:
                if time.monotonic() > until:
                    raise StoreError(
                        f"The slot {self.name} was in use for {self.database.wait:g} seconds.",
                        "Another step, or a replication client, is reading it.",
                        "Run the command again when it has finished.",
                    ) from None
            time.sleep(0.02)  # a slot is held as long as it is read: some milliseconds, where nothing waits

    @contextmanager
    def second_half(self, middle: int, upto: int) -> Iterator[Callable[[], Lots] | None]:
        """The messages from the middle of a window on, which another process of the server begins to make now.

        A slot is read by one process at a time: this one reads a copy, which is gone with its connection at the latest. Both halves may
        tell of a transaction that committed about the middle.

        Returns:
            What gives them; None where the server makes no copy: it has no room for another slot, is too old, or allows none.
        """
        with self.database.opened() as connection, workers(1) as pool:
            copy = f"plainstep_half_{uuid.uuid4().hex}"
            if not self._copied(connection, copy):
                yield None
                return
            begun = pool.submit(self._begun, connection, copy, middle, upto)

            def messages() -> Lots:
                try:
                    first = begun.result()
                except psycopg.Error:  # such as a limit on the time of a statement: the slot itself has all of them
                    return self.messages(upto)
                return _all(*first)

            try:
                yield messages
            finally:
                # A connection that is lost, or left in the middle of an answer, takes the copy with it.
                with suppress(psycopg.Error):
                    while not begun.done():  # nobody wants it any more
                        connection.cancel_safe()
                        wait([begun], timeout=0.1)
                    if connection.info.transaction_status == TransactionStatus.IDLE:
                        connection.execute("SELECT pg_drop_replication_slot(%s)", [copy])

    def _copied(self, connection: Connection, copy: str) -> bool:
        try:
            room = connection.execute(ROOM).fetchone()
            if room is None or not room[0]:
                return False
            connection.execute("SELECT pg_copy_logical_replication_slot(%s, %s, true)", [self.name, copy])
        except psycopg.Error:
            if connection.closed:
                raise
            return False
        return True

    def _begun(
        self, connection: Connection, copy: str, middle: int, upto: int
    ) -> tuple[list[bytes], Generator[tuple[bytes]]]:
        connection.execute("SELECT pg_replication_slot_advance(%s, %s)", [copy, log.lsn(middle)])
        return self._asked(connection, copy, upto)


def _all(first: list[bytes], rows: Generator[tuple[bytes]]) -> Lots:
    """All messages, the next of which are on their way while some are used."""
    try:
        if first:
            yield first
        if len(first) == FIRST:
            yield from fetched(_lots(rows, first), begun=0)
    finally:
        rows.close()


def _lots(rows: Iterator[tuple[bytes]], before: list[bytes]) -> Iterator[list[bytes]]:
    """The messages after some, as many at a time as are decoded together: by the bytes of those before them."""
    lot = before
    while lot:
        size = sum(map(len, lot)) // len(lot) + 1
        if lot := _taken(rows, max(1, min(MOST, MOST_BYTES // size))):
            yield lot


def _taken(rows: Iterator[tuple[bytes]], count: int) -> list[bytes]:
    with held_off():
        return [message for (message,) in islice(rows, count)]
