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
SHARE_BITS = 8
SHARES = 1 << SHARE_BITS
# Steps for each row, on the way to its slot, beyond which keys were made to collide. (Two thirds of the slots are free: it is less than one.)
MOST_STEPS = 64

MULTIPLIER, OTHER = multipliers()[:2]
# What a row carries beside its number, in its lowest bits: whether it is there after it, and what it tells of before.
HAS, HAD_SHIFT, ROW_SHIFT = 1, 1, 3
# Where a table of numbers keeps what it knows of each.
FIRST, LAST, COUNT, TAG = range(4)
# And where a table of slots does; behind these, the words of the key.
SLOT_COUNT, SLOT_FIRST, SLOT_LAST, SLOT_KEY = range(4)
# Beside what the last row of a number tells, what the first told of before.
FIRST_HAD_SHIFT, FIRST_HAD = 3, 3 << 3


def looped(function: Made) -> Made:
    """A function that is compiled, leaves the interpreter to other threads, and is kept on disk."""
    made: Any = numba.njit(nogil=True, cache=True)(function)
    return made


def inlined(function: Made) -> Made:
    """A function that is compiled into those that call it. (One that takes arrays and loops is slow so.)"""
    made: Any = numba.njit(nogil=True, inline="always")(function)
    return made


@inlined
def _hash(words: Any, row: int) -> Any:
    found = np.uint64(0)
    for at in range(words.shape[1]):
        found = (found ^ words[row, at]) * MULTIPLIER
        found = (found ^ (found >> np.uint64(32))) * OTHER
    return found ^ (found >> np.uint64(29))


@looped
def _dealt(words: Any, tags: Any, counts: Any, low: int, high: int) -> Any:
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
    keys, carried = np.empty((high - low, width), dtype=np.int64), np.empty(high - low, dtype=np.int64)
    hashed, weights = np.empty(high - low, dtype=np.uint64), np.empty(high - low if len(counts) else 0, dtype=np.int64)
    for row in range(low, high):
        found = hashes[row - low]
        mine: Any = np.int64(found >> shift)
        place = at[mine]
        at[mine] += 1
        for column in range(width):
            keys[place, column] = np.int64(words[row, column])
        carried[place], hashed[place] = (row << ROW_SHIFT) | tags[row], found
        if len(counts):
            weights[place] = counts[row]
    return keys, hashed, carried, weights, begins


@looped
def _slot_bits(rows: int) -> int:
    bits = 4
    while (1 << bits) < 3 * rows:
        bits += 1
    return bits


@looped
def _rows_of(deals: Any, share: int) -> int:
    rows = 0
    for deal in deals:
        rows += deal[4][share + 1] - deal[4][share]
    return rows


@inlined
def _odd(is_second: Any, had: Any, before: Any) -> Any:
    """Whether what a row tells of the row before it does not fit what the one before it of its key told: 0 or 1."""
    return is_second & (had == (PRESENT if before & HAS == 0 else ABSENT))


@looped
def _emptied(table: Any, size: int, firsts: Any, lasts: Any, counts: Any, at: int) -> int:
    """Write the keys of a table of slots behind those of others; how many there are then."""
    for slot in range(size):
        if table[slot, SLOT_COUNT]:
            firsts[at], lasts[at] = table[slot, SLOT_FIRST] >> ROW_SHIFT, table[slot, SLOT_LAST] >> ROW_SHIFT
            counts[at] = table[slot, SLOT_COUNT]
            at += 1
    return at


@looped
def _grouped(deals: Any, begin: int, end: int) -> Any:
    """The groups of some shares: first and last row, how many changes, contradictions; and whether all went well.

    All that is known of a key lies in one row of the table, so that one line of the cache has it; and whether it was there is as good as
    chance, so that nothing branches on it: both together are twice as fast.
    """
    most, total = 0, 0
    for share in range(begin, end):
        rows = _rows_of(deals, share)
        most, total = max(most, rows), total + rows
    firsts, lasts = np.empty(total, dtype=np.int32), np.empty(total, dtype=np.int32)
    counts = np.empty(total, dtype=np.int64)
    width = deals[0][0].shape[1]
    table = np.empty((1 << _slot_bits(most), SLOT_KEY + width), dtype=np.int64)
    groups, odd, steps = 0, 0, 0
    for share in range(begin, end):
        bits = _slot_bits(_rows_of(deals, share))
        mask = (1 << bits) - 1
        table[: 1 << bits, SLOT_COUNT] = 0
        for keys, hashed, carried, weights, begins in deals:
            for place in range(begins[share], begins[share + 1]):
                begun: Any = np.int64((hashed[place] << np.uint64(SHARE_BITS)) >> np.uint64(64 - bits))
                slot = begun
                # (In a function of its own, this loop took twice as long as all the rest.)
                while table[slot, SLOT_COUNT] != 0:
                    differs = np.int64(0)
                    for column in range(width):
                        differs |= table[slot, SLOT_KEY + column] ^ keys[place, column]
                    if differs == 0:
                        break
                    slot = (slot + 1) & mask
                steps += (slot - begun) & mask
                row, count = carried[place], table[slot, SLOT_COUNT]
                odd += _odd(count != 0, (row >> HAD_SHIFT) & 3, table[slot, SLOT_LAST])
                table[slot, SLOT_COUNT] = count + (weights[place] if len(weights) else 1)
                table[slot, SLOT_FIRST] = table[slot, SLOT_FIRST] if count else row
                table[slot, SLOT_LAST] = row
                for column in range(width):
                    table[slot, SLOT_KEY + column] = keys[place, column]
            if steps > MOST_STEPS * total:
                return firsts[:0], lasts[:0], counts[:0], 0, False
        groups = _emptied(table, 1 << bits, firsts, lasts, counts, groups)
    return firsts[:groups], lasts[:groups], counts[:groups], odd, True


