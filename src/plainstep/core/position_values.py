"""Positions as a database gives them: which values can be positions, how they are written, and which comes first."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

from plainstep.core import hexadecimal
from plainstep.core.position_labels import as_time
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused


@dataclass(frozen=True)
class PositionKind:
    """One kind of values that can be positions.

    Attributes:
        name: what they are, in words.
        arrow: their type.
        label: writes one as text.
        value: reads one from its text; ValueError where it is none.
        rank: gives what is in their order, from the text.
        numbers: whether they are numbers or times.
        is_time: whether they are times.
        is_coarse: whether more changes may come at one that was told, as at the present day.
        before: the value just before another one, where that is known.
    """

    name: str
    arrow: pa.DataType
    label: Callable[[Any], str]
    value: Callable[[str], Any]
    rank: Callable[[str], Any]
    numbers: bool = False
    before: Callable[[Any], Any] | None = None
    is_time: bool = False
    is_coarse: bool = False

    def parsed(self, text: str, place: str) -> Any:
        """A position that a person wrote, as the database takes it.

        Raises:
            ConfigError: it is not one.
        """
        try:
            return self.value(text)
        except (ValueError, ArithmeticError):
            raise ConfigError(f"{text!r} is not a position of {place}.", f"Its positions are {self.name}.") from None


def kind_of(value: Any, place: str, is_hexadecimal: bool = False) -> PositionKind:
    """The kind of a position.

    Args:
        value: a position, as the driver gives it.
        place: whose it is, for messages.
        is_hexadecimal: whether texts are hexadecimal numbers.

    Raises:
        Refused: the order of such values is not known.
    """
    if isinstance(value, bytes | bytearray | memoryview):
        return _bytes(len(bytes(value)))
    if isinstance(value, Decimal) and value == value.to_integral_value():
        return _whole("numbers", pa.decimal128(38, 0))
    if isinstance(value, int) and not isinstance(value, bool):
        return _whole("numbers", pa.int64())
    if isinstance(value, datetime):
        return _times(value.tzinfo is not None)
    if isinstance(value, date):
        read = date.fromisoformat
        return PositionKind("dates", pa.date32(), str, read, read, True, _day_before, True, is_coarse=True)
    if isinstance(value, str) and is_hexadecimal:
        return _hexadecimal(hexadecimal.parts_in(value))
    if isinstance(value, str) and as_time(value) is not None and re.match(r"\d{4}-", value):
        return _texts(len(value))
    raise Refused(
        f"The position that {place} gives is {value!r}, and the order of such values is not known.",
        "A later one might be taken for an earlier one, and changes be missed.",
        "Cast it to a number, a time or bytes in the query; or, if it is hexadecimal, name the column: hexadecimal = [...] in the layout.",
    )


def _whole(name: str, arrow: pa.DataType) -> PositionKind:
    return PositionKind(name, arrow, lambda value: str(int(value)), int, int, True, lambda value: int(value) - 1)


def _bytes(length: int) -> PositionKind:
    def value(text: str) -> bytes:
        found = bytes.fromhex(text.removeprefix("0x"))
        if len(found) != length:
            raise ValueError(text)
        return found

    def before(one: Any) -> bytes | None:
        number = int.from_bytes(bytes(one))
        return (number - 1).to_bytes(length) if number else None

    return PositionKind(
        f"{length} bytes, as in 0x{'00' * length}", pa.binary(), lambda one: "0x" + bytes(one).hex(), value, value,
        before=before,
    )  # fmt: skip


def _times(is_zoned: bool) -> PositionKind:
    def value(text: str) -> datetime:
        found = datetime.fromisoformat(text)
        zoned = found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)
        return zoned if is_zoned else zoned.replace(tzinfo=None)

    def label(one: datetime) -> str:
        return (one.astimezone(UTC) if one.tzinfo else one).isoformat()

    arrow = pa.timestamp("us", "UTC") if is_zoned else pa.timestamp("us")
    return PositionKind("times", arrow, label, value, value, True, lambda one: one - timedelta(microseconds=1), True)


def _day_before(value: date) -> date:
    return value - timedelta(days=1)


def _hexadecimal(parts: int) -> PositionKind:
    def rank(text: str) -> tuple[int, ...]:
        numbers = re.split("[" + re.escape(hexadecimal.BETWEEN) + "]", text)
        if len(numbers) != parts:
            raise ValueError(text)
        return tuple(int(one, 16) for one in numbers)

    def value(text: str) -> str:
        rank(text)
        return text

    return PositionKind(f"{parts} hexadecimal number{'s' * (parts > 1)}", pa.string(), str, value, rank)


def _texts(length: int) -> PositionKind:
    def rank(text: str) -> datetime:
        moment = as_time(text)
        if len(text) != length or moment is None:
            raise ValueError(text)
        return moment

    def value(text: str) -> str:
        rank(text)
        return text

    name, is_date = f"times as texts of {length} letters", length <= len("2026-01-02")
    return PositionKind(name, pa.string(), str, value, rank, numbers=True, is_time=True, is_coarse=is_date)
