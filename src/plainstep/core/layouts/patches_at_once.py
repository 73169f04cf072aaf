"""Documents and patches that name plain columns, out of all lines at once, together with what stands beside them.

Whatever is not so plain (a path within a column, a removed field, a name that is no column's) is left to ``patches.unpatched``,
which reads the parts one after the other and comes to the same.
"""

from __future__ import annotations

import json
from collections.abc import Mapping

from plainstep.core.arrays import Bools
from plainstep.core.layouts import documents
from plainstep.core.layouts.layout import Layout
from plainstep.core.layouts.patches import SENT
from plainstep.core.layouts.paths import Path, lies_in
from plainstep.core.layouts.rows import DOCUMENT
from plainstep.deferred import np, pa, pc

# As many columns as there are bits in the number that tells which of them a patch has.
COLUMNS = 62
# Bytes that are compared at a time: so few that they stay near the processor.
PIECE = 1 << 18


def asked_at_once(layout: Layout, beside: Mapping[str, object]) -> dict[str, pa.DataType]:
    """What to read of lines in place of documents and patches as texts; nothing where these are not plain.

    Args:
        layout: how rows are read, with patches.
        beside: the paths that are read beside them.
    """
    patches = layout.patches
    if patches is None or patches.old or not patches.changed or layout.in_pairs or len(patches.columns) > COLUMNS:
        return {}
    inside = [name for name in layout.schema.names if name not in layout.once]
    parts = [path for path in (patches.document, patches.changed, patches.removed) if path]
    if (
        any("." in path for path in patches.columns)
        or any(layout.encodings.get(name) == "tagged" for name in inside)
        or any(lies_in(path, part) for path in beside for part in parts)
    ):
        return {}
    columns = {f"{DOCUMENT}.{layout.paths.get(name, name)}": layout.read_as(name) for name in inside}
    return columns | {DOCUMENT: pa.bool_(), SENT: pa.dictionary(pa.int32(), pa.string())}


def read(
    lines: pa.Array, beside: dict[Path, pa.DataType], columns: dict[str, pa.DataType], at: tuple[Path, Path, Path]
) -> dict[Path, pa.Array] | None:
    """Columns out of lines: what stands beside, the row's own, the document (if only that it is there), and what it carries.

    Args:
        lines: JSON texts.
        beside: the types of fields beside documents and patches.
        columns: the types of the row's own columns.
        at: where documents, patches, and lists of removed fields lie; the last may be empty.

    Returns:
        The columns by path; those of rows under ``DOCUMENT``. None where something is not plain.
    """
    document, changed, removed = at
    kinds = beside | {(*side, name): kind for side in (document, changed) for name, kind in columns.items()}
    try:
        table = documents.table_of(lines, kinds, is_closed=True)
        found = documents.columns_of(table, kinds)
    except (pa.ArrowException, pa.ArrowNotImplementedError):
        return None
    patch, whole = documents.member(table, changed), documents.member(table, document)
    is_patch = patch.is_valid().to_numpy(zero_copy_only=False)
    if {field.name for field in patch.type} != columns.keys() or not _removes_nothing(_lists(table, removed), is_patch):
        return None
    there = _present(lines, changed, {name: found[(*changed, name)] for name in columns}, is_patch)
    codes = np.zeros(len(lines), dtype=np.int64)
    for bit, mask in enumerate(there.values()):
        codes |= (mask & is_patch).astype(np.int64) << bit
    if (is_patch & (codes == 0)).any():
        return None
    patched = pa.array(is_patch)
    done = {path: found[path] for path in beside}
    for name in columns:
        done[DOCUMENT, name] = pc.if_else(patched, found[(*changed, name)], found[(*document, name)])
    done[(DOCUMENT,)] = pc.if_else(pc.or_(patched, whole.is_valid()), True, pa.scalar(None, pa.bool_()))
    done[(SENT,)] = _names(codes, list(columns))
    return done


def _present(lines: pa.Array, changed: Path, values: dict[str, pa.Array], is_patch: Bools) -> dict[str, Bools]:
    """Which columns each patch has. Only in lines that speak of a null, a value that is null may be there."""
    there = {name: column.is_valid().to_numpy(zero_copy_only=False) for name, column in values.items()}
    lacking = is_patch & ~np.logical_and.reduce([*there.values()])
    if not lacking.any() or not _speaks_of_null(lines):
        return there
    rows = np.flatnonzero(lacking & pc.match_substring(lines, "null").to_numpy(zero_copy_only=False))
    if len(rows):
        told = documents.present(lines.take(pa.array(rows)), [(*changed, name) for name in values])
        there = {name: mask.copy() for name, mask in there.items()}
        for name, mask in there.items():
            mask[rows] = told[(*changed, name)]
    return there


def _speaks_of_null(lines: pa.Array) -> bool:
    """Whether some line may have the word: all bytes are compared, which takes half of the time of a search."""
    data = np.frombuffer(documents.bytes_of(lines), dtype=np.uint8)
    for start in range(0, len(data), PIECE):
        near = data[start : start + PIECE + 2]
        if ((near[:-2] == ord("n")) & (near[1:-1] == ord("u")) & (near[2:] == ord("l"))).any():
            return True
    return False


def _lists(table: pa.Table, path: Path) -> pa.Array | None:
    """What lies at a path, if anything does: it was not asked for."""
    kind: pa.DataType = pa.struct(table.schema)
    for name in path:
        if not pa.types.is_struct(kind) or kind.get_field_index(name) < 0:
            return None
        kind = kind.field(name).type
    return documents.member(table, path) if path else None


def _removes_nothing(lists: pa.Array | None, is_patch: Bools) -> bool:
    """Whether only patches have lists of removed fields, with nothing in them."""
    if lists is None or lists.null_count == len(lists):
        return True
    if not pa.types.is_list(lists.type) or pc.max(pc.list_value_length(lists)).as_py():
        return False
    return not (lists.is_valid().to_numpy(zero_copy_only=False) & ~is_patch).any()


def _names(codes: np.ndarray, columns: list[str]) -> pa.Array:
    """What each patch carries, as a list in JSON; null for what is no patch."""
    known, places = np.unique(codes, return_inverse=True)
    texts = [json.dumps([name for bit, name in enumerate(columns) if code >> bit & 1]) for code in known.tolist()]
    return pa.DictionaryArray.from_arrays(
        pa.array(places.astype(np.int32), mask=codes == 0), pa.array(texts, pa.string())
    )
