"""Where in a plainstep.toml something stands, and what is wrong there, in our words."""

from __future__ import annotations

import difflib
import re
from functools import lru_cache
from pathlib import Path

from plainstep.errors import ConfigError
from plainstep.settings.reading import Unfit
from plainstep.settings.renamed import new_name, new_value


def explained(path: Path, text: str, error: Unfit) -> ConfigError:
    """What cannot be what it is, with its line."""
    place, value = list(error.place), error.value
    where, name = f"{path}, line {line_of(text, place)}", ".".join(place)
    renamed = new_name(place) if error.problem == "unknown" else new_value(place[-1], value)
    if renamed:
        what = name if error.problem == "unknown" else f"{name} = {value!r}"
        return ConfigError(f"{where}: {what} was renamed to {renamed!r}.", "", f"Write {renamed!r} instead.")
    if error.problem == "unknown":
        near = difflib.get_close_matches(place[-1], error.known, 1)
        return ConfigError(
            f"{where}: unknown setting {name}.",
            f"Did you mean {near[0]!r}?" if near else f"Known here: {', '.join(error.known)}.",
        )
    if error.problem == "missing":
        return ConfigError(f"{where}: {name} is missing.", "", "docs/configuration.md shows a whole file.")
    if error.problem == "combination":
        return ConfigError(f"{where}: {error.why}.", "", f"Fix {place[-1]!r} in [{'.'.join(place[:-1])}].")
    if error.problem == "table":
        return ConfigError(
            f"{where}: {name} holds settings of its own, not one value.",
            "",
            f"Write [{name if len(place) > 1 or name == 'engine' else f'{name}.NAME'}], and its settings on the lines below it.",
        )
    why = error.why[0].lower() + error.why[1:]
    said = "" if place[0] == "stores" or place[-1] == "deliver" else f" {value!r}"  # it may hold a password
    return ConfigError(f"{where}: {name} is{said or ' not valid'}: {why}.")


def line_of(text: str, place: list[str]) -> int:
    """The line that a setting stands on, or its table's, as far as plain TOML tells; 1 if not found."""
    within, exactly = _lines(text)
    whole = tuple(place)
    if whole in within:
        return within[whole]
    above = (exactly.get(whole[:depth]) for depth in range(len(whole) - 1, 0, -1))
    return next((line for line in above if line), 1)


@lru_cache(maxsize=1)
def _lines(text: str) -> tuple[dict[tuple[str, ...], int], dict[tuple[str, ...], int]]:
    """The first lines that set something in a place, or are its header; and those that set just that. (All that is asked is of one file.)"""
    within: dict[tuple[str, ...], int] = {}
    exactly: dict[tuple[str, ...], int] = {}
    table: list[str] = []
    for number, line in enumerate(text.splitlines(), 1):
        header, setting = re.match(r"\s*\[([^\[\]]+)\]", line), re.match(r"\s*([\w\-\"'.]+)\s*=", line)
        if header:
            found = table = [part.strip().strip("\"'") for part in header[1].split(".")]
        elif setting:
            found = [*table, *(part.strip("\"'") for part in setting[1].split("."))]
        else:
            continue
        exactly.setdefault(tuple(found), number)
        for depth in range(1, len(found) + 1):
            within.setdefault(tuple(found[:depth]), number)
    return within, exactly
