"""Where in a plainstep.toml something stands, and what pydantic found wrong there, in our words."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

from pydantic import BaseModel, ValidationError

from plainstep.errors import ConfigError
from plainstep.settings.layout import LayoutConfig
from plainstep.settings.load import LoadConfig
from plainstep.settings.models import Config, EngineConfig, StoreConfig
from plainstep.settings.renamed import new_name, new_value


def explained(path: Path, text: str, error: ValidationError) -> ConfigError:
    """The first thing that pydantic found wrong, with its line."""
    # What is missing may be there under a misspelt name.
    first = min(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
    place = [str(part) for part in first["loc"]]
    where = f"{path}, line {line_of(text, place)}"
    name = ".".join(place)
    renamed = new_name(place) if first["type"] == "extra_forbidden" else new_value(place[-1], first["input"])
    if renamed:
        what = name if first["type"] == "extra_forbidden" else f"{name} = {first['input']!r}"
        return ConfigError(f"{where}: {what} was renamed to {renamed!r}.", "", f"Write {renamed!r} instead.")
    if first["type"] == "extra_forbidden":
        known = list(_known_keys(place))
        near = difflib.get_close_matches(place[-1], known, 1)
        return ConfigError(
            f"{where}: unknown setting {name}.",
            f"Did you mean {near[0]!r}?" if near else f"Known here: {', '.join(known)}.",
        )
    if first["type"] == "missing":
        return ConfigError(f"{where}: {name} is missing.", "", "docs/configuration.md shows a whole file.")
    if first["type"] == "setting":
        setting = str(first["ctx"]["setting"])
        line = line_of(text, [*place, setting])
        return ConfigError(f"{path}, line {line}: {first['msg']}.", "", f"Fix {setting!r} in [{name}].")
    if first["type"] in ("model_type", "dict_type"):
        table = name if len(place) > 1 else f"{name}.NAME"
        return ConfigError(
            f"{where}: {name} holds settings of its own, not one value.",
            "",
            f"Write [{table}], and its settings on the lines below it.",
        )
    told = first["msg"][0].lower() + first["msg"][1:]
    said = "" if place[0] == "stores" or place[-1] == "deliver" else f" {first['input']!r}"  # it may hold a password
    return ConfigError(f"{where}: {name} is{said or ' not valid'}: {told}.")


def _known_keys(place: list[str]) -> Iterator[str]:
    model: type[BaseModel] = EngineConfig if place[0] == "engine" and len(place) > 1 else Config
    if len(place) > 2:
        model = StoreConfig if place[0] == "stores" else LoadConfig
    if len(place) > 3 and place[2] == "layout":
        model = LayoutConfig
    for name, info in model.model_fields.items():
        yield info.alias or name


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
