"""Stores: where changes are read and rows are merged. Found by the scheme of their URL."""

from __future__ import annotations

import difflib
from functools import cache
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path
from typing import Any, cast

from plainstep.errors import ConfigError, unknown
from plainstep.redaction import keep_secret, shown_url
from plainstep.stores.capabilities import Store

GROUP = "plainstep.stores"
# What a store is found by whose scheme no other has: see ``plainstep.stores.sql``.
ANY_SQL = "sql"


def open_store(name: str, url: str, base: Path, wait: float = 10.0) -> Store:
    """Make a store from its URL. Nothing is opened yet.

    Args:
        name: the store's name in plainstep.toml.
        url: its URL; the scheme says which kind of store it is.
        base: the folder that relative paths start from.
        wait: how many seconds to wait for a lock.

    Raises:
        ConfigError: no store is known for the scheme.
    """
    keep_secret(url)
    scheme = url.split(":", 1)[0].lower()
    found = _known()
    if scheme not in found:
        _known.cache_clear()  # it may have been installed since
        found = _known()
    if scheme not in found and ":" in url:
        other = _any_sql(name, scheme)
        if other is not None:
            return cast(Store, other(name, url, base, wait))
    if ":" not in url or scheme not in found:
        near = difflib.get_close_matches(scheme, found, 1)
        raise ConfigError(
            f"The store {name!r} has the URL {shown_url(url)!r}, and no store is known for {scheme!r}.",
            f"Known: {', '.join(sorted(found))}.",
            f"Did you mean {near[0]}:///...?" if near else "A URL looks like sqlite:///town.db.",
        )
    point = found[scheme]
    try:
        made = point.load()
    except ModuleNotFoundError as error:
        kind = point.value.removeprefix(f"{GROUP}.").partition(".")[0]
        raise ConfigError(
            f"The store {name!r} needs {error.name}, which is not installed.", "", f"pip install 'plainstep[{kind}]'"
        ) from error
    return cast(Store, made(name, url, base, wait))


def _any_sql(name: str, scheme: str) -> Any:
    """The store for a database that only SQLAlchemy knows, or None if it does not.

    Raises:
        ConfigError: it is asked for, and SQLAlchemy is not installed.
    """
    try:
        found = _known()[ANY_SQL].load()
    except ModuleNotFoundError as error:
        if "+" not in scheme:
            return None
        raise ConfigError(
            f"The store {name!r} needs {error.name}, which is not installed.", "", "pip install 'plainstep[sql]'"
        ) from error
    except KeyError:
        return None
    return found if found.knows(scheme) else None


def find_table(place: str, stores: dict[str, Store], usage: str) -> tuple[Store, str]:
    """The store and the table that ``STORE.TABLE`` names.

    Raises:
        ConfigError: it has no dot, or there is no such store.
    """
    store, dot, table = place.partition(".")
    if not dot or not table:
        raise ConfigError(f"{place!r} names no table of a store.", "A table is written STORE.TABLE.", usage)
    if store not in stores:
        raise unknown("store", store, stores, usage)
    return stores[store], table


@cache
def _known() -> dict[str, EntryPoint]:
    """The kinds of stores that are installed, by their schemes. (Asking for them takes 2.6 ms: too long for every store.)"""
    return {point.name: point for point in entry_points(group=GROUP)}
