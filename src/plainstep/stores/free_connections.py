"""Connections that are free, to be used again: making one costs more than a small step."""

from __future__ import annotations

import os
import threading
import time
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

from msgspec import Struct, field

Connection = TypeVar("Connection")

# Seconds for which a connection to a server that was just used is taken to work still: between two looks of one command go some
# milliseconds. One that was cut just then is told, and tried again, as one that is cut while it is used.
JUST_USED = 0.05


class _Free(Struct, Generic[Connection], frozen=True):
    """One that nobody uses: whose it is, and since when."""

    connection: Connection
    pid: int = field(default_factory=os.getpid)
    since: float = field(default_factory=time.monotonic)


class FreeConnections(Generic[Connection]):
    """The connections of one store that nobody uses now. They are closed with this.

    Args:
        works: whether a connection can still be used.
        close: closes one.
        always: whether free ones are kept all the time, or only while somebody says so (``kept``).
        trusted: for how many seconds one that was just used is not asked whether it still works. (Of a server, that is a message
            there and back.)
    """

    def __init__(
        self,
        works: Callable[[Connection], bool],
        close: Callable[[Connection], None],
        always: bool = True,
        trusted: float = 0.0,
    ) -> None:
        self._works, self._close, self._trusted = works, close, trusted
        self._keepers = int(always)
        self._free: list[_Free[Connection]] = []
        self._guard = threading.Lock()
        weakref.finalize(self, _close_all, self._free, close)

    @contextmanager
    def kept(self) -> Iterator[None]:
        """Keep free ones meanwhile. They are closed by whoever kept them last."""
        with self._guard:
            self._keepers += 1
        try:
            yield
        finally:
            with self._guard:
                self._keepers -= 1
                over = [] if self._keepers else self._free[:]
                del self._free[: len(over)]
            _close_all(over, self._close)

    def take(self) -> Connection | None:
        """One that still works, if there is any."""
        while True:
            with self._guard:
                if not self._free:
                    return None
                free = self._free.pop()
            if free.pid != os.getpid():
                continue  # the parent process's: it must not hear from us
            if time.monotonic() - free.since < self._trusted or self._works(free.connection):
                return free.connection
            self._close(free.connection)

    def give(self, connection: Connection) -> None:
        """Keep one that can be used again, or close it."""
        with self._guard:
            if self._keepers:
                self._free.append(_Free(connection))
                return
        self._close(connection)


def _close_all(free: list[_Free[Connection]], close: Callable[[Connection], None]) -> None:
    for one in free:
        if one.pid == os.getpid():
            close(one.connection)
