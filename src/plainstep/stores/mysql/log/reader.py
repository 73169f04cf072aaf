"""Reading a binary log: the events from one transaction to another."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING

from plainstep.stores.mysql.log.mariadb import MariadbLog
from plainstep.stores.mysql.log.mysql import MysqlLog
from plainstep.stores.mysql.log.server import Event, LogServer, LogState, events_of, refuse_gone

if TYPE_CHECKING:
    from plainstep.stores.mysql.wire import Packets, Wire


def server_of(opened: Callable[[], AbstractContextManager[Wire]]) -> LogServer:
    """What a server's log is read by.

    Args:
        opened: gives a connection to it.
    """
    with opened() as connection:
        return MysqlLog(opened) if connection.is_mysql else MariadbLog()


def events_in(
    server: LogServer, sent: Iterator[Packets], after: LogState, upto: LogState, place: str
) -> Iterator[Event]:
    """The events of the transactions after one state and up to another.

    Raises:
        Refused: they are not those that follow.
    """
    state, is_wanted = after, True
    for event in events_of(sent):
        one = server.transaction_of(event)
        if one is not None:
            is_wanted = upto.includes(one)
            if not is_wanted and (server.stops or state.holds(upto)):
                return  # made since
            if state.includes(one):
                raise refuse_gone(place, f"after {state.gtids} comes {one.name}")
            if is_wanted:
                state = state.after(one)
        if is_wanted:
            yield from server.unpacked(event)
    if not state.holds(upto):
        raise refuse_gone(place, f"it ends at {state.gtids or 'its beginning'}, before {upto.gtids}")
