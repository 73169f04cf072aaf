"""The key of a load: as plainstep.toml has it, or as its source is captured."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused

if TYPE_CHECKING:
    from plainstep.loads.load import Load


def key_of(load: Load, schema: pa.Schema) -> tuple[str, ...]:
    """The load's key: as configured, or as captured.

    Raises:
        ConfigError: the key names an unknown column.
        Refused: the source does not make that key unique.
    """
    captured = load.source.key()
    asked = tuple(load.config.key) or captured
    if not asked:
        _refuse_without_key(load)
    for name in asked:
        if name not in schema.names:
            raise ConfigError(
                f"The key of {load.name} names the column {name!r}, which {load.config.source} does not have.",
                f"Its columns: {', '.join(schema.names)}.",
                f"Fix 'key' in [loads.{load.name}].",
            )
    refuse_another_key(load)
    return asked


def _refuse_without_key(load: Load) -> None:
    """Refuse a shape that must know which row a change is of.

    Raises:
        Refused: the load's shape does.
    """
    if load.config.on_bad_value == "quarantine":
        raise Refused(
            f"{load.config.source} is captured without a key, and {load.name} has on_bad_value = 'quarantine'.",
            "A row that was quarantined is found again by its key.",
            f"Set on_bad_value to refuse, round or null in [loads.{load.name}].",
        )
    if load.config.shape in ("journal", "events") and load.config.every_change:
        return
    told = f"{load.config.shape}{' of net changes' if load.config.shape in ('journal', 'events') else ''}"
    raise Refused(
        f"{load.config.source} is captured without a key, and {load.name} is a {told}.",
        "Nothing tells which row a change is of: only journals and events of every change can be made of such changes.",
        f'Set shape = "journal" in [loads.{load.name}]; or capture by unique columns: '
        f"plainstep capture off {load.config.source} --yes, then capture on {load.config.source} --key COLUMN[,COLUMN].",
    )


def refuse_another_key(load: Load) -> None:
    """Refuse a key that is not the one by which the source tells rows apart.

    Raises:
        Refused: it is another.
    """
    captured = load.source.key()
    asked = tuple(load.config.key) or captured
    if set(asked) != set(captured):
        by = f"by {', '.join(captured)}" if captured else "without a key"
        raise Refused(
            f"The key of {load.name} is {', '.join(asked)}, but {load.config.source} is captured {by}.",
            "Nothing says that the load's key is unique.",
            f"Fix 'key' in [loads.{load.name}], or capture anew: plainstep capture off, then on --key {','.join(asked)}.",
        )
