"""What rows of a feed are made of, by path."""

from __future__ import annotations

from plainstep.core.arrays import flat
from plainstep.core.layouts import documents
from plainstep.core.layouts.rows import LINE, PARTITION, POSITION, TIME
from plainstep.deferred import pa


def fields_of(sample: pa.Table, images: tuple[str, ...] | None = None) -> dict[str, pa.DataType]:
    """What rows are made of: columns, members of structs, and fields of JSON documents, by path.

    Args:
        sample: some rows.
        images: where rows' images are, as patterns: texts are looked into as documents there. None: wherever they look like it.
    """
    found: dict[str, pa.DataType] = {}
    for field in sample.schema:
        if field.name in (POSITION, TIME, PARTITION):
            continue
        inside = _documents(sample, field.name, images)
        if inside:
            prefix = "" if field.name == LINE else field.name + "."
            found |= {prefix + ".".join(path): kind for path, kind in inside.items()}
        if field.name != LINE:
            _flatten(field.name, field.type, found)
    return found


def _documents(sample: pa.Table, column: str, images: tuple[str, ...] | None) -> dict[tuple[str, ...], pa.DataType]:
    kind = sample.schema.field(column).type
    if not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        return {}
    if images is None:
        first = next((text for text in sample[column].to_pylist() if text), "")
        if column != LINE and not first.lstrip().startswith("{"):
            return {}
    elif column != LINE and not any(pattern.startswith(column + ".") for pattern in images):
        return {}
    return documents.kinds_of(flat(sample[column]))


def _flatten(path: str, kind: pa.DataType, found: dict[str, pa.DataType]) -> None:
    if not pa.types.is_struct(kind):
        found[path] = kind
        return
    for field in kind:
        _flatten(f"{path}.{field.name}", field.type, found)
