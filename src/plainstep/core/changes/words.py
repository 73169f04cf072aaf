"""What changes say in words: their operations, and lists of columns' names. There are few of these, so that many rows are written some at a time."""

from __future__ import annotations

from functools import cache

from plainstep.core.arrays import Bools, Ints, Numbers, numbers, text_offsets
from plainstep.core.changes.ops import Op
from plainstep.deferred import np, npt, pa

# So many rows are worth more care; of more operations, their bytes are too many for one array.
MANY, MOST = 1 << 14, 1 << 28
# Names of which every list is made beforehand.
FEW_NAMES = 8
# What some rows say, one after the other, is written as one: as many rows as go into so many bits. (Half the time of one by one.)
BITS = 12
# An operation takes so many of them.
OP_BITS = 2


@cache
def op_words() -> pa.Array:
    """The words of the operations, each at its number."""
    return pa.array([None, *(op.word for op in Op)])


def words(ops: pa.Array) -> pa.Array:
    """Operations as words, for people."""
    if not MANY <= len(ops) < MOST or ops.null_count:
        return op_words().take(ops)
    codes = numbers(ops)
    if codes.min() < Op.INSERT or codes.max() > Op.DELETE:
        return op_words().take(ops)
    # These are equally long, so that no text has to be measured.
    letters = np.array(["", *(op.word for op in (Op.INSERT, Op.UPDATE, Op.DELETE))], dtype="S")
    lots, every = _lots(codes, OP_BITS)
    written = letters[every].view(f"V{letters.itemsize * every.shape[1]}").ravel().take(lots)
    begins = np.arange(0, (len(codes) + 1) * letters.itemsize, letters.itemsize, dtype=np.int32)
    return pa.StringArray.from_buffers(len(codes), pa.py_buffer(begins), pa.py_buffer(written))


def name_lists(masks: dict[str, Bools], count: int) -> pa.Array:
    """For every row, the names whose mask is set there."""
    names = list(masks)
    if len(names) > FEW_NAMES:
        return _of_many_names(masks)
    # Of a few names there are few lists, and each row has one of them.
    lists = [[name for place, name in enumerate(names) if which >> place & 1] for which in range(1 << len(names))]
    every = pa.array(lists, pa.list_(pa.string()))
    which = np.zeros(count, dtype=np.uint8)
    for place, mask in enumerate(masks.values()):
        which |= mask.view(np.uint8) << place
    return _many_lists(every, which, len(names)) if names and count >= MANY else every.take(pa.array(which))


def _of_many_names(masks: dict[str, Bools]) -> pa.Array:
    """The same, where there are too many names for all lists of them to be made beforehand."""
    names = list(masks)
    grid = np.stack(list(masks.values()), axis=1)
    places = np.nonzero(grid)[1].astype(np.int32)
    values = pa.DictionaryArray.from_arrays(pa.array(places), pa.array(names, pa.string()))
    return pa.ListArray.from_arrays(pa.array(_begins(grid.sum(axis=1))), values.cast(pa.string()))


def _many_lists(lists: pa.Array, which: npt.NDArray[np.uint8], bits: int) -> pa.Array:
    """For many rows, which of some lists each has."""
    lots, every = _lots(which, bits)
    of_lots = lists.take(pa.array(every.ravel()))
    begins, texts = numbers(of_lots.offsets)[:: every.shape[1]], of_lots.values
    text_begins = text_offsets(texts)

    def written(begins: Ints, data: pa.Buffer) -> pa.Buffer:
        pieces = pa.Array.from_buffers(pa.binary(), len(begins) - 1, [None, pa.py_buffer(begins), data])
        return pieces.take(pa.array(lots)).buffers()[2] or pa.py_buffer(b"")

    sizes = np.diff(text_begins)
    lengths = np.frombuffer(written(begins * sizes.itemsize, pa.py_buffer(sizes)), dtype=sizes.dtype)
    names = pa.StringArray.from_buffers(
        len(lengths), pa.py_buffer(_begins(lengths)), written(text_begins[begins], texts.buffers()[2])
    )
    return pa.ListArray.from_arrays(pa.array(_begins(np.diff(numbers(lists.offsets)).take(which))), names)


def _lots(codes: Numbers, bits: int) -> tuple[npt.NDArray[np.uint16], Numbers]:
    """Small numbers, some to a lot: the number of each lot, the last filled up with zeros; and for each number of a lot what is in it."""
    rows = BITS // bits
    lots = np.zeros(-(-len(codes) // rows), dtype=np.uint16)
    for place in range(rows):
        some = codes[place::rows]
        lots[: len(some)] |= some.astype(np.uint16) << (bits * place)
    return lots, np.arange(1 << bits * rows)[:, None] >> bits * np.arange(rows) & ((1 << bits) - 1)


def _begins(sizes: Numbers) -> npt.NDArray[np.int32]:
    """Where things begin in what they make one after the other, and where the last ends."""
    begins = np.zeros(len(sizes) + 1, dtype=np.int32)
    np.cumsum(sizes, out=begins[1:])
    return begins
