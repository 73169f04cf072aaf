"""Guessing a layout from some rows: what orders them, what tells the operation, where old and new values lie.

Nothing here is certain but what the rows show. Every guess says why it was made, so that a person can fix it.
"""

from __future__ import annotations

from plainstep.core.layouts.inference.absent import find_missing_field
from plainstep.core.layouts.inference.columns import find_bookkeeping, find_deleted, find_key, find_lookup, find_sent
from plainstep.core.layouts.inference.encoded import find_encodings
from plainstep.core.layouts.inference.images import find_sides, inside
from plainstep.core.layouts.inference.messages import find_records, without_heartbeats
from plainstep.core.layouts.inference.operations import find_by_images, find_meanings, find_operation
from plainstep.core.layouts.inference.order import find_position, find_time
from plainstep.core.layouts.inference.pairs import find_pairs
from plainstep.core.layouts.inference.patches import find_patches
from plainstep.core.layouts.inference.periods import find_periods
from plainstep.core.layouts.inference.sample import Sample
from plainstep.core.layouts.proposal import Proposal
from plainstep.deferred import pa


def guess(rows: pa.Table, fields: dict[str, pa.DataType], ordered: bool, key: tuple[str, ...] = ()) -> Proposal:
    """Propose a layout.

    Args:
        rows: some rows, as they stand in their table or file.
        fields: what they are made of, by path.
        ordered: whether their order is a position of its own, as in files.
        key: the columns that tell rows apart, where somebody said so.
    """
    seen = Proposal()
    whole = Sample(rows, fields)
    if not ordered and find_periods(whole, seen, key):
        return seen
    messages = without_heartbeats(whole, seen)
    found = find_records(messages, seen, key)
    operation = find_operation(found, seen)
    patches = find_patches(found, seen, operation, key)
    sides = ("", f"{patches[0]}.*") if patches else find_sides(found, seen)
    find_encodings(found, seen, sides)
    if seen.value("now") == f"{seen.value('each')}.*":
        seen.confirm("now", "the values of records lie there")
    position = find_position(messages, seen, ordered, {operation, seen.value("each"), *inside(messages, sides)})
    own = [path for path in found.fields if path not in {operation, *position} and not _lies_in(path, patches[1:])]
    find_time(found, seen, own)
    find_deleted(found, seen, own)
    sent = find_sent(found, seen, own)
    aside = find_bookkeeping(found, seen, sides, [path for path in own if path != seen.value("time")])
    find_key(found, seen, sides, {operation, *position, *sent, *aside, seen.value("time"), seen.value("deleted")}, key)
    if operation:
        find_meanings(found, seen, operation, sides)
        find_pairs(found, seen, operation, sides)
    elif "" not in sides and "*" not in sides:
        find_by_images(found, seen, sides)
    if not patches:  # there, what is not in a document is null, and what a patch does not name stays
        find_missing_field(found, seen, operation, sides)
    find_lookup(found, seen, {operation, *position, *aside, seen.value("time"), seen.value("deleted")})
    return seen


def _lies_in(path: str, places: tuple[str, ...]) -> bool:
    return any(path == one or path.startswith(f"{one}.") for one in places)
