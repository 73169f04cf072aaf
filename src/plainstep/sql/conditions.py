"""Expressions of many terms, as trees that grow with the logarithm of their number.

SQLite takes expressions up to 1,000 levels deep, and terms that are written one after the other are a level each. So a few
hundred columns, joined plainly, make a statement fail: also one of the application's, where they stand in a trigger.
"""

from __future__ import annotations

from collections.abc import Iterable


def all_of(conditions: Iterable[str]) -> str:
    """Whether all of some conditions hold; there is at least one."""
    return _balanced(list(conditions), "AND")


def any_of(conditions: Iterable[str]) -> str:
    """Whether any of some conditions holds; there is at least one."""
    return _balanced(list(conditions), "OR")


def sum_of(terms: Iterable[str]) -> str:
    """The sum of some numbers; there is at least one."""
    return _balanced(list(terms), "+")


def _balanced(terms: list[str], word: str) -> str:
    if len(terms) == 1:
        return terms[0]
    half = len(terms) // 2
    return f"({_balanced(terms[:half], word)} {word} {_balanced(terms[half:], word)})"
