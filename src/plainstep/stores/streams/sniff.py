"""How messages seem to be written, by what some of them hold."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence

from plainstep.formats.values import FRAME, framed
from plainstep.stores.streams.log import Messages


def written_as(samples: Sequence[Messages], form: Callable[[int], str]) -> dict[str, str]:
    """The setting ``message`` of a layout; what is as usual is left out.

    Args:
        samples: some messages.
        form: tells the format of the values of a schema, by its number; empty: nobody knows.
    """
    values = [value for some in samples for value in some.values if value]
    keys = [key for some in samples for key in some.keys if key]
    field = _field(values)
    if field:
        return {"field": field}
    key = _format(keys, b'{"', form) if keys else "text"
    value = _format(values, b"{", form)
    return {name: said for name, said, usual in (("value", value, "json"), ("key", key, "text")) if said != usual}


def _format(values: Sequence[bytes], begins: bytes, form: Callable[[int], str]) -> str:
    """JSON where all begin so; where all name a schema and hold something else, what that is for; else text."""
    numbers = [framed(value) for value in values]
    bare = [value if number is None else value[FRAME.size :] for value, number in zip(values, numbers, strict=True)]
    if all(value.lstrip()[:1] in {bytes([one]) for one in begins} for value in bare):
        return "json"
    named = [number for number in numbers if number is not None]
    if len(named) < len(values):
        return "text"
    forms = {form(number) for number in set(named)}
    return forms.pop() if forms in ({"protobuf"}, {"json"}) else "avro"


def _field(values: Sequence[bytes]) -> str:
    """The one field of documents of texts that holds a document, or empty."""
    names = set()
    for value in values:
        try:
            document = json.loads(value)
        except ValueError:
            return ""
        if not isinstance(document, dict) or not all(isinstance(one, str) for one in document.values()):
            return ""
        names.add(tuple(name for name, one in document.items() if one.lstrip()[:1] == "{"))
    [only] = names if len(names) == 1 else [()]
    return only[0] if len(only) == 1 else ""
