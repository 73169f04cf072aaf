"""The order of several changes of one row within one transaction: each begins where the one before it ended.

A trigger of the application that writes the table itself makes numbers lie: while a statement is still running, what its
trigger did to a row may be recorded before what the statement did to it. Both images of every change are there, so the
chain of images decides: the changes of a row within a transaction are a trail through the states that the row was in. Across
transactions, and for rows that change once in one, the recorded order is right.

Where there is no such trail, a trigger that fires before the statement changed the very row, whose old image then is what it
was before that trigger (SQLite does so). The recorded order stands if it ends in the state that the row is in, and the stale
old image is what the change before it left.
"""

from __future__ import annotations

import heapq
from collections import Counter, defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

from plainstep.core.arrays import Bools, Numbers
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes, concat, flat, numbers
from plainstep.core.changes.fold import events_of
from plainstep.core.changes.net import ABSENT, PRESENT, UNKNOWN, differing
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa, pc
from plainstep.errors import Refused

# The columns of a change that stay where they were recorded, whichever change is found to belong there.
SLOT = ("seq", "at", "txn", "by", "place")
# Changes that are looked at together: all keys that changed before are gone through each time.
TOGETHER = 1 << 18
# Gives the rows of some keys, as they stand at the end of the window.
Standing = Callable[["pa.Table"], "pa.Table"]


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
        values = [pc.coalesce(now, was) for was, now in zip(old, new, strict=True)]
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


def in_chain(changes: Changes, key: tuple[str, ...], unit: str, standing: Standing | None) -> Changes | None:
    """The changes of some rows, each where the chain of images has it; None if that is where they were recorded.

    Args:
        changes: all the changes of these rows in a window, in reading order, with both images; truncates, too.
        key: the columns that tell rows apart.
        unit: the column that tells transactions apart.
        standing: where a trail ends where it begins, tells the rows' state after the window; None where that does not
            matter, because such a trail comes to nothing.

    Raises:
        Refused: the changes of a row are no single trail.
    """
    parts = [
        _part(part, key, unit, standing if last else None, UNTOLD if first else GONE)
        for part, first, last in _between_truncates(changes)
    ]
    if all(part is None for part, _ in parts):
        return None
    return concat([whole if part is None else part for part, whole in parts])


def surely_in_order(changes: Changes, key: tuple[str, ...], unit: str) -> bool:
    """Whether changes, which are all that certain rows went through in certain transactions, can only be in their order.

    Where they end as they began, any of the states between them may have been the first.
    """
    links = _Links(changes, key, unit)
    return not links.circuits.any() and not len(links.wrong(UNTOLD, {}))


def _between_truncates(changes: Changes) -> Iterator[tuple[Changes, bool, bool]]:
    """The changes between truncates, each truncate at the end of its part; and whether it is the first, and the last part."""
    begin = 0
    for place in np.flatnonzero(changes.op() == Op.TRUNCATE).tolist():
        yield Changes(changes.table.slice(begin, place + 1 - begin)), begin == 0, False
        begin = place + 1
    yield Changes(changes.table.slice(begin)), begin == 0, True


def _part(
    changes: Changes, key: tuple[str, ...], unit: str, standing: Standing | None, begun: Hashable
) -> tuple[Changes | None, Changes]:
    """What ``in_chain`` finds for changes without truncates between them, and the changes; ``begun`` is the state before them."""
    own = Changes(changes.table.filter(pa.array(changes.op() != Op.TRUNCATE)))
    if not len(own):
        return None, changes
    links = _Links(own, key, unit)
    ends = links.ends_of_circuits(standing) if standing else {}
    wrong = links.wrong(begun, ends)
    if not len(wrong):
        return None, changes
    order, stale = _reordered(links, links.closed(wrong), begun, ends, standing)
    content = _freshened(own, stale).take(pa.array(order))
    for name in SLOT:
        if name in content.column_names:
            content = content.set_column(content.schema.get_field_index(name), name, own.table[name])
    return concat([Changes(content), Changes(changes.table.slice(len(own)))]), changes


@dataclass
class _Step:
    """One change, as one key sees it: from a state to another."""

    row: int
    before: Hashable
    after: Hashable


# The states of a row that is not there, and of one that nothing tells.
GONE, UNTOLD = "gone", "untold"


