"""A number for each key, the same in every batch: by it, keys are kept apart in ranges, so that each range can be gone through alone."""

from __future__ import annotations

from zlib import crc32

from plainstep.core.arrays import Bools, Words
from plainstep.core.changes import keys
from plainstep.deferred import np, pa

# All ranks lie below this.
END = 1 << 64
# Range of ranks: from the first, and up to the second without it.
Range = tuple[int, int]
# Bytes of a text that count. Keys that begin alike for longer are told apart by their lengths, or share a rank.
BYTES = 64


def ranks(columns: list[pa.Array]) -> Words:
    """A rank for every row: equal keys have equal ranks, and those of one column of integers or times rise with it.

    Args:
        columns: the key columns, of equal length and without nulls.

    Returns:
        Numbers below ``END``.
    """
    first = columns[0].type
    if not len(columns[0]):
        return np.zeros(0, dtype=np.uint64)
    if len(columns) == 1 and (pa.types.is_signed_integer(first) or pa.types.is_temporal(first)):
        fixed = keys.fixed_words(columns[0])
        if fixed is not None:
            return fixed[0] ^ np.uint64(1 << 63)  # the least of all negative numbers comes first
    found: Words = np.zeros(len(columns[0]), dtype=np.uint64)
    for column in columns:
        for word in _words(column):
            found = _mixed(found, word)
    return found


def within(found: Words, which: Range) -> Bools:
    """Which ranks lie in a range."""
    low, high = which
    inside = found >= np.uint64(low)
    return inside if high >= END else inside & (found < np.uint64(high))


def _mixed(found: Words, word: Words) -> Words:
    """Ranks with a word more in them."""
    found = (found ^ word) * keys.multipliers()[0]
    return (found ^ (found >> np.uint64(32))) * keys.multipliers()[1]


def _words(column: pa.Array) -> list[Words]:
    """Words of a column's values, the same whatever stands beside them."""
    if pa.types.is_dictionary(column.type):
        column = column.cast(column.type.value_type)
    fixed = keys.fixed_words(column)
    if fixed is not None:
        return fixed
    if any(test(column.type) for test in keys.textual()):
        return [_of_texts(column.cast(pa.large_binary()))]
    return [np.array([crc32(repr(one).encode()) for one in column.to_pylist()], dtype=np.uint64)]


def _of_texts(column: pa.Array) -> Words:
    eights, starts, lengths = keys.eights_of(column)
    found: Words = lengths.astype(np.uint64)
    for at in range(0, min(int(lengths.max(initial=0)), BYTES), 8):
        longer = lengths > at  # a value has as many words as it fills, so that the longest beside it is nothing to it
        found = np.where(longer, _mixed(found, keys.word_at(eights, starts, lengths, at)), found)
    return found
