"""Connections to MariaDB and MySQL: settings, and errors in three lines."""

from __future__ import annotations

import re
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, unquote

import pymysql
from pymysql.constants import CR, ER

from plainstep.errors import ConfigError, LostConnection, PlainStepError, StoreError, Unreachable
from plainstep.stores.free_connections import JUST_USED, FreeConnections
from plainstep.stores.mysql.wire import Wire
from plainstep.stores.unreachable import NOTICED
from plainstep.stores.urls import parts_of

# What does not fit is an error and never bent, and times are in UTC, whatever the server or the role is set to.
# PIPES_AS_CONCAT: elsewhere in this package, || joins texts, as the standard has it.
SQL_MODE = "STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,PIPES_AS_CONCAT"
SETTINGS = {
    "sql_mode": f"'{SQL_MODE}'",
    "time_zone": "'+00:00'",
    "tx_isolation": "'REPEATABLE-READ'",
    "foreign_key_checks": "1",
    "unique_checks": "1",
    "sql_safe_updates": "0",
    "sql_select_limit": "18446744073709551615",
    "group_concat_max_len": "1048576",
    "max_statement_time": "0",
}
# What MySQL calls otherwise.
RENAMED = {"tx_isolation": "transaction_isolation", "max_statement_time": "max_execution_time"}
# What a URL may say behind its "?".
ASKED = ("unix_socket", "ssl_ca", "ssl_cert", "ssl_key", "ssl_verify_identity")
# Seconds without a word from the server after which it is given up: a long statement is silent, too.
SILENCE = 3600
# Errors after which the same may go through: the connection or the server is gone, or another transaction was in the way.
LOST = {
    CR.CR_SERVER_GONE_ERROR, CR.CR_SERVER_LOST, CR.CR_CONN_HOST_ERROR, CR.CR_CONNECTION_ERROR,
    ER.SERVER_SHUTDOWN, ER.LOCK_DEADLOCK, ER.QUERY_INTERRUPTED, 1927, 1047, 1152, 1158, 1159, 1160, 1161, 4031,
}  # fmt: skip
DENIED = {ER.ACCESS_DENIED_ERROR, ER.DBACCESS_DENIED_ERROR, ER.TABLEACCESS_DENIED_ERROR, ER.COLUMNACCESS_DENIED_ERROR,
          ER.SPECIFIC_ACCESS_DENIED_ERROR, 1370}  # fmt: skip


@dataclass(frozen=True)
class Address:
    """Where a server is, and who comes.

    Attributes:
        shown: the URL as it may be shown, put together from its parts.
        settings: what the driver takes.
    """

    shown: str
    settings: dict[str, Any] = field(repr=False)


def address_of(store: str, url: str) -> Address:
    """What a URL says.

    Raises:
        ConfigError: it cannot be read, or not surely. (What the driver says of it may hold a part of the password.)
    """
    scheme = url.partition(":")[0].lower()
    wrong = ConfigError(
        f"The URL of the store {store!r} is not a valid {scheme} URL.",
        "In a user or a password, each of / ? # [ ] @ % : and blanks is written as % and two digits: @ is %40, / is %2F.",
        f"Write {scheme}://USER@HOST:3306/DATABASE, or {scheme}://USER:${{NAME}}@HOST:3306/DATABASE.",
    )
    who = url.partition("://")[2].rpartition("@")[0]
    try:
        parts = parts_of(url)
        port = parts.port or 3306
        asked = dict(parse_qsl(parts.query, strict_parsing=bool(parts.query)))
    except ValueError:
        raise wrong from None
    database, host, user = unquote(parts.path[1:]), parts.hostname or "localhost", unquote(parts.username or "")
    plain = (
        re.fullmatch(r"[\w.+ $-]+", database) and re.fullmatch(r"[\w.:-]*", host) and re.fullmatch(r"[\w.+-]*", user)
    )
    if not plain or parts.fragment or re.search(r"[/?#\[\]@\s]", who) or not asked.keys() <= {*ASKED}:
        raise wrong
    settings: dict[str, Any] = {"host": host, "port": port, "user": user, "database": database, **asked}
    settings["password"] = unquote(parts.password or "")
    settings["ssl_verify_identity"] = asked.get("ssl_verify_identity", "") in ("1", "true", "yes")
    if not settings["ssl_verify_identity"]:
        del settings["ssl_verify_identity"]
    beside = f"?unix_socket={asked['unix_socket']}" if "unix_socket" in asked else ""
    return Address(f"{scheme}://{user}{'@' if user else ''}{host}:{port}/{database}{beside}", settings)


