"""How standard SQL writes names and strings."""

from __future__ import annotations

import math
from decimal import Decimal
from typing import Any


def quoted(name: str, quote: str = '"') -> str:
    """A name as SQL writes it, whatever is in it."""
    return quote + name.replace(quote, 2 * quote) + quote


def text(value: str, backslashes: bool = False) -> str:
    """A string as SQL writes it; ``backslashes`` says whether one has to be written twice."""
    value = value.replace("\\", "\\\\") if backslashes else value
    return "'" + value.replace("'", "''") + "'"


def literal(value: Any, blob: str, backslashes: bool = False) -> str:
    """A value as SQL writes it; ``blob`` is how bytes are written, with ``{}`` for their hexadecimal digits."""
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return str(value).upper()
    if isinstance(value, bytes):
        return blob.format(value.hex())
    if isinstance(value, int | Decimal) or (isinstance(value, float) and math.isfinite(value)):
        return str(value)
    return text(str(value), backslashes)


def insertion(
    table: str, row: dict[str, Any], blob: str, how: str = "", quote: str = '"', backslashes: bool = False
) -> str:
    """The statement that adds a row; see ``literal``. ``how`` stands before its values."""
    values = ", ".join(literal(value, blob, backslashes) for value in row.values())
    return f"INSERT INTO {table} ({', '.join(quoted(name, quote) for name in row)}) {how}VALUES ({values});"


def updating(
    table: str, key: dict[str, Any], values: dict[str, Any], blob: str, quote: str = '"', backslashes: bool = False
) -> str:
    """The statement that changes some values of the row with a key; see ``literal``."""
    sets = ", ".join(f"{quoted(name, quote)} = {literal(value, blob, backslashes)}" for name, value in values.items())
    which = " AND ".join(f"{quoted(name, quote)} = {literal(value, blob, backslashes)}" for name, value in key.items())
    return f"UPDATE {table} SET {sets} WHERE {which};"


def since_epoch(column: str, seconds: float) -> str:
    """The condition that a whole number, counting seconds or parts of them since 1970, is a later time."""
    scaled = [f"WHEN abs({column}) < 1e{digits} THEN {int(seconds * scale)}" for digits, scale in SCALES]
    return f"{column} > CASE {' '.join(scaled)} ELSE {int(seconds * 1e6) * 1000} END"


# How many digits such a number has at most, and how many of its units make a second.
SCALES = ((11, 1), (14, 10**3), (17, 10**6))
