"""What a project is made of: its stores, its loads, and the groups that step together."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from plainstep.errors import unknown
from plainstep.loads.load import Engine, Load
from plainstep.stores.capabilities import Store


@dataclass(repr=False)
class Members:
    """Stores and loads, by their names."""

    path: Path
    stores: dict[str, Store] = field(default_factory=dict)
    loads: dict[str, Load] = field(default_factory=dict)
    keeps: dict[str, str] = field(default_factory=dict)
    groups: dict[str, list[Load]] = field(default_factory=dict)
    engines: dict[str, Callable[[], Engine | None]] = field(default_factory=dict)

    def choose_engine(self, kind: str) -> None:
        """Have loads stepped by another engine than plainstep.toml says.

        Args:
            kind: ``local``, or ``spark``.
        """
        engine = self.engines[kind]()
        for load in self.loads.values():
            load.engine = engine

    def _repr_html_(self) -> str:
        from plainstep.display import html

        heads = ["load", "from", "into", "shape", "changes"]
        rows = [
            (name, one.config.source, one.config.into, one.config.shape, one.config.changes)
            for name, one in self.loads.items()
        ]
        return html.table(f"{self.path}: {len(self.loads):,} loads", heads, rows)

    def __repr__(self) -> str:
        return f"<Project {self.path}: {', '.join(self.loads) or 'no loads'}>"

    def load(self, name: str) -> Load:
        """A load by its name.

        Raises:
            ConfigError: there is none of that name.
        """
        if name not in self.loads:
            raise unknown("load", name, self.loads, "plainstep status lists them.")
        return self.loads[name]

    def _chosen(self, names: tuple[str, ...]) -> list[Load]:
        return [self.load(name) for name in names or self.loads]

    def _store(self, name: str) -> Store:
        if name not in self.stores:
            raise unknown("store", name, self.stores)
        return self.stores[name]
