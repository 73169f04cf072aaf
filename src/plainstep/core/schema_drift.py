"""Whether a target table's columns fit the columns that arrive, and what is changed about them so that they do."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field

from plainstep.deferred import pa, pc
from plainstep.errors import Refused

# As many digits as a decimal may have everywhere.
MOST_DIGITS = 38


@dataclass(frozen=True)
class Fit:
    """What is changed about a target table so that rows fit.

    Attributes:
        added: columns that it lacks.
        widened: columns that get a type which holds more.
        gone: columns that it has and the source has no more: they stay, and are null in rows that are put.
        told: those of them of which the ledger tells already.
        said: what else the ledger should tell.
        shed: columns that the load itself added once, and that go.
    """

    added: list[str] = field(default_factory=list)
    widened: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    told: Collection[str] = ()
    said: str = ""
    shed: list[str] = field(default_factory=list)

    @property
    def note(self) -> str:
        """The same, for the ledger."""
        news = [name for name in self.gone if name not in self.told]
        told = {"dropped": self.shed, "added": self.added, "widened": self.widened, "no longer arriving:": news}
        return "; ".join(
            [_listed(word, names) for word, names in told.items() if names] + [self.said] * bool(self.said)
        )


def _listed(word: str, names: list[str]) -> str:
    columns = f"the column{'s' * (len(names) > 1)}"
    return f"{word} {columns} {', '.join(names)}" if not word.endswith(":") else f"{word} {', '.join(names)}"


def fit(
    load: str,
    table: str,
    wanted: pa.Schema,
    found: pa.Schema,
    started: bool,
    dropped: Collection[str] = (),
    told: Collection[str] = (),
    drift: str = "add",
    rows: Iterable[pa.Table] = (),
    shed: Collection[str] = (),
    refilled: Collection[str] = (),
    merged: Collection[str] = (),
) -> Fit:
    """What must be changed about a target table so that a load's rows fit.

    Args:
        load, table: names, for messages.
        wanted: the load's columns, as the target would hold them.
        found: the target's columns.
        started: whether the load has merged into this table before. Then columns may have come at the
            source; before that, a table that lacks some is somebody else's.
        dropped: columns that the source once had: the table may have them still.
        told: those of them of which the ledger tells already.
        drift: ``add`` carries new columns and wider types, ``ignore`` and ``refuse`` do not.
        rows: tables of rows that arrive: a column of integers is widened when one of them would not fit it.
        shed: columns that the load itself added once, and that go.
        refilled: columns that a reload fills in every row, should the table lack them.
        merged: columns that the table had when the load last merged into it.

    Raises:
        Refused: the table has columns of its own, lacks some, or holds others types; or drift is to be refused.
    """
    known = {one.name: one.type for one in found}
    absent = [name for name in wanted.names if name not in known]
    extra = [name for name in found.names if name not in {*wanted.names, *dropped, *shed} and drift != "ignore"]
    if extra or (absent and not started):
        what = f"lacks the column {absent[0]!r}" if absent and not started else f"has a column {extra[0]!r} of its own"
        raise Refused(
            f"The table {table} exists, but {what}.",
            f"The load {load} merges whole rows of: {', '.join(wanted.names)}.",
            "Rename or drop that table, change its columns to these, or merge into another one ('into').",
        )
    refuse_lost(load, table, absent, merged)
    overflowing = _overflowing(rows, wanted, known) if started else set[str]()
    wider = [
        one.name
        for one in wanted
        if started and one.name in known and (widens(known[one.name], one.type) or one.name in overflowing)
    ]
    gone = [name for name in found.names if name not in wanted.names and name in dropped]
    if drift == "refuse" and (absent or wider or gone):
        told = f"new: {', '.join(absent)}" if absent else f"wider: {', '.join(wider)}" if wider else ""
        raise Refused(
            f"The columns of {load}'s source have changed: {told or 'gone: ' + ', '.join(gone)}.",
            f"drift = 'refuse' does not carry such changes to {table}.",
            f"Change {table} to match; or set drift = 'add' or 'ignore' in [loads.{load}].",
        )
    for one in wanted:
        if one.name in known and not holds(known[one.name], one.type) and (drift != "add" or one.name not in wider):
            remedy = f"Merge into another table ('into'); or change the column's type to fit {one.type}"
            if one.name in wider:
                remedy = f"Set drift = 'add' in [loads.{load}]; or change the column's type to fit {one.type}"
            elif one.name in refilled and drift == "add":
                remedy = f"Drop the column {one.name} of {table}, then plainstep reload {load}; or merge into another table ('into')"
            raise Refused(
                f"The column {one.name} of {table} is {known[one.name]}, and {one.type} arrives.",
                "Values would be changed to fit, or would not fit.",
                f"{remedy}.",
            )
    return Fit(absent, wider if drift == "add" else [], gone, told, shed=list(shed))


def refuse_lost(load: str, table: str, absent: Iterable[str], merged: Collection[str]) -> None:
    """Refuse to go on where a table lacks columns that it had when the load last merged into it.

    Raises:
        Refused: it does.
    """
    lost = [name for name in absent if name in merged]
    if lost:
        raise Refused(
            f"The table {table} has lost the column {lost[0]!r}, which {load} merged before.",
            "A step would fill it in rows that change, and in no others.",
            f"plainstep reload {load} adds it, with the values that the source has.",
        )


def as_held(wanted: pa.Schema, found: pa.Schema) -> pa.Schema:
    """Columns, in the target's types where these hold more."""
    known = {one.name: one.type for one in found}
    return pa.schema(
        [
            one.with_type(known[one.name]) if one.name in known and holds(known[one.name], one.type) else one
            for one in wanted
        ]
    )


