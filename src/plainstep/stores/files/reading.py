"""The rows of some files that lie between two positions, in order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from plainstep.core.layouts.rows import POSITION
from plainstep.deferred import pa
from plainstep.stores.files.merge_order import Chain, Stream, above, linked, merged, refuse_backwards
from plainstep.stores.files.schema import Part

if TYPE_CHECKING:
    from plainstep.stores.files.ends import KnownEnds
    from plainstep.stores.files.listing import File, Seen
    from plainstep.stores.files.merge_order import Order
    from plainstep.stores.files.schema import Shape

# A position as it is compared.
Place = tuple[Any, ...]


def rows_between(
    shape: Shape, known: KnownEnds, files: list[File], lower: Place | None, bound: Place, is_again: bool
) -> Iterator[pa.Table]:
    """The rows of several files, in which positions stand, as one stream.

    Args:
        shape: reads them.
        known: where the files begin and end.
        files: the files.
        lower: the position after which rows are wanted, or None for all.
        bound: the one up to which they are.
        is_again: whether those at the lower position are wanted, too.
    """
    order = shape.order
    assert order is not None
    chains: list[Chain] = []
    for file in files:
        ends = known.of(file)
        if ends is None:
            continue
        first, last = known.place(ends[0]), known.place(ends[1])
        if first > bound or (lower is not None and last < lower):
            continue
        whole = last <= bound and (lower is None or first > lower)
        chains.append(Chain(first, last, whole, [file]))
    streams = [Stream(one.first, _rows_of(shape, order, one, lower, bound, is_again)) for one in linked(chains)]
    yield from merged(streams, order)


def _rows_of(
    shape: Shape, order: Order, chain: Chain, lower: Place | None, bound: Place, is_again: bool
) -> Iterator[tuple[pa.Table, list[pa.Array]]]:
    """The rows of files that follow on each other, between two positions, with their positions."""
    before = None
    for table in shape.rows(Part(file, 0, 0, 0, None) for file in chain.files):
        places = table[POSITION]

        def told(row: int, places: pa.ChunkedArray = places) -> str:
            return "{file}, line {line}".format_map(places[row].as_py())

        columns = order.columns(table, told)
        refuse_backwards(columns, before, order, told)
        before = order.place(columns, table.num_rows - 1)
        place = table.schema.get_field_index(POSITION)
        table = table.set_column(place, POSITION, order.labels(columns))
        if chain.whole:
            yield table, columns
            continue
        keep = ~above(columns, bound)
        if lower is not None:
            keep &= above(columns, lower, inclusive=is_again)
        mask = pa.array(keep)
        yield table.filter(mask), [column.filter(mask) for column in columns]
        if before > bound:
            return


def unmerged_part(file: File, known: Seen | None, there: Seen) -> Part | None:
    """What of a file was not merged, where lines order its rows; None if all was.

    Args:
        file: the file, as long as it is to be read.
        known: what was merged of it, if anything was.
        there: what of it is to be read.
    """
    if is_merged(known, there.size):
        return None
    start, lines = (known.size, known.lines) if known and known.done else (0, 0)
    return Part(file, start, lines, known.lines if known and not known.done else 0, None if there.done else there.lines)


def is_merged(known: Seen | None, size: int) -> bool:
    """Whether a file was merged, as long as it is."""
    return known is not None and known.done and known.size == size
