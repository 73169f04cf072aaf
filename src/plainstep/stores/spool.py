"""A window's changes, kept for a second reading: in memory while they are few, else in a temporary file."""

from __future__ import annotations

from collections.abc import Iterator
from tempfile import TemporaryFile
from typing import IO

from plainstep.core.changes.batch import Changes
from plainstep.deferred import pa

# Bytes that are kept in memory.
IN_MEMORY = 64 << 20


class Spool:
    """Changes that are read once from their source, and as often as needed from here."""

    def __init__(self) -> None:
        self._kept: list[pa.Table] = []
        self._bytes = 0
        self._file: IO[bytes] | None = None
        self._writer: pa.RecordBatchFileWriter | None = None

    def add(self, changes: Changes) -> None:
        """Keep a batch; all of them have the same columns."""
        self._kept.append(changes.table)
        self._bytes += changes.table.nbytes
        if self._bytes <= IN_MEMORY:
            return
        if self._file is None or self._writer is None:
            self._file = TemporaryFile(prefix="plainstep-")  # noqa: SIM115 (it lives as long as the spool)
            self._writer = pa.ipc.new_file(self._file, changes.table.schema)
        for table in self._kept:
            self._writer.write_table(table)
        self._kept, self._bytes = [], 0

    def done(self) -> None:
        """No more is added."""
        if self._writer is not None:
            self._writer.close()

    def __call__(self) -> Iterator[Changes]:
        """All changes, in the order in which they were added."""

        if self._file is not None:
            self._file.seek(0)
            reader = pa.ipc.open_file(self._file)
            for index in range(reader.num_record_batches):
                yield Changes(pa.Table.from_batches([reader.get_batch(index)]))
        for table in self._kept:
            yield Changes(table)
