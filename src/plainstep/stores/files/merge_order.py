"""Rows of several files in the order of their positions, without holding more than a batch of each."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from plainstep.core import hexadecimal
from plainstep.core.arrays import Bools, utc_time
from plainstep.core.casting import as_text, fitted
from plainstep.core.layouts.rows import POSITION, Raw
from plainstep.core.position_labels import joined
from plainstep.deferred import np, pa, pc
from plainstep.errors import ConfigError, DataError

if TYPE_CHECKING:
    from plainstep.stores.files.listing import File

PositionValues = tuple[Any, ...]


@dataclass(frozen=True)
class Order:
    """Positions that stand in the rows.

    Attributes:
        paths: where, the first deciding first.
        kinds: their types.
        lengths: how long each is, where it is a text or binary: as such, only those of one length are in order.
        numbers: how many hexadecimal numbers each holds; 0 for what is not hexadecimal.
    """

    paths: tuple[str, ...]
    kinds: tuple[pa.DataType, ...]
    lengths: tuple[int | None, ...] = ()
    numbers: tuple[int, ...] = ()

    @staticmethod
    def of(paths: Sequence[str], sample: dict[str, pa.Array], hexed: Collection[str] = ()) -> Order:
        """The order of positions, as some of them tell it.

        Args:
            paths: where they stand.
            sample: some values by path, of one type each.
            hexed: the paths at which hexadecimal numbers stand.
        """
        kinds = [pa.string() if path in hexed else order_of(sample[path]) for path in paths]
        plain = [_texts(kind) and path not in hexed for path, kind in zip(paths, kinds, strict=True)]
        lengths = [_length(sample[path]) if text else None for path, text in zip(paths, plain, strict=True)]
        numbers = [_numbers_in(sample[path]) if path in hexed else 0 for path in paths]
        return Order(tuple(paths), tuple(kinds), tuple(lengths), tuple(numbers))

    def columns(self, rows: pa.Table, told: Callable[[int], str]) -> list[pa.Array]:
        """The positions of some rows.

        Raises:
            DataError: a row has none, or one of another type.
        """
        raw = Raw(rows)
        raw.read(dict(zip(self.paths, self.kinds, strict=True)))
        columns = [raw.typed(path, kind) for path, kind in zip(self.paths, self.kinds, strict=True)]
        columns = [self._as_numbers(place, column, told) for place, column in enumerate(columns)]
        for path, column, length in zip(self.paths, columns, self.lengths, strict=True):
            if length is not None and len(column) > column.null_count:
                odd = pc.fill_null(pc.not_equal(pc.binary_length(column), length), False)
                if pc.any(odd).as_py():
                    row = pc.index(odd, True).as_py()
                    raise unordered(f"{told(row)}: {path}", column[row].as_py(), length)
        lacking = [
            (pc.index(column.is_null(), True).as_py(), path)
            for path, column in zip(self.paths, columns, strict=True)
            if column.null_count
        ]
        if lacking:  # whatever else is wrong with a row, that is told where it is read as a change
            row, path = min(lacking)
            raise DataError(
                f"{told(row)}: {raw.bad.get(row, f'it has no position: {path} is not there')}.",
                "Its place in the order is not known, so it could not be merged in order.",
                "Fix the row, or 'position' in the layout.",
            )
        return columns

    def _as_numbers(self, place: int, column: pa.Array, told: Callable[[int], str]) -> pa.Array:
        """Hexadecimal numbers as they are compared."""
        parts = self.numbers[place] if self.numbers else 0
        if not parts:
            return column
        found = hexadecimal.in_order(column, parts)
        if found.null_count > column.null_count:
            row = pc.index(pc.and_(found.is_null(), column.is_valid()), True).as_py()
            raise DataError(
                f"{told(row)}: {self.paths[place]} is {column[row].as_py()!r}, which is not {parts} hexadecimal numbers.",
                "Its place in the order is not known, so it could not be merged in order.",
                "Fix the row, or 'hexadecimal' in the layout.",
            )
        return found

    def _texts_of(self, columns: list[pa.Array]) -> list[pa.Array]:
        """Positions as people write them."""
        numbers = self.numbers or (0,) * len(columns)
        return [hexadecimal.shown(one) if parts else as_text(one) for one, parts in zip(columns, numbers, strict=True)]

    def labels(self, columns: list[pa.Array]) -> pa.Array:
        """Positions as texts, or as the whole numbers that they are."""
        if len(columns) == 1 and pa.types.is_integer(columns[0].type):
            return columns[0]
        texts = self._texts_of(columns)
        if len(texts) == 1:
            return texts[0]
        escaped = [pc.replace_substring(pc.replace_substring(one, "%", "%25"), "/", "%2F") for one in texts]
        return pc.binary_join_element_wise(*escaped, "/")

    def place(self, columns: list[pa.Array], row: int) -> PositionValues:
        """One row's position."""
        return tuple(
            column[row].value if pa.types.is_timestamp(column.type) else column[row].as_py() for column in columns
        )

    def label(self, columns: list[pa.Array], row: int) -> str:
        """One row's position as text."""
        return self.each_label([column.slice(row, 1) for column in columns])[0]

    def each_label(self, columns: list[pa.Array]) -> list[str]:
        """Every row's position as text."""
        return [joined([*parts]) for parts in zip(*(one.to_pylist() for one in self._texts_of(columns)), strict=True)]

    def parsed(self, values: Sequence[str]) -> PositionValues:
        """A position out of texts.

        Raises:
            ConfigError: it can be none of this feed.
        """
        columns = []
        for place, (value, kind) in enumerate(zip(values, self.kinds, strict=True)):
            column, bad = fitted(pa.array([value]), kind)
            if not len(bad) and self.numbers and self.numbers[place]:
                column = hexadecimal.in_order(column, self.numbers[place])
            if len(bad) or column.null_count:
                raise ConfigError(f"{'/'.join(values)!r} is not a valid position here: {value!r} is not a {kind}.")
            columns.append(column)
        return self.place(columns, 0)


