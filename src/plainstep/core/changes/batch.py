"""Changes as Arrow tables in the flat form: one row a change, old values in ``was.*``, new ones in ``now.*``."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from plainstep.core.arrays import flat, numbers, utc_time
from plainstep.core.changes.duplicates import repeated
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.words import op_words
from plainstep.deferred import np, npt, pa, pc
from plainstep.errors import DataError
from plainstep.properties import cached_property

# Small tables are put together until they have so many rows, or bytes.
LOT_ROWS, LOT_BYTES = 1 << 14, 4 << 20


@dataclass(frozen=True, eq=False, repr=False)
class Changes:
    """A batch of changes of one table, in reading order.

    Attributes:
        table: ``op`` (int8), ``seq`` (int64), ``at`` (timestamp, UTC, may be null), optionally ``txn`` and
            ``given`` (list of strings: the columns that ``now`` really carries; null: all), and the columns
            ``was.*`` and ``now.*``.
    """

    table: pa.Table

    def __len__(self) -> int:
        return int(self.table.num_rows)

    def __repr__(self) -> str:
        return f"<Changes: {len(self):,}, of rows with {', '.join(self.columns)}>"

    @property
    def columns(self) -> list[str]:
        """The row's own columns, in order."""
        names = self.table.column_names
        now = [name[len(NOW) :] for name in names if name.startswith(NOW)]
        was = [name[len(WAS) :] for name in names if name.startswith(WAS)]
        return now + [name for name in was if name not in set(now)]

    def kind(self, column: str) -> pa.DataType:
        """The Arrow type of one of the row's own columns."""
        name = NOW + column if NOW + column in self._places else WAS + column
        return self.table.schema.field(name).type

    def seq(self) -> npt.NDArray[np.int64]:
        """The changes' sequence, rising."""
        return numbers(self.table["seq"])

    def op(self) -> npt.NDArray[np.int8]:
        """The changes' operations, as small numbers."""
        return numbers(self.table["op"])

    def image(self, side: str, column: str) -> pa.Array:
        """The values of one column on one side (``was.`` or ``now.``), null where there is no image."""
        place = self._places.get(side + column)
        return pa.nulls(len(self), self.kind(column)) if place is None else flat(self.table.column(place))

    @cached_property
    def _places(self) -> dict[str, int]:
        """Where each column stands. (Arrow lists all names at each question, which takes hundreds of columns a millisecond.)"""
        return {name: place for place, name in enumerate(self.table.column_names)}

    def among(self, keys: pa.Table) -> Changes:
        """The changes of one of these keys, before or after; truncates, too."""
        return Changes(self.table.filter(pa.array(self._of(keys) | (self.op() == Op.TRUNCATE))))

    def apart_from(self, keys: pa.Table) -> Changes:
        """The changes of other keys than these."""
        return Changes(self.table.filter(pa.array(~self._of(keys))))

    def _of(self, keys: pa.Table) -> npt.NDArray[np.bool_]:
        found = np.zeros(len(self), dtype=np.bool_)
        names = keys.column_names
        for side in (WAS, NOW):
            rows = pa.table({name: self.image(side, name) for name in names})
            rows = rows.cast(keys.schema).append_column("plainstep.row", pa.array(np.arange(len(self))))
            found[rows.join(keys, names, join_type="left semi")["plainstep.row"].to_numpy()] = True
        return found

    def counts(self) -> dict[str, int]:
        """How many changes there are of each operation, by word."""
        found = np.bincount(self.op(), minlength=len(Op) + 1)
        return {op.word: int(found[op]) for op in Op if found[op]}


def as_changes(data: Any, key: tuple[str, ...] = ()) -> Changes:
    """Take changes in the flat form from any table.

    Args:
        data: a pandas DataFrame, an Arrow table, or any object that speaks the Arrow stream protocol, with
            the columns ``seq`` (integer; or, without it, ``position``), ``op`` (a word or an ``Op``), optionally ``at`` (a
            time), ``txn`` and ``given`` (lists of column names), and the row's columns as ``was.*`` and ``now.*``.
            A row that equals another one with its ``seq`` in everything is that change delivered twice, and counts
            once, unless it finds what the one before it left; others with one ``seq`` keep their order.
        key: the columns that tell rows apart, if they are known.

    Raises:
        DataError: a column is missing, an operation is unknown, or old and new values differ in type.
    """
    if isinstance(data, Changes):
        return data
    table = _as_table(data)
    if "seq" not in table.column_names and "position" in table.column_names:
        table = table.append_column("seq", table["position"])
    for name in ("seq", "op"):
        if name not in table.column_names:
            raise DataError(
                f"The changes have no column {name!r}.",
                "Changes are read in the flat form: seq, op, at, txn, was.<column>, now.<column>.",
            )
    if not any(name.startswith((WAS, NOW)) for name in table.column_names):
        raise DataError("The changes have no columns was.<column> or now.<column>: there is no row in them.")
    columns: dict[str, Any] = {"op": _ops(flat(table["op"])), "seq": _seq(flat(table["seq"]))}
    if "at" in table.column_names:
        columns["at"] = _times(flat(table["at"]))
    else:
        columns["at"] = pa.nulls(table.num_rows, utc_time())
    for name in ("txn", "given"):
        if name in table.column_names:
            columns[name] = flat(table[name])
    columns.update(_images(table))
    return _in_order(pa.table(columns), key)


