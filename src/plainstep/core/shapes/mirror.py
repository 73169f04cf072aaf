"""A mirror: a copy of the source, every row as it stands."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from plainstep.core.arrays import flat, numbers, utc_time
from plainstep.core.changes.net import NOTHING, NetChanges
from plainstep.core.changes.ops import ABSENT, NOW, Op
from plainstep.core.shapes.base import (
    StepContext,
    TargetReader,
    TargetTable,
    WindowParts,
    extended,
    half_rows,
    with_columns,
)
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import np, npt, pa, pc

STEPPED_AT, STEP_NUMBER, REMOVED_AT = "stepped_at", "step_number", "removed_at"
OPERATIONS = ("insert", "update", "delete")


def added_by(deletes: str, stamp: bool) -> dict[str, pa.DataType]:
    """The columns that a mirror has beside the source's."""
    flags = {REMOVED_AT: utc_time()} if deletes == "flag" else {}
    return flags | ({STEPPED_AT: utc_time(), STEP_NUMBER: pa.int64()} if stamp else {})


@dataclass(frozen=True)
class Mirror:
    """A copy of the source.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        deletes: ``drop`` removes the row at the target, ``flag`` gives it a time of removal, ``ignore`` leaves it.
        operations: which operations are merged; others are left out.
        stamp: whether each row tells when and by which step it was last written.
        is_managed: whether the feed is Plain Step's own capture, which is known to be complete. From any
            other feed, a row that came and went within the window is dropped as well: dropping what is not
            there costs little, and a row left behind is a lie.
    """

    schema: pa.Schema
    key: tuple[str, ...]
    deletes: str = "drop"
    operations: tuple[str, ...] = OPERATIONS
    stamp: bool = False
    is_managed: bool = True

    every_change = False
    old_values = False
    placed = False
    by_key = True
    keeps_rows = True

    @property
    def gone(self) -> str:
        """A row that was removed tells when."""
        return REMOVED_AT if self.deletes == "flag" else ""

    @staticmethod
    def names_of(column: str) -> list[str]:
        """The same."""
        return [column]

    @property
    def _added(self) -> dict[str, pa.DataType]:
        return added_by(self.deletes, self.stamp)

    def tables(self) -> list[TargetTable]:
        """The copy."""
        return [TargetTable("", with_columns(self.schema, "the load", self._added), self.key)]

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """Every row."""
        extra = self._values(now)
        if not extra:
            return [Edits(append=rows)]
        return [
            Edits(
                append=(part for some in rows for part in extended(pa.Table.from_batches([some]), extra).to_batches())
            )
        ]

    def _values(self, now: StepContext, removed: Any = None) -> dict[str, tuple[object, pa.DataType]]:
        values = {REMOVED_AT: removed, STEPPED_AT: now.at, STEP_NUMBER: now.step}
        return {name: (values[name], kind) for name, kind in self._added.items()}

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """Rows put as they are now, rows dropped or flagged."""
        return found.by_key(lambda part, mine: self._edits(part.net, now, mine), held)

    def _edits(self, net: NetChanges, now: StepContext, held: TargetReader) -> list[Edits]:
        inserted, known = self._puts(net, held)
        patch: list[pa.Table] = []
        if net.partial:
            known, patch = _parts(net, known)
            _refuse_halves(net, numbers(inserted))
        extra = self._values(now)
        puts = extended(net.images(NOW, pa.concat_arrays([inserted, known])), extra)
        edits = Edits(put=puts, new=len(inserted), patch=[extended(part, extra) for part in patch])
        edits.strict = self.deletes == "drop" and set(self.operations) == set(OPERATIONS) and Op.PUT not in net.ops
        if "delete" in self.operations:
            self._leave(edits, net, now, held)
        return [edits]

    def _puts(self, net: NetChanges, held: TargetReader) -> tuple[pa.Array, pa.Array]:
        """The rows that should be new, and those that may be there."""
        inserted, known = net.rows(Op.INSERT), net.rows(Op.UPDATE, Op.PUT)
        if "update" not in self.operations:
            inserted, known = net.rows(Op.INSERT, Op.PUT), known.slice(0, 0)
        if "insert" not in self.operations:
            inserted = inserted.slice(0, 0)
        if set(OPERATIONS[:2]) <= set(self.operations):
            return inserted, known
        # Whether a row is at the target decides what it is there: new, or changed.
        return self._of(net, inserted, held, there=False), self._of(net, known, held, there=True)

    def _of(self, net: NetChanges, rows: pa.Array, held: TargetReader, there: bool) -> pa.Array:
        """Those of some keys that are, or are not, at the target."""
        keys = net.keys_of(rows)
        found = held.rows("", keys.column_names, keys).cast(keys.schema)
        numbered = keys.append_column("plainstep.row", rows)
        kind = "left semi" if there else "left anti"
        picked = numbered.join(found, keys.column_names, join_type=kind)["plainstep.row"]
        return pa.array(np.sort(picked.to_numpy()), pa.int64())

    def _leave(self, edits: Edits, net: NetChanges, now: StepContext, held: TargetReader) -> None:
        """Add what deletes ask for."""
        rows = net.rows(Op.DELETE)
        gone = net.keys_of(rows)
        if self.deletes == "flag":
            edits.whole = bool(edits.patch)
            edits.patch += [part for part in self._flags(net, rows, gone, now, held) if part.num_rows]
        elif self.deletes == "drop":
            edits.drop = gone
            if not self.is_managed:
                came_and_went = (numbers(net.state["had"]) == ABSENT) & ~numbers(net.state["has"])
                edits.clean = net.keys_of(pa.array(np.flatnonzero((net.ops == NOTHING) & came_and_went)))
            edits.clear = net.truncated

    def _flags(
        self, net: NetChanges, rows: pa.Array, gone: pa.Table, now: StepContext, held: TargetReader
    ) -> Iterator[pa.Table]:
        """Rows that went, with the time at which they went."""
        times = pc.coalesce(flat(net.state["last_at"]).take(rows), pa.scalar(now.at, utc_time()))
        stamp = {name: value for name, value in self._values(now).items() if name != REMOVED_AT}
        yield extended(gone.append_column(REMOVED_AT, times), stamp)
        if net.truncated:  # rows that were flagged before keep their time
            standing = held.rows("", net.key, where_null=REMOVED_AT).cast(gone.schema)
            back = net.keys_of(net.rows(Op.INSERT, Op.UPDATE, Op.PUT))
            rest = standing.join(back, list(net.key), join_type="left anti")
            yield extended(rest, self._values(now, now.changed_at or now.at))

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """Every row that is not flagged."""
        return held.stream("", self.schema, self.gone)


def merged(differences: NetChanges) -> Edits:
    """Edits that make one table like another: rows put as they should be, and rows dropped."""
    inserted = differences.rows(Op.INSERT)
    puts = pa.concat_arrays([inserted, differences.rows(Op.UPDATE)])
    drop = differences.keys_of(differences.rows(Op.DELETE))
    return Edits(put=differences.images(NOW, puts), new=len(inserted), drop=drop, strict=False)


def _refuse_halves(net: NetChanges, inserted: npt.NDArray[np.int64]) -> None:
    """Refuse new rows of which a part was not sent: the target has nothing to fill them up with."""
    halves = sum(~net.given(name)[inserted] for name in net.others)
    count = int(np.count_nonzero(halves))
    if count:
        raise half_rows(count)


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
