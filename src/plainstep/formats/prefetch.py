"""Doing the next piece of work while the last one is used."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager
from itertools import chain, islice
from typing import TypeVar

Piece = TypeVar("Piece")
Result = TypeVar("Result")

# Pieces that are worked on at a time: reading and parsing are Arrow's, which leaves the interpreter to others.
AT_ONCE = 2
# Seconds that work at hand may take to end, when nobody wants its result any more.
TO_END = 10.0


def ahead(pieces: Iterator[Piece], work: Callable[[Piece], Result]) -> Iterator[Result]:
    """The results of some work, in order; the next ones are being made while one is used."""
    begun = list(islice(pieces, 2))
    if len(begun) < 2:  # most files are small: threads would cost more than what they do
        yield from map(work, begun)
        return
    pieces = chain(begun, pieces)
    waiting: deque[Future[Result]] = deque()
    with workers(AT_ONCE) as pool:
        try:
            for piece in pieces:
                waiting.append(pool.submit(work, piece))
                if len(waiting) > AT_ONCE:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            _end(list(waiting))


def fetched(pieces: Iterator[Piece], begun: int = 2) -> Iterator[Piece]:
    """The pieces themselves, in order; the next one is being fetched while one is used.

    Args:
        pieces: what is fetched.
        begun: how many there must be, for threads to cost less than they save; 0 where it is known that there are enough.
    """
    first = list(islice(pieces, begun))
    if len(first) < begun:
        yield from first
        return
    nothing = object()
    with workers(1) as pool:
        coming = deque(pool.submit(next, pieces, nothing) for _ in range(AT_ONCE))
        try:
            yield from first
            while (found := coming.popleft().result()) is not nothing:
                coming.append(pool.submit(next, pieces, nothing))
                yield found  # type: ignore[misc]
        finally:
            _end(list(coming))


@contextmanager
def workers(count: int) -> Iterator[ThreadPoolExecutor]:
    """Some threads, which are never joined: they end by themselves.

    What is read half, after an error, may be let go of by the garbage collector, in whichever thread it runs; and to join a
    thread there, while that very thread holds the interpreter's list of threads, would be to wait for ever.
    """
    pool = ThreadPoolExecutor(count)
    try:
        yield pool
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _end(futures: list[Future[Result]]) -> None:
    """See to it that nothing is still being read when its file is closed."""
    wait([future for future in futures if not future.cancel()], timeout=TO_END)
