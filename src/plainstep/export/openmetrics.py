"""Where loads stand, as OpenMetrics text, for a monitor to read.

The format is that of https://github.com/prometheus/OpenMetrics, version 1.0: a family of samples a metric, and ``# EOF``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plainstep.views.status import LoadStatus

HEALTHS = ("ok", "behind", "new", "at risk", "stopped", "refuses")

Number = float | int | None


def _time(moment: datetime | None) -> Number:
    return None if moment is None else moment.astimezone(UTC).timestamp()


def _number(position: int | str | None) -> Number:
    return position if isinstance(position, int) else None


# Each metric: its name, its unit if its name ends in one, what it is, and its value for a load; None is left out.
GAUGES: list[tuple[str, str, str, Callable[[LoadStatus], Number]]] = [
    ("plainstep_load_waiting_changes", "", "Changes that are not merged yet.", lambda one: one.waiting),
    ("plainstep_load_lag_seconds", "seconds", "Age of the oldest change that is not merged yet.", lambda one: one.lag_seconds),
    ("plainstep_load_watermark_position", "", "Position up to which the load is merged.", lambda one: _number(one.merged)),
    ("plainstep_load_head_position", "", "Newest position of the source.", lambda one: _number(one.head)),
    (
        "plainstep_load_last_step_timestamp_seconds",
        "seconds",
        "When the load last merged.",
        lambda one: _time(one.last_step.at) if one.last_step else None,
    ),
    (
        "plainstep_load_last_step_duration_seconds",
        "seconds",
        "How long its last step took.",
        lambda one: one.last_step.seconds if one.last_step else None,
    ),
    (
        "plainstep_load_contradictions",
        "",
        "Contradictions in its last step.",
        lambda one: one.last_step.contradictions if one.last_step else None,
    ),
    ("plainstep_capture_held_changes", "", "Captured changes that are held.", lambda one: one.capture.held if one.capture else None),
    ("plainstep_capture_held_bytes", "bytes", "What they take, roughly.", lambda one: one.capture.size if one.capture else None),
    ("plainstep_log_held_bytes", "bytes", "Log that the source's server keeps for the load.", lambda one: one.holds_back),
]  # fmt: skip


def openmetrics(found: Iterable[LoadStatus]) -> str:
    """Where loads stand, as OpenMetrics text."""
    loads = list(found)
    lines = []
    for name, unit, what, value in GAUGES:
        samples = [(one, value(one)) for one in loads]
        lines += _head(name, "gauge", unit, what)
        lines += [f"{name}{{{_labels(one)}}} {number}" for one, number in samples if number is not None]
    name = "plainstep_load_health"
    lines += _head(name, "stateset", "", "How the load is.")
    for one in loads:
        lines += [f'{name}{{{_labels(one)},{name}="{state}"}} {int(one.health == state)}' for state in HEALTHS]
    return "\n".join([*lines, "# EOF", ""])


def _head(name: str, kind: str, unit: str, what: str) -> list[str]:
    units = [f"# UNIT {name} {unit}"] if unit else []
    return [f"# TYPE {name} {kind}", *units, f"# HELP {name} {what}"]


def _labels(one: LoadStatus) -> str:
    told = {"load": one.load, "from": one.source, "into": one.into}
    return ",".join(f'{name}="{_escaped(value)}"' for name, value in told.items())


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
