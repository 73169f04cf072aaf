"""What the value of a setting must pass. Each raises ValueError for one that cannot be what it is, and says why, as a clause."""

from __future__ import annotations

from plainstep.core.durations import duration
from plainstep.core.sizes import size_of
from plainstep.deferred import zoneinfo

# The least that a process can be told to keep to.
LEAST_MEMORY = 512 << 20


def length_of_time(value: str) -> None:
    """A length of time."""
    if duration(value) is None:
        raise ValueError("it is not a length of time: write 30s, 5min, 72h or 7d")


def enough_memory(size: str) -> None:
    """As much memory as a step needs."""
    if size_of(size) < LEAST_MEMORY:
        raise ValueError("that is too little: the libraries alone take half of 512MiB; write that or more")


def zone(name: str) -> None:
    """A time zone."""
    try:
        zoneinfo.ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise ValueError("it is not a time zone: write one as in Europe/Oslo") from None


def separator(value: str) -> None:
    """A character between values."""
    if len(value) != 1 or not value.isascii() or value in '"\r\n':
        raise ValueError("it is not one character of ASCII that could stand between values")


def charset(name: str) -> None:
    """A charset in which lines end as in ASCII."""
    try:
        plain = '\n",;'.encode(name) == b'\n",;'
    except LookupError:
        raise ValueError("it is not the name of a charset: write one as in latin-1") from None
    if not plain:
        raise ValueError("its line ends are not those of ASCII, so lines could not be told apart")


def different(names: list[str]) -> None:
    """Names that are different from each other."""
    if len(set(names)) < len(names):
        raise ValueError("a name stands there twice")
