"""Pairing the old and the new rows of updates that a feed writes as two."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plainstep.core import keys

Rows = npt.NDArray[np.int64]


@dataclass
class Pairs:
    """Which rows belong together.

    Attributes:
        partner: for each row, the old row of its update; -1 where there is none.
        lone_old, lone_new: rows whose other half was not found.
    """

    partner: Rows
    lone_old: Rows
    lone_new: Rows


def paired(old: Rows, new: Rows, key: list[pa.Array], group: pa.Array) -> Pairs:
    """Find the old row of every new one.

    Mostly an old row stands right before its new one. Otherwise rows of one group (a transaction, or a position) are
    paired by key, in their order; and what is left of a group, where updates changed the key, by order alone.

    Args:
        old, new: the rows of either kind, rising.
        key: the key columns of all rows.
        group: what all rows belong to.
    """
    partner = np.full(len(group), -1, dtype=np.int64)
    if len(old) == len(new) and bool((new == old + 1).all()):
        partner[new] = old
        return Pairs(partner, old[:0], new[:0])
    groups, _ = keys.code([group.fill_null("")])
    codes, bound = keys.code([column.fill_null(_filler(column)) if column.null_count else column for column in key])
    ties = groups.astype(np.int64) * bound + codes
    _match(partner, old, new, ties, groups)
    left_old, left_new = _left(partner, old, new)
    if len(left_old) and len(left_new):
        _match(partner, left_old, left_new, groups.astype(np.int64), groups)
        left_old, left_new = _left(partner, old, new)
    return Pairs(partner, left_old, left_new)


def _match(partner: Rows, old: Rows, new: Rows, ties: Rows, groups: Rows) -> None:
    """Pair the first old row of each tie with the first new one, the second with the second, and so on."""
    old_rank, new_rank = _ranked(ties[old]), _ranked(ties[new])
    known = dict(zip(zip(ties[old].tolist(), old_rank, strict=True), old.tolist(), strict=True))
    for row, tie, rank in zip(new.tolist(), ties[new].tolist(), new_rank, strict=True):
        found = known.get((tie, rank))
        if found is not None and found < row:
            partner[row] = found


def _ranked(ties: Rows) -> list[int]:
    """For each element, how many equal ones come before it."""
    order = np.argsort(ties, kind="stable")
    sorted_ties = ties[order]
    starts = np.concatenate(([True], sorted_ties[1:] != sorted_ties[:-1])) if len(ties) else np.zeros(0, dtype=bool)
    begin = np.maximum.accumulate(np.where(starts, np.arange(len(ties)), 0))
    ranks = np.empty(len(ties), dtype=np.int64)
    ranks[order] = np.arange(len(ties)) - begin
    return [int(rank) for rank in ranks]


def _left(partner: Rows, old: Rows, new: Rows) -> tuple[Rows, Rows]:
    taken = partner[new]
    return np.setdiff1d(old, taken[taken >= 0]), new[taken < 0]


def _filler(column: pa.Array) -> pa.Scalar:
    """Some value of a column, in place of its nulls: such rows are told apart elsewhere."""
    return column.drop_null()[0] if column.null_count < len(column) else pa.scalar(0).cast(column.type)
