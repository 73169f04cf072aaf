"""Telling whoever wants to know how far a long read has come. Without a listener it costs nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Protocol, TypeVar

# Called with what is being done, how many rows more were read, and how many there are in all, if known.
Listener = Callable[[str, int, "int | None"], None]

_listener: ContextVar[Listener | None] = ContextVar("plainstep_progress", default=None)


class Sized(Protocol):
    """A batch of rows."""

    def __len__(self) -> int: ...


Batch = TypeVar("Batch", bound=Sized)


@contextmanager
def told_to(listener: Listener) -> Iterator[None]:
    """Tell a listener of everything that is read in this context."""
    token = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(token)


Total = int | None


def counted(batches: Iterable[Batch], what: str, total: Total | Callable[[], Total] = None) -> Iterator[Batch]:
    """The same batches, telling the listener of each.

    Args:
        batches: the batches.
        what: what is being done.
        total: how many rows there are in all, if that is known; or what tells it, which is asked only if somebody listens.
    """
    for batch in batches:
        listener = _listener.get()
        if listener:
            total = total() if callable(total) else total
            listener(what, len(batch), total)
        yield batch
