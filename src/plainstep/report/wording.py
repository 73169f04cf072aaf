"""How values are written on the page: what escaping is needed, the template does."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from plainstep.cli.text import local, shown, size, span


def number(value: float | None) -> str:
    """A number with thousands told apart; a dash where there is none."""
    return "-" if value is None else f"{value:,}"


def lag(seconds: float | None) -> str:
    """A length of time."""
    return "-" if seconds is None else span(seconds)


def moment(time: datetime | None) -> str:
    """A time with its zone."""
    return "-" if time is None else local(time)


def bytes_(count: int | None) -> str:
    """A number of bytes."""
    return "-" if count is None else size(count)


FILTERS: dict[str, Callable[[Any], str]] = {
    "number": number, "lag": lag, "moment": moment, "bytes": bytes_, "value": shown,
}  # fmt: skip
