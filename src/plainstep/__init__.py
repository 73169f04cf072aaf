"""Plain Step: incremental loads, one plain step at a time.

Read the changes in a window, collapse them to net changes, merge them, move the watermark: all in one commit.

    import plainstep

    project = plainstep.load_project("plainstep.toml")
    [outcome] = project.step("tree")
    net = plainstep.collapse(changes, key=["tree_id"])

What is in ``__all__`` is what users call, what they get back, the errors, and what stores of other packages are made of.
"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

from plainstep.errors import (
    BadValue,
    ConfigError,
    DataError,
    LostConnection,
    PlainStepError,
    Refused,
    StoreError,
    Unreachable,
    WatermarkMoved,
)

if sys.platform == "win32":
    raise ImportError("Plain Step runs on Linux and macOS: its locks are theirs. On Windows, run it in WSL.")

if TYPE_CHECKING:
    from plainstep.core.changes.collapse import collapse
    from plainstep.core.changes.filter import Filter
    from plainstep.core.changes.net import NetChanges
    from plainstep.core.diff import Scope
    from plainstep.display.results import Results
    from plainstep.init.project import beginning_of
    from plainstep.loads.check import CheckResult
    from plainstep.loads.erase import ErasedPlace, EraseResult
    from plainstep.loads.load import Load
    from plainstep.loads.outcome import StepOutcome
    from plainstep.loads.quarantine import Retried
    from plainstep.loads.retention import Trimmed
    from plainstep.loads.runner import Runner, Tick
    from plainstep.project import Project
    from plainstep.project_file import load_project
    from plainstep.settings.models import config_schema
    from plainstep.stores.capabilities import BaseStore, HasCapture, HasFeed, HasSource, HasTables, HasTarget, Store
    from plainstep.stores.feed import HasPartitions
    from plainstep.stores.records import CaptureInfo, LedgerEntry, QuarantinedRow
    from plainstep.views.changes import LookResult
    from plainstep.views.net import NetResult
    from plainstep.views.restore import RestoreResult
    from plainstep.views.status import LoadStatus
    from plainstep.views.trace import TraceResult

# Loaded when first asked for: `plainstep --help` should not wait for Arrow.
_HOMES = {
    "QuarantinedRow": "plainstep.stores.records",
    "BaseStore": "plainstep.stores.capabilities",
    "Tick": "plainstep.loads.runner",
    "CaptureInfo": "plainstep.stores.records",
    "CheckResult": "plainstep.loads.check",
    "Results": "plainstep.display.results",
    "EraseResult": "plainstep.loads.erase",
    "ErasedPlace": "plainstep.loads.erase",
    "Filter": "plainstep.core.changes.filter",
    "HasCapture": "plainstep.stores.capabilities",
    "HasFeed": "plainstep.stores.capabilities",
    "HasPartitions": "plainstep.stores.feed",
    "HasSource": "plainstep.stores.capabilities",
    "HasTables": "plainstep.stores.capabilities",
    "HasTarget": "plainstep.stores.capabilities",
    "LedgerEntry": "plainstep.stores.records",
    "Load": "plainstep.loads.load",
    "LoadStatus": "plainstep.views.status",
    "LookResult": "plainstep.views.changes",
    "NetChanges": "plainstep.core.changes.net",
    "NetResult": "plainstep.views.net",
    "RestoreResult": "plainstep.views.restore",
    "Runner": "plainstep.loads.runner",
    "Project": "plainstep.project",
    "Retried": "plainstep.loads.quarantine",
    "Scope": "plainstep.core.diff",
    "StepOutcome": "plainstep.loads.outcome",
    "Store": "plainstep.stores.capabilities",
    "TraceResult": "plainstep.views.trace",
    "Trimmed": "plainstep.loads.retention",
    "beginning_of": "plainstep.init.project",
    "collapse": "plainstep.core.changes.collapse",
    "config_schema": "plainstep.settings.models",
    "load_project": "plainstep.project_file",
}

__all__ = [
    "BadValue",
    "BaseStore",
    "CaptureInfo",
    "CheckResult",
    "ConfigError",
    "DataError",
    "EraseResult",
    "ErasedPlace",
    "Filter",
    "HasCapture",
    "HasFeed",
    "HasPartitions",
    "HasSource",
    "HasTables",
    "HasTarget",
    "LedgerEntry",
    "Load",
    "LoadStatus",
    "LookResult",
    "LostConnection",
    "NetChanges",
    "NetResult",
    "PlainStepError",
    "Project",
    "QuarantinedRow",
    "Refused",
    "RestoreResult",
    "Results",
    "Retried",
    "Runner",
    "Scope",
    "StepOutcome",
    "Store",
    "StoreError",
    "Tick",
    "TraceResult",
    "Trimmed",
    "Unreachable",
    "WatermarkMoved",
    "beginning_of",
    "collapse",
    "config_schema",
    "load_project",
]


if TYPE_CHECKING:
    __version__: str
else:  # a type checker that saw it would let every misspelt name pass

    def __getattr__(name: str) -> Any:
        import importlib
        import importlib.metadata

        if name == "__version__":
            return importlib.metadata.version("plainstep")
        if name not in _HOMES:
            raise AttributeError(f"module 'plainstep' has no attribute {name!r}")
        return getattr(importlib.import_module(_HOMES[name]), name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
