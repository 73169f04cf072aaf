"""A table whose rows nobody can read, out of all changes that a feed holds of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plainstep.copying import replace
from plainstep.core.changes.ops import NOW, Op
from plainstep.core.changes.parts import Totals
from plainstep.deferred import pa
from plainstep.errors import Refused
from plainstep.loads.parted import PartedCollapser
from plainstep.stores.records import Batches, LeftOut


class Replay:
    """All changes of a feed, collapsed into the rows that they leave: in memory for no more keys than fit.

    Args:
        place: the feed's name, for messages.
        key: the columns that tell rows apart.
        schema: the table's columns.
        changes: all changes.
    """

    def __init__(self, place: str, key: Sequence[str], schema: pa.Schema, changes: Batches) -> None:
        self.place, self.key, self.schema, self.changes = place, key, schema, changes
        self._told, self._older = Totals(), 0

    def rows(self) -> Iterator[pa.RecordBatch]:
        """The rows. All changes are read before the first comes.

        Raises:
            Refused: parts of rows came, and some never came whole.
        """
        collapser = PartedCollapser(self.key)
        for changes in self.changes:
            collapser.add(changes)
        found = collapser.result()
        self._told = found.totals
        if found.partial and not found.whole:
            raise Refused(
                f"{self.place} sends parts of rows, and some rows were never sent whole.",
                "Their other values are not known.",
                "Name the table with 'rows' in the load, if it can be read.",
            )
        for net in found:
            self._older += len(net.rows(Op.UPDATE))
            rows = net.images(NOW, net.rows(Op.INSERT, Op.UPDATE, Op.PUT)).select(self.schema.names)
            yield from rows.cast(self.schema).to_batches()

    def left_out(self) -> LeftOut:
        """What the reading left out, and how many changes there were; once all rows are read."""
        told = self._told
        return replace(self.changes.left_out(), rows=told.read, contradictions=told.contradictions, older=self._older)