class _Links:
    """The changes of some rows, key by key, and where one does not begin as the one before it ended."""

    def __init__(self, changes: Changes, key: tuple[str, ...], unit: str) -> None:
        self.changes, self.key = changes, key
        self.events = events_of(changes, key)
        self.codes, _ = keys.code(self.events.key_values)
        rows = np.arange(len(changes)) if self.events.row is None else self.events.row
        self.row: Numbers = np.asarray(rows)
        self.unit = numbers(changes.table[unit].cast(pa.int64()))[self.row]
        self.order = np.argsort(self.codes, kind="stable")
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

    def step(self, place: int) -> _Step:
        """One change, as a key sees it."""
        row = int(self.row[place])
        had, has = self.events.had[place], self.events.has[place]
        before = UNTOLD if had == UNKNOWN else GONE if had == ABSENT else self._image(WAS, row)
        return _Step(row, before, self._image(NOW, row) if has else GONE)

    def _image(self, side: str, row: int) -> Hashable:
        values = {name: self.changes.image(side, name)[row].as_py() for name in self.others}
        return _state(values, self.others)


def _state(row: dict[str, Any], names: list[str]) -> Hashable:
    """A row's state: equal for equal rows, also where they hold what is not equal to itself."""
    return repr([row[name] + 0.0 if isinstance(row[name], float) else row[name] for name in names])


def _freshened(changes: Changes, stale: dict[int, int]) -> pa.Table:
    """Changes, the old images of some as others left the row."""
    table = changes.table
    rows, count = np.arange(len(changes)), len(changes)
    rows[list(stale)] = [count + other for other in stale.values()]
    for name in changes.columns if stale else ():
        both = pa.concat_arrays([changes.image(WAS, name), changes.image(NOW, name)])
        table = table.set_column(table.schema.get_field_index(WAS + name), WAS + name, both.take(pa.array(rows)))
    return table


def _reordered(
    links: _Links, codes: Numbers, begun: Hashable, ends: dict[int, Hashable], standing: Standing | None
) -> tuple[Numbers, dict[int, int]]:
    """For each place, the change that belongs there: those of some keys are put in the order of their chains.

    Returns:
        The order; and the changes with a stale old image, each with the one before it.

    Raises:
        Refused: there is no such order.
    """
    follows: dict[int, set[int]] = defaultdict(set)
    units: dict[int, set[int]] = defaultdict(set)
    stale: dict[int, int] = {}
    for code in codes.tolist():
        state = begun
        steps_of: dict[int, list[_Step]] = defaultdict(list)
        for place in np.flatnonzero(links.codes == code).tolist():
            steps_of[int(links.unit[place])].append(links.step(place))
        for (unit, steps), end in zip(steps_of.items(), _ends(steps_of.values(), ends.get(code, UNTOLD)), strict=True):
            trail = _trail(steps, state, end)
            if trail is not steps:
                last = steps[-1].row == links.row[links.last_of(code)]
                known = links.standing_of(code, standing) if end == UNTOLD and last and standing else end
                trail = _another(steps, state, known, stale)
            if trail is None:
                raise _no_chain(links, code)
            for one, other in pairwise(trail):
                follows[one.row].add(other.row)
            units[unit] |= {one.row for one in trail}
            state = trail[-1].after
    order = np.arange(len(links.changes))
    for inside in units.values():
        rows = sorted(inside)
        found = _sorted(rows, follows)
        if found is None:
            raise _no_chain(links, int(codes[0]))
        order[rows] = found
    return order, stale


def _another(steps: list[_Step], start: Hashable, end: Hashable, stale: dict[int, int]) -> list[_Step] | None:
    """Another order than the recorded one. It must end where the row is known to have been: an old image may be stale."""
    trail = _trail(steps, start, end)
    if trail is None or end not in (UNTOLD, trail[-1].after):
        return _as_recorded(steps, end, stale)
    if start == UNTOLD and trail[0].before == GONE and _from_there_to_gone(steps):
        return None
    return trail


def _from_there_to_gone(steps: list[_Step]) -> bool:
    """Whether changes were recorded from one delete to another.

    If they are a trail from nothing to nothing all the same, one was not recorded: SQLite does not tell of a row that a
    trigger replaced with one just as it. (A new row that its own trigger deleted, and that came and went once more, looks alike.)
    """
    return len(steps) > 2 and steps[-1].after == GONE and steps[0].before != GONE and steps[0].after == GONE


