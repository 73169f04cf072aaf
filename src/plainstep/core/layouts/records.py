"""Messages that tell of several records at once: a row for each of them."""

from __future__ import annotations

import json
from typing import Any

from plainstep.core.arrays import Ints, flat
from plainstep.core.casting import common
from plainstep.core.layouts.documents import kind_of_value
from plainstep.core.layouts.exact_json import INEXACT, parsed, written
from plainstep.core.layouts.layout import Layout
from plainstep.core.layouts.patches import unpatched
from plainstep.core.layouts.raw_sql import without_skipped
from plainstep.core.layouts.rows import WRONG, Raw, with_column
from plainstep.deferred import np, pa, pc
from plainstep.sql.engine import evaluated


def prepared(rows: pa.Table, layout: Layout) -> pa.Table:
    """Rows as they are interpreted: without those that are left out, one for each record of a message, with one document each."""
    found = without_skipped(rows, layout.skip)
    found = by_record(found, layout.each) if layout.each else found
    return unpatched(found, layout.patches) if layout.patches else found


def by_record(rows: pa.Table, path: str) -> pa.Table:
    """A row for each record that a list holds. A row without a list is kept, with what is wrong with it."""
    raw = Raw(rows)
    lists = _lists(raw, path)
    if _is_list(lists.type):
        parents, records, wrong = _of_lists(lists)
    else:
        parents, records, wrong = _of_texts(lists)
    for row in wrong:
        raw.refuse(row, f"{path} is {lists[row].as_py()!r}, which is not a list of records")
    found = rows.take(pa.array(parents))
    return with_column(with_column(found, path, records), WRONG, raw.notes().take(pa.array(parents)))


def kind_of(sample: pa.Table, path: str) -> pa.DataType | None:
    """The type of records that are not objects, as far as a sample tells it; None where their own columns tell it."""
    lists = _lists(Raw(sample), path)
    return None if _is_list(lists.type) else _kind_of_elements(lists)


def _lists(raw: Raw, path: str) -> pa.Array:
    """The lists of records, as they come: lists, or texts of JSON."""
    raw.read({path: pa.string()}, {path})
    return raw.column(path)


def _is_list(kind: pa.DataType) -> bool:
    return bool(pa.types.is_list(kind) or pa.types.is_large_list(kind) or pa.types.is_fixed_size_list(kind))


def _of_lists(lists: pa.Array) -> tuple[Ints, pa.Array, list[int]]:
    """Where each element stands, the elements, and the rows without a list, which have one that is null."""
    wrong = np.flatnonzero(lists.is_null().to_numpy(zero_copy_only=False))
    parents = np.concatenate([pc.list_parent_indices(lists).to_numpy(), wrong])
    elements = pc.list_flatten(lists)
    records = pa.concat_arrays([elements, pa.nulls(len(wrong), elements.type)])
    order = np.argsort(parents, kind="stable")
    return parents[order], records.take(pa.array(order)), wrong.tolist()


# What the evaluator makes of a list: its elements as JSON, in which it keeps what Python's own numbers keep.
ELEMENTS = "CASE WHEN json_valid(d) AND json_type(d) = 'ARRAY' THEN json_extract(d, '$[*]')::VARCHAR[] END AS v"


def _of_texts(lists: pa.Array) -> tuple[Ints, pa.Array, list[int]]:
    """The elements of lists that are written as JSON.

    Returns:
        In which row each stands; the elements: texts as they are, all else as JSON; and the rows that are no list, each with one
        element that is null.
    """
    exact = pc.fill_null(pc.match_substring_regex(lists, INEXACT), False)
    plain = flat(evaluated(pa.table({"d": pc.if_else(exact, None, lists)}), ELEMENTS)["v"])
    parents, records = pc.list_parent_indices(plain).to_numpy(), _unquoted(pc.list_flatten(plain))
    rows: list[int] = []
    values: list[str | None] = []
    wrong: list[int] = []
    for row in np.flatnonzero(plain.is_null().to_numpy(zero_copy_only=False)).tolist():
        found = _list(lists[row].as_py()) if exact[row].as_py() else None
        wrong += [row] if found is None else []
        for one in [None] if found is None else found:
            rows.append(row)
            values.append(one if one is None or type(one) is str else written(one))
    if not rows:
        return parents, records, wrong
    parents = np.concatenate([parents, np.array(rows, dtype=np.int64)])
    order = np.argsort(parents, kind="stable")
    records = pa.concat_arrays([records, pa.array(values, pa.string())])
    return parents[order], records.take(pa.array(order)), wrong


def _unquoted(elements: pa.Array) -> pa.Array:
    """JSON as texts: those of JSON's as what they say, its null as null."""
    quoted = pc.fill_null(pc.starts_with(elements, '"'), False)
    if pc.any(quoted).as_py():
        told = pa.array([json.loads(text) for text in elements.filter(quoted).to_pylist()], pa.string())
        elements = pc.replace_with_mask(elements, quoted, told)
    null = pc.and_(pc.equal(elements, "null"), pc.invert(quoted))
    return pc.if_else(null, pa.scalar(None, pa.string()), elements)


def _kind_of_elements(lists: pa.Array) -> pa.DataType:
    """A type that holds the elements of a sample of lists that are written as JSON: text, if they are objects."""
    found = [json.loads(text) for text in lists.to_pylist() if _list(text) is not None]
    return common({kind_of_value(one) for elements in found for one in elements} or {pa.null()})


def _list(text: str | None) -> list[Any] | None:
    """The list that a text holds, with numbers as they are written; None if it holds none."""
    try:
        found = None if text is None else parsed(text)
    except ValueError:
        return None
    return found if isinstance(found, list) else None
