"""Sizes as people write them: ``64MiB``."""

from __future__ import annotations

import re

UNITS = {"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}


def size_of(text: str) -> int:
    """How many bytes a size is.

    Args:
        text: a number and a unit: ``B``, ``KiB``, ``MiB`` or ``GiB``.

    Raises:
        ValueError: it is not a size.
    """
    found = re.fullmatch(r"\s*(\d+)\s*(B|KiB|MiB|GiB)\s*", text)
    if found is None:
        raise ValueError(f"{text!r} is not a valid size: a number and a unit, as in 64MiB")
    return int(found[1]) * UNITS[found[2]]
