"""The loops of ``groups``, compiled by numba when they are first called, and kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import numba
import numpy as np

from plainstep.core.changes.keys import in_pieces, multipliers, pool
from plainstep.core.changes.ops import ABSENT, PRESENT

Made = TypeVar("Made", bound=Callable[..., Any])
# Rows are dealt out into up to two to the power of this many shares: of some millions of keys, those of one share fit in a core's cache.
# (Of 2,500,000 keys, grouping those of a quarter as many shares took twice as long.)
MOST_SHARE_BITS = 10
# Each has at least so many rows, so that few rows are not dealt out finer than the cache asks.
SHARE_ROWS = 1 << 12
# Steps for each row, on the way to its slot, beyond which keys were made to collide. (Half of the slots are free: it is less than one.)
MOST_STEPS = 64

MULTIPLIER, OTHER = multipliers()[:2]
# What a row carries beside its number, in its lowest bits: whether it is there after it, and what it tells of before.
HAS, HAD_SHIFT, ROW_SHIFT = 1, 1, 3
# What is known of a key is one number: in its lowest bits the row that was met last, then what that tells of before it, then how many
# changes there were. Eight bytes for each key: more of them stay in the cache.
ROW_BITS = 32
COUNT_SHIFT = ROW_BITS + 2
ROW = (1 << ROW_BITS) - 1
# What is known of a key, with whether there is a row after it in the lowest bit, has one of these bits unless a row came and went.
CAME_AND_WENT = 3 << (ROW_BITS + 1) | 1
# So many changes can be counted in what is left, but for one bit, and so many rows be carried.
MOST_ROWS = 1 << 28
# Groups are put in the order of their last rows so many rows at a time: what is known of those stays in a core's cache.
ROWS_IN_ORDER = 1 << 15
# Where a row that is dealt out keeps what it carries, its hash, and the words of its key but the first, which the hash tells; and where
# a table of slots keeps what is known of a key.
CARRIED = KNOWN = 0
HASH = 1


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


@inlined
def contradicted(known: Any, carried: Any) -> Any:
    """Whether what is known of a key, of the row after this one, does not fit what this one tells: 0 or 1."""
    had = (known >> ROW_BITS) & 3
    return (known != 0) & (had == (PRESENT if carried & HAS == 0 else ABSENT))


@inlined
def known_with(known: Any, carried: Any, count: Any) -> Any:
    """What is known of a key, with the row before those that were met."""
    had = (carried >> HAD_SHIFT) & 3
    return ((known >> COUNT_SHIFT) + count) << COUNT_SHIFT | had << ROW_BITS | carried >> ROW_SHIFT


@inlined
def last_of(carried: Any) -> Any:
    """The number of a row, with whether there is one after it in the lowest bit."""
    return (carried >> ROW_SHIFT) << 1 | carried & HAS


@inlined
def bit(bits: Any, row: Any) -> Any:
    """Whether a value is not null, by the bits that Arrow keeps of a column: 0 or 1."""
    return (bits[row >> 3] >> np.uint8(row & 7)) & 1


@looped
def begins_of(sizes: Any) -> None:
    """Where shares begin, out of how large they are, each at the place after its own."""
    for share in range(1, len(sizes)):
        sizes[share] += sizes[share - 1]


@looped
def _dealt(words: Any, tags: Any, counts: Any, share_bits: int, low: int, high: int) -> Any:
    """Rows by shares, in order within each: what they carry, their hashes and keys; what they count for; and where shares begin."""
    width, shift = words.shape[1], np.uint64(63 - share_bits)  # shifted by one more on its own: by all 64 bits is none
    hashes = np.empty(high - low, dtype=np.uint64)
    begins = np.zeros((1 << share_bits) + 1, dtype=np.int64)
    for row in range(low, high):
        found = _hash(words, row)
        hashes[row - low] = found
        begins[np.int64((found >> np.uint64(1)) >> shift) + 1] += 1
    begins_of(begins)
    at = begins[:-1].copy()
    dealt = np.empty((high - low, HASH + width), dtype=np.int64)
    weights = np.empty(high - low if len(counts) else 0, dtype=np.int64)
    for row in range(low, high):
        found = hashes[row - low]
        mine: Any = np.int64((found >> np.uint64(1)) >> shift)
        place = at[mine]
        at[mine] += 1
        dealt[place, CARRIED], dealt[place, HASH] = (row << ROW_SHIFT) | tags[row], np.int64(found)
        for column in range(1, width):
            dealt[place, HASH + column] = np.int64(words[row, column])
        if len(counts):
            weights[place] = counts[row]
    return dealt, weights, begins


@looped
def _slot_bits(rows: int) -> int:
    bits = 4
    while (1 << bits) < 2 * rows:
        bits += 1
    return bits


@looped
def _rows_of(deals: Any, share: int) -> int:
    rows = 0
    for deal in deals:
        rows += deal[2][share + 1] - deal[2][share]
    return rows


@looped
def emptied(table: Any, met: Any, known: Any) -> None:
    """Take from a table of slots what is known of the keys that were met."""
    for group in range(len(met)):
        known[group] = table[met[group], KNOWN]
        table[met[group], KNOWN] = 0


@looped
def _grouped(deals: Any, share_bits: int, begin: int, end: int) -> Any:
    """The groups of some shares: their last rows, with whether there is one after it; what is known of each; where shares begin among
    them; contradictions; and whether all went well.

    It goes backwards: a key's last row is met first, so that the groups of a share come in the order of these, the last first. All that
    is known of a key lies in one row of the table, so that one line of the cache has it; and whether it was there is as good as chance,
    so that nothing branches on it: both together are twice as fast.
    """
    most, total = 0, 0
    for share in range(begin, end):
        rows = _rows_of(deals, share)
        most, total = max(most, rows), total + rows
    lasts, knowns = np.empty(total + 1, dtype=np.int32), np.empty(total + 1, dtype=np.int64)
    met, begins_found = np.empty(most + 1, dtype=np.int32), np.zeros(end - begin + 1, dtype=np.int64)
    width = deals[0][0].shape[1]
    table = np.zeros((1 << _slot_bits(most), width), dtype=np.int64)
    groups, odds, steps = 0, 0, 0
    for share in range(begin, end):
        bits, mine = _slot_bits(_rows_of(deals, share)), 0
        mask, shift = (1 << bits) - 1, np.uint64(64 - bits)
        for dealt, weights, begins in deals[::-1]:
            for place in range(begins[share + 1] - 1, begins[share] - 1, -1):
                begun: Any = np.int64((np.uint64(dealt[place, HASH]) << np.uint64(share_bits)) >> shift)
                slot = begun
                # (In a function of its own, this loop took twice as long as all the rest.)
                while table[slot, KNOWN] != 0:
                    differs = np.int64(0)
                    for column in range(HASH, width):
                        differs |= table[slot, column] ^ dealt[place, column]
                    if differs == 0:
                        break
                    slot = (slot + 1) & mask
                steps += (slot - begun) & mask
                carried, known = dealt[place, CARRIED], table[slot, KNOWN]
                odds += contradicted(known, carried)
                lasts[groups + mine], met[mine] = last_of(carried), slot
                mine += known == 0
                table[slot, KNOWN] = known_with(known, carried, weights[place] if len(weights) else 1)
                for column in range(HASH, width):
                    table[slot, column] = dealt[place, column]
            if steps > MOST_STEPS * total:
                return lasts[:0], knowns[:0], begins_found, 0, False
        emptied(table, met[:mine], knowns[groups:])
        groups += mine
        begins_found[share - begin + 1] = groups
    return lasts[:groups], knowns[:groups], begins_found, odds, True


@looped
def _ordered(found: Any, low: int, high: int) -> Any:
    """Groups in the order of their last rows, of those with theirs in some rows: these rows, and what is known of each with whether
    there is one after it. Those that came to nothing, whose rows came and went, are apart.

    The groups of a share are in order: so many rows at a time, each share has those that are next at one place.
    """
    shares, room = 0, 0
    for lasts, _, begins in found:
        shares, room = shares + len(begins) - 1, room + len(lasts)
    room = min(high - low, room) + 1
    rows, knowns = np.empty((2, room), dtype=np.int32), np.empty((2, room), dtype=np.int64)
    at, share = np.empty(shares, dtype=np.int64), 0
    for lasts, _, begins in found:
        for mine in range(len(begins) - 1):
            at[share] = _first_of(lasts, begins[mine], begins[mine + 1], low)
            share += 1
    some = np.zeros(ROWS_IN_ORDER, dtype=np.int64)
    kept, gone = 0, 0
    for begin in range(low, high, ROWS_IN_ORDER):
        end, share = min(begin + ROWS_IN_ORDER, high), 0
        for lasts, known, begins in found:
            for mine in range(len(begins) - 1):
                place = at[share]
                while place >= begins[mine] and lasts[place] >> 1 < end:
                    some[(lasts[place] >> 1) - begin] = known[place] << 1 | lasts[place] & 1
                    place -= 1
                at[share] = place
                share += 1
        for row in range(begin, end):
            # Whether a row is the last of its key is as good as chance, too.
            one = some[row - begin]
            some[row - begin] = 0
            rows[0, kept], knowns[0, kept] = row, one
            rows[1, gone], knowns[1, gone] = row, one
            kept += (one & CAME_AND_WENT) != 0
            gone += (one != 0) & ((one & CAME_AND_WENT) == 0)
    return (rows[0, :kept], knowns[0, :kept]), (rows[1, :gone], knowns[1, :gone])


@looped
def _first_of(lasts: Any, begin: int, end: int, low: int) -> int:
    """Of a share's groups, which begin and end at some places, the first in order whose last row is this one or a later one."""
    while begin < end:
        middle = (begin + end) >> 1
        if lasts[middle] >> 1 >= low:
            begin = middle + 1
        else:
            end = middle
    return begin - 1


