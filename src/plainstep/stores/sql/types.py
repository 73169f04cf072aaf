"""Types and values: SQLAlchemy's and the drivers', and Arrow's."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from plainstep.deferred import pa
from plainstep.errors import DataError
from plainstep.stores.declared_types import arrow_type
from plainstep.stores.misfit import converted
from plainstep.stores.row_values import text_of

if TYPE_CHECKING:
    from plainstep.stores.sql.traits import Traits


@dataclass(frozen=True)
class Column:
    """A column of a table.

    Attributes:
        name: its name.
        declared: its type, as the database names it.
        kind: its Arrow type; ``null`` where the declared type does not say what it holds.
        not_null: whether it holds a value in every row.
        computed: whether the table computes it itself.
    """

    name: str
    declared: str
    kind: pa.DataType
    not_null: bool = False
    computed: bool = False


def kind_of(declared: Any) -> pa.DataType:
    """The Arrow type for a type as SQLAlchemy reflects it; ``null`` for what does not say what it holds."""
    if type(declared).__name__.endswith("BLOB"):  # MariaDB's and MySQL's are of no class that others are of
        return pa.binary()
    for of, kind in _kinds():
        if isinstance(declared, of):
            return kind(declared) if callable(kind) else kind
    return pa.null()


def _kinds() -> list[tuple[Any, Any]]:
    return [
        (sa.Boolean, pa.bool_()),
        (sa.Integer, _whole),
        ((sa.Double, sa.REAL, sa.Float), pa.float64()),
        (sa.Numeric, _decimal),
        (sa.DateTime, _time),
        (sa.Date, pa.date32()),
        (sa.Time, pa.time64("us")),
        ((sa.LargeBinary, sa.BINARY, sa.VARBINARY), pa.binary()),
        ((sa.String, sa.JSON, sa.Uuid, sa.Enum, sa.ARRAY), pa.string()),
    ]


def _whole(declared: Any) -> pa.DataType:
    if getattr(declared, "unsigned", False) and isinstance(declared, sa.BigInteger):
        return pa.decimal128(20, 0)
    if getattr(declared, "display_width", None) == 1 and type(declared).__name__ == "TINYINT":
        return pa.bool_()  # what BOOLEAN is in MariaDB and MySQL
    if isinstance(declared, sa.BigInteger):
        return pa.int64()
    return pa.int16() if isinstance(declared, sa.SmallInteger) else pa.int64()


def _decimal(declared: Any) -> pa.DataType:
    digits, scale = declared.precision, declared.scale
    known = digits is not None and scale is not None and 0 <= scale <= digits <= 38
    return pa.decimal128(digits, scale) if known else pa.null()


def _time(declared: Any) -> pa.DataType:
    zoned = declared.timezone or type(declared).__name__ in ("TIMESTAMP_TZ", "TIMESTAMP_LTZ", "DATETIMEOFFSET")
    return pa.timestamp("us", "UTC") if zoned else pa.timestamp("us")


def kind_declared(place: str, name: str, declared: str) -> pa.DataType:
    """The Arrow type for a type as it is declared; ``null`` for what does not say what it holds."""
    try:
        return arrow_type(place, name, declared)
    except DataError:
        return pa.null()


def declaration(field: pa.Field, in_key: bool, traits: Traits) -> str:
    """The type under which a column is made.

    Raises:
        DataError: there is none.
    """
    kind = field.type
    if pa.types.is_decimal(kind):
        return traits.types.get("decimal", "DECIMAL({digits},{scale})").format(digits=kind.precision, scale=kind.scale)
    name = {"large_string": "string", "large_binary": "binary"}.get(str(kind), str(kind))
    if name == "string" and in_key and traits.key_text:
        return traits.key_text
    if name not in traits.types:
        raise DataError(
            f"The column {field.name} is of the type {kind}, for which the target has none.",
            "",
            'Leave it out, or say in the load what to hold it as: types = { COLUMN = "TEXT" }.',
        )
    return traits.types[name]


def to_arrow(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    """A driver's values as an Arrow array.

    Raises:
        Misfit: one does not fit.
    """
    return converted(values, lambda some: _strictly(some, kind))


def _strictly(values: Sequence[Any], kind: pa.DataType) -> pa.Array:
    convert = _converter(kind)
    zoned = (
        pa.types.is_timestamp(kind)
        and kind.tz is None
        and any(isinstance(one, datetime) and one.tzinfo for one in values)
    )
    if not zoned:
        try:
            return pa.array(values, kind)
        except (pa.ArrowException, TypeError, ValueError, OverflowError):
            pass
    return pa.array([None if value is None else convert(value) for value in values], kind)


def _converter(kind: pa.DataType) -> Callable[[Any], Any]:
    for fits, convert in (
        (pa.types.is_string, _text),
        (pa.types.is_binary, bytes),
        (pa.types.is_boolean, _yes_or_no),
        (pa.types.is_integer, _number),
        (pa.types.is_decimal, _exact),
        (pa.types.is_floating, _float),
        (pa.types.is_timestamp, _moment_in(kind)),
        (pa.types.is_date, _day),
        (pa.types.is_time, _time_of_day),
    ):
        if fits(kind):
            return convert
    raise ValueError(kind)


def _text(value: Any) -> str | None:
    return json.dumps(value, ensure_ascii=False, default=str) if isinstance(value, dict | list) else text_of(value)


def _yes_or_no(value: Any) -> bool:
    if value not in (0, 1):
        raise ValueError(value)
    return bool(value)


def _number(value: Any) -> int:
    if isinstance(value, str) or int(value) != value:
        raise ValueError(value)
    return int(value)


def _exact(value: Any) -> Decimal:
    if isinstance(value, float):
        raise ValueError(value)
    try:
        return Decimal(value)
    except ArithmeticError:
        raise ValueError(value) from None


def _float(value: Any) -> float:
    if isinstance(value, str | bool):
        raise ValueError(value)
    return float(value)


def _moment_in(kind: pa.DataType) -> Callable[[Any], datetime]:
    def convert(value: Any) -> datetime:
        if isinstance(value, date) and not isinstance(value, datetime):
            value = datetime(value.year, value.month, value.day)
        moment = datetime.fromisoformat(value) if isinstance(value, str) else value
        if not isinstance(moment, datetime):
            raise ValueError(value)
        utc = moment.astimezone(UTC) if moment.tzinfo else moment
        if getattr(kind, "tz", None):
            return utc.replace(tzinfo=UTC)
        if moment.tzinfo:  # a column without a zone would tell another time
            raise ValueError(value)
        return utc

    return convert


def _day(value: Any) -> date:
    if isinstance(value, datetime):
        if value.time() != time():
            raise ValueError(value)
        return value.date()
    return date.fromisoformat(value)


def _time_of_day(value: Any) -> time:
    if isinstance(value, timedelta):
        return (datetime.min + value).time() if timedelta() <= value < timedelta(days=1) else _never(value)
    return time.fromisoformat(value)


def _never(value: Any) -> time:
    raise ValueError(value)


def to_driver(column: pa.Array, as_texts: bool) -> list[Any]:
    """An Arrow column as values that a driver takes.

    Args:
        column: the column.
        as_texts: whether the database has no types for times and decimals, and keeps texts.
    """
    kind = column.type
    if as_texts and pa.types.is_timestamp(kind):
        marker = "+00:00" if kind.tz else ""
        texts = column.cast(pa.timestamp("us")).cast(pa.string()).to_pylist()
        return [None if one is None else one.removesuffix(".000000") + marker for one in texts]
    if as_texts and (pa.types.is_temporal(kind) or pa.types.is_decimal(kind)):
        return column.cast(pa.string()).to_pylist()
    return column.to_pylist()
