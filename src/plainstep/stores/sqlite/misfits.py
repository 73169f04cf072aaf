"""What is done with values that do not fit their columns: they are refused, or bent as the load says."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import ROUND_HALF_UP, Decimal
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from plainstep.deferred import pa
from plainstep.errors import BadValue
from plainstep.stores.misfit import Misfit
from plainstep.stores.sqlite.types import to_arrow

if TYPE_CHECKING:
    from plainstep.stores.sqlite.types import Column


class Misfits(Struct):
    """What is done with values that do not fit their columns, and what was done.

    Attributes:
        how: ``refuse`` them, ``round`` numbers with too many decimals (and refuse others), make them ``null``, or
            ``quarantine`` the rows that hold them.
        never: columns whose values are always refused: those of the key, by which rows would become one.
        reload: the command that goes on from the table as it stands.
        bent: by column, the first value that was bent, and where.
    """

    how: str = "refuse"
    never: tuple[str, ...] = ()
    reload: str = "plainstep reload LOAD"
    bent: dict[str, str] = field(default_factory=dict)

    def to_arrow(
        self,
        column: Column,
        values: Sequence[Any],
        whose: Callable[[int], str],
        out: dict[int, str] | None = None,
    ) -> pa.Array:
        """The values of a column as an Arrow array.

        Args:
            column: the column.
            values: what SQLite gave.
            whose: whose value one is, by its place, for messages.
            out: filled with the rows that are quarantined, by their places, and why. Their values are null.

        Raises:
            BadValue: one does not fit, and is not to be bent.
        """
        try:
            return to_arrow(values, column.kind)
        except Misfit as misfit:
            if self.how == "refuse" or column.name in self.never:
                raise self._refused(column, values[misfit.index], whose(misfit.index)) from None

        return pa.concat_arrays([self._bent(column, value, row, whose, out) for row, value in enumerate(values)])

    def _bent(
        self, column: Column, value: Any, row: int, whose: Callable[[int], str], out: dict[int, str] | None
    ) -> pa.Array:

        try:
            return to_arrow([value], column.kind)
        except Misfit:
            if out is not None:
                out.setdefault(row, f"the column {column.name} holds {value!r}, which is not a valid {column.declared}")
            elif self.how != "quarantine":
                self.bent.setdefault(column.name, f"{value!r} in {whose(row)}")
        if self.how in ("null", "quarantine"):
            return pa.nulls(1, column.kind)
        try:
            return pa.array([rounded(value, column.kind)], column.kind)
        except (pa.ArrowException, ValueError, OverflowError):
            raise self._refused(column, value, whose(row)) from None

    def told(self) -> list[str]:
        """What was done, in words."""
        done = {"round": "rounded", "null": "made null"}
        return [
            f"values of {name} that do not fit were {done[self.how]}; the first: {first}"
            for name, first in self.bent.items()
        ]

    def _refused(self, column: Column, value: Any, whose: str) -> BadValue:
        try:
            rounded(value, column.kind)
            ways = 'on_bad_value = "round", "null" or "quarantine"'
        except (ValueError, OverflowError):
            ways = 'on_bad_value = "null" or "quarantine"'
        repair = f"Fix the value at the source, then {self.reload} (the recorded change keeps what it was)"
        return BadValue(
            f"In {whose}, the column {column.name} holds {value!r}, which is not a valid {column.declared}.",
            "SQLite lets any value stand in any column; merging it would mean guessing what it is.",
            f"{repair}." if column.name in self.never else f"{repair}; or set {ways} in the load.",
            column.name,
        )


def rounded(value: Any, kind: pa.DataType) -> Decimal | int:
    """A number with as many decimals as a type has; halves away from zero, as SQL rounds.

    Raises:
        ValueError: it is not a number, or the type is of no numbers.
    """
    try:
        number = Decimal(str(value))
        whole = number.quantize(Decimal(1).scaleb(-kind.scale if pa.types.is_decimal(kind) else 0), ROUND_HALF_UP)
    except ArithmeticError:
        raise ValueError("no number") from None
    if pa.types.is_decimal(kind):
        pa.array([whole], kind)
        return whole
    if not pa.types.is_integer(kind):
        raise ValueError(f"{kind} is not a type of numbers with so many decimals")
    return int(whole)
