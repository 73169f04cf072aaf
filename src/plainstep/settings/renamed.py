"""Settings that had another name, or a value that had: a file that uses one is told the new one."""

from __future__ import annotations

from typing import Any

# By the kind of table they stand in: ``loads`` or ``layout``.
SETTINGS = {
    "loads": {"bad": "on_bad_row"},
    "layout": {"quiet": "settle", "sent": "sent_columns", "absent": "missing_field"},
}
# By the setting.
VALUES = {"first": {"beginning": "start"}, "on_bad_row": {"aside": "quarantine"}}


def new_name(place: list[str]) -> str:
    """The name that a setting has now, or empty. ``place`` is the path to it, as in ``["loads", "tree", "bad"]``."""
    table = "layout" if place[2:3] == ["layout"] else place[0]
    return SETTINGS.get(table, {}).get(place[-1], "")


def new_value(setting: str, value: Any) -> str:
    """What a value of a setting is written as now, or empty."""
    return VALUES.get(setting, {}).get(value, "") if isinstance(value, str) else ""


def in_new_names(said: dict[str, Any]) -> dict[str, Any]:
    """The settings that a watermark was kept with, by the names that they have now."""
    layout = {SETTINGS["layout"].get(name, name): value for name, value in said.get("layout", {}).items()}
    return said | ({"layout": layout} if layout else {})
