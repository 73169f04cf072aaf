"""Shapes: what net changes become downstream, said in the five kinds of edits that every target knows."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from plainstep.core.changes import numbers
from plainstep.core.edits import Edits
from plainstep.core.net import ABSENT, NOTHING, NetChanges
from plainstep.core.words import NOW, Op
from plainstep.errors import Refused


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
        _refuse_halves(net, numbers(inserted))
    puts = pa.concat_arrays([inserted, known])
    edits = Edits(put=net.images(NOW, puts), new=len(inserted), patch=patch)
    edits.sure = deletes == "drop" and Op.PUT not in net.ops
    if deletes == "drop":
        edits.drop = net.keys_of(net.rows(Op.DELETE))
        if not own_capture:
            came_and_went = (numbers(net.state["had"]) == ABSENT) & ~numbers(net.state["has"])
            edits.clean = net.keys_of(pa.array(np.flatnonzero((net.ops == NOTHING) & came_and_went)))
        edits.clear = net.truncated
    return edits


def _refuse_halves(net: NetChanges, inserted: npt.NDArray[np.int64]) -> None:
    """Refuse new rows of which a part was not sent: the target has nothing to fill them up with."""
    halves = sum(~net.given(name)[inserted] for name in net.others)
    count = int(np.count_nonzero(halves))
    if count:
        raise Refused(
            f"Rows came under a key that is new, and some of their values were not sent: {count:,}.",
            "Half a row is never inserted. (PostgreSQL's log leaves out large values that did not change.)",
            "plainstep reload LOAD mends it; ALTER TABLE ... REPLICA IDENTITY FULL keeps it from happening.",
        )


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
