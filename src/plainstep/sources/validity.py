"""A table whose rows are each valid from one time to another, as a feed: where one begins it is put, where one ends it is gone."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.layouts.rows import POSITION, TIME, WRONG
from plainstep.core.position_labels import as_time
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.sources.sql_feed import SqlFeed
from plainstep.sources.sql_order import SqlOrder

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.api import Reading, Table

# The column that tells whether a row begins or ends, and its codes.
EVENT, BEGINS, ENDS = "plainstep.event", "begins", "ends"
# Each row is read twice: as it begins, and as it ends.
TWICE = "(SELECT 0 AS plainstep_end UNION ALL SELECT 1 AS plainstep_end) AS plainstep_ends"


# What a period tells already.
TOLD = (
    "position",
    "operation",
    "operation_sql",
    "only_new",
    "was",
    "deleted",
    "update_was",
    "lookup",
    "partition",
    "time",
)


def as_changes(said: LayoutConfig, where: str = "the layout") -> LayoutConfig:
    """A layout, filled in with how the events of a validity table are read, if it is of one.

    Args:
        said: what is said of the layout.
        where: where that stands, for messages.

    Raises:
        ConfigError: it says something that does not go together.
    """
    if not said.valid_from and not said.valid_to:
        if said.overlapping != "refuse":
            raise ConfigError(f"{where} says overlapping, and names no valid_from.", "", "Take it out.")
        return said
    if not said.valid_from or not said.valid_to:
        raise ConfigError(f"{where} names one end of a period: it needs both valid_from and valid_to.")
    for name in TOLD:
        if getattr(said, name):
            raise ConfigError(
                f"{where} has valid_from, and {name} beside it.",
                "A row's period tells the order, the time and what happened.",
                f"Take {name} out of it.",
            )
    aside = [*said.bookkeeping, said.valid_from, said.valid_to]
    told = {"position": [said.valid_from], "operation": EVENT, "put": [BEGINS], "delete": [ENDS], "bookkeeping": aside}
    return replace(said, **told)


def either(begins: str, ends: str) -> str:
    """Of an event, one thing where a row begins, and another where it ends, as SQL."""
    return f"CASE WHEN plainstep_end = 0 THEN {begins} ELSE {ends} END"


# A time that is written in full, but for parts of a second and a zone.
WHOLE = "2026-05-04 09:30:00"
# How times are written: their lengths, what stands between day and time, whether some have a zone, and two of them.
WRITTEN = """SELECT min(length(x)), max(length(x)), count(DISTINCT substr(x, 11, 1)),
count(DISTINCT CASE WHEN length(x) > 19 AND (x LIKE '%Z' OR substr(x, length(x) - 5, 1) IN ('+', '-')) THEN 1 ELSE 0 END), min(x), max(x)
FROM {table} WHERE x IS NOT NULL"""


class EventOrder(SqlOrder):
    """The order of events: by the time at which a row begins, or ends."""

    def __init__(self, table: Table, begin: str, end: str) -> None:
        super().__init__(table, (begin,))
        self.end = end

    def value(self, name: str) -> str:
        """When an event is, as SQL."""
        return f"({either(self.table.dialect.quoted(name), self.table.dialect.quoted(self.end))})"

    def text(self, name: str) -> str:
        """The same as text."""
        return either(self.table.text(name), self.table.text(self.end))

    def kind(self) -> pa.DataType:
        """Positions are texts: no column of the table holds them all."""
        return pa.string()

    def look(self, reading: Reading) -> None:
        """Look at how times that are texts are ordered: those of both columns, among each other.

        Raises:
            Refused: that is not known.
        """
        super().look(reading)
        if not self._is_text(self.position[0]):
            return
        begin, end = (self.table.dialect.quoted(name) for name in (self.position[0], self.end))
        both = f"(SELECT {begin} AS x FROM {self.table.sql} UNION ALL SELECT {end} FROM {self.table.sql}) AS plainstep_both"
        row = reading.first(WRITTEN.format(table=both))
        shortest, longest, separators, zones, least, most = row or (None,) * 6
        if shortest is None or ((shortest == longest or shortest >= len(WHOLE)) and separators <= 1 and zones <= 1):
            return
        raise Refused(
            f"Times of {self.place} are not all written in one way, as {least!r} and {most!r}.",
            "Compared letter by letter, a row may seem to end before it begins, or apart from what follows it.",
            f"Write those of {self.position[0]} and {self.end} alike: with a time of day, one separator and one zone.",
        )


class ValidityFeed(SqlFeed):
    """The events of a validity table, in the order of their times.

    What ends without a successor is gone. Of the future nothing is read. A period that begins within another one of its key
    contradicts the table, and is told; one that ends before it begins, or where it begins, was never valid.

    Args:
        table: the table.
        said: the two columns with its times, and what periods that overlap are.
        key: the columns that tell rows apart.
        overlap: how far before the watermark to begin, or None.
    """

    def __init__(
        self, table: Table, said: LayoutConfig, key: tuple[str, ...], overlap: int | timedelta | None = None
    ) -> None:
        begin, end = said.valid_from, said.valid_to
        self.begin, self.end, self.key, self.newest = begin, end, key, said.overlapping == "newest"
        if end not in table.schema().names:
            raise ConfigError(
                f"The layout says valid_to = {end!r}, which {table.place} does not have.",
                f"Its columns: {', '.join(table.schema().names)}.",
                "Fix 'valid_to' in the layout.",
            )
        kinds = [table.schema().field(name).type for name in (begin, end) if name in table.schema().names]
        if len(set(kinds)) > 1:
            raise ConfigError(
                f"{begin} and {end} of {table.place} are of two types: {kinds[0]} and {kinds[1]}.",
                "Compared as one of them, a time may lose a part.",
                "Make them one type, or read a view in which they are.",
            )
        super().__init__(table, (begin,), overlap=overlap, lenient=frozenset({begin, end}))
        self.identity = f"{table.sql} by {begin} and {end}"
        self.time = begin if self._is_timed() else ""

    def _is_timed(self) -> bool:
        """Whether periods are of times, and not of numbers such as versions."""
        kind = self.table.schema().field(self.begin).type
        if not pa.types.is_string(kind):
            return bool(pa.types.is_temporal(kind))
        with self.table.reading() as reading:
            quoted = self.table.dialect.quoted(self.begin)
            row = reading.first(
                f"SELECT {quoted} FROM {self.table.sql} WHERE {quoted} IS NOT NULL {self.table.dialect.first(1)}"
            )
        return bool(row and as_time(str(row[0])))

    def _column(self, name: str, of: str = "") -> str:
        """A column with one of the two times as it is ordered, as SQL; of the table itself, or under an alias."""
        return self.order.in_order(self.begin, f"{of or self.table.sql}.{self.table.dialect.quoted(name)}")

    def _joined(self) -> str:
        return f" CROSS JOIN {TWICE}"

    def _refuse_nulls(self, reading: Reading) -> None:
        null = f"{self.table.dialect.quoted(self.begin)} IS NULL"
        if reading.first(f"SELECT 1 FROM {self.table.sql} WHERE {null} {self.table.dialect.first(1)}"):
            raise Refused(
                f"A row of {self.place} has no begin: {self.begin} is null.",
                "From when it is valid is not known, so it would never be read.",
                "Give it a begin, or read a view without such rows.",
            )

    def _ordered_by(self, position: tuple[str, ...], numbers: tuple[str, ...]) -> SqlOrder:
        return EventOrder(self.table, self.begin, self.end)

    @property
    def _order(self) -> str:
        return f"{self.order.by}, plainstep_end DESC"

    def _which(self, *conditions: str) -> str:
        """Events that there are: periods that are none, ends with a successor and what is yet to come are not among them."""
        begin, end = self._column(self.begin), self._column(self.end)
        known = [
            f"({self._is_open()} OR {begin} < {end})",
            either("1", f"CASE WHEN {self._is_gone()} THEN 1 ELSE 0 END") + " = 1",
        ]
        if self.time:
            now = datetime.now(UTC)
            known.append(
                f"NOT {self._either_holds(self.table.later(self.begin, now), self.table.later(self.end, now))}"
            )
        return super()._which(*known, *conditions)

    def _either_holds(self, begins: str, ends: str) -> str:
        return f"(CASE WHEN plainstep_end = 0 THEN CASE WHEN {begins} THEN 1 ELSE 0 END ELSE CASE WHEN {ends} THEN 1 ELSE 0 END END = 1)"

    def _is_open(self, of: str = "") -> str:
        return f"{self._column(self.end, of)} IS NULL"

    def _same_key(self) -> str:
        quoted = self.table.dialect.quoted
        return " AND ".join(f"plainstep_other.{quoted(name)} = {self.table.sql}.{quoted(name)}" for name in self.key)

    def _is_gone(self) -> str:
        """Whether a row ends, and none of its key takes its place by then, as SQL."""
        begins, ends = self._column(self.begin, "plainstep_other"), self._column(self.end, "plainstep_other")
        there, end = f"{self._is_open('plainstep_other')} OR {begins} < {ends}", self._column(self.end)
        follows = f"{begins} > {self._column(self.begin)} AND {begins} <= {end}" if self.newest else f"{begins} = {end}"
        return (
            f"{end} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM {self.table.sql} AS plainstep_other "
            f"WHERE {self._same_key()} AND {follows} AND ({there}))"
        )

    def _beside(self) -> dict[str, str]:
        """What an event is, when it was, and whether its period begins within another one of its key."""
        begins, ends = self._column(self.begin, "plainstep_other"), self._column(self.end, "plainstep_other")
        own = self._column(self.begin)
        within = (
            f"EXISTS (SELECT 1 FROM {self.table.sql} AS plainstep_other WHERE {self._same_key()} "
            f"AND {begins} < {own} AND ({self._is_open('plainstep_other')} OR {ends} > {own}))"
        )
        twice = (
            f"(SELECT count(*) FROM {self.table.sql} AS plainstep_other WHERE {self._same_key()} AND {begins} = {own} "
            f"AND ({self._is_open('plainstep_other')} OR {begins} < {ends})) > 1"
        )
        told = "'its period begins within, or together with, another one of its key'"
        found = {
            EVENT: either(f"'{BEGINS}'", f"'{ENDS}'"),
            WRONG: f"CASE WHEN plainstep_end = 0 AND ({twice if self.newest else f'{within} OR {twice}'}) THEN {told} END",
        }
        return found | ({TIME: self.order.text(self.begin)} if self.time else {})

    def _settled(self, reading: Reading) -> str:
        both = [reading.unsettled(name) for name in (self.begin, self.end)]
        return self._either_holds(*both) if all(both) else ""

    def _later_than(self, moment: datetime) -> str:
        return self._either_holds(self.table.later(self.begin, moment), self.table.later(self.end, moment))

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        schema = super().columns()
        names = [name for name in self._beside() if name not in schema.names]
        place = schema.field(POSITION)
        return pa.schema(
            [*(field for field in schema if field.name != POSITION), *((name, pa.string()) for name in names), place]
        )

    def _in_sample(self) -> dict[str, str]:
        return {POSITION: self.table.text(self.begin), EVENT: f"'{BEGINS}'"}
