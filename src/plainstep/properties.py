"""Properties that are computed once.

Before Python 3.12, ``functools.cached_property`` computes a property of all objects of a class under one lock. Two loads in one
process would then wait for each other for ever: one computes a table's columns, and waits for its turn at a DuckDB file; the other
has its turn, and wants the columns of its own table. Here there is no lock, as since 3.12: threads that ask at the same moment both compute.
"""

from __future__ import annotations

import functools
import sys
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING or sys.version_info >= (3, 12):
    cached_property = functools.cached_property
else:

    class cached_property(functools.cached_property):  # noqa: N801 - as Python's own is called
        """A property that is computed when it is first asked for, and kept."""

        def __get__(self, instance: Any, owner: type | None = None) -> Any:
            if instance is None:
                return self
            if self.attrname not in instance.__dict__:
                instance.__dict__[self.attrname] = self.func(instance)
            return instance.__dict__[self.attrname]


__all__ = ["cached_property"]
