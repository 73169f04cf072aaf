"""What people write for a position or a time: ``17``, ``2026-05-04T09:30``, ``3h``, ``yesterday``, ``start``, ``head``."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from plainstep.core.durations import duration
from plainstep.core.position_labels import iso_time
from plainstep.errors import ConfigError

# A position as the source calls it, a time, how long ago, or one of the words.
Point = int | str | datetime | timedelta

WORDS = ("start", "head")
# Days that have a name, and how many days ago they began.
DAYS = {"today": 0, "yesterday": 1}


def moment_of(said: Point, now: datetime | None = None) -> datetime | None:
    """The time that a person means (UTC), or None if it is not a time.

    Args:
        said: a time (without a zone: local time), a length of time (that long ago), or text: ISO 8601, a time ago such as
            ``3h``, ``today`` or ``yesterday`` (the moment at which that day began here).
        now: what they count from; default: now.
    """
    if isinstance(said, datetime):
        return said.astimezone(UTC)
    if isinstance(said, timedelta):
        return (now or datetime.now(UTC)) - said
    if not isinstance(said, str) or said.strip().isdigit():  # a date is written with dashes: 20260504 is a position
        return None
    text = said.strip()
    if text in DAYS:
        day = (now or datetime.now(UTC)).astimezone().date() - timedelta(days=DAYS[text])
        return datetime(day.year, day.month, day.day).astimezone(UTC)
    ago = duration(text)
    if ago is not None:
        return (now or datetime.now(UTC)) - ago
    moment = iso_time(text)
    return moment.astimezone(UTC) if moment else None


def parse_point(said: Point) -> int | datetime | str:
    """Read what a person wrote for a position.

    Returns:
        The position, the time (aware, UTC), or ``start`` or ``head``.

    Raises:
        ConfigError: it is none of these.
    """
    if isinstance(said, int):
        return said
    time = moment_of(said)
    if time is not None:
        return time
    text = str(said).strip()
    if text in WORDS:
        return text
    if text.isdigit():
        return int(text)
    raise ConfigError(
        f"{text!r} is not a position.",
        "A position is a number, a time such as 2026-05-04T09:30 (ISO 8601), a time ago such as 3h, today, yesterday, "
        "start or head.",
    )


def parse_time(said: Point) -> datetime:
    """Read a time that a person wrote: as ``moment_of`` does.

    Raises:
        ConfigError: it is not a time.
    """
    time = moment_of(said)
    if time is None:
        raise ConfigError(
            f"{said!r} is not a time.",
            "A time is written as in 2026-05-04T09:30 (ISO 8601), 3h (ago), today or yesterday.",
        )
    return time
