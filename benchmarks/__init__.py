"""Plain Step beside hand-written peers that give the same answer, in the same run. What counts is the ratio."""

from __future__ import annotations

import time
from collections.abc import Callable
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
