"""Where the changes of a window stand, by their sequence: a source may count them anew in every window."""

from __future__ import annotations

from collections.abc import Sequence

from plainstep.core.arrays import Ints, flat
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import differing
from plainstep.core.position_labels import number
from plainstep.deferred import np, pa, pc
from plainstep.properties import cached_property


class PositionIndex:
    """What is known of the positions of a window's changes.

    Batches that have a column ``position`` (an integer, or a text) say in it where each change stands; several that follow
    each other may share one. Without it, a change's sequence is its position.
    """

    def __init__(self) -> None:
        self._starts: list[Ints] = []
        self._places: list[pa.Array] = []

    @staticmethod
    def joined(parts: Sequence[PositionIndex]) -> PositionIndex:
        """What is known of windows that follow each other, whose sequences do, too."""
        found = PositionIndex()
        for one in parts:
            found._starts += one._starts
            found._places += one._places
        return found

    def add(self, changes: Changes) -> None:
        """Take in the next batch, in reading order."""
        if "position" not in changes.table.column_names or not len(changes):
            return
        places = flat(changes.table["position"])
        begins = np.ones(len(places), dtype=np.bool_)
        begins[1:] = differing(places.slice(1), places.slice(0, len(places) - 1))
        begins[0] = not self._places or self._places[-1][-1] != places[0]
        if begins.any():
            self._starts.append(changes.seq()[begins])
            self._places.append(places.filter(pa.array(begins)))

    @cached_property
    def _runs(self) -> tuple[Ints, pa.Array]:
        """The sequences at which each new place begins, and the places."""
        return np.concatenate(self._starts), pa.concat_arrays(self._places)

    @cached_property
    def _rising(self) -> Ints:
        """The places as numbers that never fall: where some texts look like numbers and these would fall, all are 0."""
        found = _numbers(self._runs[1])
        return found if (np.diff(found) >= 0).all() else np.zeros(len(found), dtype=np.int64)

    def positions(self, seq: Ints) -> Ints:
        """The positions of some changes, as numbers that never fall as changes go on."""
        if not self._places:
            return seq
        return self._rising[np.searchsorted(self._runs[0], seq, "right") - 1]

    def labels(self, seq: Ints) -> list[str]:
        """A text for each of some changes that no other change of the source has, and that is the same at every reading."""
        if not self._places:
            return [str(one) for one in seq.tolist()]
        starts, places = self._runs
        run = np.searchsorted(starts, seq, "right") - 1
        found = places.take(pa.array(run)).to_pylist()
        return [
            f"{place}.{behind}" if behind else str(place)
            for place, behind in zip(found, (seq - starts[run]).tolist(), strict=True)
        ]


def _numbers(places: pa.Array) -> Ints:
    """Places as numbers."""
    if pa.types.is_integer(places.type):
        found: Ints = places.to_numpy(zero_copy_only=False)
        return found
    known = pc.dictionary_encode(places)
    values = np.array([number(label) for label in known.dictionary.to_pylist()], dtype=np.int64)
    indices = known.indices.to_numpy(zero_copy_only=False)
    return values[indices] if len(values) else np.zeros(0, dtype=np.int64)
