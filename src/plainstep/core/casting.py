"""Values that must fit a type: out of texts, numbers or whatever a feed sends, and never bent into shape."""

from __future__ import annotations

import json
from collections.abc import Iterable
from decimal import Decimal
from typing import Any

from plainstep.core.arrays import utc_time
from plainstep.core.held_types import is_nested
from plainstep.core.json_values import ready
from plainstep.deferred import np, npt, pa, pc

YES, NO = ("true", "t", "yes", "y", "1"), ("false", "f", "no", "n", "0")


def fitted(column: pa.Array, kind: pa.DataType) -> tuple[pa.Array, npt.NDArray[np.int64]]:
    """A column in a type, and the rows whose values do not fit (null in the result).

    Args:
        column: what arrived.
        kind: the type that is wanted.
    """
    if column.type == kind:
        return column, np.zeros(0, dtype=np.int64)
    try:
        return _cast(column, kind), np.zeros(0, dtype=np.int64)
    except (pa.ArrowException, ValueError):
        pass
    there = np.flatnonzero(column.is_valid().to_numpy(zero_copy_only=False)).tolist()
    bad = np.array([row for row in there if not _fits(column.slice(row, 1), kind)], dtype=np.int64)
    if len(bad) == len(column) - column.null_count:
        return pa.nulls(len(column), kind), bad
    mask = np.zeros(len(column), dtype=np.bool_)
    mask[bad] = True
    return _cast(pc.if_else(pa.array(mask), pa.scalar(None, column.type), column), kind), bad


def readable(kind: pa.DataType) -> pa.DataType:
    """In what type Arrow's readers of text are to read a column: in its own, if they mean by every text what ``fitted`` means.

    Bytes are written as hexadecimal digits, which those take for the bytes themselves; dates and times of day, as text, which
    those take numbers for.
    """
    alike = (
        pa.types.is_integer(kind)
        or pa.types.is_floating(kind)
        or pa.types.is_boolean(kind)
        or pa.types.is_string(kind)
        or pa.types.is_dictionary(kind)
        or pa.types.is_decimal(kind)
    )
    return kind if alike else pa.string()


def overflows(column: pa.Array) -> bool:
    """Whether decimals hold more digits than their type says. (Arrow's readers of text let them pass.)"""
    if not pa.types.is_decimal(column.type) or column.null_count == len(column):
        return False
    most = Decimal(10) ** (column.type.precision - column.type.scale)
    ends = pc.min_max(column).as_py()
    return bool(ends["min"] <= -most or ends["max"] >= most)


def _fits(one: pa.Array, kind: pa.DataType) -> bool:
    try:
        _cast(one, kind)
    except (pa.ArrowException, ValueError):
        return False
    return True


def _cast(column: pa.Array, kind: pa.DataType) -> pa.Array:
    found = column.type
    if pa.types.is_null(found):
        return pa.nulls(len(column), kind)
    if pa.types.is_dictionary(found):
        return _cast(column.cast(found.value_type), kind)
    if pa.types.is_string(found) or pa.types.is_large_string(found):
        return _from_text(column, kind)
    if is_nested(found) and pa.types.is_string(kind):
        return pa.array(
            [None if value is None else json.dumps(ready(value), ensure_ascii=False) for value in _values(column)]
        )
    if pa.types.is_duration(found) and pa.types.is_integer(kind):
        return column.cast(pa.duration("us")).cast(pa.int64()).cast(kind)
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return column.cast(kind)
    if pa.types.is_boolean(kind) and pa.types.is_integer(found):
        if pc.any(pc.and_(pc.not_equal(column, 0), pc.not_equal(column, 1))).as_py():
            raise ValueError("not a boolean")
        return column.cast(kind)
    if pa.types.is_boolean(found) != pa.types.is_boolean(kind) or pa.types.is_temporal(found) != pa.types.is_temporal(
        kind
    ):
        raise ValueError(f"{found} is not {kind}")
    return column.cast(kind)


def _values(column: pa.Array) -> list[Any]:
    """Nested values of Python's; maps with texts for keys as objects."""
    texts = pa.types.is_map(column.type) and pa.types.is_string(column.type.key_type)
    return column.to_pylist(maps_as_pydicts="strict") if texts else column.to_pylist()


def _from_text(column: pa.Array, kind: pa.DataType) -> pa.Array:
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return column.cast(kind)
    if pa.types.is_boolean(kind):
        low = pc.utf8_lower(column)
        yes, no = (pc.is_in(low, value_set=pa.array(words, low.type)) for words in (YES, NO))
        if pc.any(pc.invert(pc.or_(pc.or_(yes, no), column.is_null()))).as_py():
            raise ValueError("not a boolean")
        return pc.if_else(column.is_valid(), yes, None)
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return pa.array([None if value is None else unhexed(value) for value in column.to_pylist()], kind)
    if pa.types.is_decimal(kind):
        return _decimals(column, kind)
    if pa.types.is_time(kind):  # Arrow reads a time of day only as part of a timestamp
        return pc.binary_join_element_wise("1970-01-01", column, " ").cast(pa.timestamp("us")).cast(kind)
    if pa.types.is_timestamp(kind) and kind.tz is not None:
        return times(column).cast(kind)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        found = pc.utf8_trim_whitespace(column).cast(kind)
        if has_infinite(found) and any(map(str.isdigit, "".join(column.filter(pc.is_inf(found)).to_pylist()))):
            raise ValueError("a number is larger than any of its type")
        return found
    return column.cast(kind)


