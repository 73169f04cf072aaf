"""Some rows of columns, taken as cheaply as their numbers allow."""

from __future__ import annotations

from plainstep.core.arrays import Ints
from plainstep.deferred import np, pa, pc
from plainstep.properties import cached_property

# Numpy's types of so many bits, for values that are only moved.
WORDS = {8: "u1", 16: "u2", 32: "u4", 64: "u8", 128: "c16"}


class Picked:
    """Some rows of a batch, in an order.

    Args:
        rows: their numbers; a negative one stands for a row of nulls.
    """

    def __init__(self, rows: Ints) -> None:
        self.rows = rows

    def __len__(self) -> int:
        return len(self.rows)

    @cached_property
    def _evenly(self) -> slice | None:
        """The rows as a slice, where they lie at one distance from each other, as those of two rows an update do."""
        rows = self.rows
        step = int(rows[1] - rows[0]) if len(rows) > 1 else 0
        if step < 1 or rows[0] < 0 or not (np.diff(rows) == step).all():
            return None
        return slice(int(rows[0]), int(rows[-1]) + 1, step)

    @cached_property
    def numbers(self) -> pa.Array:
        """Their numbers, null for rows of nulls."""
        return pa.array(self.rows) if (self.rows >= 0).all() else pa.array(self.rows, mask=self.rows < 0)

    def of(self, column: pa.Array) -> pa.Array:
        """The values of a column in these rows."""
        if self._evenly is not None:
            if self._evenly.step == 1:
                return column.slice(self._evenly.start, len(self))
            words = _words(column)
            if words is not None:
                return _like(column, words[self._evenly])
        # The rows are known to be there: to look whether they are costs a third of taking them.
        return pc.take(column, self.numbers, boundscheck=False)


def _words(column: pa.Array) -> np.ndarray | None:
    """Values that all lie one after the other and are there, as they lie in memory; None for other columns."""
    if pa.types.is_dictionary(column.type):
        return _words(column.indices)
    fixed = pa.types.is_primitive(column.type) or pa.types.is_decimal(column.type)
    width = WORDS.get(column.type.bit_width) if fixed and not column.null_count else None
    if width is None:
        return None
    return np.frombuffer(column.buffers()[1], dtype=width)[column.offset : column.offset + len(column)]


def _like(column: pa.Array, words: np.ndarray) -> pa.Array:
    if pa.types.is_dictionary(column.type):
        return pa.DictionaryArray.from_arrays(_like(column.indices, words), column.dictionary)
    return pa.Array.from_buffers(column.type, len(words), [None, pa.py_buffer(np.ascontiguousarray(words))])
