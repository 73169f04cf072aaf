"""A source as a load takes it: filtered, with its own columns, and with what is computed from them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, cast

from plainstep.copying import replace
from plainstep.core.changes.projection import RowScope, renamed
from plainstep.deferred import pa
from plainstep.stores.records import Batches

if TYPE_CHECKING:
    from plainstep.core.positions import Window
    from plainstep.loads.load import Load
    from plainstep.stores.api import Source, SpreadSource
    from plainstep.stores.records import Snapshot

# What a source is quicker with where old values are not asked for: a filter needs them.
LEAN = ("read_lean", "unchanged", "in_order")


def scope_of(load: Load, whole: pa.Schema, key: tuple[str, ...]) -> RowScope:
    """What a load takes of rows with these columns.

    Raises:
        ConfigError: it names a column that is not there, or an expression is none.
    """
    config = load.config
    columns = dict(config.columns) if isinstance(config.columns, dict) else {name: name for name in config.columns}
    if config.drift == "ignore" and not columns:
        watermark = load.target.watermark(load.name)
        merged = {*watermark.columns, *key} if watermark and watermark.columns else {*whole.names}
        columns = {name: name for name in whole.names if name in merged}
    return RowScope(load.name, whole, key, config.where, columns, config.derive)


def scoped(load: Load, whole: Source) -> Source:
    """A source, seen through a load's scope, which can do what the source can.

    From Python 3.12 on, what an object can is told by what its class has: an attribute found by ``__getattr__`` is none.
    """
    names = {name for name in dir(whole) if not name.startswith("_") and name not in LEAN} - {*dir(ScopedSource)}
    kind = type("ScopedSource", (ScopedSource,), {name: _of_whole(name) for name in names})
    return cast("Source", kind(load, whole))


def _of_whole(name: str) -> property:
    return property(lambda self: getattr(self.whole, name))


class ScopedSource:
    """A source, seen through a load's scope.

    Args:
        load: the load.
        whole: the source as it is.
    """

    def __init__(self, load: Load, whole: Source) -> None:
        self.load, self.whole = load, whole
        self._known: RowScope | None = None

    @property
    def scope(self) -> RowScope:
        """What is taken, of the columns that the source has now."""
        columns = self.whole.schema()
        if self._known is None or self._known.whole != columns:
            self._known = scope_of(self.load, columns, self.whole.key())
        return self._known

    @property
    def has_exact_operations(self) -> bool:
        """Without old values, nobody knows which rows were inside the filter."""
        return self.whole.has_exact_operations and (self.whole.has_before_images or not self.load.config.where)

    def key(self) -> tuple[str, ...]:
        """The key, under its new names. (No column has to be known for that: an empty feed has none.)"""
        columns = self.load.config.columns
        return renamed(self.whole.key(), columns if isinstance(columns, dict) else {})

    def warnings(self) -> list[str]:
        """What a person should know about this source."""
        told = self.whole.warnings()
        if self.load.config.where and not self.whole.has_before_images:
            told.append(
                f"{self.load.config.source} has no before images: every change of a row inside the filter is put, "
                "of one outside taken out"
            )
        return told

    def schema(self) -> pa.Schema:
        """The columns that are taken."""
        return self.scope.schema

    def read(self, window: Window) -> Batches:
        """The changes of a window as they are within the scope; at least one batch, which may be empty."""
        return self._taken(self.whole.read(window))

    def read_piece(self, piece: Any) -> Batches:
        """The changes of a piece, of a source that has some, as they are within the scope."""
        return self._taken(cast("SpreadSource", self.whole).read_piece(piece))

    def _taken(self, found: Batches) -> Batches:
        changes = (self.scope.of(one, self.whole.has_before_images) for one in found)
        return Batches(changes, found.left_out)

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, as far as it is taken."""
        with self.whole.snapshot() as snapshot:
            scope = self.scope
            yield replace(snapshot, schema=scope.schema, batches=scope.rows(snapshot.batches))
