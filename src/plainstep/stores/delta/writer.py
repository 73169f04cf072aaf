"""New data files of a Delta table."""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Sequence
from datetime import date
from typing import Any

from plainstep.core.arrays import flat
from plainstep.deferred import pa, pc, pq
from plainstep.stores.delta.log import OURS, Action
from plainstep.stores.lake.writer import Writer as Writers
from plainstep.stores.objects import Objects

# Letters of a text that are told as the least or the greatest of a file; longer ones are not told.
LETTERS = 64


class Writer(Writers[Action]):
    """Writes rows into files.

    Args:
        objects: where the store is.
        folder: the table's folder there, with a slash behind it.
        schema: the columns.
        key: the columns by which rows are arranged within files.
    """

    def __init__(self, objects: Objects, folder: str, schema: pa.Schema, key: Sequence[str]) -> None:
        super().__init__(schema, key)
        self.objects, self.folder = objects, folder

    def written(self, rows: pa.Table) -> list[Action]:
        """A file of rows, as the log says it."""
        out = pa.BufferOutputStream()
        pq.write_table(rows, out, compression="zstd", coerce_timestamps="us", row_group_size=1 << 17)
        data = out.getvalue()
        name = f"{OURS}{uuid.uuid4()}.parquet"
        self.objects.put(self.folder + name, data.to_pybytes(), new=True)
        return [{
            "path": name, "partitionValues": {}, "size": data.size, "modificationTime": int(time.time() * 1000), "dataChange": True,
            "stats": json.dumps(_stats(rows), ensure_ascii=False),
        }]  # fmt: skip


def _stats(rows: pa.Table) -> dict[str, Any]:
    """What the rows of a file hold, as the log tells it: how many they are, and of each column nulls, the least and the greatest."""
    least, greatest, nulls = dict[str, Any](), dict[str, Any](), dict[str, int]()
    for name in rows.column_names:
        column = flat(rows[name])
        nulls[name] = column.null_count
        kind = column.type
        if pa.types.is_integer(kind) or pa.types.is_string(kind) or pa.types.is_date32(kind):
            ends = pc.min_max(column).as_py()
            if ends["min"] is not None and all(
                not isinstance(one, str) or len(one) <= LETTERS for one in ends.values()
            ):
                least[name], greatest[name] = (
                    one.isoformat() if isinstance(one, date) else one for one in (ends["min"], ends["max"])
                )
    return {"numRecords": rows.num_rows, "minValues": least, "maxValues": greatest, "nullCount": nulls}
