"""The words of the flat form: operations, and the prefixes of old and new values. Imports nothing heavy."""

from __future__ import annotations

from enum import IntEnum

WAS, NOW = "was.", "now."
# Where old values are not told: whether an update left every value as it was.
SAME = "same"
# The number of a change as its row's key, where rows have none.
ROW = "plainstep.row"
# What a change tells of the row before it: there was none, there was one, or nothing.
ABSENT, PRESENT, UNKNOWN = 0, 1, 2


class Op(IntEnum):
    """What a change did. A small number in memory; outside, always the word."""

    INSERT = 1
    UPDATE = 2
    DELETE = 3
    TRUNCATE = 4
    PUT = 5

    @property
    def word(self) -> str:
        """The operation as people read it."""
        return self.name.lower()
