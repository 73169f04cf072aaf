"""Values at paths within objects."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

Path = tuple[str, ...]


def value_at(document: Any, path: Path) -> Any:
    """What lies at a path, or None where nothing does."""
    for name in path:
        document = document.get(name) if isinstance(document, dict) else None
    return document


def lies_in(path: str, other: str) -> bool:
    """Whether a path with dots is another, or leads into what lies there."""
    return path == other or path.startswith(f"{other}.")


def nested(values: Mapping[Path, Any]) -> dict[str, Any]:
    """An object with values at their paths; without those within a value that is no object."""
    document: dict[str, Any] = {}
    for path, value in values.items():
        inner: Any = document
        for name in path[:-1]:
            inner = inner.setdefault(name, {}) if isinstance(inner, dict) else None
        if isinstance(inner, dict):
            inner[path[-1]] = value
    return document
