"""From settings and stores to a project: its loads and groups, or why they do not go together, with the line."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from plainstep.deferred import deferred
from plainstep.errors import ConfigError, unknown
from plainstep.loads.delivery.receivers import refuse_unknown
from plainstep.loads.load import Load
from plainstep.project.project import Project
from plainstep.settings.environment import filled
from plainstep.settings.locations import line_of
from plainstep.sources.factory import SourceFactory
from plainstep.stores.capabilities import Store, with_target
from plainstep.stores.registry import find_table
from plainstep.workspace import workspace

if TYPE_CHECKING:
    from plainstep.settings.load import LoadConfig
    from plainstep.settings.models import Config
    from plainstep.spark import engine as spark
else:
    (spark,) = deferred("plainstep.spark", "engine")


def assembled(
    path: Path, text: str, config: Config, stores: dict[str, Store], environment: Mapping[str, str]
) -> Project:
    """The project.

    Args:
        path, text: the file, and what it says.
        config: its settings.
        stores: the stores that it names.
        environment: where ``${NAME}`` takes its values from.

    Raises:
        ConfigError: something in it does not go together.
    """
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
    deliver = filled(path, text, ["loads", name, "deliver"], said.deliver, environment)
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
        if setting in said.named:
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
