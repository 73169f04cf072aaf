"""How a database writes what others write otherwise: names, texts, parameters, and the statements that differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from plainstep.sql.literals import quoted, text


@dataclass(frozen=True)
class Dialect:
    """One database's way of writing SQL. As it is made, it is the standard's.

    Attributes:
        parameter: what stands for a value in a statement.
        quote: what a name stands in; within, it is written twice.
        backslashes: whether a backslash in a text has to be written twice.
        text, number, real: the types of the columns that Plain Step keeps for itself.
        key_text: the type of those of them that hold texts and make up a key, where not the same.
        if_absent: what a CREATE TABLE says so that a table that is there stays.
        limit: what ends a query of which only the first rows (``{count}``) are wanted.
        ignoring: what comes before and behind an insertion that leaves rows as they are whose key is there; ``{column}`` is one
            of its columns.
        keyed_text: how a text (``{column}``) is named in a key of such a table.
        stripped: a text (``{value}``) without some letters (``{letters}``) at its end.
        widening: the statement that gives a column (``{column}``) of a table (``{table}``) another type (``{type}``).
    """

    parameter: str = "?"
    quote: str = '"'
    backslashes: bool = False
    text: str = "VARCHAR"
    number: str = "BIGINT"
    real: str = "DOUBLE PRECISION"
    key_text: str = ""
    if_absent: str = "IF NOT EXISTS "
    limit: str = "LIMIT {count}"
    ignoring: tuple[str, str] = ("INSERT INTO", " ON CONFLICT DO NOTHING")
    keyed_text: str = "{column}"
    stripped: str = "rtrim({value}, '{letters}')"
    widening: str = "ALTER TABLE {table} ALTER COLUMN {column} TYPE {type}"

    def quoted(self, name: str) -> str:
        """A name, whatever is in it."""
        return quoted(name, self.quote)

    def string(self, value: str) -> str:
        """A text."""
        return text(value, self.backslashes)

    def value(self, value: int | str) -> str:
        """A number or a text."""
        return str(value) if isinstance(value, int) else self.string(value)

    def later(self, row: Mapping[str, int | str]) -> str:
        """The condition that a row comes after another one, by some columns in their order.

        Spelled out, because not every database compares rows as such.
        """
        condition = ""
        for name, value in reversed(list(row.items())):
            column, told = self.quoted(name), self.value(value)
            condition = f"({column} > {told}{f' OR ({column} = {told} AND {condition})' if condition else ''})"
        return condition

    def first(self, count: int) -> str:
        """What ends a query of which only the first rows are wanted."""
        return self.limit.format(count=count)

    def insertion(self, table: str, columns: Sequence[str], ignoring: bool = False) -> str:
        """The statement that adds a row of values, or leaves the row as it is whose key is there.

        Args:
            table, columns: their names, as SQL writes them.
            ignoring: whether a row whose key is there stays as it is.
        """
        before, behind = self.ignoring if ignoring else ("INSERT INTO", "")
        values = ", ".join([self.parameter] * len(columns))
        return f"{before} {table} ({', '.join(columns)}) VALUES ({values}){behind.format(column=columns[0])}"


STANDARD = Dialect()
