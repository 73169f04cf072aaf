"""A shape's edits, made to a whole table: for targets that write tables whole, and as the plainest meaning of the edits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from plainstep.core.arrays import Bools, Ints, flat
from plainstep.core.changes import keys as coding
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import np, pa, pc


@dataclass
class Applied:
    """A table after edits.

    Attributes:
        rows: its rows.
        put, patch, drop, append, add: how many rows were edited in each way.
        odd: rows that were not as expected: there already, or not there.
        halves: rows that were to be patched and are not there.
    """

    rows: pa.Table
    put: int = 0
    patch: int = 0
    drop: int = 0
    append: int = 0
    add: int = 0
    odd: int = 0
    halves: int = 0


def applied(rows: pa.Table, key: Sequence[str], edits: Edits) -> Applied:
    """Make edits to a table.

    Args:
        rows: the table as it is, with the columns that it is to have.
        key: its key columns; none where rows are only appended.
        edits: what is asked of it.
    """
    done = Applied(rows.slice(0, 0) if edits.clear else rows)
    if edits.drop is not None:
        dropped = _remove(done, edits.drop)
        done.odd += edits.drop.num_rows - dropped
    if edits.put is not None:
        _put(done, key, edits.put, edits.new)
    if edits.clean is not None:
        done.odd += _remove(done, edits.clean)
    for values in edits.purge:
        _remove(done, values)
    for patch in edits.patch:
        _patch(done, key, patch)
    if edits.add is not None:
        _add(done, key, edits.add)
    for batch in edits.append:
        done.rows = _with(done.rows, pa.Table.from_batches([batch]))
        done.append += batch.num_rows
    return done


def places_of(rows: pa.Table, keys: pa.Table) -> Ints:
    """For each of some keys, which row has it; -1 where none has. A null is not a key."""
    names, count = keys.column_names, rows.num_rows
    columns = [pa.concat_arrays([flat(rows[name]), flat(keys[name]).cast(rows[name].type)]) for name in names]
    found = np.full(keys.num_rows, -1, dtype=np.int64)
    if any(column.null_count for column in columns):
        whole = np.logical_and.reduce([column.is_valid().to_numpy(zero_copy_only=False) for column in columns])
        every = np.flatnonzero(whole)
        columns = [column.take(pa.array(every)) for column in columns]
        mine = int(whole[:count].sum())
        numbers, these = every[:mine], every[mine:] - count
    else:
        mine, numbers, these = count, np.arange(count), np.arange(keys.num_rows)
    codes, bound = coding.code(columns)
    where = np.full(bound, -1, dtype=np.int64)
    where[codes[:mine]] = numbers
    found[these] = where[codes[mine:]]
    return found


def found_in(rows: pa.Table, keys: pa.Table) -> Bools:
    """For each row, whether its key is among some keys."""
    return np.asarray(places_of(keys, rows.select(keys.column_names)) >= 0) if keys.num_rows else _none(rows)


def _none(rows: pa.Table) -> Bools:
    return np.zeros(rows.num_rows, dtype=np.bool_)


def _with(rows: pa.Table, more: pa.Table) -> pa.Table:
    """Rows, and others behind them, which have null in the columns that they lack."""
    columns = [
        more[field.name].cast(field.type) if field.name in more.column_names else pa.nulls(more.num_rows, field.type)
        for field in rows.schema
    ]
    return pa.concat_tables([rows, pa.table(columns, schema=rows.schema)])


def _remove(done: Applied, keys: pa.Table) -> int:
    gone = found_in(done.rows, keys)
    done.rows = done.rows.filter(pa.array(~gone))
    done.drop += int(gone.sum())
    return int(gone.sum())


def _put(done: Applied, key: Sequence[str], rows: pa.Table, new: int) -> None:
    there = places_of(done.rows, rows.select(key)) >= 0
    done.odd += int(there[:new].sum()) + int((~there[new:]).sum())
    done.rows = _with(done.rows.filter(pa.array(~found_in(done.rows, rows.select(key)))), rows)
    done.put += rows.num_rows


def _patch(done: Applied, key: Sequence[str], patch: pa.Table) -> None:
    places = places_of(done.rows, patch.select(key))
    missing = int((places < 0).sum())
    done.odd, done.halves, done.patch = done.odd + missing, done.halves + missing, done.patch + len(places) - missing
    for name in (name for name in patch.column_names if name not in key):
        done.rows = _set(done.rows, name, places, flat(patch[name]))


def _add(done: Applied, key: Sequence[str], more: pa.Table) -> None:
    places = places_of(done.rows, more.select(key))
    for name in (name for name in more.column_names if name not in key):
        before = flat(done.rows[name]).take(pa.array(places, mask=places < 0))
        done.rows = _set(done.rows, name, places, pc.add(pc.fill_null(before, 0), flat(more[name]).cast(before.type)))
    done.rows = _with(done.rows, more.filter(pa.array(places < 0)))
    done.add += more.num_rows


def _set(rows: pa.Table, name: str, places: Ints, values: pa.Array) -> pa.Table:
    """The rows, one column of some of them with other values; a place below 0 is none."""
    field = rows.schema.field(name)
    which = np.arange(rows.num_rows)
    there = places >= 0
    which[places[there]] = rows.num_rows + np.flatnonzero(there)
    both = pa.concat_arrays([flat(rows[name]), values.cast(field.type)])
    return rows.set_column(rows.schema.get_field_index(name), field, both.take(pa.array(which)))
