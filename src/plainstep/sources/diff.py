"""Comparing, for sources that record nothing: the table as it stands against the target as it was loaded last."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.core.changes.batch import Changes
from plainstep.core.diff import compared, known, widened
from plainstep.core.positions import Position, Span, Waiting, Watermark, Window
from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError, Refused
from plainstep.properties import cached_property
from plainstep.sources.feed import refuse_key
from plainstep.sources.full_table import whole_rows
from plainstep.stores.capabilities import with_tables
from plainstep.stores.records import Batches, Snapshot

if TYPE_CHECKING:
    from plainstep.loads.load import Load


class DiffSource:
    """A table whose changes are found by comparing all of it. Its positions count the comparisons.

    Args:
        load: the load; its target holds what was loaded last.
    """

    is_managed = False
    overlaps = True
    has_before_images = True
    has_exact_operations = True

    def __init__(self, load: Load) -> None:
        self.load = load
        self.table = with_tables(load.from_store).table(load.from_table, load.config.types)

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart."""
        key = tuple(self.load.config.key) or self.table.key()
        if not key:
            raise refuse_key(self.load.name)
        return key

    def warnings(self) -> list[str]:
        """Nothing."""
        return []

    def limitations(self) -> list[str]:
        """What comparing cannot tell."""
        return ["what came and went in between", "when changes were made"]

    @cached_property
    def _schema(self) -> pa.Schema:
        found = self.table.schema()
        untyped = [field.name for field in found if pa.types.is_null(field.type)]
        if untyped:
            raise DataError(
                f"The column {untyped[0]!r} of {self.table.place} does not say what it holds.",
                "Without a type, its values cannot be merged.",
                f'Say so in the load: types = {{ "{untyped[0]}" = "TEXT" }} (or INTEGER, REAL, DECIMAL(10,2), DATE, ...).',
            )
        return found

    def schema(self) -> pa.Schema:
        """The table's columns."""
        return self._schema

    def _watermark(self) -> Watermark | None:
        return self.load.target.watermark(self.load.name)

    def _span(self, ahead: int) -> Span:
        watermark = self._watermark()
        return Span(f"comparing {self.table.sql}", 0, (watermark.position if watermark else 0) + ahead)

    def span(self) -> Span:
        """The next comparison."""
        return self._span(1)

    def span_after(self, watermark: Watermark) -> Span:
        """The next comparison."""
        return self._span(1)

    def time_of(self, position: Position) -> datetime | None:
        """Not known."""
        return None

    def continuity_error(self, watermark: Watermark, span: Span) -> Refused | None:
        """Nothing stands in the way: all of the table is compared every time."""
        return None

    def waiting(self, window: Window) -> Waiting:
        """Only comparing would tell."""
        return Waiting(None, None if window.upto > window.after else False)

    def label(self, position: Position) -> str:
        """A comparison by its number."""
        return str(position.number)

    def parse(self, said: str) -> Position:
        """A comparison by its number."""
        watermark = self._watermark()
        known = watermark.position if watermark else 0
        if not said.isdigit() or int(said) > known + 1:
            raise ConfigError(f"{said!r} is not a comparison of {self.load.name}: there were {known:,}.")
        return Position(int(said))

    def locate(self, point: int | datetime) -> Position:
        """Always refused for times: nothing records when rows changed."""
        if isinstance(point, datetime):
            raise ConfigError(f"It is not known when the rows of {self.table.place} changed.")
        return self.parse(str(point))

    def read(self, window: Window) -> Batches:
        """What differs between the target and the table, as changes of the target.

        Raises:
            Refused: the window is one that was compared before.
        """
        return Batches(self._differences(window))

    def _differences(self, window: Window) -> Iterator[Changes]:
        watermark = self._watermark()
        if window.upto > window.after and window.after != (watermark.position if watermark else 0):
            raise Refused(
                f"The differences after {window.after} were merged, and nothing kept them.",
                "A comparison knows only what the target is, and what the table is now.",
                f"plainstep look {self.load.name} shows what differs now.",
            )
        held: Iterator[pa.RecordBatch] = iter(())
        rows: Iterator[pa.RecordBatch] = iter(())
        schema = self.load.target.fits(self._schema)
        if window.upto > window.after:
            held, rows = self._held(schema), whole_rows(self.table, self.key(), self._schema)
        seq = 0
        with compared(self.key(), schema, held, rows) as differences:
            for found in differences.tables():
                numbers = pa.array(range(seq + 1, seq + 1 + found.num_rows), pa.int64())
                place = pa.repeat(pa.scalar(window.upto, pa.int64()), found.num_rows)
                yield Changes(found.append_column("seq", numbers).append_column("position", place))
                seq += found.num_rows

    def _held(self, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """What was loaded last; null in the columns that the target does not have yet."""
        info = self.load.target.table(self.load.into_table, self.key())
        if info is None:
            return
        for batch in self.load.target.rows(self.load.into_table, known(schema, info.schema)):
            yield widened(batch, schema)

    def reserve(self) -> None:
        """Nothing to do: nothing is kept."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Nothing to do: nothing is kept."""

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Nothing to do: nothing is kept."""
        return 0

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands."""
        watermark = self._watermark()
        yield Snapshot(
            self._span(0 if watermark else 1), self._schema, whole_rows(self.table, self.key(), self._schema)
        )
