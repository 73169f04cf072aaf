"""What shapes have in common: what they are given, and what they answer."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from typing import Protocol

from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import NetChanges
from plainstep.core.changes.parts import NetParts
from plainstep.core.changes.position_index import PositionIndex
from plainstep.core.changes.ranks import Range
from plainstep.core.shapes.edits import Edits
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused


@dataclass(frozen=True)
class TargetTable:
    """A table that a shape keeps.

    Attributes:
        suffix: what is added to the target table's name; empty for that table itself.
        schema: its columns.
        key: its key; none where rows are only appended.
        former: the names that columns of it had in earlier releases, by their names now.
    """

    suffix: str
    schema: pa.Schema
    key: tuple[str, ...]
    former: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class StepContext:
    """When a step is made, and up to where.

    Attributes:
        at: the step's time (UTC).
        step: its number.
        position: the end of its window.
        changed_at: when the change there was made, if known.
        identity: who the source is.
    """

    at: datetime
    step: int
    position: int
    changed_at: datetime | None = None
    identity: str = ""


@dataclass(frozen=True)
class WindowChanges:
    """What a step read of some keys.

    Attributes:
        net: their net changes.
        changes: gives all its changes, in reading order; None where nobody asked for them.
        numbering: where they stand.
    """

    net: NetChanges
    changes: Callable[[], Iterator[Changes]] | None = None
    numbering: PositionIndex = field(default_factory=PositionIndex)


@dataclass(frozen=True)
class WindowParts:
    """What a step read, in parts by key where it may not fit in memory.

    Attributes:
        net: its net changes.
        changes: gives what a shape that tells changes is made of, in order: all of them, or the net changes.
        among: gives all changes of the keys of a range of ranks, in reading order; None where nobody asked for them.
        numbering: where they stand.
    """

    net: NetParts
    changes: Callable[[], Iterator[Changes]]
    among: Callable[[Range], Iterator[Changes]] | None = None
    numbering: PositionIndex = field(default_factory=PositionIndex)

    @staticmethod
    def of(net: NetChanges) -> WindowParts:
        """Net changes in memory."""
        return WindowParts(NetParts.of(net), lambda: iter([net.as_changes()]))

    def by_key(
        self, edits: Callable[[WindowChanges, TargetReader], list[Edits]], held: TargetReader
    ) -> Iterator[list[Edits]]:
        """What each part asks of each table, for shapes to which the keys of one part are nothing to those of another.

        Args:
            edits: gives it, of the changes of some keys and the target's rows of these.
            held: the target's rows.
        """
        for number, part in enumerate(self.net.parts):
            changes = partial(self.among, part.ranks) if self.among is not None else None
            made = edits(WindowChanges(part.read(), changes, self.numbering), held.within(part.ranks))
            for one in made:
                one.clear = one.clear and number == 0
            yield made


class TargetReader(Protocol):
    """What the target holds before the step."""

    def rows(self, suffix: str, columns: Sequence[str], keys: pa.Table | None = None, where_null: str = "") -> pa.Table:
        """Rows of one of the shape's tables, in its types, or the target's where these hold more; of no table that is not there yet.

        Args:
            suffix: which table.
            columns: which columns.
            keys: values of some columns that rows must have; None for all rows.
            where_null: a column that must be null; empty for none.
        """
        ...

    def stream(self, suffix: str, schema: pa.Schema, where_null: str = "") -> Iterator[pa.RecordBatch]:
        """All rows of one of the shape's tables, in these columns and types; arguments as for ``rows``."""
        ...

    def within(self, which: Range) -> TargetReader:
        """The same, where all rows are asked for: of those whose keys' ranks are in a range."""
        ...

    def first_values(self, suffix: str, group: pa.Table, value: str, count: int, largest: bool) -> pa.Table:
        """For each group, its first values in order: the smallest, or the largest.

        Args:
            suffix: which table.
            group: values of the columns that make a group.
            value: the column in whose order they are.
            count: how many for each group.
            largest: whether to begin at the largest.
        """
        ...


class Shape(Protocol):
    """What a target is.

    Attributes:
        schema: the source's columns, as the target holds them.
        key: its key.
        every_change: whether it is made of all changes, rather than of net changes.
        old_values: whether it needs old values.
        placed: whether it tells where changes stand.
        by_key: whether rows of some keys are nothing to those of others.
        keeps_rows: whether it holds the source's rows, so that they can be compared.
        gone: the column that holds a value where a row is no longer the source's; empty where such rows are not there.
    """

    @property
    def schema(self) -> pa.Schema: ...  # noqa: D102
    @property
    def key(self) -> tuple[str, ...]: ...  # noqa: D102
    @property
    def every_change(self) -> bool: ...  # noqa: D102
    @property
    def old_values(self) -> bool: ...  # noqa: D102
    @property
    def placed(self) -> bool: ...  # noqa: D102
    @property
    def by_key(self) -> bool: ...  # noqa: D102
    @property
    def keeps_rows(self) -> bool: ...  # noqa: D102
    @property
    def gone(self) -> str: ...  # noqa: D102

    def tables(self) -> list[TargetTable]:
        """The tables it keeps.

        Raises:
            ConfigError: a column has a name that the shape needs.
        """
        ...

    def names_of(self, column: str) -> list[str]:
        """The columns of its main table that hold a column of the source."""
        ...

    def first(self, rows: Iterator[pa.RecordBatch], now: StepContext) -> list[Edits]:
        """What a first load asks of each table."""
        ...

    def rounds(self, found: WindowParts, now: StepContext, held: TargetReader) -> Iterator[list[Edits]]:
        """What a window asks of each table, round after round: of most windows, one.

        Raises:
            Refused: the changes do not tell what the shape needs.
        """
        ...

    def living(self, held: TargetReader) -> Iterator[pa.RecordBatch]:
        """The source's rows, as the target holds them, in their own columns; of columns not there yet, nulls."""
        ...


def with_columns(schema: pa.Schema, shape: str, added: dict[str, pa.DataType]) -> pa.Schema:
    """The columns of rows, and those that a shape adds.

    Raises:
        ConfigError: a column has one of these names already.
    """
    there = {*schema.names}
    taken = [name for name in added if name in there]
    if taken:
        raise ConfigError(
            f"The source has a column {taken[0]!r}, and {shape} adds a column of that name.",
            "",
            f"Rename it: columns = {{ other_name = {taken[0]!r}, ... }} in the load.",
        )
    return pa.schema([*schema, *(pa.field(name, kind) for name, kind in added.items())])


def half_rows(count: int) -> Refused:
    """The error for new rows of which a part was not sent."""
    return Refused(
        f"Rows moved to a new key, and some of their values were not sent: {count:,}.",
        "Partial rows are not inserted. (PostgreSQL's log leaves out large values that did not change.)",
        "plainstep reload LOAD fixes it; ALTER TABLE ... REPLICA IDENTITY FULL keeps it from happening.",
    )


def constant(value: object, kind: pa.DataType, count: int) -> pa.Array:
    """A column of one value."""
    return pa.repeat(pa.scalar(value, kind), count) if value is not None else pa.nulls(count, kind)


def extended(rows: pa.Table, values: Mapping[str, tuple[object, pa.DataType]]) -> pa.Table:
    """Rows with columns of one value each behind them."""
    for name, (value, kind) in values.items():
        rows = rows.append_column(name, constant(value, kind, rows.num_rows))
    return rows