def has_infinite(column: pa.Array) -> bool:
    """Whether numbers are infinite, as those that are too large for their type become where Arrow reads text."""
    return bool(pa.types.is_floating(column.type) and pc.any(pc.is_inf(column)).as_py())


def times(column: pa.Array) -> pa.Array:
    """Texts as times in UTC; one that names no zone is in UTC."""
    for kind in (utc_time(), pa.timestamp("us")):  # all with a zone, or all without
        try:
            return column.cast(kind).cast(utc_time())
        except pa.ArrowException:
            pass
    zoned = pc.fill_null(pc.match_substring_regex(column, r"(?i)(z|[+-]\d\d(:?\d\d)?)$"), False)
    dated = pc.fill_null(pc.match_substring_regex(column, r"^\d{4}-\d\d-\d\d$"), False)
    ending = pc.if_else(dated, "T00:00:00Z", pc.if_else(zoned, "", "Z"))
    return pc.binary_join_element_wise(column, ending, "").cast(utc_time())


def _decimals(column: pa.Array, kind: pa.DataType) -> pa.Array:
    try:
        return column.cast(kind)
    except pa.ArrowException:  # Arrow is strict about zeros at the end and exponents; Python is not
        try:
            return pa.array([None if value is None else Decimal(value) for value in column.to_pylist()], kind)
        except ArithmeticError:
            raise ValueError("not a decimal") from None


def unhexed(text: str) -> bytes:
    """Bytes out of ``0x..``, ``\\x..`` or bare hexadecimal digits.

    Raises:
        ValueError: it is none of these.
    """
    return bytes.fromhex(text.removeprefix("0x").removeprefix("\\x"))


def shown(column: pa.Array, row: int) -> str:
    """A value for messages. (Python has no time with nanoseconds, but pandas', which is not always there.)"""
    if pa.types.is_temporal(column.type):
        return str(column.slice(row, 1).cast(pa.string())[0].as_py())
    value = column[row].as_py()
    return f"0x{value.hex()}" if isinstance(value, bytes) else repr(value)


def as_dicts(rows: pa.Table) -> list[dict[str, Any]]:
    """Rows as values of Python's; times with nanoseconds as texts."""
    for place, field in enumerate(rows.schema):
        if pa.types.is_temporal(field.type) and getattr(field.type, "unit", "") == "ns":
            rows = rows.set_column(place, field.name, rows[field.name].cast(pa.string()))
    found: list[dict[str, Any]] = rows.to_pylist()
    return found


def as_text(column: pa.Array) -> pa.Array:
    """Any column as texts: codes and positions are compared so. Bytes become ``0x`` and hexadecimal digits."""
    if (
        pa.types.is_binary(column.type)
        or pa.types.is_large_binary(column.type)
        or pa.types.is_fixed_size_binary(column.type)
    ):
        return pa.array([None if value is None else "0x" + value.hex() for value in column.to_pylist()], pa.string())
    if pa.types.is_dictionary(column.type):
        return as_text(column.cast(column.type.value_type))
    return column.cast(pa.string())


def truthy(column: pa.Array) -> npt.NDArray[np.bool_]:
    """Where a column says yes: a true, a number that is not 0, a word such as ``yes``, or any time at all."""
    kind = column.type
    if pa.types.is_null(kind):
        return np.zeros(len(column), dtype=np.bool_)
    if pa.types.is_temporal(kind):
        said = column.is_valid()
    elif pa.types.is_boolean(kind):
        said = column
    elif pa.types.is_integer(kind) or pa.types.is_floating(kind):
        said = pc.not_equal(column, 0)
    else:
        low = pc.utf8_lower(as_text(column))
        said = pc.invert(pc.is_in(low, value_set=pa.array([*NO, ""])))
    return np.asarray(pc.fill_null(pc.and_kleene(said, column.is_valid()), False).to_numpy(zero_copy_only=False))


def common(kinds: Iterable[pa.DataType]) -> pa.DataType:
    """The narrowest type that holds values of all these types."""
    found = [kind for kind in kinds if not pa.types.is_null(kind)]
    if not found:
        return pa.string()
    if all(kind == found[0] for kind in found):
        return found[0]
    if all(pa.types.is_integer(kind) for kind in found):
        return pa.int64()
    if all(pa.types.is_integer(kind) or pa.types.is_floating(kind) for kind in found):
        return pa.float64()
    return pa.string()
