"""In how many digits floating-point numbers are compared where they were summed."""

from __future__ import annotations

from plainstep.deferred import np, pa

# Sums of floating-point numbers depend on the order in which they were added; what differs beyond so many digits does not.
DIGITS = 10


def rounded(batch: pa.RecordBatch) -> pa.RecordBatch:
    """The same rows, floating-point numbers in as many digits as sums of them are compared in."""
    columns = []
    for column in batch.columns:
        if pa.types.is_floating(column.type):
            values = column.to_numpy(zero_copy_only=False)
            with np.errstate(all="ignore"):
                size = np.where(np.isfinite(values) & (values != 0), np.floor(np.log10(np.abs(values))), 0)
                scale = 10.0 ** (DIGITS - 1 - size)
                found = np.where(np.isfinite(values * scale), np.round(values * scale) / scale, values)
            column = pa.array(found, column.type, mask=column.is_null().to_numpy(zero_copy_only=False))
        columns.append(column)
    return pa.record_batch(columns, schema=batch.schema)
