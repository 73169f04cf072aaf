"""From a plainstep.toml to a project: its stores and loads, or what is wrong with them, with the line."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import ValidationError

from plainstep.core.sizes import size_of
from plainstep.deferred import deferred
from plainstep.errors import ConfigError, unknown
from plainstep.loads.delivery.receivers import refuse_unknown
from plainstep.loads.load import Load
from plainstep.project import Project
from plainstep.redaction import keep_secret
from plainstep.settings.locations import explained, line_of
from plainstep.settings.models import Config
from plainstep.sources.factory import SourceFactory
from plainstep.stores.capabilities import Store, with_target
from plainstep.stores.registry import find_table, open_store
from plainstep.workspace import workspace

if TYPE_CHECKING:
    from plainstep.settings.load import LoadConfig
    from plainstep.spark import engine as spark
else:
    (spark,) = deferred("plainstep.spark", "engine")


def load_project(path: str | Path = "plainstep.toml", environment: Mapping[str, str] | None = None) -> Project:
    """Read a plainstep.toml. Nothing is opened yet.

    Args:
        path: the file.
        environment: where ``${NAME}`` takes its values from; default: the process's own environment.

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
    return _build(path, text, os.environ if environment is None else environment)


def _build(path: Path, text: str, environment: Mapping[str, str]) -> Project:
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ConfigError(f"{path} is not TOML: {error}.") from None
    try:
        config = Config.model_validate(data)
    except ValidationError as error:
        raise explained(path, text, error) from None
    base = path.absolute().parent
    workspace.memory = size_of(config.engine.memory) if config.engine.memory else 0
    workspace.scratch = str(base / config.engine.scratch) if config.engine.scratch else ""
    stores = {
        name: open_store(name, _filled(path, text, ["stores", name, "url"], store.url, environment), base, store.wait)
        for name, store in config.stores.items()
    }
    project = Project(path, stores)
    memory = workspace.memory
    project.engines = {
        "local": lambda: None,
        "spark": lambda: spark.SparkEngine(config.engine.master, config.engine.options, memory),
    }
    for name, load in config.loads.items():
        made = project.loads[name] = _load(path, text, stores, name, load, environment)
        made.keep = project.keeps[made.from_store.name] = config.stores[load.source.partition(".")[0]].keep
    for name, group in config.groups.items():
        project.groups[name] = _group(path, text, project, name, group.loads)
    for made in project.loads.values():
        made.engine = project.engines[made.config.engine or config.engine.kind]()
    _find_old_values(path, text, project)
    _refuse_shared_targets(path, text, project)
    return project


def _load(
    path: Path, text: str, stores: dict[str, Store], name: str, said: LoadConfig, environment: Mapping[str, str]
) -> Load:
    """A load, with its stores.

    Raises:
        ConfigError: they are not there, or do not go together.
    """

    def where(setting: str) -> str:
        return f"{path}, line {line_of(text, ['loads', name, setting])}"

    from_store, from_table = find_table(said.source, stores, f"{where('from')}: from = STORE.TABLE")
    named, into_table = find_table(said.into, stores, f"{where('into')}: into = STORE.TABLE")
    into_store = with_target(named)
    if from_store is named and from_table == into_table:
        raise ConfigError(f"{where('into')}: the load {name} would merge {said.into} into itself.")
    _refuse_misplaced(where, said, into_store.appends_only)
    deliver = _filled(path, text, ["loads", name, "deliver"], said.deliver, environment)
    if deliver:
        refuse_unknown(deliver, f"{where('deliver')}: deliver")
    base = path.absolute().parent
    made = Load(SourceFactory(), name, said, from_store, from_table, into_store, into_table, base=base, deliver=deliver)
    if said.rows:
        made.rows_store, made.rows_table = find_table(said.rows, stores, f"{where('rows')}: rows = STORE.TABLE")
    return made


