"""The addresses that events can be sent to."""

from __future__ import annotations

from contextlib import suppress
from urllib.parse import urlsplit

from plainstep.errors import ConfigError


def refuse_unknown(url: str, where: str) -> None:
    """Refuse an address to which nothing can be sent.

    Args:
        url: the address, with its values from the environment.
        where: where it is written.

    Raises:
        ConfigError: it is of no known kind.
    """
    with suppress(ValueError):  # a port that is none
        parts = urlsplit(url)
        there = parts.hostname and parts.port != 0
        if (parts.scheme in ("http", "https") and there) or (parts.scheme == "file" and parts.path[1:]):
            return
    raise ConfigError(
        f"{where}: events cannot be sent there.",
        "",
        "Write http://HOST/PATH, or file:///FOLDER for files of JSON Lines.",
    )
