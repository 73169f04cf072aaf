"""Lengths of time, as people write them."""

from __future__ import annotations

import re
from datetime import timedelta

UNITS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86400}


def duration(text: str) -> timedelta | None:
    """A length of time out of ``30s``, ``5min``, ``72h`` or ``7d``; None if it is none."""
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(s|min|m|h|d)\s*", text)
    return timedelta(seconds=float(found[1]) * UNITS[found[2]]) if found else None
