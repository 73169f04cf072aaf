"""What a shape asks of a target. Imports nothing heavy."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from plainstep.deferred import pa


@dataclass(eq=False)
class Edits:
    """What a shape asks of a target. All tables bear the target's own column names.

    Attributes:
        put: whole rows, by key. Replaces the row with that key, or adds it.
        new: how many of the rows in ``put``, from the first, should not be at the target yet.
        patch: rows of the key and some columns each. Sets those columns; the row must be there.
        drop: keys. Removes their rows.
        clean: keys whose rows came and went. Whatever is left of them is removed.
        purge: values of some columns each. Removes every row that holds them, by whatever columns are named.
        append: batches of whole rows, added without looking for their keys. May be a stream.
        add: rows of the key and numbers. Adds the numbers to the row's; a missing row starts from zero.
        clear: whether every row goes first (a truncate).
        whole: whether a patch of a row that is not there is refused: it is a part of a row that nobody has.
        strict: whether the feed says for certain which rows are there, so that a row that is not where it
            should be is a contradiction.
    """

    put: pa.Table | None = None
    new: int = 0
    patch: list[pa.Table] = field(default_factory=list)
    drop: pa.Table | None = None
    clean: pa.Table | None = None
    purge: list[pa.Table] = field(default_factory=list)
    append: Iterable[pa.RecordBatch] = ()
    add: pa.Table | None = None
    clear: bool = False
    whole: bool = True
    strict: bool = True
