"""Pairing the old and the new rows of updates that a feed writes as two."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from plainstep.core.arrays import Ints
from plainstep.core.changes import keys
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import np, npt, pa, pc


@dataclass
class Pairs:
    """Which rows belong together.

    Attributes:
        partner: for each row, the old row of its update; -1 where there is none.
        lone_old, lone_new: rows whose other half was not found.
        in_any_order: whether an old row may come after its new one.
    """

    partner: Ints
    lone_old: Ints
    lone_new: Ints
    in_any_order: bool = False


def paired(old: Ints, new: Ints, key: list[pa.Array], group: pa.Array | None) -> Pairs:
    """Find the old row of every new one.

    Mostly an old row stands right before its new one. Otherwise, of the rows of one group with one key, an old one stands
    before its new one. What is left are updates that changed the key: those of one group are paired in their order.

    Args:
        old, new: the rows of either kind, rising.
        key: the key columns of all rows.
        group: what all rows belong to: their transaction, or their position where rows share it; None if neither is known.
    """
    count = len(key[0])
    partner = np.full(count, -1, dtype=np.int64)
    if len(old) == len(new) and bool((new == old + 1).all()):
        partner[new] = old
        return Pairs(partner, old[:0], new[:0])
    codes, bound = keys.code([_without_nulls(column) for column in key])
    # Without groups, rows side by side are one: 0, 0, 1, 1, and so on from each old row that has its new one behind it.
    beside = np.zeros(count, dtype=np.int64)
    beside[old[np.isin(old + 1, new)]] = 1
    groups = np.cumsum(beside) if group is None else _coded(group)
    _match_neighbours(partner, old, new, codes if group is None else groups * bound + codes)
    left_old, left_new = _left(partner, old, new)
    if len(left_old) and len(left_new):
        _match_in_order(partner, left_old, left_new, groups)
        left_old, left_new = _left(partner, old, new)
    return Pairs(partner, left_old, left_new)


def marked(old: Ints, new: Ints, marks: dict[str, pa.Array], raw: Raw) -> Pairs:
    """Find the old row of every new one by what the two share with no other row, in whatever order they come.

    Args:
        old, new: the rows of either kind, rising.
        marks: the columns that they share, of all rows, by their names.
        raw: takes note of rows that lack them, or share them with others.
    """
    partner = np.full(len(raw), -1, dtype=np.int64)
    if not raw.bad and _alike_and_rising(old, new, marks):
        partner[new] = old
        return Pairs(partner, old[:0], new[:0], in_any_order=True)
    halves = np.concatenate((old, new))
    for name, column in marks.items():
        lacking = column.is_null().to_numpy(zero_copy_only=False)
        for row in halves[lacking[halves]].tolist():
            raw.refuse(row, f"it is half of an update, and has no value in {name}, which pairs it")
    codes, bound = keys.code([_without_nulls(column) for column in marks.values()])
    once = np.ones(bound, dtype=np.bool_)
    for rows in (old, new):
        counts = np.bincount(codes[rows], minlength=bound)
        once &= counts == 1
        for row in rows[counts[codes[rows]] > 1].tolist():  # which of them belongs to the other half is not known
            raw.refuse(row, "it is half of an update, and another such row has the same values in what pairs it")
    place = np.full(bound, -1, dtype=np.int64)
    place[codes[old]] = old
    sound = np.ones(len(raw), dtype=np.bool_)
    sound[list(raw.bad)] = False
    found = place[codes[new]]
    fits = once[codes[new]] & sound[new] & sound[np.maximum(found, 0)]
    partner[new[fits]] = found[fits]
    return Pairs(partner, *_left(partner, old, new), in_any_order=True)


def _alike_and_rising(old: Ints, new: Ints, marks: dict[str, pa.Array]) -> bool:
    """Whether old and new rows come in one order, by a number that rises: then no other row can share it with a pair."""
    [column, *others] = marks.values()
    if others or len(old) != len(new) or not pa.types.is_integer(column.type) or column.null_count:
        return False
    numbers = column.to_numpy(zero_copy_only=False)
    before = numbers[old]
    return bool((before[1:] > before[:-1]).all() and (before == numbers[new]).all())


def unpaired(found: Pairs, raw: Raw, last: bool) -> int:
    """Tell which rows of updates lack their other half; where more rows follow, it may come with them."""
    if found.in_any_order:
        lone = [row for row in np.sort(np.concatenate((found.lone_old, found.lone_new))).tolist() if row not in raw.bad]
        for row in lone if last else ():
            raw.refuse(row, "it is half of an update, and its other half is not there")
        return lone[0] if lone and not last else len(raw)
    for row in found.lone_new.tolist():
        raw.refuse(row, "it is the new row of an update, and its old row is not before it")
    if len(found.lone_old) and not last:
        return int(found.lone_old[0])
    for row in found.lone_old.tolist():
        raw.refuse(row, "it is the old row of an update, and its new row is not after it")
    return len(raw)


def shared(place: pa.Array) -> pa.Array | None:
    """What rows have in common that stand at one position, if any do. Positions are in order."""
    if len(place) < 2:
        return None
    differs = pc.not_equal(place.slice(1), place.slice(0, len(place) - 1)).to_numpy(zero_copy_only=False)
    if differs.all():
        return None
    return pa.array(np.concatenate(([0], np.cumsum(differs))))


def _coded(group: pa.Array) -> Ints:
    codes, _ = keys.code([_without_nulls(group)])
    return codes.astype(np.int64)


def _match_neighbours(partner: Ints, old: Ints, new: Ints, codes: npt.NDArray[Any]) -> None:
    """Of the old and new rows of one key, pair a new one with the old one right before it."""
    rows = np.sort(np.concatenate((old, new)))
    rows = rows[np.argsort(codes[rows], kind="stable")]
    is_new = np.isin(rows, new)
    fits = is_new[1:] & ~is_new[:-1] & (codes[rows[1:]] == codes[rows[:-1]])
    partner[rows[1:][fits]] = rows[:-1][fits]


def _match_in_order(partner: Ints, old: Ints, new: Ints, groups: npt.NDArray[Any]) -> None:
    """Pair the first old row of each group with its first new one, the second with the second, and so on."""
    waiting: dict[int, list[int]] = {}
    for row in old.tolist():
        waiting.setdefault(int(groups[row]), []).append(row)
    for row in new.tolist():
        queue = waiting.get(int(groups[row]))
        if queue and queue[0] < row:
            partner[row] = queue.pop(0)


def _left(partner: Ints, old: Ints, new: Ints) -> tuple[Ints, Ints]:
    found = partner[new]
    taken = np.zeros(len(partner), dtype=np.bool_)
    taken[found[found >= 0]] = True
    return old[~taken[old]], new[found < 0]


def _without_nulls(column: pa.Array) -> pa.Array:
    """A column with some value of it in place of its nulls: such rows are told apart elsewhere."""
    if not column.null_count:
        return column
    known = column.null_count < len(column)
    return column.fill_null(column.drop_null()[0] if known else pa.scalar(0).cast(column.type))
