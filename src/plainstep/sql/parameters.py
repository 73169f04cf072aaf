"""Values in queries that people write: where ``:name`` stands for one."""

from __future__ import annotations

import re
from collections.abc import Callable

# What is no place for a value: texts, names in quotes, comments, and PostgreSQL's casts and texts in dollars. A colon after a
# letter, a digit or a bracket is one of its slices.
STANDARD = r"'(?:[^']|'')*'"
BACKSLASHES = r"'(?:[^'\\]|\\.|'')*'"
REST = r""""(?:[^"]|"")*"|`(?:[^`]|``)*`|--[^\n]*|/\*.*?\*/|\$(?P<tag>\w*)\$.*?\$(?P=tag)\$|::|(?<![\w\]:]):(?P<name>[A-Za-z_]\w*)"""


def named(sql: str) -> set[str]:
    """The names of the values that a query takes."""
    found: set[str] = set()

    def note(name: str) -> str:
        found.add(name)
        return ""

    replaced(sql, note)
    return found


def replaced(
    sql: str, value: Callable[[str], str], other: Callable[[str], str] = str, backslashes: bool = False
) -> str:
    """A query with something else for each of its values.

    Args:
        sql: the query.
        value: gives what stands for a value, by its name.
        other: gives what stands for any other part.
        backslashes: whether a backslash in a text escapes what follows it.
    """
    parts, end = list[str](), 0
    for found in re.finditer(f"{BACKSLASHES if backslashes else STANDARD}|{REST}", sql, re.DOTALL):
        parts += [other(sql[end : found.start()]), value(found["name"]) if found["name"] else other(found[0])]
        end = found.end()
    return "".join([*parts, other(sql[end:])])
