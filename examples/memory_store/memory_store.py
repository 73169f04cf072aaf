"""A store that keeps tables in memory: the smallest that loads can read from and merge into.

``docs/writing-a-store.md`` walks through it. A plainstep.toml names one as ``memory://NAME``; all of one name, in one
process, are one.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pyarrow as pa

from plainstep.core.changes.batch import as_changes
from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.errors import Refused
from plainstep.stores.capabilities import BaseStore
from plainstep.stores.records import Batches, Snapshot
from plainstep.stores.whole_tables import Holdings, WholeTarget

Row = dict[str, Any]


@dataclass
class Change:
    """One change of one row, as it was written down."""

    op: str
    at: datetime
    was: Row | None
    now: Row | None


@dataclass
class MemoryTable:
    """A table, and the changes that were made to it."""

    schema: pa.Schema
    key: tuple[str, ...]
    rows: dict[Any, Row] = field(default_factory=dict)
    changes: list[Change] = field(default_factory=list)
    born: datetime = field(default_factory=lambda: datetime.now(UTC))

    def write(self, was: Row | None, now: Row | None) -> None:
        """Change a row, and write down that it was."""
        if was is not None:
            del self.rows[tuple(was[name] for name in self.key)]
        if now is not None:
            self.rows[tuple(now[name] for name in self.key)] = now
        op = "insert" if was is None else "delete" if now is None else "update"
        self.changes.append(Change(op, datetime.now(UTC), was, now))


class Memory:
    """What all stores of one name share: tables that applications write, and what loads keep."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.tables: dict[str, MemoryTable] = {}
        self.held = Holdings()


MEMORIES: dict[str, Memory] = {}


class MemoryStore(BaseStore):
    """A store in memory.

    Args:
        name: its name in plainstep.toml.
        url: ``memory://NAME``.
        base, wait: not used here.
    """

    methods = ("log",)  # it tells its changes (HasSource), without anybody turning that on
    exclusive = False  # it can be written while it is read (HasTarget)
    appends_only = False

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.place, self.wait = name, url, url, wait
        self.memory = MEMORIES.setdefault(url, Memory())

    def source(self, table: str, types: dict[str, str], how: str, reader: str) -> MemorySource:
        """The changes of one table."""
        return MemorySource(self, table)

    def moment(self, tables: Sequence[str]) -> AbstractContextManager[None]:
        """Nothing is read at one moment here, for everything is always there."""
        return nullcontext()

    def target(self) -> MemoryTarget:
        """The store as a place to merge into."""
        return MemoryTarget(self.memory)


class MemorySource:
    """The changes of one table. A position is the number of changes up to it."""

    is_managed = False  # something else wrote them down
    overlaps = False  # a window holds nothing that is merged already
    has_before_images = True  # both images are told
    has_exact_operations = True  # an insert is an insert

    def __init__(self, store: MemoryStore, name: str) -> None:
        self.memory, self.place, self.name = store.memory, f"{store.name}.{name}", name

    @property
    def table(self) -> MemoryTable:
        """The table itself."""
        if self.name not in self.memory.tables:
            raise Refused(f"There is no table {self.place}.", "", "Make it, or fix the load's 'from'.")
        return self.memory.tables[self.name]

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        return self.table.key

    def warnings(self) -> list[str]:
        """Nothing that a person should know."""
        return []

    def schema(self) -> pa.Schema:
        """The columns that changes and snapshots carry."""
        return self.table.schema

    def span(self) -> Span:
        """How far the source can be read now. A table that was made anew is another source."""
        head = len(self.table.changes)
        return Span(self.table.born.isoformat(), 0, head, self.time_of(Position(head)))

    def time_of(self, position: Position) -> datetime | None:
        """When the change at a position was made."""
        return self.table.changes[position.number - 1].at if position.number else None

    def waiting(self, window: Window) -> Waiting:
        """How much a window holds."""
        count = window.upto - window.after
        return Waiting(count, count > 0, self.time_of(Position(window.after + 1)) if count else None)

    def read(self, window: Window) -> Batches:
        """The changes of a window, in the flat form, in one batch."""
        changes = self.table.changes[window.after : window.upto]
        columns: dict[str, Any] = {
            "op": pa.array([one.op for one in changes], pa.string()),
            "seq": pa.array(range(window.after + 1, window.after + 1 + len(changes)), pa.int64()),
            "at": pa.array([one.at for one in changes], pa.timestamp("us", "UTC")),
        }
        for kind in self.schema():
            columns[f"was.{kind.name}"] = pa.array([(one.was or {}).get(kind.name) for one in changes], kind.type)
            columns[f"now.{kind.name}"] = pa.array([(one.now or {}).get(kind.name) for one in changes], kind.type)
        return Batches(iter([as_changes(pa.table(columns))]))

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the position that it stands at."""
        with self.memory.lock:
            span, rows = self.span(), pa.Table.from_pylist(list(self.table.rows.values()), self.schema())
        yield Snapshot(span, self.schema(), iter(rows.to_batches()))

    def locate(self, point: int | datetime) -> Position:
        """The position that a number stands for, or the last one whose changes were made at or before a time."""
        if isinstance(point, int):
            return Position(point)
        return Position(sum(one.at <= point for one in self.table.changes))

    def reserve(self) -> None:
        """Nothing to do: every change is kept."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Nothing to do: no change is forgotten."""

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Nothing is ever forgotten."""
        return 0


class MemoryTarget(WholeTarget):
    """What loads keep: whole tables, watermarks and ledger, replaced at once by what a commit makes of them."""

    def __init__(self, memory: Memory) -> None:
        self.memory = memory

    def held(self) -> Holdings:
        """What is held now."""
        return self.memory.held

    def change(self, change: Callable[[Holdings], Holdings]) -> None:
        """Put what a function makes of what is held in its place."""
        with self.memory.lock:
            self.memory.held = change(self.memory.held)
