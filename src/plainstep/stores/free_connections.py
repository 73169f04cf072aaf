"""Connections that are free, to be used again: making one costs more than a small step."""

from __future__ import annotations

import os
import threading
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

Connection = TypeVar("Connection")


class FreeConnections(Generic[Connection]):
    """The connections of one store that nobody uses now. They are closed with this.

    Args:
        works: whether a connection can still be used.
        close: closes one.
        always: whether free ones are kept all the time, or only while somebody says so (``kept``).
    """

    def __init__(
        self, works: Callable[[Connection], bool], close: Callable[[Connection], None], always: bool = True
    ) -> None:
        self._works, self._close = works, close
        self._keepers = int(always)
        self._free: list[tuple[int, Connection]] = []
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
                pid, connection = self._free.pop()
            if pid != os.getpid():
                continue  # the parent process's: it must not hear from us
            if self._works(connection):
                return connection
            self._close(connection)

    def give(self, connection: Connection) -> None:
        """Keep one that can be used again, or close it."""
        with self._guard:
            if self._keepers:
                self._free.append((os.getpid(), connection))
                return
        self._close(connection)


def _close_all(free: list[tuple[int, Connection]], close: Callable[[Connection], None]) -> None:
    for pid, connection in free:
        if pid == os.getpid():
            close(connection)