class Connections:
    """The connections of one store. One that is free is used again: making one costs more than a small step.

    Args:
        store: the store's name, for messages.
        url: ``mysql://user@host:port/database``.
        wait: how many seconds to wait for a lock.
    """

    def __init__(self, store: str, url: str, wait: float) -> None:
        self.store, self.wait = store, wait
        self.address = address_of(store, url)
        self.shown = self.address.shown
        self._free: FreeConnections[Wire] = FreeConnections(
            _works, lambda connection: connection._force_close(), trusted=JUST_USED
        )

    @contextmanager
    def opened(self) -> Iterator[Wire]:
        """A connection in autocommit mode.

        Raises:
            StoreError: the server cannot be reached, or something went wrong there.
        """
        connection = self._free.take() or self._connect()
        try:
            yield connection
        except PlainStepError:
            raise
        except pymysql.Error as error:
            raise self.explained(error) from error
        finally:
            self._give_back(connection)

    def _give_back(self, connection: Wire) -> None:
        in_transaction = bool(connection.open and connection.server_status & 1)
        if not connection.open or in_transaction:
            connection._force_close()
            return
        self._free.give(connection)

    def _connect(self) -> Wire:
        try:
            connection = Wire(
                **self.address.settings,
                connect_timeout=max(2, round(self.wait)),
                read_timeout=SILENCE,
                program_name="plainstep",
            )
            _notice_silence(connection)
            chosen = {
                RENAMED.get(name, name) if connection.is_mysql else name: value for name, value in SETTINGS.items()
            }
            seconds = max(1, round(self.wait))
            chosen |= {"lock_wait_timeout": str(seconds), "innodb_lock_wait_timeout": str(seconds)}
            connection.run("SET " + ", ".join(f"SESSION {name} = {value}" for name, value in chosen.items()))
            return connection
        except (pymysql.Error, RuntimeError, UnicodeError) as error:
            raise self._unreachable(error) from None

    def _unreachable(self, error: Exception) -> StoreError:
        number, told = _said(error)
        if number in (ER.SERVER_SHUTDOWN, ER.CON_COUNT_ERROR):
            return LostConnection(f"{self.shown}: {told}.", "Nothing was written.", "Run the command again.")
        remedy = f"Check the url of the store {self.store} in plainstep.toml."
        if number in DENIED:
            remedy = (
                f"Check the user and password in the url of the store {self.store}; it may take them from ${{NAME}}."
            )
        elif number == ER.BAD_DB_ERROR:
            remedy = f"Check the database in the url of the store {self.store}, or make it: CREATE DATABASE."
        elif "refused" in told or "No such file" in told:
            remedy = "Check that the server runs, and the host and port in the store's url."
        elif "timed out" in told:
            remedy = (
                "The server does not answer: check that it runs, and the network to it; then run the command again."
            )
        return Unreachable(f"Cannot connect to {self.shown}: {told}.", "Nothing was read or written.", remedy)

    def explained(self, error: pymysql.Error) -> PlainStepError:
        """The server's error in three lines."""
        number, told = _said(error)
        if number in LOST or isinstance(error, pymysql.InterfaceError):
            return LostConnection(f"{self.shown}: {told}.", "Nothing was written.", "Run the command again.")
        if number == ER.LOCK_WAIT_TIMEOUT:
            return StoreError(
                f"A lock in {self.shown} was held by another connection for {self.wait:g} seconds.",
                self._others(),
                "Let it finish or end it, and run the command again. Nothing was written.",
            )
        if number in DENIED:
            return StoreError(
                f"{self.shown}: {told}.",
                "Nothing was written.",
                "docs/stores/mysql.md lists the privileges that reading, merging and capturing need.",
            )
        return StoreError(f"{self.shown} says: {told}.", "Nothing was written.")

    def _others(self) -> str:
        """Who else is in a transaction, as far as we may see it."""
        sql = (
            "SELECT t.trx_mysql_thread_id, p.user, p.time FROM information_schema.innodb_trx t "
            "LEFT JOIN information_schema.processlist p ON p.id = t.trx_mysql_thread_id "
            "WHERE t.trx_mysql_thread_id <> connection_id() ORDER BY t.trx_started LIMIT 4"
        )
        found: list[tuple[Any, ...]] = []
        with suppress(pymysql.Error, PlainStepError), self.opened() as connection:
            _, found = connection.run(sql)
        told = ", ".join(f"connection {number} of {user or 'unknown'}" for number, user, _ in found)
        return f"In transactions there: {told}." if told else ""


@contextmanager
def meanwhile(connection: Wire, **settings: str) -> Iterator[None]:
    """Other settings of a connection, for a while; then those that it had. (It is used again by others.)"""
    before = connection.first(f"SELECT {', '.join(f'@@SESSION.{name}' for name in settings)}")
    assert before is not None
    connection.run("SET " + ", ".join(f"SESSION {name} = {value}" for name, value in settings.items()))
    try:
        yield
    finally:
        if connection.open:
            connection.run("SET " + ", ".join(f"SESSION {name} = %s" for name in settings), list(before))


def _notice_silence(connection: Wire) -> None:
    """Have the network notice within a minute that a server is gone without a word."""
    for name, value in NOTICED.items():
        if not connection.unix_socket:
            connection._sock.setsockopt(socket.IPPROTO_TCP, getattr(socket, name), value)


def _works(connection: Wire) -> bool:
    try:
        connection.ping()
    except pymysql.Error:
        return False
    return True


def number_of(error: BaseException) -> int:
    """The server's number of an error; 0 where it has none."""
    first = error.args[0] if error.args else 0
    return first if isinstance(first, int) else 0


def _said(error: BaseException) -> tuple[int, str]:
    told = str(error.args[-1]) if error.args else type(error).__name__
    return number_of(error), (told.strip().splitlines() or [type(error).__name__])[0].rstrip(".")
