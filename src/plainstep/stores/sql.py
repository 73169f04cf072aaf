"""How standard SQL writes names and strings."""

from __future__ import annotations


def quoted(name: str) -> str:
    """A name as SQL writes it, whatever is in it."""
    return '"' + name.replace('"', '""') + '"'


def text(value: str) -> str:
    """A string as SQL writes it."""
    return "'" + value.replace("'", "''") + "'"