def _as_table(data: Any) -> pa.Table:
    if isinstance(data, pa.Table):
        return _without_views(data)
    if type(data).__module__.startswith("pandas") and hasattr(data, "columns"):
        return pa.Table.from_pandas(data, preserve_index=False)
    if isinstance(data, pa.RecordBatch):
        return pa.Table.from_batches([data])
    if hasattr(data, "__arrow_c_stream__"):
        return _without_views(pa.RecordBatchReader.from_stream(data).read_all())
    raise DataError(
        f"Cannot read changes from a {type(data).__name__}.",
        "Any pandas, Arrow or Arrow-protocol table will do.",
    )


def _without_views(table: pa.Table) -> pa.Table:
    """A table without the types that some libraries send texts in, and for which Arrow has few functions."""
    plain = {"string_view": pa.large_string(), "binary_view": pa.large_binary()}
    fields = [field.with_type(plain.get(str(field.type), field.type)) for field in table.schema]
    return table if pa.schema(fields) == table.schema else table.cast(pa.schema(fields))


def _ops(column: pa.Array) -> pa.Array:
    if pa.types.is_integer(column.type):
        codes = column.cast(pa.int8())
    else:
        codes = pc.index_in(column.cast(pa.string()), value_set=op_words(), skip_nulls=True).cast(pa.int8())
    unknown = pc.fill_null(pc.or_(pc.less(codes, 1), pc.greater(codes, max(Op))), True)
    if pc.any(unknown).as_py():
        row = pc.index(unknown, True).as_py()
        raise DataError(
            f"Row {row} of the changes has the operation {column[row].as_py()!r}.",
            f"The operations are {', '.join(op.word for op in Op)}.",
        )
    return codes


def _seq(column: pa.Array) -> pa.Array:
    try:
        seq = column.cast(pa.int64())
    except pa.ArrowInvalid as error:
        raise DataError(f"The column seq must hold integers: {error}") from None
    if seq.null_count:
        raise DataError(
            f"Row {pc.index(seq.is_null(), True).as_py()} of the changes has no seq.",
            "Without it, the order of the changes is not known.",
        )
    return seq


def _times(column: pa.Array) -> pa.Array:
    if pa.types.is_timestamp(column.type) and column.type.tz is None:
        return pc.assume_timezone(column.cast(pa.timestamp("us")), "UTC")
    return column.cast(utc_time())


def _images(table: pa.Table) -> dict[str, pa.Array]:
    """The was.* and now.* columns, each pair in one type."""
    found = {name: flat(table[name]) for name in table.column_names if name.startswith((WAS, NOW))}
    for name in [name for name in found if name.startswith(NOW)]:
        other = WAS + name[len(NOW) :]
        if other in found and found[other].type != found[name].type:
            found[other], found[name] = _one_type(found[other], found[name], name[len(NOW) :])
    return found


def _one_type(was: pa.Array, now: pa.Array, column: str) -> tuple[pa.Array, pa.Array]:
    # A column with holes often arrives as floats beside integers: the integers are what was meant.
    wanted = [was.type, now.type]
    wanted.sort(key=lambda kind: (pa.types.is_null(kind), pa.types.is_floating(kind)))
    for kind in wanted:
        try:
            return was.cast(kind), now.cast(kind)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            continue
    raise DataError(f"The column {column} holds {was.type} before and {now.type} after.")


def _in_order(table: pa.Table, key: tuple[str, ...]) -> Changes:
    """The changes by rising seq, each once: a row that equals another one of its seq in everything was delivered twice."""
    seq = numbers(table["seq"])
    if len(seq) > 1:
        rises = np.diff(seq)
        if (rises < 0).any():
            table = table.take(pa.array(np.argsort(seq, kind="stable")))
            rises = np.diff(numbers(table["seq"]))
        if (rises == 0).any():
            shared = np.concatenate((rises == 0, [False])) | np.concatenate(([False], rises == 0))
            table = table.filter(pa.array(~repeated(table, shared, key)))
    return Changes(table)


def in_tables(schema: pa.Schema, batches: Iterable[pa.RecordBatch], rows: int) -> Iterator[pa.Table]:
    """Batches, gathered into tables of at least so many rows; the last one may have fewer."""
    gathered: list[pa.RecordBatch] = []
    count = 0
    for batch in batches:
        gathered.append(batch)
        count += batch.num_rows
        if count >= rows:
            yield pa.Table.from_batches(gathered, schema)
            gathered, count = [], 0
    if gathered:
        yield pa.Table.from_batches(gathered, schema)


def in_lots(tables: Iterable[pa.Table]) -> Iterator[pa.Table]:
    """Tables, those that are small put together with the ones after them that have the same columns.

    What is done with a table takes some milliseconds, however few rows it has: of ten thousand small files, half a minute.
    """
    waiting: list[pa.Table] = []
    rows = size = 0
    for table in tables:
        if waiting and table.schema != waiting[0].schema:
            yield pa.concat_tables(waiting)
            waiting, rows, size = [], 0, 0
        waiting.append(table)
        rows, size = rows + table.num_rows, size + table.nbytes
        if rows >= LOT_ROWS or size >= LOT_BYTES:
            yield waiting[0] if len(waiting) == 1 else pa.concat_tables(waiting)
            waiting, rows, size = [], 0, 0
    if waiting:
        yield pa.concat_tables(waiting)


def gathered(parts: Iterable[Changes], rows: int) -> Iterator[Changes]:
    """Batches, put together until they have at least so many rows; the last one may have fewer."""
    waiting: list[Changes] = []
    for part in parts:
        waiting.append(part)
        if sum(map(len, waiting)) >= rows:
            yield concat(waiting)
            waiting = []
    if waiting:
        yield concat(waiting)


def concat(parts: Iterable[Changes]) -> Changes:
    """Several batches as one.

    Raises:
        ValueError: there is no batch.
    """
    return Changes(pa.concat_tables([part.table for part in parts], promote_options="default"))
