"""A connection that is kept open while many small looks are made at one store."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Generic, TypeVar

Connection = TypeVar("Connection")


class SharedConnection(Generic[Connection]):
    """At most one open connection a thread."""

    def __init__(self) -> None:
        self._local = threading.local()

    @contextmanager
    def open(self, opened: AbstractContextManager[Connection]) -> Iterator[None]:
        """Keep a connection open in this context; the one that is kept already, where there is one."""
        if "open" in self._local.__dict__:
            yield
            return
        with opened as self._local.connection:
            self._local.open = True
            try:
                yield
            finally:
                self._local.__dict__.clear()

    @contextmanager
    def used(self) -> Iterator[Connection | None]:
        """The connection that is kept, if there is one and nobody is using it further up."""
        connection: Connection | None = self._local.__dict__.pop("connection", None)
        try:
            yield connection
        finally:
            # A reading that is given up ends when nobody knows of it any more: perhaps after the connection.
            if connection is not None and "open" in self._local.__dict__:
                self._local.connection = connection
