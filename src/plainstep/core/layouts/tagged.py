"""Values in objects whose one field names their type, out of all documents at once where they are plain ones.

What is found here is what ``encodings.decoded`` finds in each object by itself; where that is not certain, it is left to that.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping
from typing import TYPE_CHECKING

from plainstep.core.layouts.paths import Path, value_at
from plainstep.deferred import np, pa, pc

# Documents that are looked at, to learn which types are named. (A type that is named elsewhere is noticed.)
SAMPLE = 20
# Values that are read so, by what Python's reader makes of them. Fractions are not: they could lose digits.
PLAIN = {bool: "bool", int: "int64", str: "string"}
ESCAPED = r'["\\\x00-\x1f]'

if TYPE_CHECKING:
    Tags = dict[str, pa.DataType]
else:  # nothing is loaded for a name
    Tags = dict


def tags_of(documents: pa.Array, paths: Collection[Path]) -> dict[Path, Tags]:
    """The fields that objects at some paths have, with types of theirs; nothing where they are not all plain.

    Args:
        documents: JSON texts.
        paths: where the objects lie.
    """
    found: dict[Path, Tags] = {path: {} for path in paths}
    for row in np.unique(np.linspace(0, max(len(documents) - 1, 0), SAMPLE, dtype=np.int64)).tolist():
        try:
            document = json.loads(documents[row].as_py() or "{}") if len(documents) else {}
        except ValueError:
            return {}
        for path, tags in found.items():
            value = value_at(document, path)
            if value is None:
                continue
            if not isinstance(value, dict) or len(value) != 1:
                return {}
            [(tag, inner)] = value.items()
            kind = PLAIN.get(type(inner), "")
            if not kind or str(tags.get(tag, kind)) != kind:
                return {}
            tags[tag] = pa.type_for_alias(kind)
    return found if all(found.values()) else {}


def fields_of(tags: Mapping[Path, Tags]) -> dict[Path, pa.DataType]:
    """The fields of such objects, by their paths."""
    return {(*path, tag): kind for path, named in tags.items() for tag, kind in named.items()}


def texts_of(objects: pa.Array, tags: Tags) -> pa.Array:
    """The values out of such objects as JSON, as if each stood there without its object.

    Raises:
        pyarrow.ArrowInvalid: some object has another field, more than one or none, or its value is null or has to be escaped.
    """
    if {field.name for field in objects.type} != tags.keys():
        raise pa.ArrowInvalid("an object names another type")
    values = [pc.struct_field(objects, [tag]) for tag in tags]
    count = sum((value.is_valid().cast(pa.int8()) for value in values[1:]), values[0].is_valid().cast(pa.int8()))
    if not pc.all(pc.equal(count, objects.is_valid().cast(pa.int8()))).as_py():
        raise pa.ArrowInvalid("an object names no type, or several")
    return pc.coalesce(*(_as_json(value) for value in values))


def _as_json(values: pa.Array) -> pa.Array:
    if not pa.types.is_string(values.type):
        return values.cast(pa.string())
    if pc.any(pc.match_substring_regex(values, ESCAPED)).as_py():
        raise pa.ArrowInvalid("a text has to be escaped")
    return pc.binary_join_element_wise('"', values, '"', "")
