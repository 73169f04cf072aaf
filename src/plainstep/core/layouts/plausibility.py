"""Signs that a layout misreads its feed: what one change leaves, the next one of that row must find."""

from __future__ import annotations

from dataclasses import dataclass

from plainstep.core.arrays import Bools, Ints, Numbers, flat
from plainstep.core.changes import keys
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import differing, surely
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, npt, pa, pc

# So many signs may be chance; beyond, one in ten is too many.
CHANCE = 1
# So many columns are named.
NAMED = 3
# Of more changes, those of one row in so many are judged: signs are counted by tenths, and this is a third of what reading Parquet takes.
LOOKED_AT, ONE_IN = 20_000, 8
# Neighbouring keys are spread by this factor (2**64 divided by the golden ratio), so that no habit of theirs decides.
SPREAD = 0x9E3779B97F4A7C15


@dataclass
class Doubt:
    """What contradicts a layout.

    Attributes:
        what: the sign, in a line.
        likely: what may be wrong with the layout.
    """

    what: str
    likely: str


def doubt(changes: Changes, key: tuple[str, ...], whole_deletes: bool) -> Doubt | None:
    """The first sign that changes were misread, or None.

    Args:
        changes: some changes that follow on each other, with ``place``.
        key: the columns that tell rows apart.
        whole_deletes: whether deletes carry the whole old row.
    """
    truncates = np.flatnonzero(changes.op() == Op.TRUNCATE)
    if len(truncates):  # what comes after one does not follow what came before
        changes = Changes(changes.table.slice(int(truncates[-1]) + 1))
    changes = _staying(changes, key)
    values = [pc.coalesce(changes.image(NOW, name), changes.image(WAS, name)) for name in key]
    if len(changes) < 2:
        return None
    codes, bound = keys.code(values)
    if not _rising(changes):
        found = _at_one_place(changes, *_following(codes, bound))
        if found:
            return found
    some = _sample(codes)
    if some is None:
        return _of_rows(changes, key, whole_deletes, *_following(codes, bound), "") or _back_in_time(changes)
    judged = Changes(changes.table.filter(pa.array(some)))
    looked = f" of one row in {ONE_IN}"
    links = _following(codes[some], bound)
    return _of_rows(judged, key, whole_deletes, *links, looked) or _back_in_time(changes)


def _rising(changes: Changes) -> bool:
    """Whether every change has a position of its own, as far as that is seen at once."""
    places = flat(changes.table["position"])
    if not pa.types.is_integer(places.type) or places.null_count:
        return False
    return bool((np.diff(places.to_numpy()) > 0).all())


def _following(codes: Numbers, bound: int) -> tuple[Ints, Ints]:
    """The changes that follow on another one of their row, each with that one before it."""
    order = keys.by_code(codes, bound)
    follows = np.flatnonzero(codes[order[1:]] == codes[order[:-1]])
    return order[follows], order[follows + 1]


