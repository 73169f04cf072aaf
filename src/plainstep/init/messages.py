"""What the messages of a broker tell beside their values: their keys name rows, and one without a value ends its key's row."""

from __future__ import annotations

from plainstep.core.arrays import flat
from plainstep.core.casting import as_text
from plainstep.core.layouts.fields import fields_of
from plainstep.core.layouts.proposal import Guess, Proposal
from plainstep.core.layouts.rows import Raw
from plainstep.deferred import pa, pc
from plainstep.stores.streams.beside import KEY, TOMBSTONE


def values_of(rows: pa.Table) -> pa.Table:
    """The messages that have a value."""
    return rows.filter(pc.invert(rows[TOMBSTONE])) if TOMBSTONE in rows.column_names else rows


def find_by_messages(rows: pa.Table, fields: dict[str, pa.DataType], found: Proposal, said: tuple[str, ...]) -> None:
    """Add to a proposal what keys and tombstones tell.

    Args:
        rows: some messages, all of them.
        fields: what their values are made of, by path.
        found: what their values propose.
        said: the key, where somebody said which.
    """
    named = _named_by_keys(rows, fields, found)
    if named and not said:
        found.key = Guess("key", list(named), "the messages' own keys hold the same", True)
    if TOMBSTONE in rows.column_names and pc.any(rows[TOMBSTONE]).as_py():
        _find_tombstones(rows, fields, found, named)


def _own(fields: dict[str, pa.DataType], found: Proposal) -> dict[str, str]:
    """The row's own columns, with their paths."""
    before, _, after = str(found.value("now") or "*").partition("*")
    inside = [path for path in fields if path.startswith(before) and path.endswith(after)]
    return {path[len(before) : len(path) - len(after)]: path for path in inside}


def _named_by_keys(rows: pa.Table, fields: dict[str, pa.DataType], found: Proposal) -> dict[str, str]:
    """The row's columns that hold what messages' keys do, with the paths of these."""
    values = values_of(rows)
    raw, named = Raw(values), dict[str, str]()
    paths = [path for path in fields_of(values) if path == KEY or path.startswith(f"{KEY}.")]
    for path in paths:
        key = as_text(flat(raw.column(path)))
        for column, place in _own(fields, found).items():
            texts = as_text(flat(raw.column(place)))
            differs = pc.and_(texts.is_valid(), pc.invert(pc.fill_null(pc.equal(texts, key), False)))
            if texts.null_count < len(texts) and not pc.any(differs).as_py():
                named[column] = path
                break
    return named if len(named) == len(paths) else {}


def _find_tombstones(rows: pa.Table, fields: dict[str, pa.DataType], found: Proposal, named: dict[str, str]) -> None:
    if any(found.value(name) is not None for name in ("operation", "only_new", "operation_sql")):
        repeats = _repeat_deletes(rows, found)
        why = "each comes after a delete of its key" if repeats else "they have no value, and others tell deletes"
        found.guesses.append(Guess("skip", TOMBSTONE, why, repeats))
        return
    keys = named or {"key": KEY}
    if not named:
        found.key = Guess("key", ["key"], "the messages' keys alone name rows")
    own = {name.replace(".", "_"): name for name in _own(fields, found) if name not in keys}
    why = "where there is no value, the message's key tells the row"
    found.guesses.append(Guess("deleted", TOMBSTONE, "a message without a value ends the row of its key", True))
    found.guesses.append(Guess("columns", keys | own, why, bool(named)))


def _repeat_deletes(rows: pa.Table, found: Proposal) -> bool:
    """Whether each message without a value comes after one of the same key that says that the row is deleted."""
    operation, deletes = found.value("operation"), {str(code) for code in found.value("delete") or ()}
    raw = Raw(rows)
    keys = as_text(flat(raw.column(KEY))).to_pylist()
    codes = as_text(flat(raw.column(operation))).to_pylist() if operation else [None] * len(keys)
    last: dict[str | None, str | None] = {}
    for key, code, gone in zip(keys, codes, rows[TOMBSTONE].to_pylist(), strict=True):
        if gone and last.get(key) not in deletes:
            return False
        last[key] = last.get(key) if gone else code
    return True
