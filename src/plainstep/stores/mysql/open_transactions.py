"""Which transactions are open: below the lowest number of theirs, all have ended."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import pymysql
from pymysql.constants import ER

from plainstep.errors import Refused, StoreError
from plainstep.stores.mysql import catalog
from plainstep.stores.mysql.connection import DENIED, number_of

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Wire

# Transactions that have written have numbers below this; to those that only read, the server gives others to show.
NUMBERS = 1 << 48
VIEW = f"SELECT trx_id, trx_mysql_thread_id FROM information_schema.innodb_trx WHERE trx_id < {NUMBERS}"
# A transaction in the engine's own report, up to the next one: its number, its state, and what is said of it.
REPORTED = re.compile(r"---TRANSACTION (\d+), (?!not started)(.*?)(?=---TRANSACTION|\n--------\n|\Z)", re.DOTALL)
# The view is brought up only when nobody has read it for 0.1 seconds; so often it is tried, where the report is too long.
IDLE, TRIES = 0.12, 20

# Who has written in a transaction that is open, or is writing in one now; those that are idle and wrote nothing are left out.
OPEN = """
SELECT t.trx_mysql_thread_id, p.user, t.trx_started FROM information_schema.innodb_trx t
LEFT JOIN information_schema.processlist p ON p.id = t.trx_mysql_thread_id
WHERE t.trx_is_read_only = 0"""
WRITERS = f"{OPEN} AND (t.trx_rows_modified > 0 OR t.trx_query IS NOT NULL)"
# The server looks for these itself only so often.
LOOKED = 0.12


@dataclass(frozen=True)
class Bound:
    """The number of a transaction below which all have ended.

    Attributes:
        number: that number; 0 where nothing is captured.
        holder: the connection whose transaction it is; 0 where that is our own, or none.
    """

    number: int
    holder: int = 0


def bound(connection: Wire) -> Bound:
    """The number of a transaction below which all have ended.

    It is looked for within a transaction that writes, and is rolled back: that this one is among those that are open shows
    that what is told is new.

    Raises:
        Refused: it may not be seen.
    """
    try:
        connection.run("START TRANSACTION")
        try:
            connection.run("INSERT INTO plainstep_probe VALUES (1)")
            return _lowest(connection)
        finally:
            if connection.open:
                connection.run("ROLLBACK")
    except pymysql.Error as error:
        if number_of(error) == ER.NO_SUCH_TABLE:
            return Bound(0)
        if number_of(error) not in DENIED:
            raise
        raise Refused(
            "Which transactions are open may not be seen, or plainstep_probe may not be written.",
            "Changes that are committed late would be missed.",
            "docs/stores/mysql.md lists the privileges that reading a captured table needs.",
        ) from error


def _lowest(connection: Wire) -> Bound:
    row = connection.first("SHOW ENGINE INNODB STATUS")
    found = _reported(str(row[2])) if row else {}
    for _ in range(TRIES):
        ours = connection.thread_id()
        if ours in found.values():
            lowest = min(found)
            return Bound(lowest, 0 if found[lowest] == ours else found[lowest])
        time.sleep(IDLE)
        found = {int(number): int(thread) for number, thread in connection.run(VIEW)[1]}
    raise StoreError("The server does not tell which transactions are open.", "", "Run the command again.")


def _reported(report: str) -> dict[int, int]:
    """The numbers of the transactions that are open, and the connection of each (0: none), from the engine's report.

    Empty where the report was too long, and was cut.
    """
    if "truncated" in report:
        return {}
    found = {}
    for number, told in REPORTED.findall(report):
        thread = re.search(r"thread id (\d+)", told)
        if int(number) < NUMBERS:
            found[int(number)] = int(thread[1]) if thread else 0
    return found


def wait_for_writers(
    opened: Callable[[], AbstractContextManager[Wire]], wait: float, place: str, every: bool = False
) -> None:
    """Wait until all transactions have ended that have written and are open now.

    Args:
        opened: gives a connection.
        wait: for how many seconds.
        place: what they may have written to, for messages.
        every: wait for those that have not written yet, too.

    Raises:
        Refused: one stays open, or it may not be seen.
    """
    with opened() as connection:  # outside of any snapshot
        try:
            _, rows = connection.run(OPEN if every else WRITERS)
        except pymysql.Error as error:
            if number_of(error) not in DENIED:
                raise
            raise _unseen(connection, place) from None
        waited_for = {row[0] for row in rows}
        until = time.monotonic() + wait
        while rows and time.monotonic() < until:
            time.sleep(LOOKED)
            rows = [row for row in connection.run(OPEN if every else WRITERS)[1] if row[0] in waited_for]
        if rows:
            raise _open_writer(place, *rows[0])


def _unseen(connection: Wire, place: str) -> Refused:
    return Refused(
        f"Whether a transaction that has written to {place} is still open may not be seen.",
        "Its changes may lie before others that are there already, and would be missed.",
        f"GRANT PROCESS ON *.* TO {catalog.role(connection)}; or give the load an overlap.",
    )


def _open_writer(place: str, number: int, user: str | None, since: Any) -> Refused:
    return Refused(
        f"A transaction that may have written to {place} is still open: connection {number} of {user}, since {since}.",
        "Its changes may lie before others that are there already, and would be missed.",
        f"Let it end, or end it: KILL {number}; or give the load an overlap.",
    )
