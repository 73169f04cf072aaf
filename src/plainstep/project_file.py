"""From a plainstep.toml to a project: its settings and stores, or what is wrong with them, with the line."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainstep.core.sizes import size_of
from plainstep.deferred import deferred
from plainstep.errors import ConfigError
from plainstep.stores.registry import open_store, start_ahead
from plainstep.workspace import workspace

if TYPE_CHECKING:
    from plainstep.project import Project, assembly
    from plainstep.settings import environment as environments
    from plainstep.settings import locations, models, reading
else:  # so that what takes a while to start has begun before these are imported
    environments, locations, models, reading = deferred(
        "plainstep.settings", "environment", "locations", "models", "reading"
    )
    [assembly] = deferred("plainstep.project", "assembly")


def load_project(
    path: str | Path = "plainstep.toml", environment: Mapping[str, str] | None = None, *, ahead: bool = False
) -> Project:
    """Read a plainstep.toml. Nothing is opened yet.

    Args:
        path: the file.
        environment: where ``${NAME}`` takes its values from; default: the process's own environment.
        ahead: whether embedded databases begin to start meanwhile, in a thread: in a process that goes on to use them, and is not forked.

    Raises:
        ConfigError: the file is missing, or something in it is wrong; the message names the line.
    """
    path = Path(path)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise ConfigError(
            f"There is no file {path}.",
            "It names the stores and the loads between them.",
            "Write one (docs/configuration.md), or name another with -c FILE; plainstep demo makes an example.",
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise ConfigError(f"{path} cannot be read: {error}.") from None
    return _build(path, text, os.environ if environment is None else environment, ahead)


def _build(path: Path, text: str, environment: Mapping[str, str], ahead: bool) -> Project:
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ConfigError(f"{path} is not TOML: {error}.") from None
    if ahead:
        start_ahead(_urls(data.get("stores")))
    try:
        config = reading.read_settings(models.Config, data)
    except reading.Unfit as error:
        raise locations.explained(path, text, error) from None
    base = path.absolute().parent
    workspace.memory = size_of(config.engine.memory) if config.engine.memory else 0
    workspace.scratch = str(base / config.engine.scratch) if config.engine.scratch else ""
    stores = {
        name: open_store(
            name, environments.filled(path, text, ["stores", name, "url"], store.url, environment), base, store.wait
        )
        for name, store in config.stores.items()
    }
    return assembly.assembled(path, text, config, stores, environment)


def _urls(stores: Any) -> Iterator[str]:
    """The URLs of stores in a file that nobody has looked at yet."""
    for store in stores.values() if isinstance(stores, dict) else ():
        if isinstance(store, dict):
            yield str(store.get("url", ""))
