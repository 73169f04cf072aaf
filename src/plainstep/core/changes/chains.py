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
from collections.abc import Hashable, Iterable, Iterator
from itertools import pairwise

from plainstep.core.arrays import Numbers, flat
from plainstep.core.changes.batch import Changes, concat
from plainstep.core.changes.chain_links import GONE, UNTOLD, Link, Links, Standing
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa
from plainstep.errors import Refused

# The columns of a change that stay where they were recorded, whichever change is found to belong there.
SLOT = ("seq", "at", "txn", "by", "position")


def in_chain(changes: Changes, key: tuple[str, ...], unit: str, standing: Standing | None) -> Changes | None:
    """The changes of some rows, each where the chain of images has it; None if that is where they were recorded.

    Args:
        changes: all the changes of these rows in a window, in reading order, with both images; truncates, too.
        key: the columns that tell rows apart.
        unit: the column that tells transactions apart.
        standing: where a trail ends where it begins, tells the rows' state after the window; None where that does not
            matter, because such a trail comes to nothing.

    Raises:
        Refused: the changes of a row do not form a single trail.
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
    links = Links(changes, key, unit)
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
    links = Links(own, key, unit)
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
    links: Links, codes: Numbers, begun: Hashable, ends: dict[int, Hashable], standing: Standing | None
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
    for code in np.intersect1d(codes, links.repeated).tolist():  # to the others, no order within a transaction matters
        state = begun
        steps_of: dict[int, list[Link]] = defaultdict(list)
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


def _another(steps: list[Link], start: Hashable, end: Hashable, stale: dict[int, int]) -> list[Link] | None:
    """Another order than the recorded one. It must end where the row is known to have been: an old image may be stale."""
    trail = _trail(steps, start, end)
    if trail is None or end not in (UNTOLD, trail[-1].after):
        return _as_recorded(steps, end, stale)
    if start == UNTOLD and trail[0].before == GONE and _from_there_to_gone(steps):
        return None
    return trail


def _from_there_to_gone(steps: list[Link]) -> bool:
    """Whether changes were recorded from one delete to another.

    If they are a trail from nothing to nothing nevertheless, one was not recorded: SQLite does not tell of a row that a
    trigger replaced with one just as it. (A new row that its own trigger deleted, and that came and went once more, looks alike.)
    """
    return len(steps) > 2 and steps[-1].after == GONE and steps[0].before != GONE and steps[0].after == GONE


def _as_recorded(steps: list[Link], end: Hashable, stale: dict[int, int]) -> list[Link] | None:
    """The changes as they were recorded, if they end in a state that is known; notes which have a stale old image."""
    if steps[-1].after != end:
        return None
    for one, other in pairwise(steps):
        if (one.after == GONE) != (other.before == GONE):
            return None
        if one.after != other.before:
            stale[other.row] = one.row
    return steps


def _ends(units: Iterable[list[Link]], last: Hashable) -> list[Hashable]:
    """Where the trail of each of some transactions ends, one after the other: where the next one begins, if that is told."""
    found: list[Hashable] = []
    for steps in reversed(list(units)):
        found.append(last)
        first = [state for state, count in _degrees(steps).items() if count == 1]
        last = first[0] if len(first) == 1 else last
    return found[::-1]


def _degrees(steps: list[Link]) -> Counter[Hashable]:
    """For each state, how many more changes begin in it than end in it."""
    degrees = Counter(one.before for one in steps)
    degrees.subtract(one.after for one in steps)
    return degrees


def _trail(steps: list[Link], start: Hashable, end: Hashable) -> list[Link] | None:
    """The changes of one row in one transaction as a trail through its states, or None if they are none.

    As recorded, if that is one; else the one that keeps nearest to it. (Source: Hierholzer's algorithm.)
    """
    recorded = all(one.after == other.before or other.before == UNTOLD for one, other in pairwise(steps))
    begins = start in (UNTOLD, steps[0].before) or steps[0].before == UNTOLD
    if recorded and begins and end in (UNTOLD, steps[-1].after):
        return steps
    if any(one.before == UNTOLD for one in steps):
        return steps if recorded else None
    leaving: dict[Hashable, list[Link]] = defaultdict(list)
    for one in reversed(steps):
        leaving[one.before].append(one)
    degrees = _degrees(steps)
    first = [state for state, count in degrees.items() if count == 1]
    if len(first) > 1 or any(abs(count) > 1 for count in degrees.values()):
        return None
    known = [state for state in (start, end) if state in leaving]
    begin = first[0] if first else known[0] if known else steps[0].before
    stack: list[tuple[Hashable, Link | None]] = [(begin, None)]
    trail: list[Link] = []
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


def _no_chain(links: Links, code: int) -> Refused:
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
