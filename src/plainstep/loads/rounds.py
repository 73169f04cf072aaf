"""The edits of a window that is merged in rounds: made before anything is written, put aside, and read again while they are written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import overload

from msgspec import Struct, field

from plainstep.copying import replace
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.spread import SpreadRounds
from plainstep.deferred import pa
from plainstep.stores.spool import Kept, Shelf


def kept(rounds: Iterator[list[Edits]], sure: bool) -> list[Sequence[Edits]]:
    """What is asked of each of a shape's tables, round after round. Where there is one round, it stays as it is.

    Args:
        rounds: what each round asks of each table; at least one.
        sure: whether it is known for certain which rows are at the target.
    """
    if isinstance(rounds, SpreadRounds):
        return list(rounds.tables(sure))
    rounds = _judged(rounds, sure)
    first = next(rounds)
    second = next(rounds, None)
    if second is None:
        return [[one] for one in first]
    shelf = Shelf()
    tables = [_KeptRounds(shelf) for _ in first]
    for one in chain([first, second], rounds):
        for table, edits in zip(tables, one, strict=True):
            table.add(edits)
        first, second = [], None
    return list(tables)


def _judged(rounds: Iterator[list[Edits]], sure: bool) -> Iterator[list[Edits]]:
    for edits in rounds:
        for one in edits:
            one.strict = one.strict and sure
        yield edits


class _Round(Struct, frozen=True):
    """Edits without their rows, and these by the names of their fields."""

    bare: Edits
    tables: dict[str, Kept] = field(default_factory=dict)
    lists: dict[str, list[Kept]] = field(default_factory=dict)


class _KeptRounds(Sequence[Edits]):
    """What is asked of one table."""

    def __init__(self, shelf: Shelf) -> None:
        self._shelf = shelf
        self._rounds: list[_Round] = []

    def add(self, edits: Edits) -> None:
        """One round more."""
        tables = {name: self._shelf.put(rows) for name, rows in _tables(edits)}
        lists = {
            "patch": list(map(self._shelf.put, edits.patch)),
            "purge": list(map(self._shelf.put, edits.purge)),
            "append": [self._shelf.put(pa.Table.from_batches([batch])) for batch in edits.append],
        }
        bare = Edits(new=edits.new, clear=edits.clear, whole=edits.whole, strict=edits.strict)
        self._rounds.append(_Round(bare, tables, lists))

    def __len__(self) -> int:
        return len(self._rounds)

    @overload
    def __getitem__(self, place: int) -> Edits: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Edits]: ...
    def __getitem__(self, place: int | slice) -> Edits | Sequence[Edits]:
        if isinstance(place, slice):
            return [self._read(one) for one in self._rounds[place]]
        return self._read(self._rounds[place])

    def _read(self, one: _Round) -> Edits:
        found = replace(one.bare, **{name: self._shelf.get(rows) for name, rows in one.tables.items()})
        found.patch, found.purge = ([self._shelf.get(rows) for rows in one.lists[name]] for name in ("patch", "purge"))
        found.append = self._batches(one.lists["append"])
        return found

    def _batches(self, rows: Iterable[Kept]) -> Iterator[pa.RecordBatch]:
        for some in rows:
            yield from self._shelf.get(some).to_batches()


def _tables(edits: Edits) -> Iterator[tuple[str, pa.Table]]:
    for name in ("put", "drop", "clean", "add"):
        rows = getattr(edits, name)
        if rows is not None:
            yield name, rows
