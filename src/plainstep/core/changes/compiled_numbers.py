"""Each key's first and last row where keys are whole numbers that lie close together: compiled loops that look them up in tables of all."""

from __future__ import annotations

from typing import Any

import numpy as np

from plainstep.core.changes.compiled import (
    KNOWN,
    MOST_SHARE_BITS,
    ROW,
    ROW_BITS,
    ROW_SHIFT,
    begins_of,
    bit,
    contradicted,
    emptied,
    in_order,
    known_with,
    last_of,
    looped,
)
from plainstep.core.changes.compiled_keys import said, tag_of
from plainstep.core.changes.keys import in_pieces

# A share has so many keys, whose table stays in a core's cache (256 KiB); more where there would be too many shares.
SHARE_KEY_BITS = 15


@looped
def least_and_most(now: Any, now_bits: Any, was: Any, was_bits: Any, low: int, high: int) -> Any:
    """The least and the greatest key of some changes, each after it, or before it where there is none after."""
    least, most = np.int64(2**63 - 1), np.int64(-(2**63))
    for row in range(low, high):
        value = now[row] if bit(now_bits, row) else was[row]
        least, most = min(least, value), max(most, value)
    return least, most


@looped
def _dealt(
    ops: Any,
    told: int,
    now: Any,
    now_bits: Any,
    was: Any,
    was_bits: Any,
    least: int,
    bits: int,
    shares: int,
    low: int,
    high: int,
) -> Any:
    """Rows by shares, in order within each: their keys with what they carry; where shares begin; and what was found of them."""
    found = 0
    packed, begins = np.empty(high - low, dtype=np.int64), np.zeros(shares + 1, dtype=np.int64)
    for row in range(low, high):
        is_now, is_was, op = bit(now_bits, row), bit(was_bits, row), np.int64(ops[row])
        found |= said(op, is_now, is_was, now[row] != was[row])
        key = (now[row] if is_now else was[row]) - least
        packed[row - low] = key << ROW_BITS | row << ROW_SHIFT | tag_of(told, op)
        begins[(key >> bits) + 1] += 1
    begins_of(begins)
    at, dealt = begins[:-1].copy(), np.empty(high - low, dtype=np.int64)
    for one in packed:
        mine = one >> (ROW_BITS + bits)
        dealt[at[mine]] = one
        at[mine] += 1
    return dealt, begins, found


@looped
def _walked(deals: Any, bits: int, begin: int, end: int) -> Any:
    """The groups of some shares: last rows, what is known of each, where shares begin among them, contradictions.

    It goes backwards, and does not branch, as ``compiled._grouped`` does.
    """
    total = 0
    for _, begins, _ in deals:
        total += begins[end] - begins[begin]
    keys = 1 << bits
    room = min(total, keys * (end - begin)) + 1
    lasts, knowns = np.empty(room, dtype=np.int32), np.empty(room, dtype=np.int64)
    met, begins_found = np.empty(keys + 1, dtype=np.int32), np.zeros(end - begin + 1, dtype=np.int64)
    table = np.zeros((keys, 1), dtype=np.int64)
    groups, odds = 0, 0
    for share in range(begin, end):
        mine = 0
        for dealt, begins, _ in deals[::-1]:
            for place in range(begins[share + 1] - 1, begins[share] - 1, -1):
                carried, key = dealt[place] & ROW, (dealt[place] >> ROW_BITS) & (keys - 1)
                known = table[key, KNOWN]
                odds += contradicted(known, carried)
                lasts[groups + mine], met[mine] = last_of(carried), key
                mine += known == 0
                table[key, KNOWN] = known_with(known, carried, 1)
        emptied(table, met[:mine], knowns[groups:])
        groups += mine
        begins_found[share - begin + 1] = groups
    return lasts[:groups], knowns[:groups], begins_found, odds


def walked(
    ops: Any, told: int, now: Any, now_bits: Any, was: Any, was_bits: Any, least: int, most: int
) -> tuple[Any, int, int]:
    """Group changes whose keys are whole numbers, on all cores.

    Args:
        ops: the operations.
        told: what is told by each of them, see ``compiled_keys.tag_of``.
        now, was: the keys after and before each change.
        now_bits, was_bits: which of them are not null.
        least, most: the least and the greatest key.

    Returns:
        The groups in the order of their last rows, see ``compiled.in_order``; how many rows do not fit the one before them of their key;
        and what ``compiled_keys.said`` says of any of them.
    """
    bits = max(SHARE_KEY_BITS, (most - least).bit_length() - MOST_SHARE_BITS)
    shares = ((most - least) >> bits) + 1

    def dealt(low: int, high: int) -> Any:
        return _dealt(ops, told, now, now_bits, was, was_bits, least, bits, shares, low, high)

    deals = tuple(in_pieces(dealt, len(ops)))
    found = in_pieces(lambda begin, end: _walked(deals, bits, begin, end), shares)
    told = int(np.bitwise_or.reduce([one[2] for one in deals]))
    return in_order(found, len(ops)), sum(int(one[3]) for one in found), told