def of_watermark(
    load: str, place: str, before: Collection[str], columns: Collection[str], told: Collection[str], drift: str
) -> Fit:
    """What a watermark tells of changed columns, where no table shows them.

    Args:
        load, place: names, for messages.
        before: the columns that the load merged in its last step.
        columns: those that it merges now.
        told: columns of which the ledger tells already that they are gone.
        drift: as for ``fit``.

    Raises:
        Refused: they are others, and drift is to be refused.
    """
    found = Fit(
        [name for name in columns if name not in before], [], [name for name in before if name not in columns], told
    )
    if before and drift == "refuse" and (found.added or found.gone):
        raise Refused(
            f"The columns of {load}'s source have changed: {found.note}.",
            f"drift = 'refuse' does not carry such changes to {place}.",
            f"Set drift = 'add' or 'ignore' in [loads.{load}], at least for one step.",
        )
    return Fit(said=found.note if before else "")


def holds(column: pa.DataType, value: pa.DataType) -> bool:
    """Whether a column can hold every value of a type, or refuses those it cannot."""
    if column == value or (pa.types.is_integer(column) and pa.types.is_integer(value)):
        return True
    if pa.types.is_decimal(column) and pa.types.is_decimal(value):
        # A sum has as many digits as there are: nobody needs more.
        enough = _digits(column) >= _digits(value) or column.precision == MOST_DIGITS
        return enough and bool(column.scale >= value.scale)
    return _text(column) and _text(value)


def widens(column: pa.DataType, value: pa.DataType) -> bool:
    """Whether a column of one type could be made one of another without touching what it holds."""
    if pa.types.is_decimal(column) and pa.types.is_decimal(value):
        return not holds(column, value) and holds(value, column)
    same = pa.types.is_floating(column) and pa.types.is_floating(value)
    return bool(same and value.bit_width > column.bit_width)


def _overflowing(rows: Iterable[pa.Table], wanted: pa.Schema, known: Mapping[str, pa.DataType]) -> set[str]:
    """The columns of integers for which an integer arrives that is too large."""
    narrow = [one.name for one in wanted if one.name in known and _is_narrower(known[one.name], one.type)]
    return {name for table in rows for name in narrow if _overflows(table, name, known[name])} if narrow else set()


def _is_narrower(column: pa.DataType, value: pa.DataType) -> bool:
    """Whether both are of integers, and not all values fit the column."""
    both = pa.types.is_signed_integer(column) and pa.types.is_signed_integer(value)
    return bool(both and value.bit_width > column.bit_width)


def _overflows(rows: pa.Table, name: str, column: pa.DataType) -> bool:
    if name not in rows.column_names:
        return False
    ends = pc.min_max(rows[name])
    most = 1 << (column.bit_width - 1)
    values = [one for one in (ends["min"].as_py(), ends["max"].as_py()) if one is not None]
    return any(not -most <= one < most for one in values)


def _digits(kind: pa.DataType) -> int:
    """How many digits a decimal has before the point."""
    return int(kind.precision - kind.scale)


def _text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))
