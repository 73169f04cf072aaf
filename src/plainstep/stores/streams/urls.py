"""URLs of brokers: a registry of schemas may stand after the question mark, and all else is the broker's."""

from __future__ import annotations

from urllib.parse import parse_qsl, urlencode, urlunsplit

from plainstep.errors import ConfigError
from plainstep.redaction import keep_secret, shown_url
from plainstep.stores.urls import parts_of


def broker_of(url: str, example: str) -> tuple[str, str, str]:
    """The broker's own URL, what tells it from others, and the registry's URL, or an empty one.

    Raises:
        ConfigError: it names no server.
    """
    parts = parts_of(url)
    said = dict(parse_qsl(parts.query, keep_blank_values=True))
    registry = said.pop("registry", "")
    keep_secret(registry)
    if not parts.hostname:
        raise ConfigError(f"The URL {shown_url(url)!r} names no server.", "", f"Write {example}.")
    own = urlunsplit((parts.scheme, parts.netloc, parts.path, urlencode(said), ""))
    return own, parts.netloc.rpartition("@")[2] + parts.path, registry
