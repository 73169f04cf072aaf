"""What changed between the data files of two versions of a table.

Rows that were, in files that a version removed, and rows that are now, in files that it added, are paired by key: what stands on one
side only was deleted or inserted, what stands on both and differs was updated, and all else was only copied.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from plainstep.core.arrays import Bools, Ints, flat
from plainstep.core.changes.keys import code
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, pa, pc
from plainstep.stores.lake.files import FileRows, LakeFile


def rows_of(removed: Sequence[LakeFile], added: Sequence[LakeFile], rows: FileRows) -> tuple[pa.Table, pa.Table]:
    """The rows of files that went, and of those that came. Of a file that only lost rows, or got some back, these alone."""
    gone, come = ({file.path: file for file in files} for files in (removed, added))
    old, new = [rows.schema.empty_table()], [rows.schema.empty_table()]
    for path, file in gone.items():
        if path not in come:
            old.append(rows.of(file))
            continue
        whole = rows.whole(file)
        before, after = rows.deleted(file, whole.num_rows), rows.deleted(come[path], whole.num_rows)
        old.append(whole.filter(pa.array(after & ~before)))
        new.append(whole.filter(pa.array(before & ~after)))
    new += [rows.of(file) for path, file in come.items() if path not in gone]
    return pa.concat_tables(old), pa.concat_tables(new)


def changes_of(old: pa.Table, new: pa.Table, key: Sequence[str]) -> pa.Table:
    """Rows before and after as changes: ``op``, ``was.*`` and ``now.*``; deletes, then updates, then inserts.

    Args:
        old, new: the rows, in the same columns.
        key: the columns that tell rows apart.
    """
    ours, theirs = _pairs(old, new, key)
    differs = ~_alike(old.take(pa.array(ours)), new.take(pa.array(theirs)))
    only_old = old.take(pa.array(np.setdiff1d(np.arange(old.num_rows), ours, assume_unique=True)))
    only_new = new.take(pa.array(np.setdiff1d(np.arange(new.num_rows), theirs, assume_unique=True)))
    only_old, only_new = _without_copies(only_old, only_new)
    was, now = old.take(pa.array(ours[differs])), new.take(pa.array(theirs[differs]))
    ops = [Op.DELETE] * only_old.num_rows + [Op.UPDATE] * was.num_rows + [Op.INSERT] * only_new.num_rows
    before = pa.concat_tables([only_old, was, _nulls(old.schema, only_new.num_rows)])
    after = pa.concat_tables([_nulls(new.schema, only_old.num_rows), now, only_new])
    columns: dict[str, Any] = {"op": pa.array(ops, pa.int8())}
    columns |= {WAS + name: before[name] for name in before.column_names}
    columns |= {NOW + name: after[name] for name in after.column_names}
    return pa.table(columns)


def _nulls(schema: pa.Schema, count: int) -> pa.Table:
    return pa.table({one.name: pa.nulls(count, one.type) for one in schema})


def _alike(old: pa.Table, new: pa.Table) -> Bools:
    """Which rows are the same on both sides."""
    found = np.ones(old.num_rows, dtype=np.bool_)
    for name in old.column_names:
        before, after = flat(old[name]), flat(new[name])
        same = pc.fill_null(pc.equal(_as_key(before), _as_key(after)), False)
        both = pc.equal(before.is_valid(), after.is_valid())
        found &= pc.and_(same, both).to_numpy(zero_copy_only=False)
    return found


def _pairs(old: pa.Table, new: pa.Table, key: Sequence[str]) -> tuple[Ints, Ints]:
    """The places of rows before and after that have one key, which no other row has on either side."""
    codes, whole = _codes(old, new, key)
    count = old.num_rows
    bound = int(codes.max(initial=-1)) + 1
    before, after = codes[:count], codes[count:]
    once = (np.bincount(before, minlength=bound) == 1) & (np.bincount(after, minlength=bound) == 1)
    place = np.full(bound, -1, dtype=np.int64)
    place[after] = np.arange(len(after))
    ours = np.flatnonzero(once[before] & whole[:count])
    return ours, place[before[ours]]


def _without_copies(old: pa.Table, new: pa.Table) -> tuple[pa.Table, pa.Table]:
    """Both without the rows that were only copied: as many of each as there are on both sides."""
    if not old.num_rows or not new.num_rows:
        return old, new
    codes, _ = _codes(old, new, old.column_names)
    count = old.num_rows
    bound = int(codes.max()) + 1
    before, after = codes[:count], codes[count:]
    copied = np.minimum(np.bincount(before, minlength=bound), np.bincount(after, minlength=bound))
    return old.filter(pa.array(_rank(before) >= copied[before])), new.filter(pa.array(_rank(after) >= copied[after]))


def _rank(codes: Ints) -> Ints:
    """For each row, how many before it have its code."""
    order = np.argsort(codes, kind="stable")
    arranged = codes[order]
    starts = np.flatnonzero(np.concatenate([[True], arranged[1:] != arranged[:-1]]))
    lengths = np.diff(np.concatenate([starts, [len(codes)]]))
    found = np.empty(len(codes), dtype=np.int64)
    found[order] = np.arange(len(codes)) - np.repeat(starts, lengths)
    return found


def _codes(old: pa.Table, new: pa.Table, names: Sequence[str]) -> tuple[Ints, Bools]:
    """A number for each row of both, the same for the same values; and which rows have no null among them."""
    both = pa.concat_tables([old.select(names), new.select(names)])
    columns: list[pa.Array] = []
    whole = np.ones(both.num_rows, dtype=np.bool_)
    for name in names:
        column = flat(both[name])
        if column.null_count:
            valid = column.is_valid()
            whole &= valid.to_numpy(zero_copy_only=False)
            columns.append(valid.cast(pa.int8()))
        columns.append(_as_key(column))
    codes, _ = code(columns)
    return np.asarray(codes, dtype=np.int64), whole


def _as_key(column: pa.Array) -> pa.Array:
    """A column in a type that can be a key's, with something in the place of nulls."""
    kind = column.type
    if pa.types.is_floating(kind):  # by their bits, so that what is not a number is like itself
        wide = pc.fill_null(column, 0.0).cast(pa.float64()).to_numpy(zero_copy_only=False)
        return pa.array(np.ascontiguousarray(wide).view(np.int64))
    if pa.types.is_boolean(kind):
        return pc.fill_null(column, False).cast(pa.int8())
    if pa.types.is_decimal(kind):
        return pc.fill_null(column.cast(pa.string()), "")
    if pa.types.is_temporal(kind):
        column = column.cast(pa.int32() if pa.types.is_date32(kind) else pa.int64())
        return pc.fill_null(column, 0)
    if pa.types.is_binary(kind):
        return pc.fill_null(column, b"")
    return pc.fill_null(column, "" if pa.types.is_string(kind) else 0)


def doubled(rows: pa.Table, key: Sequence[str]) -> dict[str, Any]:
    """A key that several rows have; empty if there is none. Keys with a null are another's matter."""
    codes, whole = _codes(rows, rows.slice(0, 0), key)
    counts = np.bincount(codes[whole])
    if not (counts > 1).any():
        return {}
    place = int(np.flatnonzero(whole & (codes == int(counts.argmax())))[0])
    found: dict[str, Any] = rows.select(key).slice(place, 1).to_pylist()[0]
    return found
