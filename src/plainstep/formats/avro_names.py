"""Avro schemas that name types which stand elsewhere: in other schemas, or earlier in the same one."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

NAMED = ("record", "enum", "fixed", "error")
# Words that are no names.
WORDS = {"null", "boolean", "int", "long", "float", "double", "bytes", "string", "array", "map", *NAMED}


def whole(schema: Any, others: Iterable[Any] = ()) -> Any:
    """A schema that holds each type that it names, under its full name, where it is first named.

    Args:
        schema: the schema, as Avro writes it.
        others: the schemas that it refers to.
    """
    types: dict[str, Any] = {}
    for other in others:
        _apart(other, "", types)
    return _put(_apart(schema, "", types), types, set())


def _full(name: str, space: str) -> str:
    return name if "." in name or not space else f"{space}.{name}"


def _apart(kind: Any, space: str, types: dict[str, Any]) -> Any:
    """A schema with names in the place of the types that have any, which are gathered."""
    if isinstance(kind, list):
        return [_apart(one, space, types) for one in kind]
    if isinstance(kind, str):
        return kind if kind in WORDS else _full(kind, space)
    if not isinstance(kind, dict):
        return kind
    found = {name: one for name, one in kind.items() if name != "namespace"}
    if kind.get("type") in NAMED and isinstance(kind.get("name"), str):
        full = _full(kind["name"], kind.get("namespace", space))
        types[full] = found | {"name": full}
        if isinstance(kind.get("fields"), list):
            within = full.rpartition(".")[0]
            types[full]["fields"] = [one | {"type": _apart(one["type"], within, types)} for one in kind["fields"]]
        return full
    return found | {part: _apart(kind[part], space, types) for part in ("type", "items", "values") if part in kind}


def _put(kind: Any, types: dict[str, Any], done: set[str]) -> Any:
    """A schema with the types themselves where they are first named."""
    if isinstance(kind, list):
        return [_put(one, types, done) for one in kind]
    if isinstance(kind, str):
        if kind not in types or kind in done:
            return kind
        done.add(kind)
        found = types[kind]
        fields = [one | {"type": _put(one["type"], types, done)} for one in found.get("fields", ())]
        return found | {"fields": fields} if fields else found
    if not isinstance(kind, dict):
        return kind
    return kind | {part: _put(kind[part], types, done) for part in ("type", "items", "values") if part in kind}
