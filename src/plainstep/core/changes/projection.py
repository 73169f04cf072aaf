"""What of a table's rows a load takes: which rows, which columns, under which names, and what is computed from them.

A row that leaves the filter is a delete downstream, one that enters it an insert with its whole row; what happens to a
row outside is nothing. Where old values are not told, nobody knows whether a row was inside before: then a row inside is
put, and one outside is taken out if it is there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from plainstep.core.arrays import Bools, flat, numbers
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.deferred import np, npt, pa, pc
from plainstep.errors import ConfigError, Refused
from plainstep.properties import cached_property
from plainstep.sql.expressions import computed, typed

IN = "plainstep.in"


def renamed(names: Sequence[str], columns: Mapping[str, str]) -> tuple[str, ...]:
    """Columns under the names under which they are taken.

    Args:
        names: their own names.
        columns: the columns that are taken, as new name and own name; those that are not named here keep their names.
    """
    new_names = {old: new for new, old in reversed([*columns.items()])}  # of one that is taken twice, the first
    return tuple(new_names.get(name, name) for name in names)


@dataclass(frozen=True)
class RowScope:
    """What of a table's rows a load takes.

    Attributes:
        load: the load's name, for messages.
        whole: the table's columns.
        key: its key.
        where: a condition in SQL on the row; empty for all rows.
        columns: the columns that are taken, as new name and own name; empty for all.
        derive: further columns, as SQL over the row.
    """

    load: str
    whole: pa.Schema
    key: tuple[str, ...]
    where: str = ""
    columns: dict[str, str] = field(default_factory=dict)
    derive: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        unknown = [name for name in self.columns.values() if name not in self.whole.names]
        place = f"[loads.{self.load}]"
        if unknown:
            raise ConfigError(
                f"columns in {place} names {unknown[0]!r}, which the source does not have.",
                f"Its columns: {', '.join(self.whole.names)}.",
            )
        lost = [name for name in self.key if name not in self.names.values()]
        if lost:
            raise ConfigError(
                f"columns in {place} leaves out {lost[0]!r}, which is part of the key.",
                "Without it, rows could not be told apart.",
                f"Add {lost[0]!r} to columns.",
            )
        doubled = [name for name in self.derive if name in self.names]
        if doubled:
            raise ConfigError(f"derive in {place} makes {doubled[0]!r}, and there is such a column already.")
        if self.where:
            found = typed({"": self.where}, self.whole, "where").field(0).type
            if not pa.types.is_boolean(found):
                raise ConfigError(f"where = {self.where!r} gives {found}, not true or false.")
        _ = self.schema

    @cached_property
    def names(self) -> dict[str, str]:
        """The columns that are taken: new name and own name."""
        return self.columns or {name: name for name in self.whole.names}

    @cached_property
    def schema(self) -> pa.Schema:
        """The columns of what is taken."""
        own = [self.whole.field(old).with_name(new) for new, old in self.names.items()]
        return pa.schema([*own, *typed(self.derive, self.whole, "derive")])

    @cached_property
    def new_key(self) -> tuple[str, ...]:
        """The key, under its new names."""
        return renamed(self.key, self.columns)

    def rows(self, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        """What is taken of some rows."""
        for batch in batches:
            whole = pa.Table.from_batches([batch])
            found = self._computed(whole)
            taken = pa.table(
                [*(whole[old] for old in self.names.values()), *found.columns[: len(self.derive)]], schema=self.schema
            )
            yield from (taken.filter(found[IN]) if self.where else taken).combine_chunks().to_batches()

    def _computed(self, rows: pa.Table) -> pa.Table:
        """The derived columns of some rows, and whether each is taken."""
        condition = {IN: f"coalesce(({self.where}), false)"} if self.where else {}
        plain = rows.replace_schema_metadata(None)
        return computed(plain, self.derive | condition) if self.derive or condition else pa.table({})

    def of(self, changes: Changes, told: bool) -> Changes:
        """What is taken of some changes.

        Args:
            changes: a batch.
            told: whether old values are told.

        Raises:
            Refused: a value that the filter or a derived column needs was not sent.
        """
        ops = changes.op().copy()
        images = {NOW: self._image(changes, NOW, told)}
        if told:
            images[WAS] = self._image(changes, WAS, told)
        keep = np.ones(len(changes), dtype=np.bool_)
        if self.where:
            ops, keep = _judged(ops, numbers(images[NOW][IN]), numbers(images[WAS][IN]) if told else None)
        columns = {name: changes.table[name] for name in changes.table.column_names if not name.startswith((WAS, NOW))}
        columns["op"] = pa.array(ops)
        absent = {WAS: np.isin(ops, [Op.INSERT, Op.PUT]), NOW: ops == Op.DELETE}
        for new, old in zip(self.new_key, self.key, strict=True):  # a feed may tell a row's key on one side only
            key = pc.if_else(pa.array(absent[NOW]), changes.image(NOW, old), None)
            columns[WAS + new] = pc.coalesce(changes.image(WAS, old), key)
        for side in (WAS, NOW):
            for new, values in self._values(changes, side, images.get(side)).items():
                columns[side + new] = _without(columns.get(side + new, values), absent[side])
        if "given" in columns:
            columns["given"] = self._given(flat(columns["given"]))
        table = pa.table(columns)
        return Changes(table if keep.all() else table.filter(pa.array(keep)))

    def _values(self, changes: Changes, side: str, image: pa.Table | None) -> dict[str, pa.Array]:
        """One side's columns under their new names; of old values, only those that are told."""
        found = {
            new: flat(changes.table[side + old])
            for new, old in self.names.items()
            if side + old in changes.table.column_names
        }
        if image is not None:
            found |= {name: flat(image[name]) for name in self.derive}
        return found

    def _image(self, changes: Changes, side: str, told: bool) -> pa.Table:
        """What is computed from the rows on one side."""
        if not self.where and not self.derive:
            return pa.table({})
        rows = {name: changes.image(side, name) for name in self.whole.names}
        if side == NOW and "given" in changes.table.column_names:
            rows = self._filled(changes, rows, told)
        return self._computed(pa.table(rows))

    def _filled(self, changes: Changes, rows: dict[str, pa.Array], told: bool) -> dict[str, pa.Array]:
        """New rows, with the old values of what was not sent."""
        lists = flat(changes.table["given"])
        here = pc.and_(lists.is_valid(), pa.array(np.isin(changes.op(), [Op.INSERT, Op.UPDATE, Op.PUT])))
        filled = {}
        for name, values in rows.items():
            unsent = pc.and_(here, pc.invert(_listed(lists, name))) if name not in self.key else None
            if unsent is None or not pc.any(unsent).as_py():
                filled[name] = values
            elif told:
                filled[name] = pc.if_else(unsent, changes.image(WAS, name), values)
            else:
                raise Refused(
                    f"The value of {name} was not sent with every change, and {self.load} computes with whole rows.",
                    "Whether such a row is taken, or what is derived from it, cannot be told.",
                    "Have the source send whole rows (PostgreSQL: ALTER TABLE ... REPLICA IDENTITY FULL).",
                )
        return filled

    def _given(self, lists: pa.Array) -> pa.Array:
        """Which columns were sent, under their new names; what is derived always is."""
        said = [
            None if names is None else [*(new for new, old in self.names.items() if old in names), *self.derive]
            for names in lists.to_pylist()
        ]
        return pa.array(said, pa.list_(pa.string()))


