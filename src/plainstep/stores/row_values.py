"""Values of results that have no types: as texts, or as what is asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date, datetime
from itertools import chain
from typing import Any

from plainstep.deferred import pa
from plainstep.errors import DataError
from plainstep.stores.misfit import Misfit


def text_of(value: Any) -> str | None:
    """A value as a text, as a layout's codes have it: bytes as ``0x`` and hexadecimal digits, yes and no as ``true`` and ``false``."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bytes | bytearray | memoryview):
        return "0x" + bytes(value).hex()
    if isinstance(value, bool):
        return str(value).lower()
    return value.isoformat() if isinstance(value, date | datetime) else str(value)


def texts(values: Sequence[Any]) -> pa.Array:
    """Values as texts."""
    return pa.array([text_of(value) for value in values], pa.string())


def natural_batch(names: Sequence[str], columns: Sequence[Sequence[Any]]) -> pa.RecordBatch:
    """Values in the types that they have; those of a column without one type, and decimals, whose size is not known, as nulls."""
    arrays = []
    for values in columns:
        kinds = {type(value) for value in values if value is not None}
        known = len(kinds) == 1 and kinds <= {int, float, str, bytes, bool, date, datetime}
        try:
            arrays.append(pa.array(values) if known else pa.nulls(len(values)))
        except (pa.ArrowException, OverflowError):
            arrays.append(pa.nulls(len(values)))
    return pa.record_batch(arrays, names=list(names))


def batches_of(
    parts: Iterator[Sequence[Sequence[Any]]],
    names: Sequence[str],
    kinds: Mapping[str, pa.DataType],
    natural: bool,
    convert: Callable[[Sequence[Any], pa.DataType], pa.Array],
    place: str,
) -> Iterator[pa.RecordBatch]:
    """The rows of a result without types, in batches: at least one, which may be empty.

    Args:
        parts: the rows, some at a time.
        names: its columns.
        kinds: the types of some of them; the others come as texts.
        natural: take the types of the values instead.
        convert: makes values of a type, or raises ``Misfit``.
        place: the store's name, for messages.

    Raises:
        DataError: a value does not fit its type.
    """

    def typed(name: str, values: Sequence[Any]) -> pa.Array:
        if name not in kinds:
            return texts(values)
        try:
            return convert(values, kinds[name])
        except Misfit as wrong:
            raise unfit(place, name, kinds[name], values[wrong.index]) from None

    def batch(columns: Sequence[Sequence[Any]]) -> pa.RecordBatch:
        if natural:
            return natural_batch(names, columns)
        return pa.record_batch([typed(*one) for one in zip(names, columns, strict=True)], names=list(names))

    first = next(parts, None)
    nothing = batch([[] for _ in names])
    if first is None or not natural:  # of values that are there, the types are known; of none, they are not
        yield nothing
    for rows in chain([] if first is None else [first], parts):
        yield batch(list(zip(*rows, strict=True)))


def unfit(place: str, column: str, kind: pa.DataType, value: Any) -> DataError:
    """The error for a value that is not of the type that is asked for."""
    return DataError(
        f"A query of {place} gives {value!r} for {column}, which is not a valid {kind}.",
        "Merging it would change it.",
        f'Give another type: types = {{ "{column}" = "TEXT" }} in the load; or cast it in the query.',
    )
