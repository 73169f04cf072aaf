"""New data files of a versioned table."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from copy import copy
from typing import Generic, Self, TypeVar

from plainstep.deferred import np, pa
from plainstep.workspace import workspace

# Rows of a file at most, and their bytes in memory: so much is held while it is written.
ROWS, BYTES = 2_000_000, 256 << 20
# Rows that are worth a file of their own while others are written beside it.
WORTH = 200_000

Made = TypeVar("Made")


class Writer(ABC, Generic[Made]):
    """Writes rows into files, which are no part of the table until a commit names them.

    Args:
        schema: the columns.
        key: the columns by which rows are arranged within files.

    Attributes:
        adds: the files that were written, as a commit says them.
    """

    def __init__(self, schema: pa.Schema, key: Sequence[str]) -> None:
        self.schema, self.key = schema, list(key)
        self.adds: list[Made] = []
        self._held: list[pa.Table] = []
        self._rows = self._bytes = 0

    @abstractmethod
    def written(self, rows: pa.Table) -> list[Made]:
        """Write rows into a file, or several."""

    def another(self) -> Self:
        """A writer like it, which holds nothing yet."""
        found = copy(self)
        found.adds, found._held, found._rows, found._bytes = [], [], 0, 0
        return found

    def add(self, rows: pa.Table) -> None:
        """Some rows more."""
        while rows.num_rows:
            some = rows.slice(0, ROWS - self._rows)
            rows = rows.slice(some.num_rows)
            self._held.append(some)
            self._rows += some.num_rows
            self._bytes += some.nbytes
            if self._rows >= ROWS or self._bytes >= min(BYTES, workspace.rows):
                self.flush()

    def flush(self) -> None:
        """Write what is held."""
        if not self._held:
            return
        rows = _arranged(pa.concat_tables(self._held).cast(self.schema), self.key)
        self._held, self._rows, self._bytes = [], 0, 0
        # Arrow packs a file on one core: several at once take no longer than one.
        pieces = min(os.cpu_count() or 1, max(1, rows.num_rows // WORTH))
        size = -(-rows.num_rows // pieces)
        with ThreadPoolExecutor(pieces) as pool:
            for some in pool.map(self.written, [rows.slice(at, size) for at in range(0, rows.num_rows, size)]):
                self.adds += some


def _arranged(rows: pa.Table, key: Sequence[str]) -> pa.Table:
    """Rows in the order of their key, so that each file has keys of its own, and few are looked at for some."""
    if len(key) == 1 and pa.types.is_integer(rows.schema.field(key[0]).type) and not rows[key[0]].null_count:
        # What was in order already, and a little behind it, is in order at once for this sort (a tenth of Arrow's time).
        numbers = rows[key[0]].to_numpy()
        return rows.take(pa.array(np.argsort(numbers, kind="stable"))) if (np.diff(numbers) < 0).any() else rows
    return rows.sort_by([(name, "ascending") for name in key]) if key else rows
