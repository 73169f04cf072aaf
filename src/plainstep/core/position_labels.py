"""Positions that are not numbers: one or several values, written as one text that people can read and type."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from plainstep.core.durations import duration
from plainstep.errors import ConfigError

# How a time begins. Python takes any character between day and time: an id such as 1796050151906-15, which begins like a day, too.
ISO_DATE = re.compile(r"\d{4}(-?\d\d-?\d\d|-?W\d\d(-?\d)?)($|[Tt ])")


def joined(parts: list[str]) -> str:
    """Several values as one text, with slashes between them."""
    return parts[0] if len(parts) == 1 else "/".join(part.replace("%", "%25").replace("/", "%2F") for part in parts)


def parted(label: str, count: int) -> list[str]:
    """The values of such a text.

    Raises:
        ConfigError: there are not so many.
    """
    if count == 1:
        return [label]
    parts = [part.replace("%2F", "/").replace("%25", "%") for part in label.split("/")]
    if len(parts) != count:
        raise ConfigError(
            f"{label!r} is not a position here.", f"A position is {count} values with slashes between them."
        )
    return parts


# Beyond it, all numbers are as one: they are kept in 64 bits.
LARGEST = 2**63 - 1


def number(label: str) -> int:
    """A number that never falls as positions rise: the first value, if it is a number or a time; else 0."""
    first = label.split("/")[0]
    if re.fullmatch(r"-?\d+", first):
        return max(-LARGEST, min(int(first), LARGEST))
    moment = as_time(first)
    return int(moment.timestamp() * 1_000_000) if moment else 0


def shown_as(label: str) -> int | str:
    """A position as people see it: a number, if it is written as numbers are, and otherwise a text."""
    return int(label) if re.fullmatch(r"0|[1-9]\d*", label) else label


def lies_within(label: str, upto: str) -> bool | None:
    """Whether a position is not after another one, where numbers tell it: one each, or one of each partition; None where not."""
    if isinstance(shown_as(label), int) and isinstance(shown_as(upto), int):
        return int(label) <= int(upto)
    name, sign, place = label.rpartition("=")
    ends = dict(part.rpartition("=")[::2] for part in upto.split(","))
    if not sign or not re.fullmatch(r"-?\d+", place):
        return None
    end = ends.get(name, "-1")  # a partition that is not named was not there yet
    return int(place) <= int(end) if re.fullmatch(r"-?\d+", end) else None


def iso_time(text: str) -> datetime | None:
    """A text as the time that it is in ISO 8601, with a zone or without, or None if it is none."""
    try:
        return datetime.fromisoformat(text) if ISO_DATE.match(text) else None
    except ValueError:
        return None


def as_time(text: str) -> datetime | None:
    """The same in UTC, which is where it is if it names no zone."""
    moment = iso_time(text)
    return moment.replace(tzinfo=UTC) if moment and moment.tzinfo is None else moment


def overlap_of(said: str | int) -> int | timedelta | None:
    """How far to go back: a number, or a time such as ``90s``, ``10m``, ``2h`` or ``1d``; None where nothing is said.

    Raises:
        ConfigError: it is neither.
    """
    if said == "":
        return None
    if isinstance(said, int) or said.isdigit():
        return int(said)
    found = duration(said)
    if not found:
        raise ConfigError(
            f"overlap = {said!r} is not a valid overlap.",
            "",
            "An overlap is a number, or a time such as 90s, 10m, 2h or 1d.",
        )
    return found


def earlier(value: str, overlap: int | timedelta) -> str:
    """A position's first value, moved back; a time stays written as it was.

    Raises:
        ConfigError: a time is to be moved by a number, or a number by a time.
    """
    if isinstance(overlap, int) and re.fullmatch(r"-?\d+", value):
        return str(int(value) - overlap)
    moment = as_time(value)
    if isinstance(overlap, int) or moment is None:
        unit = "a number" if isinstance(overlap, int) else "a time"
        raise ConfigError(
            f"The overlap is {unit}, but the position is {value!r}.", "", "Give an overlap of the same kind."
        )
    body, fraction, zone = re.findall(r"^(\d{4}-\d\d-\d\d(?:.\d\d:\d\d(?::\d\d)?)?)(\.\d+)?(.*)$", value)[0]
    written = (moment - overlap).isoformat(sep="T" if "T" in body else " ", timespec="microseconds")
    return written[: len(body)] + written[19 : 19 + len(fraction)].ljust(len(fraction), "0") + zone
