"""Plain Step: incremental loads, one plain step at a time.

Read the changes in a window, collapse them to net changes, merge them, move the watermark: all in one commit.

    import plainstep

    project = plainstep.load_project("plainstep.toml")
    [outcome] = project.step("tree")
    net = plainstep.collapse(changes, key=["tree_id"])
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainstep.errors import ConfigError, DataError, MarkMoved, PlainStepError, Refused, StoreError

if TYPE_CHECKING:
    from plainstep.beginning import beginning_of
    from plainstep.config import config_schema
    from plainstep.core.collapse import collapse
    from plainstep.core.comparing import Scope
    from plainstep.core.filters import Filter
    from plainstep.core.net import NetChanges
    from plainstep.project import Project, load_project
    from plainstep.step import StepOutcome

__version__ = "0.1.0"

# Loaded when first asked for: `plainstep --help` should not wait for Arrow.
_HOMES = {
    "Filter": "plainstep.core.filters",
    "NetChanges": "plainstep.core.net",
    "Scope": "plainstep.core.comparing",
    "Project": "plainstep.project",
    "StepOutcome": "plainstep.step",
    "beginning_of": "plainstep.beginning",
    "collapse": "plainstep.core.collapse",
    "config_schema": "plainstep.config",
    "load_project": "plainstep.project",
}

__all__ = [
    "ConfigError",
    "DataError",
    "Filter",
    "MarkMoved",
    "NetChanges",
    "PlainStepError",
    "Project",
    "Refused",
    "Scope",
    "StepOutcome",
    "StoreError",
    "beginning_of",
    "collapse",
    "config_schema",
    "load_project",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'plainstep' has no attribute {name!r}")
    import importlib

    return getattr(importlib.import_module(_HOMES[name]), name)
