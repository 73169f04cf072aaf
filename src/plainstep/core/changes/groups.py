"""Each key's first and last row, by compiled loops: where numba is installed (``plainstep[fast]``), for windows worth its start.

Rows are first dealt out by a hash of their keys, so that what follows stays in the processor's cache: one table of all keys took six
times as long (500,000 keys of 5,000,000 rows: 1.1 s, and 0.18 s). Without numba, ``keys`` finds the same in whole arrays.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

from plainstep.core.arrays import Bools, Codes, Ints, Numbers, Words
from plainstep.deferred import deferred, np

if TYPE_CHECKING:
    from plainstep.core.changes import compiled
else:
    [compiled] = deferred("plainstep.core.changes", "compiled")

# Rows that a process goes through before numba is loaded for it: it takes a second, which whole arrays need for as many.
WORTH_LOADING = 2_000_000
# Below, whole arrays are as quick.
WORTH_CALLING = 20_000


@dataclass(frozen=True)
class Groups:
    """What is found of each key.

    Attributes:
        firsts, lasts: its first and last row.
        counts: how many changes it had.
        contradictions: how many rows of all do not fit the one before them of their key.
    """

    firsts: Numbers
    lasts: Numbers
    counts: Ints
    contradictions: int


class _Seen:
    """How many rows this process went through."""

    rows = 0


def worth(rows: int) -> bool:
    """Whether so many rows more are worth a compiled pass."""
    _Seen.rows += rows
    return rows >= WORTH_CALLING and _Seen.rows >= WORTH_LOADING and _is_there()


@cache
def _is_there() -> bool:
    """Whether numba is installed, and can be used here."""
    if find_spec("numba") is None:
        return False
    try:
        return bool(compiled.SHARES)
    except Exception:  # a release that does not go with numpy's, say, or no folder for what it compiles
        return False


def grouped(words: list[Words], had: Codes, has: Bools, counts: Ints | None) -> Groups | None:
    """Group rows by their keys.

    Args:
        words: the keys as columns of 64-bit words.
        had, has: what each row tells of its key before it (see ``net.ABSENT``), and whether it is there after it.
        counts: how many changes each row stands for; None for one.

    Returns:
        The groups, in no promised order; None where the keys were made to collide.
    """
    tagged: Any = np.arange(len(has), dtype=np.int64) << 3
    tagged |= had.astype(np.int64) << 1
    tagged |= has
    weights = np.zeros(0, dtype=np.int64) if counts is None else counts
    whole = words[0].reshape(-1, 1) if len(words) == 1 else np.stack(words, axis=1)
    found = compiled.grouped(np.ascontiguousarray(whole), tagged, weights)
    return None if found is None else Groups(*found)
