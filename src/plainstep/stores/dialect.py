"""How a database writes what others write otherwise: names, texts, parameters, and the statements that differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Dialect:
    """One database's way of writing SQL. As it is made, it is the standard's.

    Attributes:
        parameter: what stands for a value in a statement.
        quote: what a name stands in; within, it is written twice.
        backslashes: whether a backslash in a text has to be written twice.
        text, number, real: the types of the columns that Plain Step keeps for itself.
        ignoring: what comes before and behind an insertion that leaves rows as they are whose key is there.
        widening: the statement that gives a column (``{column}``) of a table (``{table}``) another type (``{type}``).
    """

    parameter: str = "?"
    quote: str = '"'
    backslashes: bool = False
    text: str = "VARCHAR"
    number: str = "BIGINT"
    real: str = "DOUBLE PRECISION"
    ignoring: tuple[str, str] = ("INSERT INTO", " ON CONFLICT DO NOTHING")
    widening: str = "ALTER TABLE {table} ALTER COLUMN {column} TYPE {type}"

    def quoted(self, name: str) -> str:
        """A name, whatever is in it."""
        return self.quote + name.replace(self.quote, 2 * self.quote) + self.quote

    def string(self, value: str) -> str:
        """A text."""
        value = value.replace("\\", "\\\\") if self.backslashes else value
        return "'" + value.replace("'", "''") + "'"

    def insertion(self, table: str, columns: Sequence[str], ignoring: bool = False) -> str:
        """The statement that adds a row of values, or leaves the row as it is whose key is there.

        Args:
            table, columns: their names, as SQL writes them.
            ignoring: whether a row whose key is there stays as it is.
        """
        before, behind = self.ignoring if ignoring else ("INSERT INTO", "")
        values = ", ".join([self.parameter] * len(columns))
        return f"{before} {table} ({', '.join(columns)}) VALUES ({values}){behind}"


STANDARD = Dialect()
