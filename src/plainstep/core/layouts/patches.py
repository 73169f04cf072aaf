"""Updates that come as patches: paths with their new values, and fields that were removed, in place of a whole document."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from plainstep.core.arrays import flat, replaced
from plainstep.core.layouts import documents
from plainstep.core.layouts.exact_json import Doubtful, parsed, written
from plainstep.core.layouts.paths import Path, nested, value_at
from plainstep.core.layouts.rows import DOCUMENT, WRONG, Raw, with_column
from plainstep.deferred import np, pa, pc
from plainstep.sql.engine import evaluated

# The list of values that a row carries, null where it carries all of them.
SENT = "plainstep.sent"


@dataclass(frozen=True)
class Patches:
    """Where patches lie, and what they are of.

    Attributes:
        document: where whole documents lie.
        changed: an object of paths, with dots, with their new values; or empty.
        removed: a list of paths of fields that are gone; or empty.
        old: where documents lie as they were before, or empty.
        columns: the row's own columns that lie in documents, by their paths there.
        chosen: whether somebody listed them: then other paths are left out, as other fields of documents are.
    """

    document: str
    changed: str
    removed: str
    old: str
    columns: tuple[str, ...]
    chosen: bool


def unpatched(rows: pa.Table, patches: Patches) -> pa.Table:
    """Rows with one document each, and what it carries: a whole one as it is, a patch as the values that it tells.

    A path of a patch that is no column's is told: its value would be lost. Rows of which documents and patches were read at once
    (``patches_at_once``) stay as they are.
    """
    paths = [path for path in (patches.document, patches.changed, patches.removed, patches.old) if path]
    read = flat(rows[DOCUMENT]).is_valid() if DOCUMENT in rows.column_names else None
    if read is not None and all(not (flat(rows[path]).is_valid()).true_count for path in paths):
        return rows
    raw = Raw(rows)
    raw.read(dict.fromkeys(paths, pa.string()), set(paths))
    columns_of = {path: raw.typed(path, pa.string()) for path in paths}
    nothing = pa.nulls(len(raw), pa.string())
    changes, gone = (columns_of.get(path, nothing) for path in (patches.changed, patches.removed))
    whole, sent_all = _whole_columns(changes, gone, columns_of[patches.document], patches.columns)
    parts = pc.and_(sent_all.is_null(), pc.or_(changes.is_valid(), gone.is_valid()))
    places = np.flatnonzero(parts.to_numpy(zero_copy_only=False))
    told = (column.filter(parts).to_pylist() for column in (changes, gone, columns_of.get(patches.old, nothing)))
    columns = _Columns(patches.columns)
    found: dict[int, str] = {}
    sent: dict[int, str] = {}
    for row, changed, removed, old in zip(places.tolist(), *told, strict=True):
        if row in raw.bad:
            continue
        try:
            values = _values(columns, changed, removed, old, patches.chosen)
        except ValueError as error:
            raw.refuse(row, str(error))
            continue
        found[row], sent[row] = written(nested(values)), written([".".join(path) for path in values])
    document, carried = replaced(whole, found), replaced(sent_all, sent)
    if read is not None:
        document = pc.if_else(read, "{}", document)
        carried = pc.coalesce(flat(rows[SENT]).cast(pa.string()), carried)
        rows = _filled(rows, pc.if_else(read, None, document), raw)
    for name, column in ((DOCUMENT, document), (SENT, carried)):
        rows = with_column(rows, name, column)
    return with_column(rows, WRONG, raw.notes())


def _filled(rows: pa.Table, documents_left: pa.Array, raw: Raw) -> pa.Table:
    """Rows with columns that were read at once for some of them, and for the others out of their documents."""
    names = [name for name in rows.column_names if name.startswith(f"{DOCUMENT}.")]
    kinds: dict[Path, pa.DataType] = {
        (name.removeprefix(f"{DOCUMENT}."),): rows.schema.field(name).type for name in names
    }
    found, wrong = documents.read(documents_left, kinds)
    for row, why in wrong.items():
        raw.refuse(row, why)
    for name in names:
        column = found[(name.removeprefix(f"{DOCUMENT}."),)]
        rows = with_column(rows, name, pc.if_else(documents_left.is_valid(), column, flat(rows[name])))
    return rows


# The names of an object's fields, as a list in JSON; null for what is no object.
KEYS = "CASE WHEN json_valid(d) AND json_type(d) = 'OBJECT' THEN to_json(json_keys(d))::VARCHAR END AS v"


def _whole_columns(
    changed: pa.Array, removed: pa.Array, whole: pa.Array, columns: tuple[str, ...]
) -> tuple[pa.Array, pa.Array]:
    """Most patches name whole columns only, in which no other column lies, and are documents of these as they stand.

    Returns:
        For each row its document, which may be such a patch; and the list of what it carries, null for all other rows.
    """
    names = flat(evaluated(pa.table({"d": changed}), KEYS)["v"]).dictionary_encode()
    own = {one for one in columns if "." not in one and not any(other.startswith(f"{one}.") for other in columns)}
    simple = [
        bool(keys := json.loads(text)) and own.issuperset(keys) and len({*keys}) == len(keys)
        for text in names.dictionary.to_pylist()
    ]
    plain = pa.array(simple, pa.bool_()).take(names.indices)
    nothing_else = pc.or_(removed.is_null(), pc.fill_null(pc.equal(removed, "[]"), False))
    fits = pc.and_(pc.fill_null(plain, False), nothing_else)
    return pc.if_else(fits, changed, whole), pc.if_else(fits, names.cast(pa.string()), None)


class _Columns:
    """The row's own columns, by the paths that a patch may name."""

    def __init__(self, paths: tuple[str, ...]) -> None:
        self.paths = [tuple(path.split(".")) for path in paths]
        self._known: dict[str, tuple[Path, list[Path], Path | None]] = {}

    def named(self, told: str) -> tuple[Path, list[Path], Path | None]:
        """A path, the columns that lie at it or below it, and the column within which it lies."""
        if told not in self._known:
            path = tuple(told.split("."))
            below = [column for column in self.paths if column[: len(path)] == path]
            within = next((column for column in self.paths if path[: len(column)] == column and path != column), None)
            self._known[told] = path, below, within
        return self._known[told]


