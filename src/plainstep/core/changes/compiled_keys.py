"""What changes tell of their keys, in one compiled pass over them: the keys as words, and what each says of its row before and after.

Windows in which a row moved to another key are left to whole arrays.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from plainstep.core.changes.compiled import bit, inlined, looped
from plainstep.core.changes.ops import Op

# What a pass may find: a row that moved to another key, and an image where there is none.
MOVED, STRAY = 1, 2
# Bits of what an operation tells of its row.
TOLD_BITS = 3

INSERT, UPDATE, DELETE, PUT = int(Op.INSERT), int(Op.UPDATE), int(Op.DELETE), int(Op.PUT)


@inlined
def said(op: Any, now: Any, was: Any, differs: Any) -> Any:
    """What a row tells besides its key; of what is 0 or 1. (Without branches, which no processor foresees here: six times as fast.)"""
    moved = (op == UPDATE) & now & was & differs
    stray = (was & ((op == INSERT) | (op == PUT))) | (now & (op == DELETE))
    return moved * MOVED | stray * STRAY


@inlined
def tag_of(told: int, op: Any) -> Any:
    """What an operation tells of its row. (Looked up in an array, it took as long as all the rest.)"""
    return (told >> (TOLD_BITS * op)) & ((1 << TOLD_BITS) - 1)


@looped
def tag(ops: Any, told: int, tags: Any, low: int, high: int) -> None:
    """What each change tells of its row.

    Args:
        ops: the operations.
        told: what is told by each of them, so many bits each.
        tags: where it goes.
        low, high: which rows.
    """
    for row in range(low, high):
        tags[row] = tag_of(told, np.int64(ops[row]))


@looped
def fixed_words(
    ops: Any, now: Any, now_bits: Any, was: Any, was_bits: Any, words: Any, at: int, low: int, high: int
) -> Any:
    """Values of 64 bits as words.

    Args:
        ops: the operations.
        now, was: the values after and before each change.
        now_bits, was_bits: which of them are not null.
        words: where they go, a row for each change.
        at: in which column.
        low, high: which rows.

    Returns:
        What was found of the rows.
    """
    found = 0
    for row in range(low, high):
        is_now, is_was = bit(now_bits, row), bit(was_bits, row)
        found |= said(np.int64(ops[row]), is_now, is_was, now[row] != was[row])
        words[row, at] = np.uint64(now[row] if is_now else was[row])
    return found


@looped
def longest(starts: Any, low: int, high: int) -> int:
    """The length of the longest of some texts."""
    found = 0
    for row in range(low, high):
        found = max(found, starts[row + 1] - starts[row])
    return found


@inlined
def _word(eights: Any, masks: Any, start: int, left: int) -> Any:
    """Up to eight bytes of a text, zero beyond its end. (The last bytes of all have no eight after them: they are those of the last eight.)"""
    beyond = max(start - (len(eights) - 1), 0)
    return (eights[start - beyond] >> np.uint64(8 * min(beyond, 7))) & masks[min(max(left, 0), 8)]


@looped
def text_words(
    ops: Any,
    now: Any,
    now_bits: Any,
    was: Any,
    was_bits: Any,
    masks: Any,
    words: Any,
    at: int,
    width: int,
    low: int,
    high: int,
) -> int:
    """Texts as words, and their lengths: in the highest byte of the last word, which no text reaches.

    Args:
        ops: the operations.
        now, was: the texts after and before each change: where they start, and the eight bytes from each byte on.
        now_bits, was_bits: which of them are not null.
        masks: for so many bytes of a word, those bits.
        words: where they go, a row for each change.
        at, width: in which column the first word of each goes, and how many there are.
        low, high: which rows.

    Returns:
        What was found of the rows.
    """
    found = 0
    now_starts, now_eights = now
    was_starts, was_eights = was
    for row in range(low, high):
        is_now, is_was = bit(now_bits, row), bit(was_bits, row)
        start, length = now_starts[row], now_starts[row + 1] - now_starts[row]
        old_start, old_length = was_starts[row], was_starts[row + 1] - was_starts[row]
        differs = np.uint64(length ^ old_length)
        for word in range(width):
            new = _word(now_eights, masks, start + 8 * word, length - 8 * word)
            old = _word(was_eights, masks, old_start + 8 * word, old_length - 8 * word)
            differs |= new ^ old
            words[row, at + word] = new if is_now else old
        found |= said(np.int64(ops[row]), is_now, is_was, differs != 0)
        words[row, at + width - 1] |= np.uint64(length if is_now else old_length) << np.uint64(56)
    return found
