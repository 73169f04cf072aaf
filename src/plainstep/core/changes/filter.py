"""Choosing changes: by operation, key, column, transaction, or a condition in SQL on old and new values."""

from __future__ import annotations

from dataclasses import dataclass

from plainstep.core.arrays import Bools, flat
from plainstep.core.casting import as_text, fitted
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.net import differing, surely
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.changes.words import words
from plainstep.deferred import duckdb, np, pa, pc
from plainstep.errors import ConfigError
from plainstep.sql.engine import evaluated
from plainstep.sql.expressions import checked, fields_in

SIDES = {WAS: "was", NOW: "now"}


@dataclass(frozen=True)
class Filter:
    """Which changes are asked for; those that fit every part of it.

    Attributes:
        ops: operations, as words; none for all.
        key: values of the key columns, in their order, as text; none for all.
        changed: columns of which an update must have changed at least one.
        txn: a transaction.
        where: a condition in SQL, in which ``was`` and ``now`` are the row before and after, and ``op``, ``time`` and
            ``txn`` the change's own.
    """

    ops: tuple[str, ...] = ()
    key: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()
    txn: str = ""
    where: str = ""

    def __bool__(self) -> bool:
        return bool(self.ops or self.key or self.changed or self.txn or self.where)

    def of(self, changes: Changes, key: tuple[str, ...]) -> Changes:
        """The changes that are asked for.

        Args:
            changes: a batch.
            key: the columns that tell rows apart.

        Raises:
            ConfigError: it asks for what the changes do not have, or its SQL is none.
        """
        keep = np.ones(len(changes), dtype=np.bool_)
        if self.ops:
            keep &= np.isin(changes.op(), [_op(word) for word in self.ops])
        if self.key:
            keep &= _of_key(changes, key, self.key)
        if self.changed:
            keep &= _changed(changes, self.changed)
        if self.txn:
            keep &= _of_transaction(changes, self.txn)
        if self.where:
            keep &= condition(changes, self.where)
        return changes if keep.all() else Changes(changes.table.filter(pa.array(keep)))


def _op(word: str) -> Op:
    try:
        return Op[word.upper()]
    except KeyError:
        raise ConfigError(f"There is no operation {word!r}.", f"Known: {', '.join(op.word for op in Op)}.") from None


def _of_key(changes: Changes, key: tuple[str, ...], values: tuple[str, ...]) -> Bools:
    """The changes of one row, also where it comes from another key or goes to one."""
    wanted = key_values(changes, key, values)
    found = np.zeros(len(changes), dtype=np.bool_)
    for side in (WAS, NOW):
        same = np.ones(len(changes), dtype=np.bool_)
        for name in key:
            same &= surely(pc.equal(changes.image(side, name), wanted[name][0])).to_numpy(zero_copy_only=False)
        found |= same
    return found


def key_values(changes: Changes, key: tuple[str, ...], values: tuple[str, ...]) -> pa.Table:
    """A key that a person wrote, in the types of its columns: one row.

    Raises:
        ConfigError: too many or too few values, or one that does not fit its column.
    """
    if not key:
        raise ConfigError(
            "The rows have no key.",
            "Their table is captured without one, so nothing tells which row a change is of.",
            'Ask for values instead: plainstep look LOAD --where "now.COLUMN = ...".',
        )
    if len(values) != len(key):
        raise ConfigError(
            f"The key is {', '.join(key)}, and {len(values)} value{'s' * (len(values) != 1)} came: {' '.join(values)}.",
            "",
            "Give a value for each of its columns, in this order.",
        )
    columns = {}
    for name, value in zip(key, values, strict=True):
        kind = changes.kind(name)
        columns[name], bad = fitted(pa.array([value]), kind)
        if len(bad):
            raise ConfigError(f"{value!r} is not a value of the key column {name}, which holds {kind}.")
    return pa.table(columns)


def _changed(changes: Changes, columns: tuple[str, ...]) -> Bools:
    """Updates that changed one of these columns; where old values are not told, any that sent it may have."""
    found = np.zeros(len(changes), dtype=np.bool_)
    for name in columns:
        if name not in changes.columns:
            raise ConfigError(f"There is no column {name!r}.", f"The row's columns: {', '.join(changes.columns)}.")
        told = WAS + name in changes.table.column_names
        found |= differing(changes.image(WAS, name), changes.image(NOW, name)) if told else True
    return found & (changes.op() == Op.UPDATE)


def _of_transaction(changes: Changes, txn: str) -> Bools:
    if "txn" not in changes.table.column_names:
        raise ConfigError("These changes have no transactions.")
    return surely(pc.equal(as_text(flat(changes.table["txn"])), txn)).to_numpy(zero_copy_only=False)


def _asked(columns: list[str], image: str, sql: str) -> list[str]:
    """The columns of an image that a condition looks at; all of them where that does not show, or one is none."""
    try:
        named = fields_in(sql, "")
    except ConfigError:  # told by what evaluates it
        return columns
    wanted = {""} if named is None else named.get(image, set())
    if not wanted:
        return columns[:1]  # a struct has at least one
    found = [column for column in columns if column.lower() in wanted]
    return found if len(found) == len(wanted) else columns


def condition(changes: Changes, sql: str) -> Bools:
    """For which changes a condition holds. It is evaluated in memory, with no access to files or network.

    Raises:
        ConfigError: it is not a condition over these columns.
    """
    checked(sql, ("op", "time", "txn", "was", "now"), "where")
    ops = changes.op()
    absent = {WAS: (ops == Op.INSERT) | (ops == Op.PUT), NOW: ops == Op.DELETE}
    columns = {"op": words(changes.table["op"]), "time": changes.table["at"]}
    if "txn" in changes.table.column_names:
        columns["txn"] = changes.table["txn"]
    for side, name in SIDES.items():
        fields = _asked(changes.columns, name, sql)
        values = [changes.image(side, column) for column in fields]
        gone = pa.array(absent[side] | (ops == Op.TRUNCATE))
        columns[name] = pa.StructArray.from_arrays(values, fields, mask=gone)
    try:
        return evaluated(pa.table(columns), f"coalesce(({sql})::BOOLEAN, false) AS keep")["keep"].to_numpy()
    except duckdb.Error as error:
        told = str(error).splitlines()[0].rstrip(".!")
        raise ConfigError(
            f"{sql!r} is not a condition on these changes: {told}.",
            f"was and now are the row before and after: {', '.join(changes.columns)}.",
            "For example: was.COLUMN <> now.COLUMN",
        ) from None
