"""Stores: where changes are read and rows are merged. Found by the scheme of their URL."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, unknown
from plainstep.redaction import keep_secret, shown_url
from plainstep.stores.capabilities import Store

if TYPE_CHECKING:
    from importlib import metadata
else:
    [metadata] = deferred("importlib", "metadata")

# Our own stores and the schemes of their URLs. Other packages add theirs by entry points of this group, which are looked for
# when a scheme is none of ours: to read what 180 installed packages say of themselves takes 12 ms.
GROUP = "plainstep.stores"
OWN: dict[str, tuple[str, ...]] = {
    "sqlite.store:SqliteStore": ("sqlite",),
    "duckdb.store:DuckdbStore": ("duckdb",),
    "files.store:FilesStore": ("az", "file", "gs", "s3"),
    "postgresql.store:PostgresqlStore": ("postgres", "postgresql"),
    "mysql.store:MysqlStore": ("mariadb", "mysql"),
    "http.store:HttpStore": ("http", "https"),
    "kafka.store:KafkaStore": ("kafka",),
    "nats.store:NatsStore": ("nats",),
    "redis.store:RedisStore": ("redis", "rediss"),
    "amqp.store:AmqpStore": ("amqp", "amqps"),
    "delta.store:DeltaStore": ("delta", "delta+az", "delta+gs", "delta+s3"),
    "iceberg.store:IcebergStore": ("iceberg+http", "iceberg+https", "iceberg+postgresql", "iceberg+sqlite"),
    "sql.store:SqlStore": ("sql",),
}
# What begins to start, beside other work, where that takes a while: by the scheme.
AHEAD = {"duckdb": f"{GROUP}.duckdb.connection:start_ahead"}
OWN_SCHEMES = {scheme: f"{GROUP}.{kind}" for kind, schemes in OWN.items() for scheme in schemes}
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
    found = OWN_SCHEMES if scheme in OWN_SCHEMES else _known()
    if scheme not in found:
        _others.cache_clear()  # it may have been installed since
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
    try:
        made = _loaded(found[scheme])
    except ModuleNotFoundError as error:
        kind = found[scheme].removeprefix(f"{GROUP}.").partition(".")[0]
        raise ConfigError(
            f"The store {name!r} needs {error.name}, which is not installed.", "", f"pip install 'plainstep[{kind}]'"
        ) from error
    return cast(Store, made(name, url, base, wait))


def start_ahead(urls: Iterable[str]) -> None:
    """Begin to start what the stores with these URLs need, in threads. What it comes to is told when a store is opened."""
    for scheme in {url.partition(":")[0].lower() for url in urls}:
        if scheme in AHEAD:
            _loaded(AHEAD[scheme])()


def _any_sql(name: str, scheme: str) -> Any:
    """The store for a database that only SQLAlchemy knows, or None if it does not.

    Raises:
        ConfigError: it is asked for, and SQLAlchemy is not installed.
    """
    try:
        found = _loaded(OWN_SCHEMES[ANY_SQL])
    except ModuleNotFoundError as error:
        if "+" not in scheme:
            return None
        raise ConfigError(
            f"The store {name!r} needs {error.name}, which is not installed.", "", "pip install 'plainstep[sql]'"
        ) from error
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


def _known() -> dict[str, str]:
    """All kinds of stores by their schemes: ``module:class``."""
    return _others() | OWN_SCHEMES


@cache
def _others() -> dict[str, str]:
    """Those of other packages."""
    return {point.name: point.value for point in metadata.entry_points(group=GROUP)}


def _loaded(kind: str) -> Any:
    module, _, name = kind.partition(":")
    return getattr(import_module(module), name)
