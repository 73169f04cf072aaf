"""In which order the rows of a table stand, by the columns of their positions, as SQL."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core import hexadecimal
from plainstep.core.position_labels import parted
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused

if TYPE_CHECKING:
    from plainstep.stores.api import Reading, Table


class SqlOrder:
    """The order of the rows of a table.

    Args:
        table: the table.
        position: the columns that order its rows.
        numbers: those of them that hold hexadecimal numbers.
    """

    def __init__(self, table: Table, position: tuple[str, ...], numbers: tuple[str, ...] = ()) -> None:
        self.table, self.position, self.place = table, position, table.place
        names = table.schema().names
        for name in position:
            if name not in names:
                raise ConfigError(
                    f"The position names the column {name!r}, which {self.place} does not have.",
                    f"Its columns: {', '.join(names)}.",
                    "Fix 'position' in the layout.",
                )
        self._numbered: dict[str, bool] = {}
        self._hexadecimal: dict[str, int] = {}
        for name in numbers:
            if name not in position or not self._is_text(name):
                raise ConfigError(
                    f"The layout says that {name} is hexadecimal, and it is not a text of the position of {self.place}.",
                    f"The position: {', '.join(position)}.",
                    "Fix 'hexadecimal' in the layout.",
                )
            self._hexadecimal[name] = 0

    @property
    def is_numbered(self) -> bool:
        """Whether its positions begin with a number or a time: also one that is written as text, where that orders them."""
        kind = self.table.schema().field(self.position[0]).type
        if pa.types.is_string(kind):
            self.ordered(self.position[0])  # looks at them, if that was not done
            return self._numbered.get(self.position[0], False)
        return bool(pa.types.is_integer(kind) or pa.types.is_temporal(kind))

    @property
    def by(self) -> str:
        """What orders the rows, as SQL."""
        return ", ".join(map(self.ordered, self.position))

    @property
    def down(self) -> str:
        """The same backwards."""
        return ", ".join(f"{self.ordered(name)} DESC" for name in self.position)

    def value(self, name: str) -> str:
        """A column of the position, as SQL."""
        return self.table.dialect.quoted(name)

    def text(self, name: str) -> str:
        """The same as text."""
        return self.table.text(name)

    def ordered(self, name: str) -> str:
        """A column of the position as it is ordered, as SQL: texts that are whole numbers are ordered as these."""
        return self.in_order(name, self.value(name))

    def in_order(self, name: str, value: str) -> str:
        """A value of such a column as it is ordered, as SQL."""
        if not self._is_text(name):
            return value
        if name not in self._numbered:
            with self.table.reading() as reading:
                self.look(reading)
        return self._compared_as(name, value)

    def _compared_as(self, name: str, value: str) -> str:
        """A text of the position as it is compared, as SQL."""
        if name in self._hexadecimal:
            return self.table.binary(
                f"({hexadecimal.sql_in_order(value, self._hexadecimal[name], self.table.dialect.stripped)})"
            )
        return padded(value) if self._numbered.get(name) else self.table.binary(value)

    def _is_text(self, name: str) -> bool:
        kind = self.table.schema().field(name).type
        return bool(pa.types.is_string(kind) or (pa.types.is_temporal(kind) and not self.table.typed))

    def look(self, reading: Reading) -> None:
        """Look at how positions that are texts are ordered.

        Raises:
            Refused: that is not known.
        """
        for name in filter(self._is_text, self.position):
            self._numbered[name] = False
            if name in self._hexadecimal:
                self._know_numbers(reading, name)
                continue
            row = reading.first(
                LOOKED_AT.format(
                    column=self.table.dialect.quoted(name),
                    digits=_digits_only(self.table.dialect.quoted(name)),
                    table=self.table.sql,
                )
            )
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

    def _know_numbers(self, reading: Reading, name: str) -> None:
        """Look at how many hexadecimal numbers a column of the position holds.

        Raises:
            Refused: not every row holds as many.
        """
        column, one = self.table.dialect.quoted(name), self.table.dialect.first(1)
        first = reading.first(f"SELECT {column} FROM {self.table.sql} WHERE {column} IS NOT NULL {one}")
        parts = self._hexadecimal[name] = hexadecimal.parts_in(str(first[0])) if first else 1
        odd = reading.first(
            f"SELECT {column} FROM {self.table.sql} WHERE NOT ({hexadecimal.sql_fits(column, parts, self.table.dialect.stripped)}) {one}"
        )
        if first and odd:
            raise Refused(
                f"The position {name} of {self.place} is {odd[0]!r} in one row, and {first[0]!r} in another.",
                f"It is not known which comes first: not all of them are {parts} hexadecimal numbers.",
                "Fix the row, or 'hexadecimal' in the layout.",
            )

    def kind(self) -> pa.DataType:
        """The type of positions: whole numbers where they can be, and else texts."""
        kind = self.table.schema().field(self.position[0]).type
        return kind if len(self.position) == 1 and pa.types.is_integer(kind) else pa.string()

    def label(self) -> str:
        """A row's position as text, as SQL."""
        parts = [self.text(name) for name in self.position]
        if len(parts) == 1:
            return parts[0]
        return " || '/' || ".join(f"replace(replace({part}, '%', '%25'), '/', '%2F')" for part in parts)

    def literal(self, name: str, value: str) -> str:
        """A value of the position as it is ordered, as SQL."""
        literal = self.table.literal(name, value)
        if not self._is_text(name):
            return literal
        if name in self._hexadecimal and hexadecimal.parts_in(value) != self._hexadecimal[name]:
            raise ConfigError(f"{value!r} is not a position here: {name} holds {self._hexadecimal[name]} numbers.")
        return self._compared_as(name, literal)

    def compared(self, sign: str, label: str) -> str:
        """The condition that rows come after a position (``>``), before it, or neither, as SQL."""
        values = parted(label, len(self.position))
        pairs = [
            (self.ordered(name), self.literal(name, value)) for name, value in zip(self.position, values, strict=True)
        ]
        return _ordered(pairs, sign)

    def later(self, label: str, other: str) -> str:
        """Whether one position lies behind another, as SQL."""
        both = zip(self.position, parted(label, len(self.position)), parted(other, len(self.position)), strict=True)
        return _ordered([(self.literal(name, one), self.literal(name, two)) for name, one, two in both], ">")


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
