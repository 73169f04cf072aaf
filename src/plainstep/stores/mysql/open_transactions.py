"""Which transactions are open: below the lowest number of theirs, all have ended."""

from __future__ import annotations

import re
import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

import pymysql
from pymysql.constants import ER

from plainstep.errors import Refused, StoreError
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
