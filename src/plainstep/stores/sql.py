"""How standard SQL writes names and strings."""

from __future__ import annotations

from plainstep.core.words import quoted

__all__ = ["quoted", "since_epoch", "text"]


def text(value: str) -> str:
    """A string as SQL writes it."""
    return "'" + value.replace("'", "''") + "'"


def since_epoch(column: str, seconds: float) -> str:
    """The condition that a whole number, counting seconds or parts of them since 1970, is a later time."""
    scaled = [f"WHEN abs({column}) < 1e{digits} THEN {int(seconds * scale)}" for digits, scale in SCALES]
    return f"{column} > CASE {' '.join(scaled)} ELSE {int(seconds * 1e6) * 1000} END"


# How many digits such a number has at most, and how many of its units make a second.
SCALES = ((11, 1), (14, 10**3), (17, 10**6))
