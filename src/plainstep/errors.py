"""Every error Plain Step raises on purpose.

An error says what happened, why it matters, and what to run next, in three lines at most.
"""

from __future__ import annotations

import difflib
from collections.abc import Collection, Sequence
from importlib.util import find_spec
from typing import Any

from plainstep.redaction import redacted


class PlainStepError(Exception):
    """The base of all errors raised on purpose.

    Args:
        what: what happened, in one line.
        why: why it matters, in one line, or empty.
        next: what to run or do next, in one line, or empty.

    Attributes:
        load: the load that it is about, where a project raised it for one.
        outcomes: what every load's step or check came to, this one's among them, where a project raised it for some.
    """

    exit_status = 1
    load: str = ""
    outcomes: Sequence[Any] = ()

    def __init__(self, what: str, why: str = "", next: str = "") -> None:
        what, why, next = redacted(what), redacted(why), redacted(next)
        super().__init__(what)
        self.what, self.why, self.next = what, why, next

    def __str__(self) -> str:
        return "\n".join(line for line in (self.what, self.why, self.next) if line)

    def __reduce__(self) -> tuple[Any, ...]:
        """Errors come from other processes as they were raised there, whatever their classes take to be made."""
        return _raised_elsewhere, (type(self), self.args, self.__dict__)


def _raised_elsewhere(kind: type[PlainStepError], args: tuple[Any, ...], said: dict[str, Any]) -> PlainStepError:
    error = kind.__new__(kind, *args)
    error.__dict__.update(said)
    return error


class StoreError(PlainStepError):
    """A store cannot be reached, is locked, or failed."""


class Unreachable(StoreError):
    """A server cannot be connected to."""


class LostConnection(StoreError):
    """A connection was cut, or its transaction had to give way. Nothing was written; it may be done again."""


class ConfigError(PlainStepError):
    """The configuration or the command's words are wrong."""

    exit_status = 2


class DataError(PlainStepError):
    """Changes that cannot be right: a null in a key, an unknown operation, a value of another type."""

    exit_status = 4


class BadValue(DataError):
    """A value that does not fit its column.

    Args:
        column: the column.
    """

    def __init__(self, what: str, why: str, next: str, column: str) -> None:
        super().__init__(what, why, next)
        self.column = column


class BadRow(DataError):
    """A row of a feed that contradicts its layout."""


class Refused(PlainStepError):
    """The step would lose or double something, so it is not made."""

    exit_status = 4


class ChangesGone(Refused):
    """Changes that a load was going on from are gone at its source, so that what is left of them does not tell of every row."""


class NoRows(Refused):
    """A feed holds no rows now, and it takes some to know what they are made of."""


class WatermarkMoved(PlainStepError):
    """Another step moved the watermark first. Nothing was written; the step may be made again."""


def unknown(what: str, name: str, known: Collection[str], usage: str = "") -> ConfigError:
    """The error for a name that is not there, with the nearest that is."""
    near = difflib.get_close_matches(name, list(known), 1)
    return ConfigError(
        f"There is no {what} {name!r}.",
        f"Did you mean {near[0]!r}?" if near else f"Known: {', '.join(known) or 'none'}.",
        usage,
    )


def need(library: str, extra: str, what: str) -> None:
    """Refuse what needs a library that is not installed.

    Args:
        library: the library.
        extra: the extra of Plain Step that installs it.
        what: what needs it, as a sentence without its end.

    Raises:
        ConfigError: it is not installed.
    """
    try:
        found = find_spec(library)
    except ModuleNotFoundError:  # of a library within another
        found = None
    if found is None:
        raise ConfigError(f"{what}, and {library} is not installed.", "", f"pip install 'plainstep[{extra}]'")


def need_pandas() -> None:
    """Refuse to make a frame where pandas is not installed.

    Raises:
        ConfigError: it is not.
    """
    need("pandas", "pandas", "to_pandas() makes a pandas DataFrame")
