"""A load, with its stores."""

from __future__ import annotations

import json
from contextlib import ExitStack, contextmanager
from copy import copy
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from plainstep.copying import replace
from plainstep.properties import cached_property
from plainstep.stores.api import VersionedTarget
from plainstep.stores.capabilities import Store, with_tables

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from contextlib import AbstractContextManager

    from plainstep.core.positions import Window
    from plainstep.settings.load import LoadConfig
    from plainstep.stores.api import Source, Table, Target
    from plainstep.stores.capabilities import HasTarget


# What a load opens when it is asked for.
OPENED = ("source", "whole_source", "target")


class Sources(Protocol):
    """What opens the sources of loads."""

    def whole(self, load: Load) -> Source:
        """Where the changes of a load are read, whole rows of all columns."""
        ...

    def taken(self, load: Load, whole: Source) -> Source:
        """The same as far as the load takes it."""
        ...

    def together(self, loads: Sequence[Load]) -> AbstractContextManager[None]:
        """While this lasts, what several loads read of one feed is read once."""
        ...


class Engine(Protocol):
    """What takes over the heavy part of a step: reading a window, collapsing it, and asking the target for edits."""

    def refuse_unable(self, load: Load) -> None:
        """Refuse a load that cannot be stepped there, before anything of it is read.

        Raises:
            Refused: it cannot.
        """
        ...

    def read_window(self, state: Any, window: Window) -> Any:
        """What a load's shape is made of: the net changes of a window, in parts that stay where they were collapsed.

        Args:
            state: the load's ``LoadState``.
            window: the window.

        Returns:
            A ``WindowRead``.

        Raises:
            PlainStepError: whatever a machine raised.
        """
        ...

    def read_whole(self, state: Any) -> Any:
        """The same for a first load: all rows as they stand at the end of the state's span, as inserts."""
        ...


@dataclass(eq=False, repr=False)
class Load:
    """One load, with its stores.

    Attributes:
        sources: what opens its source.
        name: the load's name.
        config: what plainstep.toml says of it.
        from_store, from_table: where changes are read.
        into_store, into_table: where they are merged.
        engine: what reads and merges windows in its place, on other machines; None where this process does.
        keep: how long its source keeps changes, as plainstep.toml has it; empty where it does not say.
        base: the folder that relative paths start from.
        old_values: the load whose mirror has the old values that the feed does not tell, if one is named.
        deliver: where its events are sent, with its values from the environment.
        rows_store, rows_table: the table that the changes are of, where something else writes them.
    """

    sources: Sources
    name: str
    config: LoadConfig
    from_store: Store
    from_table: str
    into_store: HasTarget
    into_table: str
    engine: Engine | None = None
    rows_store: Store | None = None
    rows_table: str = ""
    keep: str = ""
    base: Path = Path()
    old_values: Load | None = None
    deliver: str = ""

    def __repr__(self) -> str:
        return f"<Load {self.name}: {self.config.source} into {self.config.into}>"

    def __getstate__(self) -> dict[str, Any]:
        """Another process opens its source and its target for itself, and makes what it is asked for by itself."""
        return {name: value for name, value in self.__dict__.items() if name not in OPENED} | {"engine": None}

    @property
    def made_by(self) -> str:
        """The settings that decide what its target holds, as JSON, to be kept with its watermark."""
        said = self.config.meaning | {"key": sorted(self.source.key())}
        return json.dumps(said, ensure_ascii=False, sort_keys=True)

    @property
    def reader(self) -> str:
        """The name by which it is registered at its source. Others can read it there, so it contains no URL."""
        which = sha256(self.into_store.place.encode()).hexdigest()[:8]
        return f"{self.name}, into {self.into_table} of {self.into_store.name} ({which})"

    @cached_property
    def source(self) -> Source:
        """Where changes are read, as far as the load takes them."""
        return self.sources.taken(self, self.whole_source)

    @cached_property
    def whole_source(self) -> Source:
        """The same without the load's filter and columns."""
        return self.sources.whole(self)

    def renew(self) -> None:
        """Have its source looked up anew when it is asked for: columns may have come to it."""
        for name in ("source", "whole_source"):
            self.__dict__.pop(name, None)

    @property
    def narrows(self) -> bool:
        """Whether it takes anything else than whole rows of all columns."""
        config = self.config
        return bool(config.where or config.columns or config.derive or config.drift == "ignore")

    def with_text(self, column: str) -> Load:
        """The same load, a column of which is read as text: to look at values that are none of its type."""
        types = self.config.types | {column: "TEXT"}
        return replace(self, config=replace(self.config, types=types))

    @property
    def lenient(self) -> Load:
        """The same load, whose reading leaves out rows that contradict the layout: to look at the others."""
        return replace(self, config=replace(self.config, on_bad_row="quarantine"))

    def at_step(self, step: int) -> Load | None:
        """The same load, whose target stands as it last did before its next step; None where that is not held any more.

        Only the looking of it: nothing can be merged there.
        """
        target = self.target
        found = target.at_step(self.name, self.into_table, step) if isinstance(target, VersionedTarget) else None
        if found is None:
            return None
        one = copy(self)
        one.__dict__["target"] = found
        return one

    @property
    def unfiltered(self) -> Load:
        """The same load of whole rows, of all of them: to look at what its filter keeps out."""
        everything = {"where": "", "columns": [], "derive": {}, "key": list(self.whole_source.key()), "drift": "add"}
        return replace(self, config=replace(self.config, **everything))

    @property
    def table(self) -> Table | None:
        """The table that its changes are of, if it can be read."""
        if self.source.is_managed:
            return with_tables(self.from_store).table(self.from_table, self.config.types)
        return with_tables(self.rows_store).table(self.rows_table, self.config.types) if self.rows_store else None

    @cached_property
    def target(self) -> Target:
        """Where they are merged."""
        return self.into_store.target()


def stores_of(loads: Sequence[Load]) -> list[Store]:
    """The stores that loads read and write, each once."""
    stores = [store for load in loads for store in (load.from_store, load.rows_store, load.into_store) if store]
    return list({id(store): store for store in stores}.values())


@contextmanager
def reused(loads: Sequence[Load]) -> Iterator[None]:
    """Use the connections to the stores of loads again meanwhile."""
    with ExitStack() as stack:
        for store in stores_of(loads):
            stack.enter_context(store.reused())
        yield
