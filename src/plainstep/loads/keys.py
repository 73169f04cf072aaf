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
    for name in asked:
        if name not in schema.names:
            raise ConfigError(
                f"The key of {load.name} names the column {name!r}, which {load.config.source} does not have.",
                f"Its columns: {', '.join(schema.names)}.",
                f"Fix 'key' in [loads.{load.name}].",
            )
    refuse_another_key(load)
    return asked


def refuse_another_key(load: Load) -> None:
    """Refuse a key that is not the one by which the source tells rows apart.

    Raises:
        Refused: it is another.
    """
    captured = load.source.key()
    asked = tuple(load.config.key) or captured
    if set(asked) != set(captured):
        raise Refused(
            f"The key of {load.name} is {', '.join(asked)}, but {load.config.source} is captured by {', '.join(captured)}.",
            "Nothing says that the load's key is unique.",
            f"Fix 'key' in [loads.{load.name}], or capture anew: plainstep capture off, then on --key {','.join(asked)}.",
        )
