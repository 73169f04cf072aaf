"""The schemas of a registry, as the readers of values want them."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from typing import Any

from plainstep.errors import DataError
from plainstep.formats.avro_names import whole
from plainstep.formats.protobuf_values import File
from plainstep.stores.streams.registry import COMPILED, Registry

# The formats of values, by what a registry calls their languages.
FORMATS = {"AVRO": "avro", "PROTOBUF": "protobuf", "JSON": "json"}
# Schemas that refer to each other, one below the other.
DEEPEST = 32


def format_of(found: dict[str, Any]) -> str:
    """The format of the values that a schema is for."""
    kind = found.get("schemaType") or "AVRO"
    return FORMATS.get(kind, str(kind))


class Schemas:
    """What a registry has.

    Args:
        registry: the registry.
    """

    def __init__(self, registry: Registry) -> None:
        self.registry = registry

    def format(self, number: int) -> str:
        """The format of the values that the schema of a number is for."""
        return format_of(self.registry.schema(number))

    def numbers(self, subject: str, form: str) -> list[int]:
        """The numbers of the schemas that a subject has or had of a format, the newest last."""
        found = [self.registry.version(subject, version) for version in self.registry.versions(subject)]
        return [int(one["id"]) for one in found if "id" in one and format_of(one) == form]

    def avro(self, number: int) -> Any:
        """The Avro schema of a number, with those that it refers to within.

        Raises:
            DataError: there is none, or it is one of something else.
        """
        found = self.registry.schema(number)
        _refuse_other(found, number, "avro")
        others = [_json(one) for _, one in self._references(found, "", 0)]
        return whole(_json(found), others)

    def protobuf(self, number: int) -> list[File]:
        """The files of the Protobuf schema of a number: those that it imports before it.

        Raises:
            DataError: as above.
        """
        found = self.registry.schema(number, COMPILED)
        _refuse_other(found, number, "protobuf")
        files = {name: _compiled(one, name) for name, one in self._references(found, COMPILED, 0)}
        return [*files.items(), (f"schema {number}", _compiled(found, str(number)))]

    def _references(self, found: dict[str, Any], how: str, depth: int) -> Iterator[tuple[str, dict[str, Any]]]:
        """The schemas that one refers to, those that they refer to before them, with the names that they go by."""
        if depth > DEEPEST:
            raise DataError("A schema of the registry refers to others without an end.")
        for one in found.get("references") or ():
            other = self.registry.version(str(one["subject"]), int(one["version"]), how)
            yield from self._references(other, how, depth + 1)
            yield str(one["name"]), other


def _refuse_other(found: dict[str, Any], number: int, form: str) -> None:
    if format_of(found) != form:
        raise DataError(f"The registry's schema {number} is one of {format_of(found)}, and values in {form} are read.")


def _json(found: dict[str, Any]) -> Any:
    try:
        return json.loads(found["schema"])
    except (ValueError, RecursionError):  # one that is nothing but the name of a type may stand without quotes
        return found["schema"]


def _compiled(found: dict[str, Any], what: str) -> bytes:
    try:
        return base64.b64decode(found["schema"], validate=True)
    except ValueError:
        raise DataError(
            f"The registry tells the Protobuf schema {what} as text, though it was asked for it as Protobuf compiles it."
        ) from None
