"""A change table, or any table with a column that grows, as a feed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from copy import copy
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.copying import replace
from plainstep.core.layouts.rows import POSITION, TIME
from plainstep.core.position_labels import as_time, earlier, parted
from plainstep.deferred import pa
from plainstep.errors import ChangesGone, ConfigError, Refused
from plainstep.sources.sql_order import SqlOrder
from plainstep.stores.feed import Ends

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import TimesConfig
    from plainstep.stores.api import Reading, Table

# How many rows are looked at to learn what JSON documents hold.
SAMPLE = 1000


class SqlFeed:
    """A table whose rows are changes.

    Args:
        table: the table.
        position: the columns that order its rows.
        first: an SQL expression that puts the rows at one position in order, or empty.
        time: the column that tells when a change was made, or the table that does; or empty.
        overlap: how far before the watermark to begin, or None.
        lenient: columns whose values need not fit their types: they are not the row's own.
        numbers: the columns of the position that hold hexadecimal numbers.
    """

    beside: tuple[str, ...] = ()
    is_typed = True

    def __init__(
        self,
        table: Table,
        position: tuple[str, ...],
        time: str | TimesConfig = "",
        times: Table | None = None,
        first: str = "",
        overlap: int | timedelta | None = None,
        lenient: frozenset[str] = frozenset(),
        numbers: tuple[str, ...] = (),
    ) -> None:
        self.table, self.position, self.time, self.times, self.overlap = table, position, time, times, overlap
        self.lenient, self.only = lenient, ""
        self.place = table.place
        self.identity = f"{table.sql} by {', '.join(position)}"
        self.order = self._ordered_by(position, numbers)
        self._own, self._plain = table.schema().names, list[str]()
        self._first = first

    def part(self, condition: str, told: str) -> SqlFeed:
        """The same, of the rows for which a condition in SQL holds.

        Args:
            condition: the condition.
            told: which rows these are, for messages.
        """
        one = copy(self)
        one.only, one.place = condition, f"{self.place}, {told}"
        return one

    def _ordered_by(self, position: tuple[str, ...], numbers: tuple[str, ...]) -> SqlOrder:
        """In which order its rows stand."""
        return SqlOrder(self.table, position, numbers)

    @property
    def is_numbered(self) -> bool:
        """Whether its positions begin with a number or a time."""
        return self.order.is_numbered

    @property
    def _order(self) -> str:
        """What orders the rows, with what orders those at one position, as SQL."""
        return self.order.by + (f", {self._first}" if self._first else "")

    def _joined(self) -> str:
        """What the table is joined with, as SQL, or empty."""
        return ""

    def _from(self) -> str:
        """What the rows are taken from, as SQL."""
        return f"FROM {self.table.sql}{self._joined()}"

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read: the row's own columns in their types, the others as texts."""
        names = self.table.schema().names
        heads = {next((name for name in names if path == name or path.startswith(name + ".")), ""): kind is not None
                 for path, kind in kinds.items()}  # fmt: skip
        self._own = [name for name in names if heads.get(name)]
        self._plain = [name for name in names if name in heads and not heads[name]]

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""

        schema = self.table.schema()
        own = [schema.field(name) for name in self._own]
        untyped = [pa.field(field.name, pa.string()) if pa.types.is_null(field.type) else field for field in own]
        plain = [pa.field(name, schema.field(name).type if self.table.typed else pa.string()) for name in self._plain]
        return pa.schema([*untyped, *plain, (POSITION, self.order.kind())])

    def ends(self) -> Ends:
        """How far it can be read now."""
        with self.opened() as (ends, _):
            return ends

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading]]:
        """How far it can be read, and the transaction that says so."""
        with self.table.reading() as reading:
            self.check(reading)
            yield self.ends_in(reading), reading

    def _which(self, *conditions: str) -> str:
        """The rows of this feed for which some conditions hold, as SQL."""
        terms = [one for one in (self.only, *conditions) if one]
        return f"WHERE {' AND '.join(terms)}" if terms else ""

    def ends_in(self, reading: Reading, watermark: str = "") -> Ends:
        """How far it can be read, as a transaction sees it that was checked; going on from a watermark, if there is one."""
        ends = self._ends(reading)
        if not watermark or ends.last == watermark:
            return ends
        ahead = ends.last is not None and reading.first(f"SELECT {self.order.later(ends.last, watermark)}")
        return ends if ahead and ahead[0] else replace(ends, last=watermark)

    def check(self, reading: Reading) -> None:
        """Look whether each row has a position, and in which order these are.

        Raises:
            Refused: one has none, or their order is not known.
        """
        self._refuse_nulls(reading)
        self.order.look(reading)

    def _ends(self, reading: Reading) -> Ends:
        # The order of these matters: who is writing is asked after the last position is known, so that whoever
        # may yet commit an earlier one is among them.
        last = self._one(reading, self._which(), self.order.down)
        if self.overlap is None:
            safe = self._settled(reading)
            last = self._one(reading, self._which(safe), self.order.down) if safe else last
        return Ends(self._one(reading, self._which(), self.order.by), last)

    def _settled(self, reading: Reading) -> str:
        """The condition for rows that nobody can put others before any more, as SQL, or empty."""
        return reading.unsettled(self.position[0])

    def _one(self, reading: Reading, where: str, order: str) -> str | None:
        # Under a name of its own: the order is that of the column's values, not of the texts that are selected.
        label = f"{self.order.label()} AS {self.table.dialect.quoted(POSITION)}"
        row = reading.first(f"SELECT {label} {self._from()} {where} ORDER BY {order} {self.table.dialect.first(1)}")
        return str(row[0]) if row else None

    def _refuse_nulls(self, reading: Reading) -> None:
        for name in self.position:  # each by itself, so that an index on it serves
            if name in self.table.never_null():
                continue
            if reading.first(
                f"SELECT 1 {self._from()} {self._which(f'{self.order.value(name)} IS NULL')} {self.table.dialect.first(1)}"
            ):
                raise Refused(
                    f"A row of {self.place} has no position: {name} is null.",
                    "Its place in the order is not known, so it would never be read.",
                    "Give it a position, or choose another column for 'position'.",
                )

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark: to the watermark itself, where nothing lies behind it."""
        with self.table.reading() as reading:
            self.check(reading)
            return self.ends_in(reading, watermark)

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: what it was reached with is gone."""
        if self.overlap is not None:
            return None
        with self.table.reading() as reading:
            newest = self._one(reading, self._which(), self.order.down)
            known = self._one(reading, self._which(self.order.compared("<=", watermark)), self.order.down)
        if newest is not None and known is None:
            return ChangesGone(
                f"The watermark of {load} is at {watermark}, and all that {self.place} holds is newer.",
                "Changes in between may have been removed before they were merged.",
                f"{reload(False)} If nothing was lost: plainstep watermark {load} --to start.",
            )
        if newest is not None and newest == known and newest != watermark:
            return ChangesGone(
                f"The watermark of {load} is at {watermark}, ahead of the last change of {self.place}, {newest}.",
                "The source was restored to an earlier state, or its changes were cleared.",
                reload(False),
            )
        return None

    def warnings(self) -> list[str]:
        """Nothing."""
        return []

    def label(self, position: str) -> str:
        """A position as people know it."""
        return position

    def at_or_before(self, position: str) -> str | None:
        """The last position that is not after this one."""
        with self.table.reading() as reading:
            return self._one(reading, self._which(self.order.compared("<=", position)), self.order.down)

    def before_time(self, moment: datetime) -> str | None:
        """The last position before the first change that was made after a time."""
        if not isinstance(self.time, str):
            assert self.times is not None
            inner = (
                f"{self.table.dialect.quoted(self.position[0])} IN (SELECT {self.times.dialect.quoted(self.time.position)} FROM {self.times.sql} "
                f"WHERE {self.times.later(self.time.time, moment)})"
            )
        elif self.time:
            inner = self._later_than(moment)
        else:
            raise ConfigError(
                f"It is not known when the changes of {self.place} were made.",
                "",
                "Name a column with 'time' in the layout, or give a position.",
            )
        with self.table.reading() as reading:
            first = self._one(reading, self._which(inner), self.order.by)
            before = self.order.compared("<", first) if first is not None else ""
            return self._one(reading, self._which(before), self.order.down)

    def _later_than(self, moment: datetime) -> str:
        """The condition that a change was made after a time, as SQL."""
        return self.table.later(str(self.time), moment)

    def _where(self, after: str | None, upto: str | None, again: bool = True) -> str:
        """The condition for the rows in between; if asked for, with those that are read again."""
        terms = []
        if after is not None and (self.overlap is None or not again):
            terms.append(self.order.compared(">", after))
        elif after is not None and self.overlap is not None:
            first = parted(after, len(self.position))[0]
            back = earlier(first, self.overlap) if self.overlap else first
            terms.append(f"{self.order.ordered(self.position[0])} >= {self.order.literal(self.position[0], back)}")
        terms += [self.order.compared("<=", upto)] if upto is not None else []
        return self._which(*terms)

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """How many rows there are in between, and when the first was made."""
        if upto is None:
            return 0, False, None
        where = self._where(after, upto, again=False)
        timed = isinstance(self.time, str) and bool(self.time)
        time = self.order.text(str(self.time)) if timed else "NULL"
        with self.table.reading() as reading:
            row = reading.first(f"SELECT count(*) {self._from()} {where}")
            count = int(row[0]) if row else 0
            first = reading.first(
                f"SELECT {time} AS made {self._from()} {where} ORDER BY {self.order.by} {self.table.dialect.first(1)}"
            )
        since = as_time(str(first[0])) if first and first[0] is not None else None
        return count, count > 0, since

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between, in order."""

        own, plain = list(self._own), list(self._plain)
        if self.table.typed:
            own, plain = own + plain, []
        texts = {name: self.table.text(name) for name in plain} | self._beside()
        numbered = not pa.types.is_string(self.order.kind())
        if not numbered:
            texts[POSITION] = self.order.label()
        elif self.position[0] not in own:
            own.append(self.position[0])
        if not isinstance(self.time, str):
            assert self.times is not None
            texts[TIME] = (
                f"(SELECT {self.times.text(self.time.time)} FROM {self.times.sql} AS plainstep_times "
                f"WHERE plainstep_times.{self.times.dialect.quoted(self.time.position)} = {self.table.sql}.{self.table.dialect.quoted(self.position[0])} {self.times.dialect.first(1)})"
            )
        if upto is None:
            return
        with self.table.reading() as reading:
            tail = f"{self._joined()} {self._where(after, upto)} ORDER BY {self._order}"
            for batch in reading.select(own, texts, tail):
                found = pa.Table.from_batches([batch])
                yield found.append_column(POSITION, found[self.position[0]]) if numbered else found

    def _beside(self) -> dict[str, str]:
        """What is read beside columns of the table, as SQL that gives texts."""
        return {}

    def _in_sample(self) -> dict[str, str]:
        """What is read beside columns of the table in a sample."""
        return {POSITION: self.order.label()}

    def sample(self) -> pa.Table:
        """Some of its rows."""

        schema = self.table.schema()
        with self.table.reading() as reading:
            texts = {name: self.table.text(name) for name in schema.names if name in self.lenient}
            own = [name for name in schema.names if name not in texts]
            batches = list(reading.select(own, texts | self._in_sample(), self.table.dialect.first(SAMPLE)))
        if batches:
            return pa.Table.from_batches(batches)
        return schema.append(pa.field(POSITION, pa.string())).empty_table()

    def told(self, position: str) -> str:
        """Which row a position means."""
        values = parted(position, len(self.position))
        named = ", ".join(f"{name} {value}" for name, value in zip(self.position, values, strict=True))
        return f"{self.place}, {named}"