@looped
def _by_number(words: Any, tags: Any, least: int, table: Any, low: int, high: int) -> int:
    """What some rows tell of each key that is a number: its first row, its last (each plus one), how many, and what both tell.

    Whether a key was there is as good as chance, so nothing branches on it.
    """
    odd = 0
    for row in range(low, high):
        key: Any = np.int64(words[row, 0]) - least
        tag = np.int32(tags[row])
        count, before = table[key, COUNT], table[key, TAG]
        had = tag >> HAD_SHIFT
        odd += _odd(count != 0, had, before)
        table[key, FIRST] = table[key, FIRST] if count else row + 1
        table[key, LAST] = row + 1
        table[key, COUNT] = count + 1
        table[key, TAG] = tag | (before & FIRST_HAD if count else had << FIRST_HAD_SHIFT)
    return odd


@looped
def _put_together(tables: Any, low: int, high: int) -> int:
    """The same of the rows of several parts, one after the other, in the table of the first; of some keys."""
    odd = 0
    whole = tables[0]
    for part in tables[1:]:
        for key in range(low, high):
            mine, more = whole[key, COUNT], part[key, COUNT]
            before, after = whole[key, TAG], part[key, TAG]
            odd += _odd((mine != 0) & (more != 0), after >> FIRST_HAD_SHIFT, before)
            whole[key, FIRST] = whole[key, FIRST] if mine else part[key, FIRST]
            whole[key, LAST] = part[key, LAST] if more else whole[key, LAST]
            whole[key, COUNT] = mine + more
            last = after if more else before
            whole[key, TAG] = (last & (FIRST_HAD - 1)) | ((before if mine else after) & FIRST_HAD)
    return odd


@looped
def _filed(lasts: Any, places: Any, low: int, high: int) -> None:
    """Write down at each last row whose it is: some groups."""
    for group in range(low, high):
        if lasts[group] >= 0:
            places[lasts[group]] = group + 1


@looped
def _taken(places: Any, firsts: Any, counts: Any, there: int, low: int, high: int) -> Any:
    """Groups in the order of their last rows: those with theirs in some rows."""
    ends, sizes = np.empty((2, there + 1), dtype=np.int32), np.empty(there + 1, dtype=np.int64)
    at = 0
    for row in range(low, high):
        group = places[row]
        ends[0, at], ends[1, at], sizes[at] = firsts[max(group - 1, 0)], row, counts[max(group - 1, 0)]
        at += group > 0  # whether a row is the last of its key is as good as chance, too
    return ends[0, :at], ends[1, :at], sizes[:at]


def edges(count: int) -> list[int]:
    """Where so many things are cut, into a piece for each core."""
    cores = min(os.cpu_count() or 1, 8)
    return [count * core // cores for core in range(cores + 1)]


def in_pieces(work: Callable[[int, int], Any], count: int) -> list[Any]:
    """Do some work, of the pieces of so many things, on all cores."""
    cut = edges(count)
    return list(pool().map(work, cut[:-1], cut[1:]))


def in_order(firsts: Any, lasts: Any, counts: Any, rows: int) -> Any:
    """Groups in the order of their last rows, so that what is taken of these is taken as it lies.

    Args:
        firsts, lasts, counts: of each group; its last row is -1 if there is none.
        rows: how many rows there are in all.

    Returns:
        The first row of each, the last, and how many.
    """
    places = np.zeros(rows, dtype=np.int32)
    in_pieces(lambda low, high: _filed(lasts, places, low, high), len(lasts))

    def taken(low: int, high: int) -> Any:
        return _taken(places, firsts, counts, int(np.count_nonzero(places[low:high])), low, high)

    return tuple(np.concatenate(parts) for parts in zip(*in_pieces(taken, rows), strict=True))


def by_number(words: Any, tags: Any, least: int, bound: int) -> tuple[Any, Any, Any, int]:
    """Group rows whose keys are whole numbers that lie close together, on all cores.

    Args:
        words: the keys, a row of one word each.
        tags: what each row tells.
        least: the least key.
        bound: how many numbers there are from it to the greatest.

    Returns:
        As ``grouped``, of each number; the last row of one that does not occur is -1.
    """
    cut = edges(len(words))
    tables = tuple(np.zeros((bound, 4), dtype=np.int32) for _ in cut[1:])
    odd = sum(
        pool().map(lambda table, low, high: _by_number(words, tags, least, table, low, high), tables, cut[:-1], cut[1:])
    )
    odd += sum(in_pieces(lambda low, high: _put_together(tables, low, high), bound))
    whole = tables[0]
    return whole[:, FIRST] - 1, whole[:, LAST] - 1, whole[:, COUNT], int(odd)


def grouped(words: Any, tags: Any, counts: Any) -> tuple[Any, Any, Any, int] | None:
    """Group rows by their keys, on all cores.

    Args:
        words: the keys, a row of 64-bit words each.
        tags: what each row tells: whether it is there after it, and what it was before.
        counts: how many changes each row stands for; empty for one.

    Returns:
        Each key's first row, its last, how many changes it had; and how many rows do not fit the one before them of their key. None
        where the keys were made to collide.
    """
    cut = edges(len(words))
    deals = tuple(pool().map(lambda low, high: _dealt(words, tags, counts, low, high), cut[:-1], cut[1:]))
    found = in_pieces(lambda begin, end: _grouped(deals, begin, end), SHARES)
    if not all(one[4] for one in found):
        return None
    firsts, lasts, sizes = (np.concatenate([one[at] for one in found]) for at in range(3))
    return firsts, lasts, sizes, sum(int(one[3]) for one in found)
