"""Changes as their keys see them: each leads from one state of a row to another."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any

from plainstep.core.arrays import Bools, Numbers, numbers
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.events import events_of
from plainstep.core.changes.net import differing
from plainstep.core.changes.ops import ABSENT, NOW, PRESENT, UNKNOWN, WAS
from plainstep.deferred import np, pa
from plainstep.properties import cached_property

# Gives the rows of some keys, as they stand at the end of the window.
Standing = Callable[["pa.Table"], "pa.Table"]


@dataclass
class Link:
    """One change, as one key sees it: from a state to another."""

    row: int
    before: Hashable
    after: Hashable


# The states of a row that is not there, and of one that nothing tells.
GONE, UNTOLD = "gone", "untold"


class Links:
    """The changes of some rows, key by key, and where one does not begin as the one before it ended."""

    def __init__(self, changes: Changes, key: tuple[str, ...], unit: str) -> None:
        self.changes, self.key = changes, key
        self.events = events_of(changes, key)
        self.codes, bound = keys.code(self.events.key_values)
        rows = np.arange(len(changes)) if self.events.row is None else self.events.row
        self.row: Numbers = np.asarray(rows)
        self.unit = numbers(changes.table[unit].cast(pa.int64()))[self.row]
        self.order = keys.by_code(self.codes, bound)
        codes, units = self.codes[self.order], self.unit[self.order]
        # Where the changes of a key, and those of a key in one transaction, begin and end, in this order.
        self.new_key = np.concatenate([[True], codes[1:] != codes[:-1]])
        self.new_unit = self.new_key | np.concatenate([[True], units[1:] != units[:-1]])
        self.begins = np.flatnonzero(self.new_unit)
        self.ends = np.concatenate([self.begins[1:], [len(codes)]]) - 1

    @property
    def others(self) -> list[str]:
        """The columns outside the key."""
        return [name for name in self.changes.columns if name not in self.key]

    def _differs(self, before: Numbers, after: Numbers) -> Bools:
        """For pairs of changes of a key, whether the second one begins in another state than the first one left."""
        left, found = self.events.has[before], self.events.had[after]
        differs = (left & (found == ABSENT)) | (~left & (found == PRESENT))
        both = left & (found == PRESENT)
        one, other = pa.array(self.row[before]), pa.array(self.row[after])
        for name in self.others:
            ended, begins = self.changes.image(NOW, name).take(one), self.changes.image(WAS, name).take(other)
            differs |= both & differing(ended, begins)
        return np.asarray(differs & (found != UNKNOWN), dtype=np.bool_)

    @cached_property
    def circuits(self) -> Bools:
        """For each key and transaction, whether several changes end where they began: any of their states may be the first."""
        several = self.ends > self.begins
        return several & ~self._differs(self.order[self.ends], self.order[self.begins])

    @cached_property
    def repeated(self) -> Numbers:
        """The keys that changed several times in one transaction. Of others, there may be changes that are not among these."""
        return np.unique(self.codes[self.order[self.begins[self.ends > self.begins]]])

    def wrong(self, begun: Hashable, ends: dict[int, Hashable]) -> Numbers:
        """The keys whose changes were not recorded in their order."""
        broken = self._differs(self.order[:-1], self.order[1:])
        within = broken & ~self.new_unit[1:]
        # Across transactions a break is no matter of order: but it says where a circuit begins, or ends.
        circuit = self.circuits[np.cumsum(self.new_unit) - 1]
        across = broken & self.new_unit[1:] & ~self.new_key[1:] & (circuit[:-1] | circuit[1:])
        found = self.codes[self.order[1:][(within | across) & ~self.new_key[1:]]]
        elsewhere = [code for code, end in ends.items() if self.step(self.last_of(code)).after != end]
        firsts = self.order[self.new_key]
        from_nothing = self.codes[firsts[self.events.had[firsts] == PRESENT]] if begun == GONE else found[:0]
        return np.unique(np.concatenate([found, from_nothing, np.array(elsewhere, dtype=found.dtype)]))

    def last_of(self, code: int) -> int:
        """The last change of a key."""
        return int(np.flatnonzero(self.codes == code)[-1])

    def closed(self, codes: Numbers) -> Numbers:
        """Some keys, with those that their rows moved to or came from."""
        while True:
            rows = self.row[np.isin(self.codes, codes)]
            wider = np.unique(self.codes[np.isin(self.row, rows)])
            if len(wider) == len(codes):
                return codes
            codes = wider

    def ends_of_circuits(self, standing: Standing) -> dict[int, Hashable]:
        """For the keys whose last transaction ends where it begins: the state that they are in after the window."""
        last = np.concatenate([self.new_key[self.begins[1:]], [True]])
        wanted = self.order[self.ends[self.circuits & last]]
        return self._standing(wanted, standing) if len(wanted) else {}

    def standing_of(self, code: int, standing: Standing) -> Hashable:
        """The state that a key is in after the window."""
        return self._standing(np.array([self.last_of(code)]), standing)[code]

    def _standing(self, wanted: Numbers, standing: Standing) -> dict[int, Hashable]:
        """The states that the keys of some changes are in after the window."""
        places = pa.array(wanted)
        values = [one.take(places) for one in self.events.key_values]
        rows = standing(pa.table(dict(zip(self.key, values, strict=True))))
        known = {tuple(row[name] for name in self.key): _state(row, self.others) for row in rows.to_pylist()}
        named = zip(*(one.to_pylist() for one in values), strict=True)
        return {int(code): known.get(key, GONE) for code, key in zip(self.codes[wanted], named, strict=True)}

    def step(self, place: int) -> Link:
        """One change, as a key sees it."""
        row = int(self.row[place])
        had, has = self.events.had[place], self.events.has[place]
        before = UNTOLD if had == UNKNOWN else GONE if had == ABSENT else self._image(WAS, row)
        return Link(row, before, self._image(NOW, row) if has else GONE)

    def _image(self, side: str, row: int) -> Hashable:
        values = {name: self.changes.image(side, name)[row].as_py() for name in self.others}
        return _state(values, self.others)


def _state(row: dict[str, Any], names: list[str]) -> Hashable:
    """A row's state: equal for equal rows, also where they hold what is not equal to itself."""
    return repr([row[name] + 0.0 if isinstance(row[name], float) else row[name] for name in names])
