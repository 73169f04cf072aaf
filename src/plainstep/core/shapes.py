"""Shapes: what net changes become downstream, said in five primitives that every target knows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from plainstep.core.changes import numbers
from plainstep.core.net import ABSENT, NOTHING, NetChanges
from plainstep.core.words import NOW, Op


@dataclass(eq=False)
class Edits:
    """What a shape asks of a target. All tables bear the target's own column names.

    Attributes:
        put: whole rows, by key. Replaces the row with that key, or adds it.
        new: how many of the rows in ``put``, from the first, should not be at the target yet.
        patch: rows of the key and some columns each. Sets those columns; the row must be there.
        drop: keys. Removes their rows.
        append: batches of whole rows, added without looking for their keys. May be a stream.
        add: rows of the key and numbers. Adds the numbers to the row's; a missing row starts from zero.
        clear: whether every row goes first (a truncate).
        sure: whether the feed says for certain which rows are there, so that a row that is not where it
            should be is a contradiction.
    """

    put: pa.Table | None = None
    new: int = 0
    patch: list[pa.Table] = field(default_factory=list)
    drop: pa.Table | None = None
    append: Iterable[pa.RecordBatch] = ()
    add: pa.Table | None = None
    clear: bool = False
    sure: bool = True


def mirror(net: NetChanges, deletes: str = "drop", own_capture: bool = True) -> Edits:
    """A copy of the source: every row as it stands.

    Args:
        net: the net changes.
        deletes: ``drop`` removes the row at the target, ``ignore`` leaves it.
        own_capture: whether the feed is Plain Step's own capture, which is known to be complete. From any
            other feed, a row that came and went within the window is dropped as well: dropping what is not
            there costs little, and a row left behind is a lie.
    """
    inserted, known = net.rows(Op.INSERT), net.rows(Op.UPDATE, Op.PUT)
    patch: list[pa.Table] = []
    if net.partial:
        known, patch = _parts(net, known)
    puts = pa.concat_arrays([inserted, known])
    edits = Edits(put=net.images(NOW, puts), new=len(inserted), patch=patch)
    edits.sure = deletes == "drop" and Op.PUT not in net.ops
    if deletes == "drop":
        gone = net.ops == Op.DELETE
        if not own_capture:
            came_and_went = (numbers(net.state["had"]) == ABSENT) & ~numbers(net.state["has"])
            gone |= (net.ops == NOTHING) & came_and_went
        edits.drop = net.keys_of(pa.array(np.flatnonzero(gone)))
        edits.clear = net.truncated
    return edits


def _parts(net: NetChanges, rows: pa.Array) -> tuple[pa.Array, list[pa.Table]]:
    """The rows that are whole, and a patch for each set of columns that others carry."""
    places = numbers(rows)
    given = np.stack([net.given(name)[places] for name in net.others], axis=1)
    whole = given.all(axis=1)
    patches = []
    for pattern in np.unique(given[~whole], axis=0):
        same = pa.array(places[(given == pattern).all(axis=1)])
        images = net.images(NOW, same)
        sent = [name for name, carried in zip(net.others, pattern, strict=True) if carried]
        patches.append(images.select([*net.key, *sent]))
    return pa.array(places[whole]), patches