def _values(
    columns: _Columns, changed: str | None, removed: str | None, old: str | None, chosen: bool
) -> dict[Path, Any]:
    """The values that a patch tells, by the paths of their columns.

    Raises:
        ValueError: it is no patch of these columns.
    """
    edits = [(path, value, True) for path, value in _object(changed).items()]
    edits += [(path, None, False) for path in _list(removed)]
    if not edits and changed is None:  # where the layout misnames the values, patches look so
        raise ValueError("its patch has no new values, and no field was removed")
    values: dict[Path, Any] = {}
    for told, value, there in edits:
        path, below, within = columns.named(told)
        for column in below:
            values[column] = value_at(value, column[len(path) :])
        if within is not None:
            if within not in values:
                values[within] = value_at(_old(old, told, within), within)
            values[within] = _edited(values[within], path[len(within) :], value, there, told)
        elif not below and not chosen:
            raise ValueError(f"its patch names {told!r}, which is no column's")
    return values


def _old(text: str | None, told: str, within: Path) -> Any:
    """The document as it was before.

    Raises:
        ValueError: it is not there.
    """
    if text is None:
        column = ".".join(within)
        raise ValueError(
            f"its patch names {told!r}, which lies within the column {column!r}, and no old value is there"
        )
    return _json(text)


def _json(text: str) -> Any:
    try:
        return parsed(text)
    except Doubtful:
        raise
    except ValueError:
        raise ValueError(f"a part of its patch is {text!r}, which is not JSON") from None


def _object(text: str | None) -> dict[str, Any]:
    found = {} if text is None else _json(text)
    if not isinstance(found, dict):
        raise ValueError(f"its patch is {text}, which is not an object of paths")
    return found


def _list(text: str | None) -> list[str]:
    found = [] if text is None else _json(text)
    if not isinstance(found, list) or not all(type(one) is str for one in found):
        raise ValueError(f"its removed fields are {text}, which is not a list of paths")
    return found


def _edited(value: Any, path: Path, new: Any, there: bool, told: str) -> Any:
    """A value in which one part, of an object or a list, is another or gone."""
    name, *rest = path
    if isinstance(value, list) and name.isdigit() and int(name) <= len(value) - (not there or bool(rest)):
        place, copy = int(name), list(value)
        if rest:
            copy[place] = _edited(copy[place], tuple(rest), new, there, told)
        elif there:
            copy[place : place + 1] = [new]
        else:
            copy[place] = None
        return copy
    if value is None and there:
        value = {}
    if not isinstance(value, dict) or (rest and name not in value and not there):
        raise ValueError(f"its patch names {told!r}, which has no place in what was there before")
    known = dict(value)
    if rest:
        known[name] = _edited(known.get(name), tuple(rest), new, there, told)
    elif there:
        known[name] = new
    else:
        known.pop(name, None)
    return known
