"""A change table, or any table with a column that grows, as a feed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING

from plainstep.core.layouts.rows import POSITION, TIME
from plainstep.core.position_labels import as_time, earlier, parted
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
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
        only: a condition in SQL for the rows that belong to it, or empty.
    """

    def __init__(
        self,
        table: Table,
        position: tuple[str, ...],
        time: str | TimesConfig = "",
        times: Table | None = None,
        order: str = "",
        overlap: int | timedelta | None = None,
        lenient: frozenset[str] = frozenset(),
        only: str = "",
    ) -> None:
        self.table, self.position, self.time, self.times, self.overlap = table, position, time, times, overlap
        self.lenient, self.only = lenient, only
        self.place = table.place
        self.identity = f"{table.sql} by {', '.join(position)}"
        names = table.schema().names
        for name in position:
            if name not in names:
                raise ConfigError(
                    f"The position names the column {name!r}, which {self.place} does not have.",
                    f"Its columns: {', '.join(names)}.",
                    "Fix 'position' in the layout.",
                )
        self._own, self._plain = names, list[str]()
        self._first = order
        self._numbered: dict[str, bool] = {}

    @property
    def _by(self) -> str:
        """What orders the rows, as SQL."""
        return ", ".join(map(self._ordered, self.position))

    @property
    def _order(self) -> str:
        """The same, with what orders rows at one position."""
        return self._by + (f", {self._first}" if self._first else "")

    @property
    def _down(self) -> str:
        """The same backwards."""
        return ", ".join(f"{self._ordered(name)} DESC" for name in self.position)

    def _from(self) -> str:
        """What the rows are taken from, as SQL."""
        return f"FROM {self.table.sql}"

    def _value(self, name: str) -> str:
        """A column of the position, as SQL."""
        return self.table.dialect.quoted(name)

    def _text(self, name: str) -> str:
        """The same as text."""
        return self.table.text(name)

    def _ordered(self, name: str) -> str:
        """A column of the position as it is ordered, as SQL: texts that are whole numbers are ordered as these."""
        return self._in_order(name, self._value(name))

    def _in_order(self, name: str, value: str) -> str:
        if not self._is_text(name):
            return value
        if name not in self._numbered:
            with self.table.reading() as reading:
                self._know_order(reading)
        return padded(value) if self._numbered.get(name) else self.table.binary(value)

    def _is_text(self, name: str) -> bool:
        kind = self.table.schema().field(name).type
        return bool(pa.types.is_string(kind) or (pa.types.is_temporal(kind) and not self.table.typed))

    def _know_order(self, reading: Reading) -> None:
        """Look at how positions that are texts are ordered.

        Raises:
            Refused: that is not known.
        """
        for name in filter(self._is_text, self.position):
            row = reading.first(
                LOOKED_AT.format(
                    column=self.table.dialect.quoted(name),
                    digits=_digits_only(self.table.dialect.quoted(name)),
                    table=self.table.sql,
                )
            )
            self._numbered[name] = False
            if row is None or row[0] is None:
                continue
            shortest, longest, least, most, others, zones, unzoned = row
            self._numbered[name] = shortest != longest and not others and longest <= len(ZEROS)
            in_order = (shortest == longest and zones <= 1) or self._numbered[name] or not unzoned
            if not in_order:
                raise Refused(
                    f"The position {name} of {self.place} is a text, and its order is not plain, as in {least!r} and {most!r}.",
                    "Compared letter by letter, a later one may come before an earlier one, and changes would be lost.",
                    "Choose columns for 'position' that are numbers or times; or texts of one length, times all in one zone.",
                )

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
        return pa.schema([*untyped, *plain, (POSITION, self._place_kind())])

    def _place_kind(self) -> pa.DataType:
        """Positions are whole numbers where they can be, and else texts."""
        kind = self.table.schema().field(self.position[0]).type
        return kind if len(self.position) == 1 and pa.types.is_integer(kind) else pa.string()

    def _label(self) -> str:
        """A row's position as text, as SQL."""
        parts = [self._text(name) for name in self.position]
        if len(parts) == 1:
            return parts[0]
        return " || '/' || ".join(f"replace(replace({part}, '%', '%25'), '/', '%2F')" for part in parts)

    def _literal(self, name: str, value: str) -> str:
        """A value of the position as it is ordered, as SQL."""
        literal = self.table.literal(name, value)
        if not self._is_text(name):
            return literal
        return padded(literal) if self._numbered.get(name) else self.table.binary(literal)

    def _compared(self, sign: str, label: str) -> str:
        values = parted(label, len(self.position))
        pairs = [
            (self._ordered(name), self._literal(name, value)) for name, value in zip(self.position, values, strict=True)
        ]
        return _ordered(pairs, sign)

    def ends(self) -> Ends:
        """How far it can be read now."""
        with self.opened() as (ends, _):
            return ends

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading]]:
        """How far it can be read, and the transaction that says so."""
        with self.table.reading() as reading:
            yield self.ends_in(reading), reading

    def _which(self, *conditions: str) -> str:
        """The rows of this feed for which some conditions hold, as SQL."""
        terms = [one for one in (self.only, *conditions) if one]
        return f"WHERE {' AND '.join(terms)}" if terms else ""

    def ends_in(self, reading: Reading, watermark: str = "") -> Ends:
        """How far it can be read, as a transaction sees it; going on from a watermark, if there is one."""
        ends = self._ends(reading)
        if not watermark or ends.last == watermark:
            return ends
        ahead = ends.last is not None and reading.first(f"SELECT {self._later(ends.last, watermark)}")
        return ends if ahead and ahead[0] else replace(ends, last=watermark)

    def _ends(self, reading: Reading) -> Ends:
        self._refuse_nulls(reading)
        self._know_order(reading)
        # The order of these matters: who is writing is asked after the last position is known, so that whoever
        # may yet commit an earlier one is among them.
        last = self._one(reading, self._which(), self._down)
        if self.overlap is None:
            safe = self._settled(reading)
            last = self._one(reading, self._which(safe), self._down) if safe else last
        return Ends(self._one(reading, self._which(), self._by), last)

    def _settled(self, reading: Reading) -> str:
        """The condition for rows that nobody can put others before any more, as SQL, or empty."""
        return reading.unsettled(self.position[0])

    def _one(self, reading: Reading, where: str, order: str) -> str | None:
        # Under a name of its own: the order is that of the column's values, not of the texts that are selected.
        label = f"{self._label()} AS {self.table.dialect.quoted(POSITION)}"
        row = reading.first(f"SELECT {label} {self._from()} {where} ORDER BY {order} {self.table.dialect.first(1)}")
        return str(row[0]) if row else None

    def _refuse_nulls(self, reading: Reading) -> None:
        for name in self.position:  # each by itself, so that an index on it serves
            if name in self.table.never_null():
                continue
            if reading.first(
                f"SELECT 1 {self._from()} {self._which(f'{self._value(name)} IS NULL')} {self.table.dialect.first(1)}"
            ):
                raise Refused(
                    f"A row of {self.place} has no position: {name} is null.",
                    "Its place in the order is not known, so it would never be read.",
                    "Give it a position, or choose another column for 'position'.",
                )

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark: to the watermark itself, where nothing lies behind it."""
        with self.table.reading() as reading:
            return self.ends_in(reading, watermark)

    def _later(self, label: str, other: str) -> str:
        """Whether one position lies behind another, as SQL."""
        both = zip(self.position, parted(label, len(self.position)), parted(other, len(self.position)), strict=True)
        return _ordered([(self._literal(name, one), self._literal(name, two)) for name, one, two in both], ">")

    def refusal(self, load: str, watermark: str) -> Refused | None:
        """Why a load cannot go on from a watermark: what it was reached with is gone."""
        if self.overlap is not None:
            return None
        reload = f"plainstep reload {load} compares the whole table and goes on from there."
        with self.table.reading() as reading:
            newest = self._one(reading, self._which(), self._down)
            known = self._one(reading, self._which(self._compared("<=", watermark)), self._down)
        if newest is not None and known is None:
            return Refused(
                f"The watermark of {load} is at {watermark}, and all that {self.place} holds is newer.",
                "Changes in between may have been removed before they were merged.",
                f"{reload} If nothing was lost: plainstep watermark {load} --to start.",
            )
        if newest is not None and newest == known and newest != watermark:
            return Refused(
                f"The watermark of {load} is at {watermark}, ahead of the last change of {self.place}, {newest}.",
                "The source was restored to an earlier state, or its changes were cleared.",
                reload,
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
            return self._one(reading, self._which(self._compared("<=", position)), self._down)

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
            first = self._one(reading, self._which(inner), self._by)
            before = self._compared("<", first) if first is not None else ""
            return self._one(reading, self._which(before), self._down)

    def _later_than(self, moment: datetime) -> str:
        """The condition that a change was made after a time, as SQL."""
        return self.table.later(str(self.time), moment)

    def _where(self, after: str | None, upto: str | None, again: bool = True) -> str:
        """The condition for the rows in between; if asked for, with those that are read again."""
        terms = []
        if after is not None and (self.overlap is None or not again):
            terms.append(self._compared(">", after))
        elif after is not None and self.overlap is not None:
            first = parted(after, len(self.position))[0]
            back = earlier(first, self.overlap) if self.overlap else first
            terms.append(f"{self._ordered(self.position[0])} >= {self._literal(self.position[0], back)}")
        terms += [self._compared("<=", upto)] if upto is not None else []
        return self._which(*terms)

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """How many rows there are in between, and when the first was made."""
        if upto is None:
            return 0, False, None
        where = self._where(after, upto, again=False)
        timed = isinstance(self.time, str) and bool(self.time)
        time = self._text(str(self.time)) if timed else "NULL"
        with self.table.reading() as reading:
            row = reading.first(f"SELECT count(*) {self._from()} {where}")
            count = int(row[0]) if row else 0
            first = reading.first(
                f"SELECT {time} AS made {self._from()} {where} ORDER BY {self._by} {self.table.dialect.first(1)}"
            )
        since = as_time(str(first[0])) if first and first[0] is not None else None
        return count, count > 0, since

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between, in order."""

        own, plain = list(self._own), list(self._plain)
        if self.table.typed:
            own, plain = own + plain, []
        texts = {name: self.table.text(name) for name in plain} | self._beside()
        numbered = not pa.types.is_string(self._place_kind())
        if not numbered:
            texts[POSITION] = self._label()
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
            joined = self._from().removeprefix(f"FROM {self.table.sql}")
            tail = f"{joined} {self._where(after, upto)} ORDER BY {self._order}"
            for batch in reading.select(own, texts, tail):
                found = pa.Table.from_batches([batch])
                yield found.append_column(POSITION, found[self.position[0]]) if numbered else found

    def _beside(self) -> dict[str, str]:
        """What is read beside columns of the table, as SQL that gives texts."""
        return {}

    def _in_sample(self) -> dict[str, str]:
        """What is read beside columns of the table in a sample."""
        return {POSITION: self._label()}

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


