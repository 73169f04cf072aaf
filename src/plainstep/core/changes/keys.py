"""Keys as small integers: equal keys get equal codes, so that a key's rows can be found by direct addressing.

Dense integers are their own codes. Every other key is cut into 64-bit words and hashed into a table of
slots; a slot belongs to the key that was written there last, the other keys that fell into it are tried
again in a table of their own. All of it is whole-array work, cut in as many pieces as there are cores:
numpy lets go of the interpreter's lock, so that the pieces run side by side.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache, partial
from typing import Any, TypeVar

from plainstep.core.arrays import Ints, Words, flat, text_offsets
from plainstep.deferred import np, npt, pa, pc

Made = TypeVar("Made")

# Direct addressing is used while the table of addresses is at most this many times as long as the data:
# beyond that, clearing and scanning the table costs more than hashing (measured at 5 million rows).
DENSE_FACTOR = 4
DENSE_MINIMUM = 1 << 16

# Strings longer than this are dictionary-encoded: gathering them word by word stops paying.
LONGEST_IN_WORDS = 64

# Below this many rows, handing pieces to threads costs more than it saves.
WORTH_SPLITTING = 200_000
# So many cores work at one thing at most: what each finds is put together afterwards. (More were not measured.)
MOST_CORES = 8

# A table has at least twice as many slots as there are keys, as far as a sample of this size can tell:
# a smaller table stays in the processor's cache, a larger one has fewer keys to try again.
SAMPLE = 1 << 15
MOST_SLOTS_BITS = 23
# The board on which a sample's distinct keys are counted: eight times as many places as there are in a sample.
BOARD_BITS = 18


@cache
def multipliers() -> list[np.uint64]:
    """Odd numbers with well mixed bits."""
    return [np.uint64(odd) for odd in (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0xD6E8FEB86659FD93, 0xA0761D6478BD642F)]


ROUNDS = 12


def code(columns: list[pa.Array]) -> tuple[npt.NDArray[Any], int]:
    """Give every row a code, equal for equal keys.

    Args:
        columns: the key columns, of equal length, without nulls.

    Returns:
        The codes (an integer array) and a bound: every code is in ``range(bound)``.
    """
    found = dense(columns)
    if found is not None:
        return found
    return _hash_codes(words_of(columns))


def words_of(columns: list[pa.Array]) -> list[Words]:
    """Keys as 64-bit words: two are equal just when all their words are."""
    return [word for column in columns for word in _words(column)]


def ends(codes: npt.NDArray[Any], bound: int) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
    """Each code's first and last row.

    Args:
        codes: as ``code`` gives them.
        bound: likewise.

    Returns:
        Two arrays of ``bound`` row numbers, -1 for codes that do not occur.
    """
    rows = np.arange(len(codes), dtype=np.int32)

    def last(codes: npt.NDArray[Any], rows: npt.NDArray[np.int32]) -> npt.NDArray[np.int32]:
        found = np.full(bound, -1, dtype=np.int32)
        found[codes] = rows  # where a code stands several times, the one written last stays
        return found

    if len(codes) < WORTH_SPLITTING:
        return last(codes[::-1], rows[::-1]), last(codes, rows)
    backwards = pool().submit(last, codes[::-1], rows[::-1])
    forwards = last(codes, rows)
    return backwards.result(), forwards


TAG_BITS = 3
ROW_BITS = 31


def in_order(codes: npt.NDArray[Any], rows: Ints, tags: npt.NDArray[np.int8]) -> tuple[npt.NDArray[Any], Ints]:
    """The tags of some rows, by code and then by row.

    Code, row and tag are packed into one number and sorted as numbers: ten times as fast as an argsort.

    Args:
        codes: all rows' codes.
        rows: which rows.
        tags: all rows' tags, each below ``2 ** TAG_BITS``.

    Returns:
        For each of the rows but the last, whether the next one has the same code; and the tags.
    """
    packed = codes[rows].astype(np.int64) << (ROW_BITS + TAG_BITS)
    packed |= rows << TAG_BITS
    packed |= tags[rows]
    packed.sort()
    goes_on = (packed[1:] ^ packed[:-1]) < (1 << (ROW_BITS + TAG_BITS))
    return goes_on, packed & ((1 << TAG_BITS) - 1)


def take_all(columns: dict[str, pa.ChunkedArray], rows: pa.Array) -> dict[str, pa.Array]:
    """The same rows of several columns, on all cores where there are enough rows.

    Args:
        columns: columns of equal length.
        rows: row numbers, or a boolean for every row.
    """
    return side_by_side({name: partial(picked, column, rows) for name, column in columns.items()}, len(rows))


def picked(column: pa.ChunkedArray | pa.Array, rows: pa.Array) -> pa.Array:
    """Some rows of a column, which is put in one piece only while it is taken from: there is never a second copy of all columns."""
    pick = pa.Array.filter if pa.types.is_boolean(rows.type) else pa.Array.take
    return pick(flat(column), rows)


def side_by_side(made: dict[str, Callable[[], Made]], rows: int) -> dict[str, Made]:
    """What some functions make, on all cores where they go through enough rows. They must not wait for others in ``pool``."""
    if rows < WORTH_SPLITTING:
        return {name: make() for name, make in made.items()}
    return dict(zip(made, pool().map(lambda make: make(), made.values()), strict=True))


def dense(columns: list[pa.Array]) -> tuple[npt.NDArray[Any], int] | None:
    """Codes of integers that lie close together, as for ``code``; None for other keys."""
    if len(columns[0]) == 0 or not all(_is_integral(column.type) for column in columns):
        return None
    limit = max(DENSE_FACTOR * len(columns[0]), DENSE_MINIMUM)
    codes: npt.NDArray[Any] | None = None
    bound = 1
    for column in columns:
        values = _integers(column)
        low, high = int(values.min()), int(values.max())
        span = high - low + 1
        bound *= span
        if bound > limit:
            return None
        offset = values if low == 0 else values - low
        codes = offset if codes is None else codes * span + offset
    assert codes is not None
    return codes, bound


def _is_integral(kind: pa.DataType) -> bool:
    return bool(pa.types.is_signed_integer(kind) or pa.types.is_date32(kind))


def _integers(column: pa.Array) -> Ints:
    if pa.types.is_date32(column.type):
        column = column.view(pa.int32())
    return column.to_numpy(zero_copy_only=False).astype(np.int64, copy=False)


def _words(column: pa.Array) -> list[Words]:
    """The column's values as 64-bit words: two values are equal just when all their words are."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return _words(column.cast(kind.value_type))
    fixed = fixed_words(column)
    if fixed is not None:
        return fixed
    if any(test(kind) for test in textual()):
        return _text_words(column.cast(pa.large_binary()))
    return [_encoded(column)]