def _numbers_in(column: pa.Array) -> int:
    there = column.drop_null()
    return hexadecimal.parts_in(str(there[0].as_py())) if len(there) else 1


def _texts(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_binary(kind))


def _length(values: pa.Array) -> int | None:
    known = pc.binary_length(values.drop_null())
    return int(known[0].as_py()) if len(known) else None


def order_of(values: pa.Array) -> pa.DataType:
    """By what type positions are compared, as some of them tell: whole numbers of any length, times, or as they are."""
    known = values.drop_null()
    if pa.types.is_floating(values.type) and len(known):
        whole = pc.all(pc.equal(known, pc.floor(known))).as_py()
        return pa.decimal128(38, 0) if whole and pc.max(pc.abs(known)).as_py() >= EXACT else values.type
    if not pa.types.is_string(values.type) or not len(known):
        return values.type
    if pc.all(pc.match_substring_regex(known, r"^-?\d{1,38}$")).as_py():
        return pa.decimal128(38, 0)
    return utc_time() if not len(fitted(known, utc_time())[1]) else values.type


# From here on, a floating-point number does not tell each whole number from the next.
EXACT = float(1 << 53)


def unordered(what: str, value: Any, length: int) -> DataError:
    """The error for a position whose order is not known."""
    return DataError(
        f"{what} is {value!r}: positions that are neither numbers nor times must all be of one length, here {length}.",
        "Compared as texts, a longer one may come before a shorter one, and changes would be lost.",
        "Choose other columns for 'position' in the layout; without any, files are read by name and line.",
    )


def above(columns: list[pa.Array], bound: PositionValues, inclusive: bool = False) -> Bools:
    """Which positions lie after a bound (or at it)."""
    found = np.full(len(columns[0]), inclusive, dtype=np.bool_)
    for column, value in zip(reversed(columns), reversed(bound), strict=True):
        comparable = column.cast(pa.int64()) if pa.types.is_timestamp(column.type) else column
        scalar = pa.scalar(value, comparable.type)
        greater = pc.greater(comparable, scalar).to_numpy(zero_copy_only=False)
        equal = pc.equal(comparable, scalar).to_numpy(zero_copy_only=False)
        found = greater | (equal & found)
    return found


def refuse_backwards(
    columns: list[pa.Array], before: PositionValues | None, order: Order, told: Callable[[int], str]
) -> None:
    """Positions within one file must not fall.

    Raises:
        DataError: one does; the message names it.
    """
    count = len(columns[0])
    if not count:
        return
    falls = _falls(columns)
    first = before is not None and order.place(columns, 0) < before
    if first or falls.any():
        row = 0 if first else int(np.flatnonzero(falls)[0]) + 1
        raise DataError(
            f"{told(row)}: its position {order.label(columns, row)} comes after a later one.",
            f"Within a file, positions ({', '.join(order.paths)}) must not go backwards.",
            "Fix 'position' in the layout, or sort the file.",
        )