@looped
def _told(known: Any, firsts: Any, counts: Any, had: Any, has: Any) -> None:
    """Put down what is known of some groups."""
    for group in range(len(known)):
        one = known[group] >> 1
        firsts[group], counts[group] = one & ROW, one >> COUNT_SHIFT
        had[group], has[group] = (one >> ROW_BITS) & 3, known[group] & 1


@looped
def picked(values: Any, bits: Any, others: Any, other_bits: Any, rows: Any, found: Any, found_bits: Any) -> None:
    """Take some values of a column, or of another one where it is null, and what says whether they are null themselves.

    Whether a value is null is as good as chance, so nothing branches on it.

    Args:
        values, others: the values of both as they lie in memory, as signed numbers; no others where there is no other column.
        bits, other_bits: which of them are not null, a bit each; empty where none is null.
        rows: which rows.
        found, found_bits: where they go.
    """
    for at in range(len(rows)):
        found[at] = values[rows[at]]
    if not len(bits):
        return
    if len(others):
        for at in range(len(rows)):
            is_first = -np.int64(bit(bits, rows[at]))  # all bits, or none
            found[at] = (found[at] & is_first) | (others[rows[at]] & ~is_first)
    has_other = len(others) > 0 and not len(other_bits)
    for eight in range(len(found_bits)):
        byte = np.int64(255 if has_other else 0)
        for at in range(eight * 8, min(eight * 8 + 8, len(rows))):
            either = bit(bits, rows[at]) | (bit(other_bits, rows[at]) if len(other_bits) else np.uint8(0))
            byte |= np.int64(either) << (at & 7)
        found_bits[eight] = byte