def _sample(codes: Numbers) -> Bools | None:
    """The changes of some rows, all of each; None where there are so few that every row is looked at."""
    if len(codes) <= LOOKED_AT:
        return None
    some = codes.astype(np.uint64) * np.uint64(SPREAD) < np.uint64((1 << 64) // ONE_IN)
    share = some.mean() * ONE_IN
    return some if 0.5 <= share <= 2 else None  # of few keys, hardly any or almost all may be among them


def _of_rows(
    changes: Changes, key: tuple[str, ...], whole_deletes: bool, before: Ints, after: Ints, looked: str
) -> Doubt | None:
    """The first sign that changes do not follow on each other, among some changes with all others of their rows."""
    return _broken(changes, key, before, after, whole_deletes, looked) or _out_of_turn(changes, before, after, looked)


def nothing_but_truncates(changes: int, truncates: int) -> Doubt | None:
    """Whether a window is full of truncates only: as if the code of another operation were taken for theirs."""
    if truncates < changes or not _many(truncates, truncates):
        return None
    return Doubt(
        f"All {changes:,} changes are truncates.",
        "The codes in 'truncate' may mean something else, or 'operation' may be another column.",
    )


def _staying(changes: Changes, key: tuple[str, ...]) -> Changes:
    """The changes of rows that never move to another key: of the others, what follows on what is not seen so simply."""
    moved = np.zeros(len(changes), dtype=np.bool_)
    for name in key:
        was, now = changes.image(WAS, name), changes.image(NOW, name)
        moved |= surely(pc.not_equal(was, now)).to_numpy(zero_copy_only=False)
    if not moved.any():
        return changes
    rows = pa.array(moved)
    sides = [pa.table({name: changes.image(side, name).filter(rows) for name in key}) for side in (WAS, NOW)]
    return changes.apart_from(pa.concat_tables(sides))


def _place(changes: Changes, row: int) -> str:
    return str(changes.table["position"][int(row)])


def _many(signs: int, chances: int) -> bool:
    return signs > max(CHANCE, chances // 10)


def _at_one_place(changes: Changes, before: Ints, after: Ints) -> Doubt | None:
    """Two changes of one row at one position: which came first is not known."""
    places = flat(changes.table["position"])
    same = np.asarray(pc.equal(places.take(pa.array(before)), places.take(pa.array(after))))
    if not same.any():
        return None
    row = int(after[np.flatnonzero(same)[0]])
    return Doubt(
        f"Two changes of one key stand at the position {_place(changes, row)}.",
        "Which came first is not known: add a column to 'position' that orders them, or to 'key' if these are two rows.",
    )


def _broken(
    changes: Changes, key: tuple[str, ...], before: Ints, after: Ints, whole_deletes: bool, looked: str
) -> Doubt | None:
    """Old values that are not the new ones of the change before."""
    there = {*changes.table.column_names}
    others = [name for name in changes.columns if name not in key and WAS + name in there]
    if not others or "given" in changes.table.column_names:
        return None
    ops = changes.op()
    tells = np.isin(ops, (Op.UPDATE, Op.DELETE) if whole_deletes else (Op.UPDATE,))
    linked = tells[after] & np.isin(ops[before], (Op.INSERT, Op.UPDATE))
    before, after = before[linked], after[linked]
    each = _differs(changes, others, WAS, after, NOW, before)
    broken = np.logical_or.reduce(list(each.values()))
    if not _many(int(broken.sum()), len(broken)):
        return None
    odd = {name: int(mask.sum()) for name, mask in each.items() if mask.any()}
    backwards = _differs(changes, list(odd), NOW, after, WAS, before)
    row = np.flatnonzero(broken)[0]
    swapped = all(backwards[name].sum() < count for name, count in odd.items())
    return Doubt(
        f"Of {len(broken):,} changes{looked} that follow another one of their row, {int(broken.sum()):,} do not begin with the "
        f"values that one left, in {_most(odd)}; the first is at {_place(changes, after[row])}, after "
        f"{_place(changes, before[row])}.",
        "In reverse order they would: old and new values may be swapped, or 'position' does not order the changes."
        if swapped
        else _not_of_the_row(odd, others)
        + "The columns of 'position' may not order the changes, or 'key' does not tell rows apart.",
    )


def _differs(changes: Changes, names: list[str], side: str, rows: Ints, other: str, others: Ints) -> dict[str, Bools]:
    """For each column, where its value in one image is not that in another one."""
    return {
        name: differing(
            changes.image(side, name).take(pa.array(rows)), changes.image(other, name).take(pa.array(others))
        )
        for name in names
    }


def _most(odd: dict[str, int]) -> str:
    """The columns that disagree, those that do so most often first, and how often."""
    most = sorted(odd.items(), key=lambda item: -item[1])
    more = ", ..." if len(most) > NAMED else ""
    return ", ".join(f"{name} ({count:,})" for name, count in most[:NAMED]) + more


def _not_of_the_row(odd: dict[str, int], others: list[str]) -> str:
    """Where some columns disagree and others never do, these may be the feed's own."""
    if len(odd) == len(others):
        return ""
    names = ", ".join(list(odd)[:NAMED])
    return f"Are these columns of the row ({names})? If not, name them in 'bookkeeping'. "


def _out_of_turn(changes: Changes, before: Ints, after: Ints, looked: str) -> Doubt | None:
    """Inserts of rows that are there, and changes of rows that are not."""
    ops = changes.op()
    told = np.isin(ops[before], (Op.INSERT, Op.UPDATE, Op.DELETE)) & np.isin(
        ops[after], (Op.INSERT, Op.UPDATE, Op.DELETE)
    )
    before, after = before[told], after[told]
    odd = (ops[before] == Op.DELETE) != (ops[after] == Op.INSERT)
    if not _many(int(odd.sum()), len(odd)):
        return None
    row = np.flatnonzero(odd)[0]
    first, then = Op(int(ops[before[row]])).word, Op(int(ops[after[row]])).word
    return Doubt(
        f"Of {len(odd):,} changes{looked} that follow another one of their row, {int(odd.sum()):,} cannot follow it; the first is "
        f"the {then} at {_place(changes, after[row])}, after the {first} at {_place(changes, before[row])}.",
        _likelier(ops, before, after, int(odd.sum())),
    )


def _likelier(ops: npt.NDArray[np.int8], before: Ints, after: Ints, odd: int) -> str:
    """Which two operations, taken for each other, would explain it best."""
    best, said = odd // 4 + 1, "'key' may not tell rows apart, or the columns of 'position' do not order the changes."
    for one, other in ((Op.INSERT, Op.DELETE), (Op.INSERT, Op.UPDATE), (Op.UPDATE, Op.DELETE)):
        turned = np.where(ops == one, other, np.where(ops == other, one, ops))
        left = int(((turned[before] == Op.DELETE) != (turned[after] == Op.INSERT)).sum())
        if left < best:
            best, said = left, f"The codes of {one.word} and {other.word} may be swapped."
    return said


def _back_in_time(changes: Changes) -> Doubt | None:
    """Times that fall as positions rise."""
    at = changes.table["at"].drop_null()
    if len(at) < 3:
        return None
    falls = int((np.diff(at.cast(pa.int64()).to_numpy()) < 0).sum())
    if falls * 2 <= len(at) - 1:
        return None
    return Doubt(
        f"Of {len(at):,} changes, {falls:,} are older than the change before them.",
        "The columns of 'position' may not order the changes, or 'time' is not when they were made.",
    )


def swapped(net_was: pa.Table, net_now: pa.Table, held: pa.Table, key: tuple[str, ...]) -> Doubt | None:
    """Whether updates find other old values at the target than they say.

    Args:
        net_was, net_now: what some rows were and are, by the feed.
        held: what the target holds of them.
        key: the columns that tell rows apart.
    """
    numbered = held.append_column("plainstep.row", pa.array(np.arange(held.num_rows)))
    places = net_was.select(list(key)).append_column("plainstep.at", pa.array(np.arange(net_was.num_rows)))
    joined = places.join(numbered.select([*key, "plainstep.row"]), list(key), join_type="inner")
    at, row = joined["plainstep.at"], joined["plainstep.row"]
    there = {*net_was.column_names}
    others = [name for name in held.column_names if name not in key and name in there]
    if not others or not len(at):
        return None
    found = held.take(row)
    each, after = (
        {name: differing(flat(side[name].take(at)), flat(found[name])) for name in others}
        for side in (net_was, net_now)
    )
    strange, other = (np.logical_or.reduce(list(masks.values())) for masks in (each, after))
    if strange.sum() * 2 <= len(at) or not _many(int(strange.sum()), len(at)):
        return None
    odd = {name: int(mask.sum()) for name, mask in each.items() if mask.any()}
    return Doubt(
        f"Of {len(at):,} updated rows, {int(strange.sum()):,} did not hold their old values, in {_most(odd)}.",
        "Old and new values may be swapped: most rows already hold the new values."
        if other.sum() < strange.sum()
        else _not_of_the_row(odd, others)
        + "The feed may belong to another table, or changes before these were never merged.",
    )
