"""Layouts: what is declared of a feed that something else wrote."""

from __future__ import annotations

from dataclasses import dataclass, field

from plainstep.core.changes.ops import Op
from plainstep.core.layouts.encodings import raw_kind
from plainstep.core.layouts.patches import Patches
from plainstep.deferred import pa

# The roles of the two rows of an update that comes as two, beside the operations.
OLD, NEW = 101, 102
ROLES = {"insert": int(Op.INSERT), "update": int(Op.UPDATE), "delete": int(Op.DELETE), "truncate": int(Op.TRUNCATE)}


@dataclass(frozen=True)
class Layout:
    """How a feed is read.

    Attributes:
        key: the columns that tell rows apart.
        schema: the row's own columns and their types.
        paths: where a column's value lies, below ``*``; its own name where nothing is said.
        now, was: where new and old values lie: a column name or a path in which ``*`` stands for the column's.
        operation: the column that tells the operation; empty where every row is the latest state.
        codes: what its codes mean: an ``Op``, or ``OLD`` or ``NEW`` for the rows of an update that comes as two.
        time, transaction: the columns that tell them, or empty.
        sent_columns: which columns a row really carries: a column that lists them, or with ``*`` a yes or no for each.
        missing_field: what it means that a document lacks a field: ``null``, ``unsent``, or empty (then it is refused).
        deleted: a column that says that the row is deleted, or empty.
        key_only: whether only the key is read, and the rest looked up.
        operation_sql: SQL over the feed's fields that gives each row's code; empty where a column tells it.
        only_new: what a row with new values alone is, where the images tell the operation: an ``Op``; otherwise 0.
        skip: a condition in SQL over the feed's fields: rows for which it holds are left out.
        encodings: how columns are written that are not written as what they are.
        each: a list of records that each row has: each record is read as a row of its own; or empty.
        pair: the columns that the two rows of an update share with no other row; empty where their order tells it.
        patches: where updates lie that come as patches; None where they come as rows.
        once: the columns that stand once for old and new values, outside where these lie.
    """

    key: tuple[str, ...]
    schema: pa.Schema
    paths: dict[str, str] = field(default_factory=dict)
    now: str = "*"
    was: str = ""
    operation: str = ""
    codes: dict[str, int] = field(default_factory=dict)
    time: str = ""
    transaction: str = ""
    sent_columns: str = ""
    missing_field: str = ""
    deleted: str = ""
    key_only: bool = False
    operation_sql: str = ""
    only_new: int = 0
    skip: str = ""
    encodings: dict[str, str] = field(default_factory=dict)
    each: str = ""
    pair: tuple[str, ...] = ()
    once: frozenset[str] = frozenset()
    patches: Patches | None = None

    @property
    def in_pairs(self) -> bool:
        """Whether an update comes as two rows."""
        return OLD in self.codes.values()

    @property
    def tells_operations(self) -> bool:
        """Whether each row tells what it did. A put tells what is, and not whether it was there."""
        told = bool(self.operation or self.operation_sql) and int(Op.PUT) not in self.codes.values()
        return told or self.only_new == Op.INSERT

    @property
    def tells_old(self) -> bool:
        """Whether updates carry old values."""
        return bool(self.was) or self.in_pairs

    def path(self, pattern: str, column: str) -> str:
        """Where a column's value lies on one side."""
        return ("*" if column in self.once else pattern).replace("*", self.paths.get(column, column))

    def read_as(self, column: str) -> pa.DataType:
        """The type in which a column's values are read, before they are decoded."""
        encoding = self.encodings.get(column)
        return raw_kind(encoding) if encoding else self.schema.field(column).type