def fixed_words(column: pa.Array) -> list[Words] | None:
    """The values of a column whose type has one length, as 64-bit words; None for other types."""
    kind = column.type
    if pa.types.is_floating(kind):
        values = column.cast(pa.float64()).to_numpy(zero_copy_only=False) + 0.0  # -0.0 equals 0.0
        return [np.where(np.isnan(values), np.nan, values).view(np.uint64)]
    if pa.types.is_boolean(kind) or pa.types.is_integer(kind):
        values = column.to_numpy(zero_copy_only=False)
        return [values.view(np.uint64) if values.dtype == np.int64 else values.astype(np.uint64)]
    if pa.types.is_temporal(kind) and kind.bit_width in (32, 64):
        signed = column.view(pa.int32() if kind.bit_width == 32 else pa.int64())
        return [signed.to_numpy(zero_copy_only=False).astype(np.int64, copy=False).view(np.uint64)]
    if pa.types.is_decimal(kind) and kind.bit_width in (128, 256):
        return _decimal_words(column, kind.bit_width // 64)
    return None


@cache
def textual() -> tuple[Callable[[pa.DataType], bool], ...]:
    """What tells the types whose values are bytes."""
    return (
        pa.types.is_string,
        pa.types.is_large_string,
        pa.types.is_string_view,
        pa.types.is_binary,
        pa.types.is_large_binary,
        pa.types.is_binary_view,
        pa.types.is_fixed_size_binary,
    )


def _encoded(column: pa.Array) -> Words:
    """The last resort: Arrow's own dictionary encoder, which takes any type and any length."""
    indices = pc.dictionary_encode(column).indices
    return indices.to_numpy(zero_copy_only=False).astype(np.uint64)


def _decimal_words(column: pa.Array, width: int) -> list[Words]:
    raw = np.frombuffer(column.buffers()[1], dtype=np.uint64)
    rows = raw[column.offset * width : (column.offset + len(column)) * width].reshape(-1, width)
    return [np.ascontiguousarray(rows[:, index]) for index in range(width)]


def _text_words(column: pa.Array) -> list[Words]:
    lengths = np.diff(text_offsets(column))
    longest = int(lengths.max(initial=0))
    if longest > LONGEST_IN_WORDS:
        return [_encoded(column)]
    words = [] if longest == int(lengths.min(initial=longest)) else [lengths.view(np.uint64)]
    if longest == 0:
        return [lengths.view(np.uint64)]
    eights, starts, lengths = eights_of(column)
    for at in range(0, longest, 8):
        words.append(word_at(eights, starts, lengths, at))
    return words


def eights_of(column: pa.Array) -> tuple[Words, Ints, Ints]:
    """The data of a column of large binaries, of which element i is the eight bytes that start at byte i; where each text starts
    in it, and its length.

    The last bytes of all have no eight after them, so the data is padded.
    """
    offsets, data = text_offsets(column), column.buffers()[2]
    first, last = int(offsets[0]), int(offsets[-1])
    padded = np.zeros(last - first + 8, dtype=np.uint8)
    if last > first:
        padded[:-8] = np.frombuffer(data, dtype=np.uint8)[first:last]
    eights: Words = np.ndarray((last - first + 1,), dtype="<u8", buffer=padded, strides=(1,))
    return eights, offsets[:-1] - first, np.diff(offsets)


def word_at(eights: Words, starts: Ints, lengths: Ints, at: int) -> Words:
    """Bytes ``at`` to ``at + 8`` of every value, zero beyond its end."""
    word: Words = np.empty(len(starts), dtype=np.uint64)

    def piece(low: int, high: int) -> None:
        rows = slice(low, high)
        places = np.minimum(starts[rows] + at, len(eights) - 1)
        spare = (8 - np.clip(lengths[rows] - at, 0, 8)).astype(np.uint8)
        np.bitwise_and(eights[places], kept_bytes()[spare], out=word[rows])

    in_pieces(piece, len(starts), WORTH_SPLITTING)
    return word


@cache
def kept_bytes() -> Words:
    """For so many bytes too many in a word, the mask of those that count."""
    return np.array([(1 << 8 * (8 - spare)) - 1 for spare in range(9)], dtype=np.uint64)


def by_code(codes: npt.NDArray[Any], bound: int) -> Ints:
    """The rows in the order of their codes; those of one code stay in theirs.

    numpy sorts numbers of 16 bits by radix, and wider ones by comparing: two passes over halves of codes are twice as fast.
    """
    order = np.argsort((codes & 0xFFFF).astype(np.uint16), kind="stable")
    for shift in range(16, max(bound - 1, 1).bit_length(), 16):
        order = order[np.argsort((codes >> shift & 0xFFFF).astype(np.uint16)[order], kind="stable")]
    return order


def _hash_codes(words: list[Words]) -> tuple[npt.NDArray[Any], int]:
    if len(words[0]) == 0:
        return np.empty(0, dtype=np.int64), 1
    bits = _bits_wanted(words)
    codes, mine = _claim(words, bits, 0)
    pending = np.flatnonzero(~mine)
    bound = 1 << bits
    for turn in range(1, ROUNDS):
        if len(pending) == 0:
            break
        here = [word[pending] for word in words]
        bits = _bits_wanted(here)
        slots, mine = _claim(here, bits, turn)
        codes[pending[mine]] = slots[mine] + bound
        pending = pending[~mine]
        bound += 1 << bits
    if len(pending):  # only keys made to collide get here
        rest = np.stack([word[pending] for word in words], axis=1)
        distinct, inverse = np.unique(rest, axis=0, return_inverse=True)
        codes[pending] = inverse.reshape(-1) + bound
        bound += len(distinct)
    return codes, bound


def _bits_wanted(words: list[Words]) -> int:
    """How many bits of slots suit the number of distinct keys, judged by a sample."""
    count = len(words[0])
    sample = _mix([word[:: max(1, count // SAMPLE)] for word in words], 1)
    size, distinct = len(sample), _distinct(sample)
    # Of k keys drawn s times, about k (1 - exp(-s/k)) are seen: find the k that fits what was seen.
    keys = float(distinct)
    while keys < count and keys * (1 - np.exp(-size / keys)) < distinct * 0.995:
        keys *= 1.3
    return min(max(int(2 * keys).bit_length(), 4), MOST_SLOTS_BITS)


def _distinct(hashed: Words) -> int:
    """How many distinct hashes there are, about: marks on a board, put right for those that fell on one another.

    Source: K. Whang, B. Vander-Zanden, H. Taylor, A linear-time probabilistic counting algorithm (1990).
    """
    board = np.zeros(1 << BOARD_BITS, dtype=np.bool_)
    board[hashed >> np.uint64(64 - BOARD_BITS)] = True
    marked = np.count_nonzero(board)
    return min(len(hashed), round(-len(board) * np.log1p(-marked / len(board))))


def _claim(words: list[Words], bits: int, turn: int) -> tuple[Ints, npt.NDArray[np.bool_]]:
    """Each row's slot, and whether the slot belongs to the row's own key."""
    count = len(words[0])
    slots: Ints = np.empty(count, dtype=np.int64)
    mine = np.empty(count, dtype=np.bool_)
    owner = np.empty(1 << bits, dtype=np.int32)

    def find(low: int, high: int) -> None:
        rows = slice(low, high)
        hashed = _mix([word[rows] for word in words], turn)
        slots[rows] = hashed >> np.uint64(64 - bits)

    def compare(low: int, high: int) -> None:
        rows = slice(low, high)
        owners = owner.take(slots[rows])
        same = words[0].take(owners) == words[0][rows]
        for word in words[1:]:
            same &= word.take(owners) == word[rows]
        mine[rows] = same

    in_pieces(find, count, WORTH_SPLITTING)
    owner[slots] = np.arange(count, dtype=np.int32)
    in_pieces(compare, count, WORTH_SPLITTING)
    return slots, mine


def _mix(words: list[Words], turn: int) -> Words:
    """A hash of the words, another one each turn: multiply, and fold the high half down between words."""
    hashed = words[0] * multipliers()[turn % len(multipliers())]
    for index, word in enumerate(words[1:], turn + 1):
        hashed ^= hashed >> np.uint64(32)
        hashed ^= word
        hashed *= multipliers()[index % len(multipliers())]
    if turn:
        hashed ^= hashed >> np.uint64(29)
        hashed *= multipliers()[(turn + 2) % len(multipliers())]
    return hashed


@cache
def pool() -> ThreadPoolExecutor:
    """This process's threads, one a core. What runs in them must not wait for them."""
    return ThreadPoolExecutor(os.cpu_count() or 1, thread_name_prefix="plainstep")


def in_pieces(work: Callable[[int, int], Made], count: int, worth: int = 0) -> list[Made]:
    """Do some work, of the pieces of so many things, on all cores. It must not be done in ``pool`` itself.

    Args:
        work: does it, from one thing up to another.
        count: how many things there are.
        worth: of fewer things, it is done in one piece.
    """
    if count < worth:
        return [work(0, count)]
    cores = min(os.cpu_count() or 1, MOST_CORES)
    cut = [count * core // cores for core in range(cores + 1)]
    return list(pool().map(work, cut[:-1], cut[1:]))
