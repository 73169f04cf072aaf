"""Whether a row that was quarantined, because it could not be read, is of some key: as far as it shows one."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from plainstep.core.casting import as_text, fitted
from plainstep.core.layouts.rows import LINE
from plainstep.deferred import pa

if TYPE_CHECKING:
    from plainstep.settings.layout import LayoutConfig


class ShownKey:
    """A key, and where a row may show it.

    Args:
        key: the key that is looked for, in the source's names: one row.
        said: the layout by which rows were to be read; None where columns stand under their own names.
    """

    def __init__(self, key: pa.Table, said: LayoutConfig | None = None) -> None:
        self.kinds = {one.name: one.type for one in key.schema}
        self.wanted = key.to_pylist()[0]
        self.sides = [["*"]] if said is None else [[side, "*"] for side in (said.now, said.was) if side]
        self.paths = said.columns if said is not None and isinstance(said.columns, dict) else {}
        self.encoded = {*said.encodings} if said is not None else set()

    def tell(self, row: Mapping[str, Any]) -> bool | None:
        """Whether a row is of the key, on either of its sides; None where it shows none."""
        told = [self._on(row, side) for side in self.sides]
        return True if True in told else False if False in told else None

    def _on(self, row: Mapping[str, Any], side: Sequence[str]) -> bool | None:
        shown = {name: self._value(row, name, side) for name in self.wanted}
        if any(shown[name] is not None and shown[name] != value for name, value in self.wanted.items()):
            return False
        return None if None in shown.values() else True

    def _value(self, row: Mapping[str, Any], name: str, side: Sequence[str]) -> Any:
        """The value of a key column, in its type; None where there is none, or it is written in some other way."""
        inner = self.paths.get(name, name)
        places = (_under(row, pattern.replace("*", inner)) for pattern in side)
        found = next((value for value in places if value is not None), None)
        if found is None or name in self.encoded or isinstance(found, dict | list):
            return None
        return fitted(as_text(pa.array([found])), self.kinds[name])[0][0].as_py()


def _under(value: Any, path: str) -> Any:
    """What stands under a path, in objects and in texts that are documents."""
    if isinstance(value, str):
        value = _document(value)
    if not isinstance(value, dict):
        return None
    if path in value:
        return value[path]
    cuts = [place for place, letter in enumerate(path) if letter == "." and path[:place] in value]
    if cuts:
        return _under(value[path[: cuts[-1]]], path[cuts[-1] + 1 :])
    return _under(value[LINE], path) if LINE in value else None


def _document(text: str) -> Any:
    try:
        return json.loads(text, parse_float=str)
    except (ValueError, RecursionError):
        return None
