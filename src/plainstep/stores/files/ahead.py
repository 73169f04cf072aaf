"""Doing the next piece of work while the last one is used."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

Piece = TypeVar("Piece")
Result = TypeVar("Result")

# Pieces that are worked on at a time: reading and parsing are Arrow's, which leaves the interpreter to others.
AT_ONCE = 2


def ahead(pieces: Iterator[Piece], work: Callable[[Piece], Result]) -> Iterator[Result]:
    """The results of some work, in order; the next ones are being made while one is used."""
    waiting: deque[Future[Result]] = deque()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        try:
            for piece in pieces:
                waiting.append(pool.submit(work, piece))
                if len(waiting) > AT_ONCE:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()


def fetched(pieces: Iterator[Piece]) -> Iterator[Piece]:
    """The pieces themselves, in order; the next one is being fetched while one is used."""
    nothing = object()
    with ThreadPoolExecutor(1) as pool:
        coming = pool.submit(next, pieces, nothing)
        while (found := coming.result()) is not nothing:
            coming = pool.submit(next, pieces, nothing)
            yield found  # type: ignore[misc]
