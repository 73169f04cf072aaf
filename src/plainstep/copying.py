"""``copy.replace`` of Python 3.13, for every Python: of dataclasses, and of msgspec's structs."""

from __future__ import annotations

import dataclasses
from typing import Any, TypeVar

from msgspec import Struct, structs

Record = TypeVar("Record")


def replace(record: Record, /, **changes: Any) -> Record:
    """The same record but for some of its fields.

    Raises:
        TypeError: it has no such field.
    """
    if isinstance(record, Struct):
        return structs.replace(record, **changes)
    return dataclasses.replace(record, **changes)  # type: ignore[type-var]