def _as_recorded(steps: list[_Step], end: Hashable, stale: dict[int, int]) -> list[_Step] | None:
    """The changes as they were recorded, if they end in a state that is known; notes which have a stale old image."""
    if steps[-1].after != end:
        return None
    for one, other in pairwise(steps):
        if (one.after == GONE) != (other.before == GONE):
            return None
        if one.after != other.before:
            stale[other.row] = one.row
    return steps


def _ends(units: Iterable[list[_Step]], last: Hashable) -> list[Hashable]:
    """Where the trail of each of some transactions ends, one after the other: where the next one begins, if that is told."""
    found: list[Hashable] = []
    for steps in reversed(list(units)):
        found.append(last)
        first = [state for state, count in _degrees(steps).items() if count == 1]
        last = first[0] if len(first) == 1 else last
    return found[::-1]


def _degrees(steps: list[_Step]) -> Counter[Hashable]:
    """For each state, how many more changes begin in it than end in it."""
    degrees = Counter(one.before for one in steps)
    degrees.subtract(one.after for one in steps)
    return degrees


def _trail(steps: list[_Step], start: Hashable, end: Hashable) -> list[_Step] | None:
    """The changes of one row in one transaction as a trail through its states, or None if they are none.

    As recorded, if that is one; else the one that keeps nearest to it. (Source: Hierholzer's algorithm.)
    """
    recorded = all(one.after == other.before or other.before == UNTOLD for one, other in pairwise(steps))
    begins = start in (UNTOLD, steps[0].before) or steps[0].before == UNTOLD
    if recorded and begins and end in (UNTOLD, steps[-1].after):
        return steps
    if any(one.before == UNTOLD for one in steps):
        return steps if recorded else None
    leaving: dict[Hashable, list[_Step]] = defaultdict(list)
    for one in reversed(steps):
        leaving[one.before].append(one)
    degrees = _degrees(steps)
    first = [state for state, count in degrees.items() if count == 1]
    if len(first) > 1 or any(abs(count) > 1 for count in degrees.values()):
        return None
    known = [state for state in (start, end) if state in leaving]
    begin = first[0] if first else known[0] if known else steps[0].before
    stack: list[tuple[Hashable, _Step | None]] = [(begin, None)]
    trail: list[_Step] = []
    while stack:
        state, by = stack[-1]
        if leaving[state]:
            one = leaving[state].pop()
            stack.append((one.after, one))
        else:
            stack.pop()
            if by is not None:
                trail.append(by)
    trail.reverse()
    return trail if len(trail) == len(steps) else None


def _sorted(rows: list[int], follows: dict[int, set[int]]) -> list[int] | None:
    """The changes of one transaction in an order that every key's chain allows, nearest to the recorded one; or None."""
    inside = set(rows)
    waits = Counter(after for row in rows for after in follows[row] if after in inside)
    ready = [row for row in rows if not waits[row]]
    found: list[int] = []
    while ready:
        row = heapq.heappop(ready)
        found.append(row)
        for after in follows[row] & inside:
            waits[after] -= 1
            if not waits[after]:
                heapq.heappush(ready, after)
    return found if len(found) == len(rows) else None


def _no_chain(links: _Links, code: int) -> Refused:
    place = int(np.flatnonzero(links.codes == code)[0])
    named = ", ".join(
        f"{name} {one[place].as_py()}" for name, one in zip(links.key, links.events.key_values, strict=True)
    )
    return Refused(
        f"The changes of the row with {named} within one transaction do not follow on each other in any order.",
        "One of them was not recorded, or the table's columns changed in between.",
        "plainstep reload LOAD compares the whole table and goes on from there.",
    )


def replaced(changes: Changes, found: Changes) -> Changes:
    """A batch, with those of its changes that belong elsewhere put in their places.

    Args:
        changes: the batch.
        found: what ``in_chain`` found.
    """
    slots, seq = found.seq(), changes.seq()
    places = np.searchsorted(slots, seq)
    hit = (places < len(slots)) & (slots[np.minimum(places, len(slots) - 1)] == seq)
    if not hit.any():
        return changes
    both = pa.concat_tables([changes.table, found.table.select(changes.table.column_names)])
    rows = np.where(hit, len(seq) + places, np.arange(len(seq)))
    taken = {name: flat(both[name]).take(pa.array(rows)) for name in both.column_names}
    return Changes(pa.table(taken))
