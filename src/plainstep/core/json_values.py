"""Values as JSON has them. Imports nothing heavy."""

from __future__ import annotations

import base64
import math
from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any


def plain(value: Any) -> Any:
    """A value as JSON has it: times ISO 8601 (UTC where they have a zone), decimals as strings, bytes as base64."""
    if isinstance(value, datetime):
        return (value.astimezone(UTC) if value.tzinfo else value).isoformat()
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    return str(value)


def finite(value: Any) -> Any:
    """A number that is none, as text: JSON has no word for it."""
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    return value


def ready(value: Any) -> Any:
    """Values with nothing in them but what JSON has; see ``plain``."""
    if isinstance(value, dict):
        return {str(name): ready(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [ready(one) for one in value]
    return finite(value) if value is None or isinstance(value, bool | int | float | str) else plain(value)
