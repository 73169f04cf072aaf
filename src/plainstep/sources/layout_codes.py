"""What the codes of a layout mean."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.changes.ops import Op
from plainstep.core.layouts.layout import NEW, OLD, ROLES
from plainstep.errors import ConfigError

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig


def codes_of(name: str, said: LayoutConfig) -> dict[str, int]:
    """What each code means, by its text."""
    listed = [(getattr(said, word), role) for word, role in ROLES.items()]
    listed += [(said.put, int(Op.PUT)), (said.update_was, OLD), (said.update_now, NEW)]
    codes: dict[str, int] = {}
    for values, role in listed:
        for value in values:
            text = str(value).lower() if isinstance(value, bool) else str(value)
            if codes.get(text, role) != role:
                raise ConfigError(f"The layout of {name} gives the code {text!r} two meanings.")
            codes[text] = role
    ways = [word for word in ("operation", "operation_sql", "only_new") if getattr(said, word)]
    if len(ways) > 1:
        raise ConfigError(
            f"The layout of {name} has both {ways[0]} and {ways[1]}.", "", f"One is enough: [loads.{name}.layout]."
        )
    if said.only_new and not said.was:
        raise ConfigError(
            f"The layout of {name} has only_new, and no 'was'.",
            "Which images a row has tells the operation.",
            "Say where old values lie: was.",
        )
    if bool(codes) != bool(said.operation or said.operation_sql):
        what = "codes but no 'operation'" if codes else f"'{ways[0]}' but no codes"
        raise ConfigError(
            f"The layout of {name} has {what}.", "", f"Both are needed, or neither: [loads.{name}.layout]."
        )
    if said.pair and not said.update_was:
        raise ConfigError(
            f"The layout of {name} says what pairs the rows of an update, and has no codes of such rows.",
            "",
            f"Add update_was and update_now, or take pair out of [loads.{name}.layout].",
        )
    if said.partition and said.truncate:
        raise ConfigError(
            f"The layout of {name} has a partition, and codes of truncates.",
            "A truncate ends the rows of all partitions, and which of their changes came before it is not known.",
            f"Take truncate out of [loads.{name}.layout]; such rows are then refused.",
        )
    if bool(said.update_was) != bool(said.update_now):
        raise ConfigError(f"The layout of {name} needs both update_was and update_now, or neither.")
    return codes
