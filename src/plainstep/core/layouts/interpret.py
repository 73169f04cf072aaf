"""Applying a layout: rows that something else wrote become changes.

Rows that it cannot make sense of are told one by one, and never guessed at.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from plainstep.core import casting as values
from plainstep.core.arrays import Bools, Codes, Ints, utc_time
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.words import name_lists
from plainstep.core.layouts import pairing as pairs
from plainstep.core.layouts.encodings import decoded
from plainstep.core.layouts.layout import NEW, OLD, Layout
from plainstep.core.layouts.raw_sql import computed_of
from plainstep.core.layouts.rows import DOCUMENT, POSITION, TIME, Raw
from plainstep.core.picked import Picked
from plainstep.deferred import np, npt, pa, pc


@dataclass
class Interpreted:
    """What became of a batch of rows.

    Attributes:
        table: changes in the flat form, without ``seq``, and with ``position``.
        bad: what is wrong with rows that are not in it, by their numbers in the batch.
        unread: the first row that can only be read together with the rows that follow the batch.
    """

    table: pa.Table
    bad: dict[int, str]
    unread: int


def interpret(layout: Layout, rows: pa.Table, last: bool) -> Interpreted:
    """Read rows as changes.

    Args:
        layout: how.
        rows: the feed's columns, and ``POSITION``.
        last: whether no row follows.
    """
    raw = Raw(rows)
    images = _Images(layout, raw)
    codes = _codes(layout, raw, images)
    if layout.patches:
        _refuse_empty(raw, codes)
    unread = len(raw)
    partner: npt.NDArray[np.int64] | None = None
    if layout.in_pairs:
        found = _pairs(layout, raw, images, np.flatnonzero(codes == OLD), np.flatnonzero(codes == NEW))
        unread = pairs.unpaired(found, raw, last)
        partner = found.partner
    keep = (codes > 0) & (codes != OLD) if layout.in_pairs else codes > 0
    keep[unread:] = False
    table = images.table(codes, partner, Picked(np.flatnonzero(keep)))
    bad = {
        row: why for row, why in raw.bad.items() if row < unread
    }  # what follows may still be repaired by rows to come
    return _without_bad(layout, rows, bad, unread) if bad else Interpreted(table, {}, unread)


def _refuse_empty(raw: Raw, codes: Codes) -> None:
    """Refuse rows that tell no values: where the layout misnames the patch, its updates look so."""
    lacking = raw.column(DOCUMENT).is_null().to_numpy(zero_copy_only=False)
    for row in np.flatnonzero(lacking & np.isin(codes, [Op.INSERT, Op.UPDATE, Op.PUT])).tolist():
        raw.refuse(row, "it has neither a document nor a patch")


def _pairs(layout: Layout, raw: Raw, images: _Images, old: Ints, new: Ints) -> pairs.Pairs:
    if layout.pair:
        return pairs.marked(old, new, {path: raw.column(path) for path in layout.pair}, raw)
    group = raw.column(layout.transaction) if layout.transaction else pairs.shared(raw.column(POSITION))
    return pairs.paired(old, new, images.key(), group)


def _without_bad(layout: Layout, rows: pa.Table, bad: dict[int, str], unread: int) -> Interpreted:
    """Read the rows that are not known to be bad: without them, others may turn out to lack their other half."""
    mask = np.ones(rows.num_rows, dtype=np.bool_)
    mask[list(bad)] = False
    mask[unread:] = False
    places = np.flatnonzero(mask)
    again = interpret(layout, rows.filter(pa.array(mask)), True)
    return Interpreted(again.table, bad | {int(places[row]): why for row, why in again.bad.items()}, unread)


def _codes(layout: Layout, raw: Raw, images: _Images) -> Codes:
    """What every row says, as an ``Op``, ``OLD`` or ``NEW``; 0 where it is not known."""
    if layout.operation or layout.operation_sql:
        sql = layout.operation_sql
        column = computed_of(raw, sql, "operation_sql") if sql else raw.column(layout.operation)
        codes = _meant(column, layout.codes)
        for row in np.flatnonzero(codes == 0).tolist():
            told = f"{layout.operation or 'operation_sql'} is {values.shown(column, row)}"
            raw.refuse(row, f"{told}, which is not a code of the layout")
    elif layout.only_new:
        codes = _by_images(layout, raw, images)
    else:
        codes = np.full(len(raw), int(Op.PUT), dtype=np.int8)
    if layout.deleted:
        gone = values.truthy(raw.column(layout.deleted))
        # A row that was deleted so may come back: nothing tells whether it is new.
        codes = np.where(gone, np.int8(Op.DELETE), np.where(codes == Op.TRUNCATE, codes, np.int8(Op.PUT)))
    return codes


def _by_images(layout: Layout, raw: Raw, images: _Images) -> Codes:
    """What every row says by which image it has: both, an update; old values alone, a delete."""
    was, now = images.there(images.was), images.there(images.now)
    codes = np.select(
        [was & now, was, now], [np.int8(Op.UPDATE), np.int8(Op.DELETE), np.int8(layout.only_new)], np.int8(0)
    ).astype(np.int8)
    for row in np.flatnonzero(codes == 0).tolist():
        raw.refuse(row, "it has neither old nor new values")
    return codes


def _meant(column: pa.Array, codes: dict[str, int]) -> Codes:
    """What the codes of a column mean; 0 for those that mean nothing."""
    if pa.types.is_dictionary(column.type):  # each code once, whatever the number of rows
        meanings = np.append(_meant(column.dictionary, codes), np.int8(0))
        indices = column.indices
        filled = pc.fill_null(indices, len(column.dictionary)) if indices.null_count else indices
        return meanings[filled.to_numpy(zero_copy_only=False)]
    known = pa.array(list(codes), pa.string())
    found = pc.fill_null(pc.index_in(values.as_text(column), value_set=known), -1).to_numpy(zero_copy_only=False)
    return np.array([*codes.values(), 0], dtype=np.int8)[found]


class _Images:
    """The old and new values of a batch."""

    def __init__(self, layout: Layout, raw: Raw) -> None:
        self.layout, self.raw = layout, raw
        columns = layout.key if layout.key_only else layout.schema.names
        self.kinds = {name: layout.schema.field(name).type for name in columns}
        self.now = self._side(layout.now)
        self.was = self._side(layout.was) if layout.was else {}
        paths = {path: name for side in (self.now, self.was) for name, path in side.items()}
        whole = {path for path, name in paths.items() if layout.encodings.get(name) == "tagged"}
        raw.read({path: layout.read_as(name) for path, name in paths.items()}, whole)
        self._decoded: dict[str, pa.Array] = {}

    def _side(self, pattern: str) -> dict[str, str]:
        """For each column, where it lies on one side; a column that stands there once for both is in both."""
        found = {}
        for name in self.kinds:
            for path in (self.layout.path(pattern, name), self.layout.path("*", name)):
                if self.raw.has(path):
                    found[name] = path
                    break
        return found

    def key(self) -> list[pa.Array]:
        """The key of every row, for pairing."""
        return [self.typed(self.now[name], name) for name in self.layout.key]

    def there(self, side: dict[str, str]) -> Bools:
        """In which rows one side has values: a key, if it has one of its own. What stands once for both tells nothing."""
        found = np.zeros(len(self.raw), dtype=np.bool_)
        own = [name for name in side if self.now.get(name) != self.was.get(name)]
        for name in [name for name in own if name in self.layout.key] or own:
            found |= self.typed(side[name], name).is_valid().to_numpy(zero_copy_only=False)
        return found

    def typed(self, path: str, name: str) -> pa.Array:
        """The values of a column under a path. Rows whose value does not fit are noted."""
        kind, encoding = self.kinds[name], self.layout.encodings.get(name)
        if encoding is None:
            return self.raw.typed(path, kind)
        if path not in self._decoded:
            source = self.raw.column(path) if self._has_bytes(path) else self.raw.typed(path, self.layout.read_as(name))
            self._decoded[path], bad = decoded(encoding, source, kind)
            for row in bad.tolist():
                self.raw.refuse(
                    row, f"{path} is {values.shown(source, row)}, which is not a valid {kind} in {encoding}"
                )
        return self._decoded[path]

    def _has_bytes(self, path: str) -> bool:
        """Whether the values under a path come as bytes, which then are not texts of them."""
        return not self.raw.within(path) and pa.types.is_binary(self.raw.column(path).type)

    def table(self, codes: Codes, partner: npt.NDArray[np.int64] | None, kept: Picked) -> pa.Table:
        """The rows that are kept, in the flat form."""
        layout, raw = self.layout, self.raw
        ops = codes[kept.rows] if len(kept) < len(codes) else codes
        if partner is not None:
            ops = np.where(ops == NEW, np.int8(Op.UPDATE), ops)
        columns: dict[str, Any] = {
            "op": pa.array(ops),
            "position": self._all(raw.column(POSITION), kept),
            "at": self._times(kept),
        }
        if layout.transaction:
            columns["txn"] = self._all(raw.texts(layout.transaction), kept)
        gone = (ops == Op.DELETE) | (ops == Op.TRUNCATE)
        for name, kind in self.kinds.items():
            now = self._taken(self.now, name, kind, kept)
            if now is not None:
                columns[NOW + name] = _without(now, gone)
        before = None
        if partner is not None:  # where each row's old values stand: in another row, or for a delete in its own
            gone_here = ops == Op.DELETE
            places = np.where(gone_here, kept.rows, partner[kept.rows]) if gone_here.any() else partner[kept.rows]
            before = Picked(places)
        for name, kind in self.kinds.items():
            was = self._old(name, kind, ops, kept, before)
            if was is not None:
                columns[WAS + name] = was
        self._check_keys(columns, ops, kept)
        given = self._given(ops, kept)
        if given is not None:
            columns["given"] = given
        return pa.table(columns)

    def _taken(self, side: dict[str, str], name: str, kind: pa.DataType, kept: Picked) -> pa.Array | None:
        if name not in side:
            return None
        return self._all(self.typed(side[name], name), kept)

    def _all(self, column: pa.Array, kept: Picked) -> pa.Array:
        """The rows that are kept; mostly all of them, which costs nothing."""
        return column if len(kept) == len(column) else kept.of(column)

    def _old(
        self,
        name: str,
        kind: pa.DataType,
        ops: npt.NDArray[np.int8],
        kept: Picked,
        partner: Picked | None,
    ) -> pa.Array | None:
        """Old values: of the row before in a pair, in columns of their own, or a deleted row's key."""
        if self.layout.was:
            fresh = (ops == Op.INSERT) | (ops == Op.PUT) | (ops == Op.TRUNCATE)
            old = self._taken(self.was, name, kind, kept)
            if old is not None and self.layout.was != self.layout.now and self.was[name] == self.now.get(name):
                fresh = fresh | ((ops == Op.UPDATE) & (name not in self.layout.key))
            return None if old is None else _without(old, fresh)
        if partner is not None and name in self.now:
            return partner.of(self.typed(self.now[name], name))
        if name in self.layout.key and name in self.now:
            if not (ops == Op.DELETE).any():
                return pa.nulls(len(kept), kind)
            return _without(self._taken(self.now, name, kind, kept), ops != Op.DELETE)
        return None

    def _check_keys(self, columns: dict[str, Any], ops: npt.NDArray[np.int8], kept: Picked) -> None:
        for name in self.layout.key:
            now, was = columns.get(NOW + name), columns.get(WAS + name)
            if now is not None and not now.null_count:
                continue
            gone = ops == Op.DELETE
            for rows, side, kind in ((gone, was, "old"), (~gone & (ops != Op.TRUNCATE), now, "new")):
                lacking = rows if side is None else rows & side.is_null().to_numpy(zero_copy_only=False)
                for row in np.flatnonzero(lacking).tolist():
                    self.raw.refuse(int(kept.rows[row]), self._lacks(name, Op(int(ops[row])), kind))

    def _lacks(self, name: str, op: Op, kind: str) -> str:
        if not self.layout.was:
            return f"it has no value in the key column {name!r}"
        article = "a" if op is Op.DELETE else "an"
        return f"it is {article} {op.word} without {kind} values (at least, the key column {name!r} has none)"

    def _times(self, kept: Picked) -> pa.Array:
        for name in (TIME, self.layout.time):
            if name and self.raw.has(name):
                return self._all(self.raw.times(name), kept)
        return pa.nulls(len(kept), utc_time())

    def _given(self, ops: npt.NDArray[np.int8], kept: Picked) -> pa.Array | None:
        """Which columns each row carries; null where it carries all of them."""
        layout, raw = self.layout, self.raw
        rows = kept.numbers
        partial = (ops == Op.UPDATE) | (ops == Op.PUT)
        others = [name for name in self.kinds if name not in layout.key]
        if "*" in layout.sent_columns:
            masks = {
                name: values.truthy(raw.column(layout.path(layout.sent_columns, name)).take(rows)) for name in others
            }
        elif layout.sent_columns:
            names = {layout.paths.get(name, name): name for name in others}
            return raw.listed(layout.sent_columns, names, rows, partial)
        elif layout.missing_field != "null" and not layout.key_only and any(map(raw.documented, self.now.values())):
            found = self._present(others, ops, rows)
            if found is None:
                return None
            masks = found
        else:
            return None
        return pc.if_else(pa.array(partial), name_lists(masks, len(rows)), pa.scalar(None, pa.list_(pa.string())))

    def _there(self, others: list[str], rows: pa.Array) -> dict[str, npt.NDArray[np.bool_]]:
        """For each column, in which rows the field is there. Only where some value is null need the documents be asked."""
        nulls = np.zeros(len(rows), dtype=np.bool_)
        for name in others:
            if name in self.now:
                column = self.typed(self.now[name], name)
                if column.null_count:
                    nulls |= column.is_null().take(rows).to_numpy(zero_copy_only=False)
        masks = {name: np.ones(len(rows), dtype=np.bool_) for name in others}
        asked = np.flatnonzero(nulls)
        if len(asked):
            paths = {name: self.layout.path(self.layout.now, name) for name in others}
            for name, found in self.raw.present(paths, rows.take(pa.array(asked))).items():
                masks[name][asked] = found
        return masks

    def _present(
        self, others: list[str], ops: npt.NDArray[np.int8], rows: pa.Array
    ) -> dict[str, npt.NDArray[np.bool_]] | None:
        masks = self._there(others, rows)
        if self.layout.missing_field == "unsent":
            return masks
        for name, mask in masks.items():
            lacking = np.flatnonzero(~mask & ((ops == Op.UPDATE) | (ops == Op.PUT)))
            for row in lacking.tolist():
                self.raw.refuse(
                    int(rows[row].as_py()),
                    f"it has no field {self.layout.path(self.layout.now, name)!r}: say in the layout whether that means "
                    'that it was not sent (missing_field = "unsent") or that it is null (missing_field = "null")',
                )
        return None


def _without(column: pa.Array, mask: npt.NDArray[np.bool_]) -> pa.Array:
    return pc.if_else(pa.array(mask), pa.scalar(None, column.type), column) if mask.any() else column
