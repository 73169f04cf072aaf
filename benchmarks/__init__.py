"""Plain Step beside hand-written peers that give the same answer, in the same run. What counts is the ratio."""

from __future__ import annotations

import time
from collections.abc import Callable
from statistics import median
from typing import Any


def best_of(runs: int, *contenders: Callable[[], Any]) -> list[float]:
    """The shortest time of each contender, in seconds; they take turns, so that a slow moment hits all alike."""
    times: list[list[float]] = [[] for _ in contenders]
    for _ in range(runs):
        for kept, contender in zip(times, contenders, strict=True):
            began = time.perf_counter()
            contender()
            kept.append(time.perf_counter() - began)
    return [min(kept) for kept in times]


def in_pairs(
    runs: int, one: Callable[[], Any], other: Callable[[], Any], before: Callable[[int], Any] = lambda turn: None
) -> tuple[float, float, float]:
    """The median time of each of two, and the median of their ratios: run after one another, taking turns at being first.

    On a machine whose speed varies from second to second, this varies least. What is done before each pair is not timed.
    """
    pairs = []
    for turn in range(runs):
        before(turn)
        both = {}
        for which in (0, 1) if turn % 2 else (1, 0):
            began = time.perf_counter()
            (one, other)[which]()
            both[which] = time.perf_counter() - began
        pairs.append((both[0], both[1]))
    first, second = (median(pair[which] for pair in pairs) for which in (0, 1))
    return first, second, median(pair[0] / pair[1] for pair in pairs)


def row(*cells: Any, widths: tuple[int, ...] = (34, 14, 14, 14, 14)) -> None:
    """Print a line of a table."""
    print(
        "".join(
            f"{cell!s:<{width}}" if index == 0 else f"{cell!s:>{width}}"
            for index, (cell, width) in enumerate(zip(cells, widths, strict=False))
        ),
        flush=True,
    )


def seconds(value: float) -> str:
    return f"{value:.3f} s"
