"""How PostgreSQL writes SQL."""

from __future__ import annotations

from plainstep.stores.dialect import Dialect

DIALECT = Dialect(parameter="%s")
