"""How values are written for people, in a terminal, a page or a notebook: in one line, times in local time with their zone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

# Letters of a value that are shown: two of them, old and new, fit a line of 140.
LONGEST_VALUE = 60


def many(number: int, noun: str) -> str:
    """A number of things."""
    return f"{number:,} {noun}" + ("" if number == 1 else "s")


def size(number: int) -> str:
    """A number of bytes, in the largest unit that tells it."""
    for unit, name in ((1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")):
        if number >= unit:
            return f"{number / unit:.1f} {name}"
    return f"{number} bytes"


def printable(value: str) -> str:
    """A text without anything that would do something to a terminal."""
    return "".join(letter if letter.isprintable() else repr(letter)[1:-1] for letter in value)


def shown(value: Any) -> str:
    """A value in one line, safe for a terminal."""
    if value is None:
        return "null"
    if isinstance(value, bytes):
        told = f"{len(value):,} bytes" if len(value) > 16 else "0x" + value.hex()
    elif isinstance(value, datetime) and value.tzinfo:
        told = local(value)
    else:
        told = str(value)
    told = printable(told)
    return told if len(told) <= LONGEST_VALUE else told[: LONGEST_VALUE - 3] + "..."


def local(time: datetime | None) -> str:
    """A time in local time with its zone."""
    return "-" if time is None else time.astimezone().strftime("%Y-%m-%d %H:%M:%S %Z")


def span(seconds: float | None) -> str:
    """A length of time, in the largest unit that tells it."""
    if seconds is None:
        return "-"
    for size, unit in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {unit}"
    return f"{seconds:.0f} s"


def counts(found: dict[str, int]) -> str:
    """How many of each, in words."""
    return ", ".join(f"{number:,} {word}" for word, number in found.items() if number) or "nothing"


def number(value: float | None) -> str:
    """A number with its thousands told apart."""
    return "-" if value is None else f"{value:,}"


def aligned(columns: Mapping[str, Sequence[Any]]) -> str:
    """A table in plain text: a line of heads, then a line a row; numbers to the right."""
    made = []
    for name, values in columns.items():
        cells = [name, *("-" if value is None else shown(value) for value in values)]
        width = max(map(len, cells))
        is_number = all(value is None or isinstance(value, (int, float)) for value in values)
        made.append([cell.rjust(width) if is_number else cell.ljust(width) for cell in cells])
    return "\n".join("  ".join(cells).rstrip() for cells in zip(*made, strict=True))


def row_told(row: dict[str, Any] | None) -> str:
    """A row in one line."""
    return "not there" if row is None else "; ".join(f"{name} {shown(value)}" for name, value in row.items())


def what_changed(row: dict[str, Any], key: tuple[str, ...]) -> str:
    """The values of a change, as ``rows.changes`` gives it: what an update changed, or the row that came or went."""
    if row["op"] == "update":
        was, now = row["was"], row["now"]
        parts = [
            f"{name} {shown(was[name])} -> {shown(now[name])}" if name in was else f"{name} -> {shown(now[name])}"
            for name in row["changed"]
        ]
        return "; ".join(parts) or "no value"
    image = (row["was"] if row["op"] == "delete" else row["now"]) or {}
    told = [(name, value) for name, value in image.items() if name not in key]
    if row["op"] != "put":  # a null that is put may take the place of a value
        told = [(name, value) for name, value in told if value is not None]
    return "; ".join(f"{name} {shown(value)}" for name, value in told)
