"""SQLite's declared types and Arrow's, and values that must fit them.

SQLite lets any value stand in any column. What is declared is what is meant: a value that does not fit is
refused with its row, never bent into shape.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import cache
from typing import Any

from msgspec import Struct

from plainstep.deferred import pa, pc
from plainstep.errors import DataError
from plainstep.stores.declared_types import DECLARE_IT, arrow_type
from plainstep.stores.misfit import converted

__all__ = ["arrow_type"]

# SQLite keeps at most this many digits of a number that is not an integer. Decimals with more are kept as text.
DIGITS_IN_A_REAL = 15


class Column(Struct, frozen=True):
    """A column of a SQLite table: its name, its declared type, and the Arrow type that means."""

    name: str
    declared: str
    kind: pa.DataType

    def read_sql(self, quoted: str) -> str:
        """How to select the column, so that its values come ready for ``to_arrow``."""
        if not pa.types.is_decimal(self.kind):
            return quoted
        as_text = f"CAST({quoted} AS TEXT)"
        if self.kind.precision <= DIGITS_IN_A_REAL:
            return as_text
        # As a text, a real has 15 digits, though it tells large numbers apart by more.
        large = f"typeof({quoted}) = 'real' AND abs({quoted}) >= 1e{DIGITS_IN_A_REAL - self.kind.scale}"
        return f"CASE WHEN {large} THEN printf('%!.{self.kind.scale}f', {quoted}) ELSE {as_text} END"


def declaration(kind: pa.DataType) -> str:
    """The declared type under which a column of an Arrow type is kept in SQLite.

    Raises:
        DataError: SQLite has nothing to hold it.
    """
    for test, written in declarations():
        if test(kind):
            return written
    if pa.types.is_decimal(kind):
        name = "DECIMAL" if kind.precision <= DIGITS_IN_A_REAL else "DECIMALTEXT"
        return f"{name}({kind.precision},{kind.scale})"
    raise DataError(
        f"SQLite has no type for {kind}.",
        "",
        DECLARE_IT,
    )


@cache
def declarations() -> list[tuple[Callable[[pa.DataType], bool], str]]:
    """How types are declared, each behind what tells it."""
    return [
        (pa.types.is_boolean, "BOOLEAN"),
        (pa.types.is_integer, "INTEGER"),
        (pa.types.is_floating, "REAL"),
        (pa.types.is_date, "DATE"),
        (pa.types.is_time, "TIME"),
        (lambda kind: pa.types.is_timestamp(kind) and kind.tz is None, "TIMESTAMP"),
        (pa.types.is_timestamp, "TIMESTAMPTZ"),
        (lambda kind: pa.types.is_string(kind) or pa.types.is_large_string(kind), "TEXT"),
        (lambda kind: pa.types.is_binary(kind) or pa.types.is_large_binary(kind), "BLOB"),
    ]


def column_of(table: str, name: str, declared: str, types: dict[str, str]) -> Column:
    """A column, by what is said of it in a load, or else by its declared type. What is said to be text is read as text.

    Raises:
        DataError: the type is none that is known.
    """
    said = types.get(name, declared)
    kind = arrow_type(table, name, said)
    return (Untyped if name in types and pa.types.is_string(kind) else Column)(name, said, kind)


class Untyped(Column, frozen=True):
    """A column whose declared type does not say what it holds, read as text."""

    def read_sql(self, quoted: str) -> str:
        """How to select the column."""
        return f"CASE typeof({quoted}) WHEN 'blob' THEN '0x' || hex({quoted}) ELSE CAST({quoted} AS TEXT) END"


def to_arrow(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    """SQLite's values as an Arrow array.

    Args:
        values: what SQLite gave: None, int, float, str or bytes.
        kind: the type they must fit.

    Raises:
        Misfit: a value is of another kind, or does not fit.
    """
    return converted(values, lambda some: _strictly(some, kind))


def _strictly(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    found = pa.array(values)
    if found.type == kind:
        return found
    if pa.types.is_null(found.type):
        return pa.nulls(len(found), kind)
    if pa.types.is_floating(kind) and pa.types.is_integer(found.type):
        return found.cast(kind)
    if pa.types.is_boolean(kind) and pa.types.is_integer(found.type):
        if pc.any(pc.and_(pc.not_equal(found, 0), pc.not_equal(found, 1))).as_py():
            raise ValueError("not a boolean")
        return found.cast(kind)
    if pa.types.is_string(found.type) and not (pa.types.is_integer(kind) or pa.types.is_floating(kind)):
        if pa.types.is_decimal(kind):
            return _decimals(values, found, kind)
        if pa.types.is_time(kind):  # Arrow reads a time of day only as part of a timestamp
            found = pc.binary_join_element_wise("1970-01-01", found, " ").cast(pa.timestamp("us"))
        if pa.types.is_temporal(kind):
            return found.cast(kind)
    raise ValueError(f"{found.type} is not {kind}")


def _decimals(values: Sequence[Any], found: pa.Array, kind: pa.DataType) -> pa.Array:
    try:
        return found.cast(kind)
    except pa.ArrowException:  # Arrow is strict about zeros at the end and exponents; Python is not
        try:
            return pa.array([None if value is None else Decimal(value) for value in values], kind)
        except ArithmeticError:
            raise ValueError("not a decimal") from None


def to_sqlite(column: pa.Array) -> list[Any]:
    """An Arrow column as values that SQLite keeps."""
    kind = column.type
    if pa.types.is_floating(kind) and pc.any(pc.is_nan(column)).as_py():
        raise DataError(
            "A column of floating-point numbers holds NaN, which SQLite keeps as null.",
            "Merging it would lose it.",
            "Fix the value at the source, or merge into another kind of store.",
        )
    if pa.types.is_decimal(kind):
        return column.cast(pa.string()).to_pylist()
    if pa.types.is_timestamp(kind):
        return _times(column, kind.tz)
    if pa.types.is_time(kind):
        return column.cast(pa.time64("us")).cast(pa.string()).to_pylist()
    if pa.types.is_date(kind):
        _refuse_no_days(column)
        return column.cast(pa.string()).to_pylist()
    if pa.types.is_boolean(kind):
        return column.cast(pa.int8()).to_pylist()
    return column.to_pylist()


def _refuse_no_days(column: pa.Array) -> None:
    """Refuse times that no calendar has, such as infinite ones: as texts, they would say something else."""
    years = pc.year(column)
    if pc.any(pc.or_(pc.less(years, 1), pc.greater(years, 9999))).as_py():
        raise DataError(
            "A column of times holds one before the year 1 or after 9999, or an infinite one, which SQLite cannot keep.",
            "Written as a text, it would be read as something else, or not at all.",
            "Fix the value at the source, leave the column out ('columns'), or merge into another kind of store.",
        )


def _times(column: pa.Array, zone: str | None) -> list[str | None]:
    """Times as text, without a fraction where there is none: that is how SQLite's own functions write them."""
    coded = column.cast(pa.timestamp("us", zone)).cast(pa.timestamp("us")).dictionary_encode()
    _refuse_no_days(coded.dictionary)
    marker = "" if zone is None else "+00:00"
    # Written once for each time: the changes of one transaction, or of one step, have the same.
    texts = [value.removesuffix(".000000") + marker for value in coded.dictionary.cast(pa.string()).to_pylist()]
    return [None if index is None else texts[index] for index in coded.indices.to_pylist()]
