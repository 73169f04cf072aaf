"""Several results of one kind: a list that shows itself as one table."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, Protocol, SupportsIndex, TypeVar, overload

from plainstep.deferred import deferred, pa, pd
from plainstep.display.text import aligned
from plainstep.errors import need_pandas

if TYPE_CHECKING:
    from plainstep.display import html
else:
    [html] = deferred("plainstep.display", "html")


class Result(Protocol):
    """What a command tells of one thing."""

    def to_dict(self) -> dict[str, Any]:
        """As JSON has it."""


One = TypeVar("One", bound=Result)


class Results(list[One]):
    """Results of one kind, one a load, a step or a table: a list in every respect, and a table.

    Columns are named as the command line's JSON names them, with dots: ``net.insert``.
    """

    def to_dict(self) -> list[dict[str, Any]]:
        """As JSON has them: what the command line prints with ``--json``."""
        return [one.to_dict() for one in self]

    def to_arrow(self) -> pa.Table:
        """One row a result. Positions are texts, where some are numbers and some are not."""
        return pa.table({name: _column(values) for name, values in self._columns().items()})

    def to_pandas(self) -> pd.DataFrame:
        """The same as a pandas frame. Needs pandas."""
        need_pandas()
        return pd.DataFrame(self._columns())

    @overload
    def __getitem__(self, index: SupportsIndex) -> One: ...

    @overload
    def __getitem__(self, index: slice) -> Results[One]: ...

    def __getitem__(self, index: SupportsIndex | slice) -> One | Results[One]:
        return Results(super().__getitem__(index)) if isinstance(index, slice) else super().__getitem__(index)

    def __repr__(self) -> str:
        return aligned(self._told()) if self else "[]"

    def _repr_html_(self) -> str:
        told = self._told()
        return html.table("", told, zip(*told.values(), strict=True))

    def _told(self) -> dict[str, list[Any]]:
        """The columns that tell something."""
        columns = self._columns()
        others = tuple(name.removesuffix("load") for name in columns if name.endswith(".load"))  # results in results
        return {
            name: values
            for name, values in columns.items()
            if not name.startswith(others) and any(one not in ((*EMPTY, 0) if "." in name else EMPTY) for one in values)
        }

    def _columns(self) -> dict[str, list[Any]]:
        rows = [dict(_flat(one.to_dict())) for one in self]
        names = dict.fromkeys(name for row in rows for name in row)
        return {name: [row.get(name) for row in rows] for name in names}


# What nobody needs to see a column of.
EMPTY: tuple[Any, ...] = (None, "", [])


def _flat(values: dict[str, Any], before: str = "") -> Iterator[tuple[str, Any]]:
    for name, value in values.items():
        if isinstance(value, dict):
            yield from _flat(value, f"{before}{name}.")
        else:
            yield before + name, value


def _column(values: list[Any]) -> pa.Array:
    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.array([None if one is None else str(one) for one in values])
