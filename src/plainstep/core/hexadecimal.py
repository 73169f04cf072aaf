"""Positions that are hexadecimal numbers, or several of them: as texts that are in the order of the numbers."""

from __future__ import annotations

import re

from plainstep.deferred import pa, pc

# What stands between numbers, and as many digits as one may have.
BETWEEN, DIGITS = "/:. -", 40


def parts_in(text: str) -> int:
    """How many numbers a text holds."""
    return max(len(re.findall("[0-9A-Fa-f]+", text)), 1)


def in_order(texts: pa.Array, parts: int) -> pa.Array:
    """Texts that are in the order of the numbers, with slashes between them; null for what does not hold so many."""
    one = f"[0-9A-Fa-f]{{1,{DIGITS}}}"
    pattern = "[" + re.escape(BETWEEN) + "]"
    pattern = "^" + pattern.join(f"(?P<p{place}>{one})" for place in range(parts)) + "$"
    found = pc.extract_regex(texts, pattern)
    padded = [pc.utf8_lpad(pc.utf8_upper(pc.struct_field(found, f"p{place}")), DIGITS, "0") for place in range(parts)]
    return padded[0] if parts == 1 else pc.binary_join_element_wise(*padded, "/")


def shown(texts: pa.Array) -> pa.Array:
    """Such texts as people write the numbers: without zeros before them."""
    return pc.replace_substring_regex(texts, "(^|/)0+([0-9A-F])", r"\1\2")


def sql_in_order(value: str, parts: int, stripped: str) -> str:
    """The same in SQL, of a value that holds so many numbers.

    Args:
        value: the value, as SQL.
        parts: how many numbers it holds.
        stripped: how the database takes letters off the end of a text: see ``plainstep.stores.dialect``.
    """
    numbers, _ = _taken(value, parts, stripped)
    zeros = "0" * DIGITS
    return " || ".join(f"substr('{zeros}' || upper({one}), length({one}) + 1)" for one in numbers)


def sql_fits(value: str, parts: int, stripped: str) -> str:
    """Whether a value holds so many numbers and nothing else, as SQL."""
    numbers, rest = _taken(value, parts, stripped)
    return " AND ".join([f"length({one}) BETWEEN 1 AND {DIGITS}" for one in numbers] + [f"length({rest}) = 0"])


def _taken(value: str, parts: int, stripped: str) -> tuple[list[str], str]:
    """The numbers that a value ends in, and what stands before them, as SQL."""
    numbers: list[str] = []
    for _ in range(parts):
        before = stripped.format(value=value, letters="0123456789abcdefABCDEF")
        numbers.insert(0, f"substr({value}, length({before}) + 1)")
        value = stripped.format(value=before, letters=BETWEEN)
    return numbers, value