@looped
def without_gaps(numbers: Any) -> bool:
    """Whether each number is the one before it plus one."""
    odd = np.int64(0)
    for at in range(1, len(numbers)):
        odd |= (numbers[at] - numbers[at - 1]) ^ 1
    return bool(odd == 0)


def in_order(found: Any, rows: int) -> Any:
    """Groups in the order of their last rows, so that what is taken of these is taken as it lies; those that came to nothing at the end.

    Args:
        found: the groups of some shares, as they were found by each core: their last rows, what is known of them, where shares begin.
        rows: how many rows there are in all.

    Returns:
        Of each group the first row and the last, how many changes there were, what was there before, and whether there is a row after.
    """
    groups = tuple(one[:3] for one in found)
    pieces = in_pieces(lambda low, high: _ordered(groups, low, high), rows)
    pieces = [kept for kept, _ in pieces] + [gone for _, gone in pieces]
    ends = np.cumsum([len(rows_of) for rows_of, _ in pieces])
    count = int(ends[-1])
    firsts, lasts = np.empty((2, count), dtype=np.int32)
    counts, had, has = np.empty(count, dtype=np.int64), np.empty(count, dtype=np.int8), np.empty(count, dtype=np.bool_)

    def put_down(end: int, piece: tuple[Any, Any]) -> None:
        mine = slice(end - len(piece[0]), end)
        lasts[mine] = piece[0]
        _told(piece[1], firsts[mine], counts[mine], had[mine], has[mine])

    list(pool().map(put_down, ends.tolist(), pieces))
    return firsts, lasts, counts, had, has


def grouped(words: Any, tags: Any, counts: Any) -> tuple[Any, int] | None:
    """Group rows by their keys, on all cores.

    Args:
        words: the keys, a row of 64-bit words each.
        tags: what each row tells: whether it is there after it, and what it was before.
        counts: how many changes each row stands for; empty for one.

    Returns:
        The groups in the order of their last rows, see ``in_order``; and how many rows do not fit the one before them of their key. None
        where the keys were made to collide.
    """
    share_bits = _share_bits(len(words))
    deals = tuple(in_pieces(lambda low, high: _dealt(words, tags, counts, share_bits, low, high), len(words)))
    found = in_pieces(lambda begin, end: _grouped(deals, share_bits, begin, end), 1 << share_bits)
    if not all(one[4] for one in found):
        return None
    return in_order(found, len(words)), sum(int(one[3]) for one in found)


def _share_bits(rows: int) -> int:
    return min(max(rows // SHARE_ROWS, 1).bit_length() - 1, MOST_SHARE_BITS)
