"""What happened to keys, in order: changes, or net changes of earlier windows, as collapsing takes them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cache

from plainstep.core.arrays import Bools, Codes, Numbers, flat, numbers
from plainstep.core.changes import groups
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import KEY, NetChanges, surely
from plainstep.core.changes.ops import ABSENT, NOW, PRESENT, UNKNOWN, WAS, Op
from plainstep.deferred import np, npt, pa, pc
from plainstep.errors import DataError


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

    def first_seqs(self, rows: pa.Array) -> pa.Array:
        """The first positions of some events."""
        return groups.picked(pa.array(self.first_seq), rows)

    def last_seqs(self, rows: pa.Array) -> pa.Array:
        """The last positions of some events."""
        return groups.picked(pa.array(self.last_seq), rows)


@dataclass(eq=False)
class StraightChanges:
    """Changes whose rows stay with their keys, as events: nothing is made for each of them that is only asked of a few."""

    changes: Changes
    key: tuple[str, ...]
    images: bool
    row: Numbers | None = None

    def __post_init__(self) -> None:
        self.columns, self.table = tuple(self.changes.columns), self.changes.table
        self.at = flat(self.table["at"])

    def key_at(self, place: int, rows: pa.Array) -> pa.Array:
        """The values of a column of the key, in some changes."""
        now, was = (self.changes.image(side, self.key[place]) for side in (NOW, WAS))
        return groups.picked(now, rows, was)

    def first_seqs(self, rows: pa.Array) -> pa.Array:
        """The positions of some changes, in any order."""
        return groups.seqs_at(self.changes.seq(), rows)

    def last_seqs(self, rows: pa.Array) -> pa.Array:
        """The same, of changes in their order."""
        return groups.picked(pa.array(self.changes.seq()), rows)


@cache
def had_before() -> Codes:
    """For each operation, what it tells of the row before it."""
    return np.array([UNKNOWN, ABSENT, PRESENT, PRESENT, UNKNOWN, UNKNOWN], dtype=np.int8)


@cache
def has_after() -> Bools:
    """For each operation, whether there is a row after it."""
    return np.array([False, True, True, False, False, True])


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
