"""The fields of JSON documents that a layout wants, as columns: read all at once, in the types that are wanted."""

from __future__ import annotations

from typing import TYPE_CHECKING

from plainstep.core.arrays import utc_time
from plainstep.core.casting import fitted
from plainstep.core.layouts import documents, patches_at_once
from plainstep.core.layouts.patches import SENT
from plainstep.core.layouts.paths import Path
from plainstep.core.layouts.rows import DOCUMENT, LINE, WRONG, Raw
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig


def kind_read(path: str, layout: LayoutConfig, sampled: pa.Table, fields: dict[str, pa.DataType]) -> pa.DataType:
    """The type of what is not the row's own: times are read as times at once, if all of them seem to be.

    Args:
        path: where it lies.
        layout: how rows are read.
        sampled: some of them.
        fields: what these are made of.
    """
    kind = fields.get(path, pa.string())
    if path == layout.time and pa.types.is_string(kind):
        texts = Raw(sampled).column(path)
        return utc_time() if texts.null_count < len(texts) and not len(fitted(texts, utc_time())[1]) else kind
    return pa.string() if pa.types.is_null(kind) else kind


def read_fields(lines: pa.Array, wanted: dict[str, pa.DataType], layout: LayoutConfig) -> dict[str, pa.Array]:
    """The wanted fields of documents, what is wrong with rows, and the documents themselves where it matters what they lack."""
    parts = {
        path.removeprefix(f"{DOCUMENT}."): kind for path, kind in wanted.items() if path.startswith(f"{DOCUMENT}.")
    }
    kinds = {_path(path): kind for path, kind in wanted.items() if not path.startswith((DOCUMENT, SENT))}
    if parts:
        at = _path(layout.now.removesuffix(".*")), _path(layout.patch), _path(layout.removed)
        beside = {path: kind for path, kind in kinds.items() if path not in at}
        at_once = patches_at_once.read(lines, beside, parts, at)
        if at_once is not None:
            return {".".join(path): column for path, column in at_once.items()}
    whole, tagged = (set(map(_path, paths)) for paths in (layout.whole_paths, layout.tagged_paths))
    found, wrong = documents.read(lines, kinds, whole, tagged)
    columns = {".".join(path): column for path, column in found.items()}
    if wrong:
        columns[WRONG] = pa.array([wrong.get(row) for row in range(len(lines))], pa.string())
    if layout.missing_field != "null":
        columns[LINE] = lines
    return columns


def _path(path: str) -> Path:
    return tuple(path.split(".")) if path else ()
