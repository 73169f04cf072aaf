"""Collapsing what happened to keys into one row a key.

Only a key's first and last change matter for what it was and what it is (and, where a feed sends parts of
rows, the last value given of each column). So nothing is sorted: code the keys, scatter the row numbers to find
each key's first and last, take the columns once.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, partial

from plainstep.core.arrays import Bools, Codes, Numbers, flat, numbers
from plainstep.core.changes import groups, keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import ABSENT, GIVEN, KEY, PRESENT, UNKNOWN, NetChanges, surely
from plainstep.core.changes.ops import NOW, SAME, WAS, Op
from plainstep.deferred import np, npt, pa, pc
from plainstep.errors import DataError

# Columns, by their names in ``NetChanges.state``, each with what makes it.
Columns = dict[str, Callable[[], pa.Array]]


@dataclass(eq=False)
class Events:
    """Things that happened to keys, in order: changes, or net changes of earlier windows.

    An update that moves a row to another key is two events; ``row`` says which row of ``table`` each event
    stands in.
    """

    key: tuple[str, ...]
    columns: tuple[str, ...]
    key_values: list[pa.Array]
    had: npt.NDArray[np.int8]
    has: Bools
    table: pa.Table
    first_seq: npt.NDArray[np.int64]
    last_seq: npt.NDArray[np.int64]
    at: pa.Array
    row: Numbers | None = None
    count: Numbers | None = None
    fresh: Bools | None = None
    given: dict[str, Bools] = field(default_factory=dict)
    images: bool = False  # whether rows without an image must be blanked, having been split

    @staticmethod
    def of_net(net: NetChanges) -> Events:
        """The events of an earlier window: one a key."""
        state = net.state
        given = {name: net.given(name) for name in net.others} if net.partial else {}
        return Events(
            net.key,
            net.columns,
            [flat(state[KEY + name]) for name in net.key],
            numbers(state["had"]),
            numbers(state["has"]),
            state,
            numbers(state["first_seq"]),
            numbers(state["last_seq"]),
            flat(state["last_at"]),
            count=numbers(state["count"]),
            fresh=numbers(state["fresh"]),
            given=given,
        )

    def key_at(self, place: int, rows: pa.Array) -> pa.Array:
        """The values of a column of the key, in some events."""
        return self.key_values[place].take(rows)

    def had_at(self, rows: Numbers) -> Codes:
        """What some events tell of the row before them."""
        return self.had[rows]

    def has_at(self, rows: Numbers) -> Bools:
        """Whether there is a row after some events."""
        return self.has[rows]


@dataclass(eq=False)
class StraightChanges:
    """Changes whose rows stay with their keys, as events: nothing is made for each of them that is only asked of a few."""

    changes: Changes
    key: tuple[str, ...]
    images: bool
    row: Numbers | None = None

    def __post_init__(self) -> None:
        self.columns, self.table, self.ops = tuple(self.changes.columns), self.changes.table, self.changes.op()
        self.first_seq = self.last_seq = self.changes.seq()
        self.at = flat(self.table["at"])

    def key_at(self, place: int, rows: pa.Array) -> pa.Array:
        """The values of a column of the key, in some changes."""
        now = self.changes.image(NOW, self.key[place]).take(rows)
        return pc.coalesce(now, self.changes.image(WAS, self.key[place]).take(rows)) if now.null_count else now

    def had_at(self, rows: Numbers) -> Codes:
        """What some changes tell of the row before them."""
        return had_before()[self.ops[rows]]

    def has_at(self, rows: Numbers) -> Bools:
        """Whether there is a row after some changes."""
        return has_after()[self.ops[rows]]


@cache
def had_before() -> Codes:
    """For each operation, what it tells of the row before it."""
    return np.array([UNKNOWN, ABSENT, PRESENT, PRESENT, UNKNOWN, UNKNOWN], dtype=np.int8)


@cache
def has_after() -> Bools:
    """For each operation, whether there is a row after it."""
    return np.array([False, True, True, False, False, True])


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
    folded = _straight(changes, key) or fold(events_of(changes, key))
    return replace(folded, read=read, truncated=bool(len(truncates)), last_seq=last_seq)


def events_of(changes: Changes, key: tuple[str, ...]) -> Events:
    """What changes did to keys. Truncates are not for this.

    Raises:
        DataError: a value of the key is null.
    """
    ops, seq = changes.op(), changes.seq()
    old = [changes.image(WAS, name) for name in key]
    new = [changes.image(NOW, name) for name in key]
    values = keys_of(changes, key)
    events = Events(
        key,
        tuple(changes.columns),
        values,
        had_before()[ops],
        has_after()[ops],
        changes.table,
        seq,
        seq,
        flat(changes.table["at"]),
        given=given_of(changes, key),
    )
    leaving = moved(ops, old, new)
    if len(leaving):
        events = _split(events, leaving, old)
    # Some feeds fill in both sides always: old values of an insert, or new ones of a delete, belong to no row.
    if _stray(old, (ops == Op.INSERT) | (ops == Op.PUT)) or _stray(new, ops == Op.DELETE):
        events.images = True
    for name, column in zip(key, events.key_values, strict=True):
        if pa.types.is_floating(column.type) and pc.any(pc.is_nan(column)).as_py():
            raise DataError(
                f"A change has NaN in the key column {name!r}.",
                "It equals nothing, itself included, so its row could not be found again.",
            )
        if column.null_count:
            row = pc.index(column.is_null(), True).as_py()
            raise DataError(
                f"The change at position {events.first_seq[row]} has no value in the key column {name!r}.",
                "A row without a key cannot be told apart from others, so it cannot be merged.",
            )
    return events


def keys_of(changes: Changes, key: Sequence[str]) -> list[pa.Array]:
    """The key of each change, as it is after it; that of a row which goes, as it was."""
    return [pc.coalesce(changes.image(NOW, name), changes.image(WAS, name)) for name in key]


def _stray(images: list[pa.Array], rows: Bools) -> bool:
    """Whether any of the rows has an image where there should be none."""
    return bool(rows.any()) and any(
        image.null_count < len(image) and (rows & image.is_valid().to_numpy(zero_copy_only=False)).any()
        for image in images
    )


def moved(ops: Numbers, old: list[pa.Array], new: list[pa.Array]) -> Numbers:
    """Where an update changes the key."""
    found = np.zeros(len(ops), dtype=np.bool_)
    for was, now in zip(old, new, strict=True):
        if was.null_count < len(was):
            found |= surely(pc.not_equal(was, now)).to_numpy(zero_copy_only=False)
    return np.flatnonzero(found & (ops == Op.UPDATE))


def _split(events: Events, moved: Numbers, old: list[pa.Array]) -> Events:
    """An update that changes the key becomes a delete of the old key and an insert of the new one."""
    repeats = np.ones(len(events.had), dtype=np.int64)
    repeats[moved] = 2
    row = np.repeat(np.arange(len(repeats)), repeats)
    leaving = moved + np.arange(len(moved))  # where the first of each pair is now
    had, has = events.had[row], events.has[row]
    had[leaving], has[leaving] = PRESENT, False
    had[leaving + 1], has[leaving + 1] = ABSENT, True
    taken = pa.array(row)
    use_old = np.zeros(len(row), dtype=np.bool_)
    use_old[leaving] = True
    return replace(
        events,
        key_values=[
            pc.if_else(pa.array(use_old), was.take(taken), now.take(taken))
            for was, now in zip(old, events.key_values, strict=True)
        ],
        had=had,
        has=has,
        first_seq=events.first_seq[row],
        last_seq=events.last_seq[row],
        at=events.at.take(taken),
        row=row,
        given={name: mask[row] for name, mask in events.given.items()},
        images=True,
    )


def given_of(changes: Changes, key: tuple[str, ...]) -> dict[str, Bools]:
    """For each column outside the key, in which changes it was sent; empty where rows are always whole."""
    if "given" not in changes.table.column_names:
        return {}
    lists = flat(changes.table["given"])
    every = lists.is_null().to_numpy(zero_copy_only=False)
    parents = numbers(pc.list_parent_indices(lists))
    names = pc.list_flatten(lists)
    masks = {}
    for column in changes.columns:
        if column not in key:
            mask = every.copy()
            mask[parents[pc.fill_null(pc.equal(names, column), False).to_numpy(zero_copy_only=False)]] = True
            masks[column] = mask
    return masks


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
    found = groups.Groups(first[present], last[present], _count(events, codes, bound)[present], contradictions)
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
    seqs = pa.array(events.first_seq), pa.array(events.last_seq)
    columns: Columns = {KEY + name: partial(events.key_at, place, lasts) for place, name in enumerate(events.key)}
    columns |= {
        "had": lambda: pa.array(events.had_at(found.firsts)),
        "has": lambda: pa.array(events.has_at(found.lasts)),
        "fresh": lambda: pa.array(fresh),
        "count": lambda: pa.array(found.counts),
        "first_seq": lambda: seqs[0].take(firsts),
        "last_seq": lambda: seqs[1].take(lasts),
        "last_at": lambda: events.at.take(lasts),
    }
    if SAME in events.table.column_names:
        columns[SAME] = lambda: flat(events.table[SAME]).take(_rows_of(events, found.lasts))
    columns |= _old_values(events, found.firsts)
    columns |= _new_values(events, found.lasts) if new_values is None else new_values
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


def _old_values(events: Events | StraightChanges, firsts: Numbers) -> Columns:
    """The other columns as they were before each key's first event."""
    blank = events.had_at(firsts) != PRESENT if events.images else None
    return _values(events, WAS, _rows_of(events, firsts), blank)


def _new_values(events: Events | StraightChanges, lasts: Numbers) -> Columns:
    """The other columns as each key's last event has them."""
    blank = ~events.has_at(lasts) if events.images else None
    return _values(events, NOW, _rows_of(events, lasts), blank)


def _values(events: Events | StraightChanges, side: str, rows: pa.Array, blank: Bools | None) -> Columns:
    """The columns outside the key, on one side, of some rows."""
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
    found = keys.picked(values, rows)
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