def _falls(columns: list[pa.Array]) -> Bools:
    """For every row but the first, whether its position lies before that of the row above it."""
    if len(columns) == 1 and pa.types.is_integer(columns[0].type):
        numbers = columns[0].to_numpy()
        return np.asarray(numbers[1:] < numbers[:-1])
    found = np.zeros(len(columns[0]) - 1, dtype=np.bool_)
    for column in reversed(columns):
        upper, lower = column.slice(0, len(column) - 1), column.slice(1)
        less = pc.less(lower, upper).to_numpy(zero_copy_only=False)
        equal = pc.equal(lower, upper).to_numpy(zero_copy_only=False)
        found = less | (equal & found)
    return found


@dataclass
class Stream:
    """The rows of one file that are wanted, as they come.

    Attributes:
        first: its first position.
        batches: rows with ``POSITION``, and the columns of their positions.
    """

    first: PositionValues
    batches: Iterator[tuple[pa.Table, list[pa.Array]]]


@dataclass
class Chain:
    """Files of which each begins after the one before it ends, so that they need not be merged.

    Attributes:
        first, last: the first position of all, and the last.
        whole: whether all their rows are wanted.
        files: the files.
    """

    first: PositionValues
    last: PositionValues
    whole: bool
    files: list[File]


def linked(chains: list[Chain]) -> list[Chain]:
    """The same files in fewer chains: those that lie one after the other, of which all rows are wanted.

    Args:
        chains: of one file each, in the order of the files.
    """
    found: list[Chain] = []
    for one in sorted(chains, key=lambda one: one.first):
        before = found[-1] if found else None
        if before and before.whole and one.whole and one.first > before.last:
            before.files.extend(one.files)
            before.last = one.last
        else:
            found.append(one)
    return found


def merged(streams: list[Stream], order: Order) -> Iterator[pa.Table]:
    """The rows of several files in the order of their positions; of equal ones, in the order of the files.

    A row that stands in two files in the same form comes once.
    """
    waiting = sorted(range(len(streams)), key=lambda number: (streams[number].first, number))
    held: dict[int, tuple[pa.Table, list[pa.Array]]] = {}
    while waiting or held:
        if not held:
            _open(waiting.pop(0), streams, held)
            continue
        if len(held) == 1 and not waiting:  # nothing to merge with
            [(number, (table, _))] = held.items()
            yield table
            del held[number]
            _advance(number, streams, held)
            continue
        bound = min(order.place(columns, len(columns[0]) - 1) for _, columns in held.values())
        if waiting and streams[waiting[0]].first <= bound:
            _open(waiting.pop(0), streams, held)
            continue
        parts = []
        for number in sorted(held):
            table, columns = held[number]
            cut = int((~above(columns, bound)).sum())
            if cut:
                parts.append((table.slice(0, cut), [column.slice(0, cut) for column in columns]))
            if cut == table.num_rows:
                del held[number]
                _advance(number, streams, held)
            else:
                held[number] = (table.slice(cut), [column.slice(cut) for column in columns])
        yield parts[0][0] if len(parts) == 1 else _sorted(parts)


def _open(number: int, streams: list[Stream], held: dict[int, tuple[pa.Table, list[pa.Array]]]) -> None:
    _advance(number, streams, held)


def _advance(number: int, streams: list[Stream], held: dict[int, tuple[pa.Table, list[pa.Array]]]) -> None:
    for table, columns in streams[number].batches:
        if table.num_rows:
            held[number] = (table, columns)
            return


def _sorted(parts: list[tuple[pa.Table, list[pa.Array]]]) -> pa.Table:
    table = pa.concat_tables([part for part, _ in parts], promote_options="default")
    keys = {
        f"p{place}": pa.chunked_array([columns[place] for _, columns in parts]) for place in range(len(parts[0][1]))
    }
    places = pc.sort_indices(pa.table(keys), [(name, "ascending") for name in keys])
    return _once(table.take(places))


def _once(table: pa.Table) -> pa.Table:
    """Without rows that are the same as another at their position."""
    labels = table[POSITION].combine_chunks()
    same = pc.equal(labels.slice(1), labels.slice(0, len(labels) - 1)).to_numpy(zero_copy_only=False)
    if not same.any():
        return table
    keep = np.ones(table.num_rows, dtype=np.bool_)
    suspects = np.flatnonzero(np.concatenate(([False], same)) | np.concatenate((same, [False])))
    seen: set[str] = set()
    for row, values in zip(suspects.tolist(), table.take(pa.array(suspects)).to_pylist(), strict=True):
        shown = repr(values).replace("\\r", "").replace("\\n", "")
        keep[row] = shown not in seen
        seen.add(shown)
    return table.filter(pa.array(keep))
