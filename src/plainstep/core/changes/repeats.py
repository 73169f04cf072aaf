"""Rows that change several times in one transaction: only of these, the recorded order may be another than the true one."""

from __future__ import annotations

from collections.abc import Iterable

from plainstep.core.arrays import Bools, Numbers, numbers
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.events import keys_of
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa, pc

# Changes that are looked at together: all keys that changed before are gone through each time.
TOGETHER = 1 << 18


class Repeats:
    """Finds the rows that changed several times in one transaction.

    Args:
        key: the columns that tell rows apart.
        unit: the column that tells transactions apart: ``txn``, or ``at`` where changes of one statement share a time.
    """

    def __init__(self, key: Iterable[str], unit: str) -> None:
        self.key, self.unit = tuple(key), unit
        self._waiting: list[pa.Table] = []
        self._rows = 0
        self._last: tuple[list[pa.Array], Numbers, Numbers] | None = None
        self._found: list[pa.Table] = []
        self._numbers: list[Numbers] = []

    def add(self, changes: Changes) -> None:
        """Take in the next batch, in reading order. Old and new keys are enough."""
        names = ["op", "seq", self.unit, *(side + name for side in (WAS, NOW) for name in self.key)]
        self._waiting.append(changes.table.select([name for name in names if name in changes.table.column_names]))
        self._rows += len(changes)
        if self._rows >= TOGETHER:
            self._look()

    def _look(self) -> None:
        """Look at what was taken in since the last time."""
        table = pa.concat_tables(self._waiting) if self._waiting else None
        self._waiting, self._rows = [], 0
        changes = Changes(table.filter(pc.not_equal(table["op"], int(Op.TRUNCATE)))) if table is not None else None
        if changes is None or not len(changes):
            return
        old, new = ([changes.image(side, name) for name in self.key] for side in (WAS, NOW))
        units, seq = numbers(changes.table[self.unit].cast(pa.int64())), changes.seq()
        moved = _moved(old, new)
        values = keys_of(changes, self.key)
        if moved.any():  # a row that moves is a change of its old key, too
            rows = pa.array(moved)
            values = [pa.concat_arrays([one, was.filter(rows)]) for one, was in zip(values, old, strict=True)]
            units, seq = np.concatenate([units, units[moved]]), np.concatenate([seq, seq[moved]])
        if self._last is not None:
            values = [pa.concat_arrays([before, one]) for before, one in zip(self._last[0], values, strict=True)]
            units, seq = np.concatenate([self._last[1], units]), np.concatenate([self._last[2], seq])
        codes, bound = keys.code(values)
        again = _again(codes, units)
        if again.any():
            self._numbers.append(seq[again])
            mask = pa.array(again)
            self._found.append(pa.table({name: one.filter(mask) for name, one in zip(self.key, values, strict=True)}))
        last = keys.ends(codes, bound)[1]
        last = last[last >= 0]
        self._last = [one.take(pa.array(last)) for one in values], units[last], seq[last]

    @property
    def keys(self) -> pa.Table | None:
        """The keys of the rows that did, or None if there are none."""
        self._look()
        if not self._found:
            return None
        return pa.concat_tables(self._found).group_by(list(self.key)).aggregate([]).select(list(self.key))

    @property
    def numbers(self) -> list[int]:
        """The changes of these rows in these transactions, by their numbers, rising."""
        self._look()
        return np.unique(np.concatenate(self._numbers)).tolist() if self._numbers else []


def _moved(old: list[pa.Array], new: list[pa.Array]) -> Bools:
    moved = np.zeros(len(old[0]), dtype=np.bool_)
    for was, now in zip(old, new, strict=True):
        if was.null_count < len(was):
            moved |= pc.fill_null(pc.not_equal(was, now), False).to_numpy(zero_copy_only=False)
    return moved


def _again(codes: Numbers, units: Numbers) -> Bools:
    """Which rows have a code and a unit that another row has, too."""
    order = np.lexsort((units, codes))
    same = (codes[order][1:] == codes[order][:-1]) & (units[order][1:] == units[order][:-1])
    found = np.zeros(len(codes), dtype=np.bool_)
    found[order[1:][same]] = found[order[:-1][same]] = True
    return found
