"""Each key's first and last row, by compiled loops: where numba is installed (``plainstep[fast]``), for windows worth its start.

Rows are first dealt out by a hash of their keys, so that what follows stays in the processor's cache: one table of all keys took six
times as long (500,000 keys of 5,000,000 rows: 1.1 s, and 0.18 s). Without numba, ``keys`` finds the same in whole arrays.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, partial
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

from plainstep.core.arrays import Bools, Codes, Ints, Numbers, Words, flat, numbers, text_offsets
from plainstep.core.changes import keys
from plainstep.deferred import deferred, np, pa, pc

if TYPE_CHECKING:
    from collections.abc import Sequence

    from plainstep.core.changes import compiled, compiled_keys, compiled_numbers
else:
    compiled, compiled_keys, compiled_numbers = deferred(
        "plainstep.core.changes", "compiled", "compiled_keys", "compiled_numbers"
    )

# Rows that a process goes through before numba is loaded for it: that takes 0.6 s, which it gives back after some millions, by the kind of
# key. (A step over one million changes, whose keys are gone through twice, took 1.7 s without it and 2.2 s with it; one over eight
# million 16 s and 13 s.)
WORTH_LOADING = 5_000_000
# Below, whole arrays are as quick.
WORTH_CALLING = 20_000
# Keys that are numbers are looked up in a table of them all while there are at most so many times as many as there are rows.
MOST_NUMBERS = 2
# So many rows are looked at first.
SOME = 1 << 12


@dataclass(frozen=True)
class Groups:
    """What is found of each key.

    Attributes:
        firsts, lasts: its first and last row.
        counts: how many changes it had.
        had, has: what was there before it (see ``ops.ABSENT``), and whether there is a row after it.
        contradictions: how many rows of all do not fit the one before them of their key.
        strays: whether there are values of the key where there is no row, before an insert or after a delete.
    """

    firsts: Numbers
    lasts: Numbers
    counts: Ints
    had: Codes
    has: Bools
    contradictions: int
    strays: bool = False


class _Seen:
    """How many rows this process went through."""

    rows = 0


def worth(rows: int) -> bool:
    """Whether so many rows more are worth a compiled pass."""
    _Seen.rows += rows
    return rows >= WORTH_CALLING and _is_loaded()


def _is_loaded() -> bool:
    """Whether enough rows were gone through for numba to be loaded, and it can be."""
    return _Seen.rows >= WORTH_LOADING and _is_there()


@cache
def _is_there() -> bool:
    """Whether numba is installed, and can be used here."""
    if find_spec("numba") is None:
        return False
    try:
        return bool(compiled.ROW)
    except Exception:  # a release that does not go with numpy's, say, or no folder for what it compiles
        return False


def grouped(words: list[Words], had: Codes, has: Bools, counts: Ints | None) -> Groups | None:
    """Group rows by their keys.

    Args:
        words: the keys as columns of 64-bit words.
        had, has: what each row tells of its key before it (see ``ops.ABSENT``), and whether it is there after it.
        counts: how many changes each row stands for; None for one.

    Returns:
        The groups in the order of their last rows, those that came to nothing at the end; None where whole arrays must find them: the
        keys were made to collide, or there are too many changes.
    """
    if len(has) >= compiled.MOST_ROWS or (counts is not None and int(counts.sum()) >= compiled.MOST_ROWS):
        return None
    tags = (had.view(np.uint8) << 1) | has.view(np.uint8)
    whole = words[0].reshape(-1, 1) if len(words) == 1 else np.stack(words, axis=1)
    weights = np.zeros(0, dtype=np.int64) if counts is None else counts
    return _groups(compiled.grouped(np.ascontiguousarray(whole), tags, weights))


def of_changes(ops: Codes, told: Codes, sides: list[tuple[pa.Array, pa.Array]]) -> Groups | None:
    """Group changes by their keys.

    Args:
        ops: their operations.
        told: for each operation, what it tells: twice what ``grouped`` calls ``had``, and one if there is a row after it.
        sides: the columns of the key, each after and before the changes.

    Returns:
        The groups in the order of their last rows, those that came to nothing at the end; None where whole arrays must find them: a row
        moves to another key or has none, the key is of other types than numbers, times and texts, the keys were made to collide, or
        there are too many changes.
    """
    columns = [column for side in sides if (column := _Texts.of(*side) or _Fixed.of(*side))]
    if not 0 < len(ops) < compiled.MOST_ROWS or len(columns) < len(sides) or _lacking(sides):
        return None
    packed = sum(int(one) << compiled_keys.TOLD_BITS * op for op, one in enumerate(told))
    if len(columns) == 1 and isinstance(columns[0], _Fixed):
        ends = columns[0].ends(max(MOST_NUMBERS * len(ops), keys.DENSE_MINIMUM))
        if ends:
            return _of_numbers(ops, packed, columns[0], *ends)
    words, found = _words(ops, columns)
    if found & compiled_keys.MOVED:
        return None
    tags = np.empty(len(ops), dtype=np.uint8)
    keys.in_pieces(lambda low, high: compiled_keys.tag(ops, packed, tags, low, high), len(ops))
    return _groups(compiled.grouped(words, tags, np.zeros(0, dtype=np.int64)), found)


def _lacking(sides: list[tuple[pa.Array, pa.Array]]) -> bool:
    """Whether a change has no key."""
    return any(
        now.null_count and was.null_count and pc.any(pc.and_(now.is_null(), was.is_null())).as_py()
        for now, was in sides
    )


def _of_numbers(ops: Codes, told: int, column: _Fixed, least: int, most: int) -> Groups | None:
    """Group changes whose keys are numbers that lie close together."""
    told_of_each, contradictions, found = compiled_numbers.walked(ops, told, *column.sides, least, most)
    if found & compiled_keys.MOVED:
        return None
    return _groups((told_of_each, contradictions), found)


def picked(column: pa.ChunkedArray | pa.Array, rows: pa.Array, other: pa.Array | None = None) -> pa.Array:
    """Some rows of a column: of numbers and times by a compiled loop, in two thirds of the time where some are null.

    Args:
        column: the column.
        rows: which rows.
        other: a column of the same type, whose values are taken where it has none.
    """
    column = flat(column)
    kind = column.type
    fixed = (pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_temporal(kind)) and (
        kind.bit_width in (8, 32, 64) and (other is None or other.type == kind)
    )
    if not fixed or len(rows) < WORTH_CALLING or not _is_loaded():
        found = column.take(rows)
        return pc.coalesce(found, other.take(rows)) if other is not None and found.null_count else found
    mine = _with_bits(column)
    its = (mine[0][:0], mine[1][:0]) if other is None else _with_bits(other)
    values, bits = np.empty(len(rows), dtype=mine[0].dtype), np.empty(len(rows) + 7 >> 3, dtype=np.uint8)
    compiled.picked(*mine, *its, numbers(rows), values, bits)
    return pa.Array.from_buffers(
        kind, len(rows), [pa.py_buffer(bits) if column.null_count else None, pa.py_buffer(values)]
    )


def seqs_at(seqs: Ints, rows: pa.Array) -> pa.Array:
    """The positions of some rows, in any order. Where there are no gaps they are counted, as looking them up takes three times as long."""
    if len(seqs) and seqs[-1] - seqs[0] == len(seqs) - 1 and compiled.without_gaps(seqs):
        return pa.array(numbers(rows) + seqs[0])
    return picked(pa.array(seqs), rows)


def _with_bits(column: pa.Array) -> tuple[Numbers, Numbers]:
    """The values of a column as they lie in memory, and which are not null; nothing for that where none is."""
    values = np.frombuffer(column.buffers()[1], dtype=f"i{column.type.bit_width // 8}")[column.offset :]
    return values, _bits(column) if column.null_count else np.zeros(0, dtype=np.uint8)


def _groups(grouped: tuple[Any, int] | None, found: int = 0) -> Groups | None:
    """Groups, with what was found of their keys."""
    if grouped is None:
        return None
    (firsts, lasts, counts, had, has), contradictions = grouped
    return Groups(firsts, lasts, counts, had, has, contradictions, bool(found & compiled_keys.STRAY))


def _words(ops: Codes, columns: Sequence[_Fixed | _Texts]) -> tuple[Words, int]:
    """The keys of changes as words, a row for each change; and what was found of them."""
    words = np.empty((len(ops), sum(column.width for column in columns)), dtype=np.uint64)
    at = found = 0
    for column in columns:
        found |= int(np.bitwise_or.reduce(keys.in_pieces(partial(column.read, ops, words, at), len(ops))))
        at += column.width
    return words, found


@dataclass(frozen=True)
class _Column:
    """A column of the key.

    Attributes:
        sides: its values as they lie in memory, with what is not null, after and before the changes.
        width: in how many words.
    """

    sides: tuple[Any, Numbers, Any, Numbers]
    width: int


class _Fixed(_Column):
    """A column of the key whose values are whole numbers or times."""

    @staticmethod
    def of(now: pa.Array, was: pa.Array) -> _Fixed | None:
        kind = now.type
        if not (pa.types.is_signed_integer(kind) or pa.types.is_temporal(kind)) or kind.bit_width not in (32, 64):
            return None
        return _Fixed((_values(now), _bits(now), _values(was), _bits(was)), 1)

    def ends(self, most: int) -> tuple[int, int] | None:
        """The least and the greatest key; None if there are more than so many numbers from one to the other."""
        ends = 0, 0
        count = len(self.sides[0])
        for rows in (min(SOME, count), count):  # the first rows tell of most keys that they lie apart
            found = keys.in_pieces(partial(compiled_numbers.least_and_most, *self.sides), rows)
            ends = min(int(one[0]) for one in found), max(int(one[1]) for one in found)
            if ends[1] - ends[0] >= most:
                return None
        return ends

    def read(self, ops: Codes, words: Words, at: int, low: int, high: int) -> int:
        return int(compiled_keys.fixed_words(ops, *self.sides, words, at, low, high))


class _Texts(_Column):
    """A column of the key whose values are texts."""

    @staticmethod
    def of(now: pa.Array, was: pa.Array) -> _Texts | None:
        if not any(test(now.type) for test in keys.textual()):
            return None
        both = [_laid_out(side.cast(pa.large_binary())) for side in (now, was)]
        longest = max(max(keys.in_pieces(partial(compiled_keys.longest, side[0]), len(now))) for side in both)
        if longest > keys.LONGEST_IN_WORDS:
            return None
        return _Texts((both[0], _bits(now), both[1], _bits(was)), longest // 8 + 1)

    def read(self, ops: Codes, words: Words, at: int, low: int, high: int) -> int:
        masks = keys.kept_bytes()[::-1]
        return int(compiled_keys.text_words(ops, *self.sides, masks, words, at, self.width, low, high))


def _values(column: pa.Array) -> Ints:
    """The values of a column of one width as they lie in memory, whatever stands where they are null."""
    kind = np.int64 if column.type.bit_width == 64 else np.int32
    found = np.frombuffer(column.buffers()[1], dtype=kind)[column.offset : column.offset + len(column)]
    return found.astype(np.int64, copy=False)


def _laid_out(column: pa.Array) -> tuple[Ints, Words]:
    """Where the texts of a column of large binaries begin in its bytes, and the eight bytes from each byte on."""
    data = np.frombuffer(column.buffers()[2] or b"", dtype=np.uint8)
    if len(data) < 8:
        data = np.concatenate((data, np.zeros(8 - len(data), dtype=np.uint8)))
    eights: Words = np.ndarray((len(data) - 7,), dtype="<u8", buffer=data, strides=(1,))
    return text_offsets(column), eights


def _bits(column: pa.Array) -> Numbers:
    """Which values are not null, a bit each."""
    if not column.null_count:
        return np.full(len(column) // 8 + 1, 255, dtype=np.uint8)
    there = column.is_valid()
    if there.offset % 8:
        return np.packbits(there.to_numpy(zero_copy_only=False), bitorder="little")
    return np.frombuffer(there.buffers()[1], dtype=np.uint8)[there.offset // 8 :]