def _judged(ops: npt.NDArray[np.int8], now: Bools, was: Bools | None) -> tuple[npt.NDArray[np.int8], Bools]:
    """The operations as they are within the filter, and which changes are left."""
    now, update = now.astype(np.bool_), ops == Op.UPDATE
    found = ops.copy()
    keep = np.ones(len(ops), dtype=np.bool_)
    keep[(ops == Op.INSERT) & ~now] = False
    found[(ops == Op.PUT) & ~now] = Op.DELETE
    if was is None:
        found[update & now] = Op.PUT
        found[update & ~now] = Op.DELETE
    else:
        before = was.astype(np.bool_)
        keep[(ops == Op.DELETE) & ~before] = False
        keep[update & ~before & ~now] = False
        found[update & before & ~now] = Op.DELETE
        found[update & ~before & now] = Op.INSERT
    return found, keep


def without_rows(changes: Changes, was_out: Bools, now_out: Bools) -> Changes:
    """Changes as they are where some rows are left out, as with a filter: a row that becomes one of them is deleted.

    Args:
        changes: a batch with both images, of inserts, updates, deletes and truncates.
        was_out: of which changes the old row is left out.
        now_out: of which changes the new row is left out.
    """
    ops, keep = _judged(changes.op(), ~now_out, ~was_out)
    columns = {name: changes.table[name] for name in changes.table.column_names}
    for side, absent in ((WAS, ops == Op.INSERT), (NOW, ops == Op.DELETE)):
        columns |= {name: _without(values, absent) for name, values in columns.items() if name.startswith(side)}
    columns["op"] = pa.array(ops)
    return Changes(pa.table(columns).filter(pa.array(keep)))


def _without(values: pa.Array, absent: Bools) -> pa.Array:
    """Values, null where there is no image."""
    return pc.if_else(pa.array(absent), pa.scalar(None, values.type), values) if absent.any() else values


def _listed(lists: pa.Array, name: str) -> pa.Array:
    """Which lists hold a name."""
    found = np.zeros(len(lists), dtype=np.bool_)
    hits = pc.equal(pc.list_flatten(lists), name)
    parents = numbers(pc.list_parent_indices(lists))
    found[parents[pc.fill_null(hits, False).to_numpy(zero_copy_only=False)]] = True
    return pa.array(found)
