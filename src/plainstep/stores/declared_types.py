"""What a declared type means, where a store itself does not keep to types (SQLite, and files) or has none for what comes."""

from __future__ import annotations

import re
from functools import cache

from plainstep.core.arrays import utc_time
from plainstep.deferred import pa
from plainstep.errors import DataError

# What to do about a type for which a store has none.
DECLARE_IT = 'Leave it out, or say in the load what to hold it as: types = { COLUMN = "TEXT" }.'


@cache
def patterns() -> list[tuple[str, pa.DataType]]:
    """The types by patterns: the first that matches the declared type, without its size, decides."""
    return [
        (r"BOOL(EAN)?", pa.bool_()),
        (r"DATE", pa.date32()),
        (r"TIME", pa.time64("us")),
        (r"(DATETIME|TIMESTAMP)", pa.timestamp("us")),
        (r"(TIMESTAMPTZ|TIMESTAMP WITH TIME ZONE|DATETIMETZ)", utc_time()),
        (r".*INT.*", pa.int64()),
        (r"(UUID|JSON|JSONB|XML|.*(CHAR|CLOB|TEXT).*)", pa.string()),
        (r".*(BLOB|BINARY|BYTEA).*", pa.binary()),
        (r".*(REAL|FLOA|DOUB).*", pa.float64()),
        (r"(NUMERIC|DECIMAL|NUMBER)", pa.float64()),
    ]


SIZED = re.compile(r"(DECIMAL|NUMERIC|NUMBER|DEC|DECIMALTEXT)\s*\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)")


def arrow_type(table: str, column: str, declared: str) -> pa.DataType:
    """The Arrow type a declared type means.

    Raises:
        DataError: the declaration does not say what the column holds.
    """
    plain = " ".join(declared.upper().split())
    sized = SIZED.fullmatch(plain)
    if sized:
        digits, scale = int(sized[2]), int(sized[3] or 0)
        if scale <= digits <= 76:
            return (pa.decimal128 if digits <= 38 else pa.decimal256)(digits, scale)
    bare = re.sub(r"\s*\(.*\)", "", plain)
    for pattern, kind in patterns():
        if re.fullmatch(pattern, bare):
            return kind
    told = f"is declared {declared!r}, which does not say" if declared else "has no declared type to say"
    raise DataError(
        f"The column {column!r} of {table} {told} what it holds.",
        "Without a type, its values cannot be merged.",
        f'Say so in the load: types = {{ "{column}" = "TEXT" }} (or INTEGER, REAL, DECIMAL(10,2), DATE, ...).',
    )
