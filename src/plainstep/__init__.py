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
    from plainstep.core.changes.collapse import collapse
    from plainstep.core.changes.filter import Filter
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.diff import Scope
    from plainstep.init.project import beginning_of
    from plainstep.loads.outcome import StepOutcome
    from plainstep.project import Project
    from plainstep.project_file import load_project
    from plainstep.settings.models import config_schema

# Loaded when first asked for: `plainstep --help` should not wait for Arrow.
_HOMES = {
    "Filter": "plainstep.core.changes.filter",
    "NetChanges": "plainstep.core.changes.net",
    "Scope": "plainstep.core.diff",
    "Project": "plainstep.project",
    "StepOutcome": "plainstep.loads.outcome",
    "beginning_of": "plainstep.init.project",
    "collapse": "plainstep.core.changes.collapse",
    "config_schema": "plainstep.settings.models",
    "load_project": "plainstep.project_file",
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
    import importlib
    import importlib.metadata

    if name == "__version__":
        return importlib.metadata.version("plainstep")
    if name not in _HOMES:
        raise AttributeError(f"module 'plainstep' has no attribute {name!r}")
    return getattr(importlib.import_module(_HOMES[name]), name)
