"""What a rollup measures of its groups."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from plainstep.deferred import pa
from plainstep.errors import ConfigError, DataError

# The columns of how many rows, and of a counted value.
ROWS, VALUE = "row_count", "value"
MEASURE = re.compile(r"\s*(count|sum|avg|min|max)\s*\(\s*(distinct\s)?(.*)\)\s*", re.IGNORECASE | re.DOTALL)


@dataclass(frozen=True)
class Measure:
    """One measure of a group.

    Attributes:
        name: its column.
        kind: ``rows``, ``count``, ``sum``, ``avg``, ``min``, ``max`` or ``distinct``.
        of: what is measured, as SQL over the row; empty for rows.
    """

    name: str
    kind: str
    of: str = ""

    @staticmethod
    def parsed(name: str, sql: str) -> Measure:
        """A measure, as plainstep.toml writes it.

        Raises:
            ConfigError: it is none.
        """
        found = MEASURE.fullmatch(sql)
        kind, distinct, of = (found[1].lower(), found[2], found[3].strip()) if found else ("", None, "")
        if kind == "count" and of == "*" and not distinct:
            return Measure(name, "rows")
        if not of or of == "*" or (distinct and kind != "count"):
            raise ConfigError(
                f"measures.{name} = {sql!r} is not a measure.",
                "There are count(*), count(x), count(distinct x), sum(x), avg(x), min(x) and max(x).",
            )
        return Measure(name, "distinct" if distinct else kind, of)


def addable(kind: pa.DataType) -> bool:
    """Whether values of a type are numbers."""
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def sum_type(kind: pa.DataType) -> pa.DataType:
    """Decimals are added exactly, in as many digits as there are."""
    if pa.types.is_decimal(kind):
        return pa.decimal128(38, kind.scale)
    return pa.int64() if pa.types.is_integer(kind) else pa.float64()


def answered(evaluator: Any, sql: str, schema: pa.Schema) -> pa.Table:
    """A query's rows, in these types.

    Raises:
        DataError: a number is too large.
    """
    found = evaluator.sql(sql).to_arrow_table()
    try:
        return found.rename_columns(schema.names).cast(schema)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"A measure has become too large for its column: {error}.",
            "",
            "Measure it as a DECIMAL or a DOUBLE: cast(x AS DOUBLE).",
        ) from None
