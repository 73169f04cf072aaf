"""The loops of ``groups``, compiled by numba when they are first called, and kept on disk."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any, TypeVar

import numba
import numpy as np

from plainstep.core.changes.keys import multipliers, pool
from plainstep.core.changes.net import ABSENT, PRESENT

Made = TypeVar("Made", bound=Callable[..., Any])
# Rows are dealt out into two to the power of this many shares: of some millions of keys, those of one share fit in a core's cache.
SHARE_BITS = 9
SHARES = 1 << SHARE_BITS
# Steps for each row, on the way to its slot, beyond which keys were made to collide. (Two thirds of the slots are free: it is less than one.)
MOST_STEPS = 64

MULTIPLIER, OTHER = multipliers()[:2]
# What a row carries beside its number, in its lowest bits: whether it is there after it, and what it tells of before.
HAS, HAD_SHIFT, ROW_SHIFT = 1, 1, 3


def _compiled(function: Made) -> Made:
    made: Any = numba.njit(nogil=True, cache=True)(function)
    return made


def _inlined(function: Made) -> Made:
    made: Any = numba.njit(nogil=True, inline="always")(function)
    return made


@_inlined
def _hash(words: Any, row: int) -> Any:
    found = np.uint64(0)
    for at in range(words.shape[1]):
        found = (found ^ words[row, at]) * MULTIPLIER
        found = (found ^ (found >> np.uint64(32))) * OTHER
    return found ^ (found >> np.uint64(29))


@_compiled
def _dealt(words: Any, tagged: Any, counts: Any, low: int, high: int) -> Any:
    """Rows by shares, in order within each: their words, hashes, what they carry, what they count for, and where shares begin."""
    width, shift = words.shape[1], np.uint64(64 - SHARE_BITS)
    hashes = np.empty(high - low, dtype=np.uint64)
    begins = np.zeros(SHARES + 1, dtype=np.int64)
    for row in range(low, high):
        hashes[row - low] = _hash(words, row)
        begins[np.int64(hashes[row - low] >> shift) + 1] += 1
    for share in range(SHARES):
        begins[share + 1] += begins[share]
    at = begins[:-1].copy()
    keys, carried = np.empty((high - low, width), dtype=np.uint64), np.empty(high - low, dtype=np.int64)
    hashed, weights = np.empty(high - low, dtype=np.uint64), np.empty(high - low if len(counts) else 0, dtype=np.int64)
    for row in range(low, high):
        found = hashes[row - low]
        mine: Any = np.int64(found >> shift)
        place = at[mine]
        at[mine] += 1
        for column in range(width):
            keys[place, column] = words[row, column]
        carried[place], hashed[place] = tagged[row], found
        if len(counts):
            weights[place] = counts[row]
    return keys, hashed, carried, weights, begins


@_compiled
def _slot_bits(rows: int) -> int:
    bits = 4
    while (1 << bits) < 3 * rows:
        bits += 1
    return bits


@_compiled
def _rows_of(deals: Any, share: int) -> int:
    rows = 0
    for deal in deals:
        rows += deal[4][share + 1] - deal[4][share]
    return rows


@_inlined
def _found(owners: Any, slots: Any, keys: Any, place: int, slot: int, mask: int) -> int:
    """The slot of a key, from the one where it would stand: its own, or a free one."""
    while owners[slot] >= 0:
        same = True
        for column in range(keys.shape[1]):
            same = same and slots[slot, column] == keys[place, column]
        if same:
            break
        slot = (slot + 1) & mask
    return slot


@_compiled
def _grouped(deals: Any, begin: int, end: int) -> Any:
    """The groups of some shares: first and last row, how many changes, contradictions; and whether all went well."""
    most, total = 0, 0
    for share in range(begin, end):
        rows = _rows_of(deals, share)
        most, total = max(most, rows), total + rows
    firsts, lasts = np.empty(total, dtype=np.int64), np.empty(total, dtype=np.int64)
    counts = np.empty(total, dtype=np.int64)
    size = 1 << _slot_bits(most)
    slots, owners = np.empty((size, deals[0][0].shape[1]), dtype=np.uint64), np.empty(size, dtype=np.int32)
    groups, odd, steps = 0, 0, 0
    for share in range(begin, end):
        bits = _slot_bits(_rows_of(deals, share))
        mask = (1 << bits) - 1
        owners[: 1 << bits] = -1
        for keys, hashed, carried, weights, begins in deals:
            for place in range(begins[share], begins[share + 1]):
                begun: Any = np.int64((hashed[place] << np.uint64(SHARE_BITS)) >> np.uint64(64 - bits))
                slot = _found(owners, slots, keys, place, begun, mask)
                steps += (slot - begun) & mask
                row, weight = carried[place], weights[place] if len(weights) else 1
                group = owners[slot]
                if group < 0:
                    owners[slot] = groups
                    for column in range(keys.shape[1]):  # not at once: that takes longer than all the rest
                        slots[slot, column] = keys[place, column]
                    firsts[groups], lasts[groups], counts[groups] = row, row, weight
                    groups += 1
                else:
                    expected = ABSENT if lasts[group] & HAS else PRESENT
                    odd += ((row >> HAD_SHIFT) & 3) == expected
                    lasts[group] = row
                    counts[group] += weight
            if steps > MOST_STEPS * total:
                return firsts[:0], lasts[:0], counts[:0], 0, False
    return firsts[:groups] >> ROW_SHIFT, lasts[:groups] >> ROW_SHIFT, counts[:groups], odd, True


def grouped(words: Any, tagged: Any, counts: Any) -> tuple[Any, Any, Any, int] | None:
    """Group rows by their keys, on all cores.

    Args:
        words: the keys, a row of 64-bit words each.
        tagged: each row's number, with what it tells in its lowest bits.
        counts: how many changes each row stands for; empty for one.

    Returns:
        Each key's first row, its last, how many changes it had; and how many rows do not fit the one before them of their key. None
        where the keys were made to collide.
    """
    rows, cores = len(words), min(os.cpu_count() or 1, 8)
    edges = [rows * core // cores for core in range(cores + 1)]
    deals = tuple(pool().map(lambda low, high: _dealt(words, tagged, counts, low, high), edges[:-1], edges[1:]))
    shares = [SHARES * core // cores for core in range(cores + 1)]
    found = list(pool().map(lambda begin, end: _grouped(deals, begin, end), shares[:-1], shares[1:]))
    if not all(one[4] for one in found):
        return None
    firsts, lasts, sizes = (np.concatenate([one[at] for one in found]) for at in range(3))
    return firsts, lasts, sizes, sum(int(one[3]) for one in found)