# How texts are looked at that order changes: their lengths, whether all are digits, how many zones there are among times, and
# whether some is not a time, or one with a zone. (Times without zones are in order, with and without fractions.)
IS_TIME = "{column} LIKE '____-__-__%'"
ZONED = "(substr({column}, length({column}) - 5, 1) IN ('+', '-') AND length({column}) > 16 OR {column} LIKE '%Z')"
LOOKED_AT = f"""SELECT min(length({{column}})), max(length({{column}})), min({{column}}), max({{column}}),
max(CASE WHEN {{digits}} THEN 0 ELSE 1 END),
count(DISTINCT CASE WHEN {IS_TIME} AND {ZONED} THEN CASE WHEN {{column}} LIKE '%Z' THEN 'Z' ELSE substr({{column}}, length({{column}}) - 5) END END),
max(CASE WHEN {IS_TIME} AND NOT {ZONED} THEN 0 ELSE 1 END)
FROM {{table}}"""
# As many digits as a position may have that is a number written as text.
ZEROS = "0" * 40


def padded(value: str) -> str:
    """Digits with zeros before them, as SQL: as texts, they are in the order of their numbers."""
    return f"substr('{ZEROS}' || {value}, length({value}) + 1)"


def _digits_only(column: str) -> str:
    """Whether a text holds digits alone, as SQL that every store understands."""
    stripped = column
    for digit in "0123456789":
        stripped = f"replace({stripped}, '{digit}', '')"
    return f"length({stripped}) = 0"


def _ordered(pairs: list[tuple[str, str]], sign: str) -> str:
    """The condition that columns, one after the other, come after values (``>``), before them, or neither, as SQL.

    Spelt out, because not every store compares several columns at once; the first by itself, so that an index serves.
    """
    (column, value), *rest = pairs
    if not rest:
        return f"{column} {sign} {value}"
    strictly = sign[0]
    return f"({column} {strictly}= {value} AND ({column} {strictly} {value} OR {_ordered(rest, sign)}))"
