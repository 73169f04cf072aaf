"""Passwords: how a URL is shown without one, and texts of others in which one may stand.

A URL is shown as it is put together from its parts. What drivers and servers say is not ours: whatever secret was read from
plainstep.toml or the environment is taken out of it.
"""

from __future__ import annotations

import re
from urllib.parse import unquote

# What was found in URLs and is not to be shown.
_secrets: set[str] = set()
# Shorter ones are words by themselves: to take them out would make a text unreadable, and tell them by what is missing.
SHORTEST = 4
# Settings of a URL whose names say that they are secret.
SECRET = re.compile(r"pass|secret|token|key|sig|auth|cred", re.IGNORECASE)

# Before the address of a registry of schemas, within that of a broker.
REGISTRY = re.compile(r"[?&]registry=")


def keep_secret(url: str) -> None:
    """Remember the secrets of a URL, in every way in which they may be read: signs in them may end what they should not."""
    url, *registry = re.split(REGISTRY, url, maxsplit=1)
    for other in registry:  # an address with a password of its own
        keep_secret(other)
    rest = url.partition("://")[2] or url
    before, _, query = rest.partition("?")
    found = {
        value for name, _, value in (part.partition("=") for part in re.split(r"[&;\s]", query)) if SECRET.search(name)
    }
    for until in (rest.rfind("@"), rest.find("@"), before.rfind("@")):
        if until > 0:
            found.add(rest[:until].partition(":")[2])
    for secret in [*found]:
        found |= {unquote(secret), *re.split(r"[/?#@\[\]]", secret)}
    # A password that is also the user's name, as in postgres:postgres, is told by the name, and would be taken out of every text.
    plain = {"postgresql", "postgres", *re.split(r"\W+", shown_url(url))}
    _secrets.update(one for one in found - plain if len(one) >= SHORTEST)


def redacted(text: str) -> str:
    """A text without any secret that is known."""
    for secret in sorted(_secrets, key=len, reverse=True):
        text = text.replace(secret, "***")
    return text


def shown_url(url: str) -> str:
    """A URL as it may be shown: without password and settings, and without what cannot be told from a password."""
    scheme, colon, rest = re.split(REGISTRY, url, maxsplit=1)[0].partition(":")
    if not rest.startswith("//"):
        return scheme + colon + "..." if colon else "..."
    who, at, where = rest[2:].rpartition("@")
    user = who.partition(":")[0] if re.fullmatch(r"[\w.%+-]*(:.*)?", who, re.DOTALL) else "..."
    return f"{scheme}://{user}{at}{re.split('[?#]', where)[0]}"
