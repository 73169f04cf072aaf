"""The rows of a folder between two positions, in pieces that several machines read at once: some files each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from plainstep.core.changes.cutting import spread
from plainstep.stores.files.listing import File, packed, unpacked

# Two positions of a feed; see ``plainstep.stores.feed.HasPieces``.
Piece = tuple[str | None, str]
Place = tuple[Any, ...]


def by_file(files: Sequence[File], after: str | None, upto: str, most: int) -> list[Piece]:
    """Pieces of files whose rows stand in the order of their names: what comes before is told to be merged.

    Args:
        files: those that are there.
        after, upto: the two positions.
        most: how many pieces there may be.
    """
    begin, known = unpacked(after or "")
    last, there = unpacked(upto)
    found = list[Piece]()
    names = [file.name for file in files if file.name in there]
    for some in spread(names, most) if names else ():
        here = {name: there[name] for name in some}
        end = last if some[-1] == names[-1] else f"{some[-1]}:end"
        found.append((packed(begin, known) if begin else None, packed(end, known | here)))
        begin, known = end, known | here
    return found


def by_position(
    files: Sequence[File],
    after: str | None,
    upto: str,
    most: int,
    ends_of: Callable[[File], tuple[str, str] | None],
    place: Callable[[str], Place],
) -> list[Piece]:
    """Pieces of files with positions in their rows: each lies between all positions of the ones beside it, and names its own files only.

    Args:
        files, after, upto, most: as for ``by_file``.
        ends_of: tells the first and the last position of a file; None where it has no row.
        place: tells where a position stands.
    """
    begin, before = unpacked(after or "")
    last, there = unpacked(upto)
    known = [(file, ends) for file in files if file.name in there and (ends := ends_of(file))]
    found = list[Piece]()
    groups = _apart(
        [(place(first), place(end), file, end) for file, (first, end) in known], place(begin) if begin else None
    )
    for some in spread(groups, most) if groups else ():
        inside = [one for group in some for one in group]
        end = max(inside, key=lambda one: one[1])[3]
        end = last if place(end) > place(last) else end
        here = {file.name: there[file.name] for _, _, file, _ in inside}
        found.append((packed(begin, before) if begin else None, packed(end, here)))
        begin = end
    return found


_Ends = tuple[Place, Place, File, str]


def _apart(files: list[_Ends], begin: Place | None) -> list[list[_Ends]]:
    """Files in groups, in order, no two of which have positions between each other's; none that ends where it is begun, or before."""
    found, upto = list[list[_Ends]](), None
    for one in sorted((one for one in files if begin is None or one[1] > begin), key=lambda one: one[:2]):
        if upto is None or one[0] > upto:
            found.append([])
            upto = one[1]
        found[-1].append(one)
        upto = max(upto, one[1])
    return found
