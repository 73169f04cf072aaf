"""The addresses that events can be sent to."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

from plainstep.errors import ConfigError
from plainstep.stores.capabilities import HasPublisher
from plainstep.stores.registry import open_store


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
    with suppress(ConfigError):
        if broker_of(url, where)[1]:
            return
    raise ConfigError(
        f"{where}: events cannot be sent there.",
        "",
        "Write http://HOST/PATH, file:///FOLDER for files of JSON Lines, or a broker's URL with the name of a topic, a subject, "
        "a stream or an exchange after it: kafka://HOST:PORT/TOPIC.",
    )


def broker_of(url: str, what: str) -> tuple[HasPublisher, str]:
    """The broker of an address, and the name that stands after it: of a topic, a subject, a stream or an exchange.

    Args:
        url: the address.
        what: what it is for, as the broker's name in messages.

    Raises:
        ConfigError: it is none of a broker's.
    """
    parts = urlsplit(url)
    above, _, name = parts.path.rpartition("/")
    store = open_store(what, urlunsplit((parts.scheme, parts.netloc, above, parts.query, "")), Path())
    if not isinstance(store, HasPublisher):
        raise ConfigError(f"{what}: nothing can be sent there.")
    return store, unquote(name)
