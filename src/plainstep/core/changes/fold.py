"""Collapsing what happened to keys into one row a key.

Only a key's first and last change matter for what it was and what it is (and, where a feed sends parts of
rows, the last value given of each column). So nothing is sorted: code the keys, scatter the row numbers to find
each key's first and last, take the columns once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from plainstep.core.arrays import Bools, Numbers, flat
from plainstep.core.changes import groups, keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.events import Events, StraightChanges, events_of, had_before, has_after
from plainstep.core.changes.net import GIVEN, KEY, NetChanges
from plainstep.core.changes.ops import ABSENT, NOW, PRESENT, SAME, WAS, Op
from plainstep.deferred import np, npt, pa, pc
from plainstep.errors import DataError

# Columns, by their names in ``NetChanges.state``, each with what makes it.
Columns = dict[str, Callable[[], pa.Array]]


def net_of(changes: Changes, key: tuple[str, ...]) -> NetChanges:
    """The net changes of one batch."""
    for name in key:
        if name not in changes.columns:
            raise DataError(
                f"The changes have no column {name!r}, which the key names.",
                f"Their columns are {', '.join(changes.columns)}.",
            )
    read = len(changes)
    last_seq = int(changes.seq()[-1]) if read else None
    truncates = np.flatnonzero(changes.op() == Op.TRUNCATE)
    if len(truncates):
        changes = Changes(changes.table.slice(int(truncates[-1]) + 1))
    folded = _straight(changes, key)
    if folded is None:
        folded = fold(events_of(changes, key))
    return replace(folded, read=read, truncated=bool(len(truncates)), last_seq=last_seq)


def fold(events: Events) -> NetChanges:
    """One row a key, from its first and its last event."""
    found = None
    if not events.given and groups.worth(len(events.has)):
        found = groups.grouped(keys.words_of(events.key_values), events.had, events.has, events.count)
    if found is None:
        return _folded_by_codes(events)
    return _folded(events, found, np.zeros(len(found.firsts), dtype=np.bool_))


def _straight(changes: Changes, key: tuple[str, ...]) -> NetChanges | None:
    """One row a key, by compiled loops alone; None where they are not there or not worth it, or what changes tell needs more care."""
    if "given" in changes.table.column_names or not groups.worth(len(changes)):
        return None
    sides = [(changes.image(NOW, name), changes.image(WAS, name)) for name in key]
    found = groups.of_changes(changes.op(), (had_before() << 1) | has_after(), sides)
    if found is None:
        return None
    events = StraightChanges(changes, key, found.strays)
    return _folded(events, found, np.zeros(len(found.firsts), dtype=np.bool_))


def _folded_by_codes(events: Events) -> NetChanges:
    """The same by codes of the keys, in whole arrays."""
    codes, bound = keys.code(events.key_values)
    first, last = keys.ends(codes, bound)
    present = np.flatnonzero(last >= 0)
    contradictions = _contradictions(events, codes, first, last)
    # In the order of their last rows, what is taken of these is taken as it lies, which is three times as fast.
    ends = np.zeros(len(codes), dtype=np.bool_)
    ends[last[present]] = True
    present = codes[ends]
    had, has = events.had[first[present]], events.has[last[present]]
    nothing = (had == ABSENT) & ~has
    if nothing.any():  # those that came to nothing are put at the end, as all that is left is then in one piece
        order = np.concatenate((np.flatnonzero(~nothing), np.flatnonzero(nothing)))
        present, had, has = present[order], had[order], has[order]
    counts = _count(events, codes, bound)[present]
    found = groups.Groups(first[present], last[present], counts, had, has, contradictions)
    fresh, resets = _resets(events, codes, bound)
    if resets is None:
        return _folded(events, found, fresh[present])
    return _folded(events, found, fresh[present], _given_values(events, codes, present, found.lasts, resets))


def _folded(
    events: Events | StraightChanges, found: groups.Groups, fresh: Bools, new_values: Columns | None = None
) -> NetChanges:
    """One row a key, taken once.

    Args:
        events: what happened.
        found: each key's first and last event.
        fresh: which keys began anew in the window.
        new_values: the other columns, where they are not as the last event has them.
    """
    firsts, lasts = pa.array(found.firsts), pa.array(found.lasts)
    columns: Columns = {KEY + name: partial(events.key_at, place, lasts) for place, name in enumerate(events.key)}
    columns |= {
        "had": lambda: pa.array(found.had),
        "has": lambda: pa.array(found.has),
        "fresh": lambda: pa.array(fresh),
        "count": lambda: pa.array(found.counts),
        "first_seq": lambda: events.first_seqs(firsts),
        "last_seq": lambda: events.last_seqs(lasts),
        "last_at": lambda: groups.picked(events.at, lasts),
    }
    if SAME in events.table.column_names:
        columns[SAME] = lambda: flat(events.table[SAME]).take(_rows_of(events, found.lasts))
    columns |= _values(events, WAS, found.firsts, found.had != PRESENT)
    columns |= _values(events, NOW, found.lasts, ~found.has) if new_values is None else new_values
    state = pa.table(keys.side_by_side(columns, len(lasts)))
    return NetChanges(events.key, events.columns, state, contradictions=found.contradictions)


def _rows_of(events: Events | StraightChanges, which: Numbers) -> pa.Array:
    """The rows in which some events stand."""
    return pa.array(which if events.row is None else events.row[which])


def _count(events: Events, codes: Numbers, bound: int) -> npt.NDArray[np.int64]:
    counts = np.bincount(codes, weights=events.count, minlength=bound)
    return counts.astype(np.int64)


def _resets(events: Events, codes: Numbers, bound: int) -> tuple[Bools, Numbers | None]:
    """Which keys began anew in the window, and from which event on their values count."""
    fresh = np.zeros(bound, dtype=np.bool_)
    if not events.given:
        return fresh, None
    begins = events.had == ABSENT if events.fresh is None else (events.had == ABSENT) | events.fresh
    ends = ~events.has
    fresh[codes[begins | ends]] = True
    resets = np.full(bound, -1, dtype=np.int64)
    order = np.arange(len(codes), dtype=np.int64)
    marks = begins | ends
    resets[codes[marks]] = order[marks] + ends[marks]
    return fresh, resets


def _values(events: Events | StraightChanges, side: str, which: Numbers, nothing: Bools) -> Columns:
    """The columns outside the key, on one side, as some events have them: nulls where there is no row."""
    rows, blank = _rows_of(events, which), nothing if events.images else None
    return {name: partial(_taken, values, rows, blank) for name, values in _columns(events, side).items()}


def _columns(events: Events | StraightChanges, side: str) -> dict[str, pa.ChunkedArray]:
    there = {*events.table.column_names}
    others = [side + name for name in events.columns if name not in events.key]
    return {name: events.table[name] for name in others if name in there}


def _given_values(events: Events, codes: Numbers, present: Numbers, lasts: Numbers, resets: Numbers) -> Columns:
    """The other columns as they were last sent, where a feed sends parts of rows."""
    made: Columns = {}
    for column, values in _columns(events, NOW).items():
        name = column.removeprefix(NOW)
        sent = np.flatnonzero(events.given[name])
        latest = np.full(len(resets), -1, dtype=np.int64)
        latest[codes[sent]] = sent
        known = ((latest >= resets) & (latest >= 0))[present]
        rows = _rows_of(events, np.where(known, latest[present], 0))
        made[GIVEN + name] = partial(pa.array, known)
        made[column] = partial(_taken, values, rows, ~(known & events.has[lasts]))
    return made


def _taken(values: pa.ChunkedArray, rows: pa.Array, blank: Bools | None) -> pa.Array:
    """Some rows of a column, those that are to be blank as nulls."""
    found = groups.picked(values, rows)
    if blank is None or not blank.any():
        return found
    return pc.if_else(pa.array(blank), pa.scalar(None, found.type), found)


def _contradictions(events: Events, codes: Numbers, first: Numbers, last: Numbers) -> int:
    """How many events do not fit what went before them on their key.

    Only a key that is inserted after its first event, or deleted before its last, can have one; those few
    are put in order and looked at pair by pair.
    """
    inserted = np.flatnonzero(events.had == ABSENT)
    deleted = np.flatnonzero(~events.has)
    again, then = codes[inserted], codes[deleted]
    suspect = np.zeros(len(first), dtype=np.bool_)
    suspect[again[first[again] != inserted]] = True
    suspect[then[last[then] != deleted]] = True
    where = np.flatnonzero(suspect[codes])
    if len(where) == 0:
        return 0
    absent_before, present_before, present_after = 1, 2, 4
    expects = np.zeros(3, dtype=np.int8)
    expects[ABSENT], expects[PRESENT] = 1, 2
    tags = expects[events.had] | (events.has.view(np.int8) << 2)
    goes_on, tags = keys.in_order(codes, where, tags)
    left, found = (tags[:-1] & present_after) != 0, tags[1:]
    odd = np.where(left, found & absent_before, found & present_before) != 0
    return int((goes_on & odd).sum())