def _refuse_misplaced(where: Callable[[str], str], said: LoadConfig, into_files: bool) -> None:
    """Refuse what only files can be, of a table, and what only tables can be, of files.

    Raises:
        ConfigError: that is what is said.
    """
    if into_files and said.shape != "journal":
        raise ConfigError(
            f"{where('into')}: {said.into} is in a folder of files, and rows in files are never changed.",
            "Only a journal is appended to.",
            'Set shape = "journal", or merge into a database.',
        )
    for setting in () if into_files else ("partition", "partition_zone", "format"):
        if setting in said.model_fields_set:
            raise ConfigError(
                f"{where(setting)}: {setting} is of a journal in files, and {said.into} is a table.",
                "",
                f"Leave {setting!r} out, or merge into a folder (file:///FOLDER).",
            )


def _group(path: Path, text: str, project: Project, group: str, names: list[str]) -> list[Load]:
    """The loads of a group.

    Raises:
        ConfigError: they cannot step together.
    """
    where = f"{path}, line {line_of(text, ['groups', group, 'loads'])}"
    for name in names:
        if name not in project.loads:
            raise unknown("load", name, project.loads, where)
    loads = [project.loads[name] for name in names]
    other = next((one for one, members in project.groups.items() for load in members if load in loads), None)
    doubled = other or (group if len(set(names)) < len(names) else None)
    if doubled:
        raise ConfigError(f"{where}: a load is in the group {doubled} already.")
    if len({(load.from_store.name, load.into_store.name) for load in loads}) > 1:
        raise ConfigError(f"{where}: the loads of a group have one source store, and one target store.")
    cut = next((load.name for load in loads if load.config.at_most), None)
    if cut:
        raise ConfigError(
            f"{where}: {cut} takes no more than so many changes at a step (at_most), and is in a group.",
            "The loads of a group stand at one moment, which the parts of each would not.",
            f"Leave 'at_most' out of {cut}, or take it out of the group.",
        )
    one_feed = len({(load.from_table, load.config.changes) for load in loads}) == 1
    if not one_feed and {load.config.changes for load in loads} not in ({"capture"}, {"log"}):
        raise ConfigError(
            f"{where}: the loads of a group all read captured tables (changes = 'capture'), or the log, or the same feed.",
            "Other sources cannot be read as of one moment.",
        )
    return loads


def _find_old_values(path: Path, text: str, project: Project) -> None:
    for name, load in project.loads.items():
        said = load.config.old_values
        if not said:
            continue
        where = f"{path}, line {line_of(text, ['loads', name, 'old_values'])}"
        if said not in project.loads:
            raise unknown("load", said, project.loads, where)
        mirror = project.loads[said]
        if mirror.config.shape != "mirror" or mirror.config.source != load.config.source:
            raise ConfigError(f"{where}: {said} is not a mirror of {load.config.source}.", "", "Name one that is.")
        load.old_values = mirror


def _refuse_shared_targets(path: Path, text: str, project: Project) -> None:
    taken: dict[tuple[str, str], str] = {}
    for name, load in project.loads.items():
        place = (load.into_store.url, load.into_table)
        if place in taken:
            raise ConfigError(
                f"{path}, line {line_of(text, ['loads', name, 'into'])}: {name} and {taken[place]} merge into one table.",
                "Each would remove the other's rows.",
                "Give each load a table of its own.",
            )
        taken[place] = name


def _filled(path: Path, text: str, setting: list[str], url: str, environment: Mapping[str, str]) -> str:
    """A URL with its values from the environment."""

    def value(match: re.Match[str]) -> str:
        name = match[1]
        if name not in environment:
            raise ConfigError(
                f"{path}, line {line_of(text, setting)}: the environment has no {name}.",
                f"{'.'.join(setting)} takes its value from there.",
                f"export {name}=...",
            )
        return environment[name]

    filled = re.sub(r"\$\{(\w+)\}", value, url)
    keep_secret(filled)
    return filled
