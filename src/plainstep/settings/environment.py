"""Values that settings take from the environment."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from plainstep.errors import ConfigError
from plainstep.redaction import keep_secret
from plainstep.settings.locations import line_of


def filled(path: Path, text: str, setting: list[str], url: str, environment: Mapping[str, str]) -> str:
    """A URL with its values from the environment, none of which is shown anywhere.

    Args:
        path, text: the file, and what it says.
        setting: the path to the setting.
        url: what it says, with ``${NAME}`` for each value.
        environment: where values are taken from.

    Raises:
        ConfigError: one is not there.
    """

    def value(match: re.Match[str]) -> str:
        name = match[1]
        if name not in environment:
            raise ConfigError(
                f"{path}, line {line_of(text, setting)}: the environment has no {name}.",
                f"{'.'.join(setting)} takes its value from there.",
                f"export {name}=...",
            )
        return environment[name]

    found = re.sub(r"\$\{(\w+)\}", value, url)
    keep_secret(found)
    return found
