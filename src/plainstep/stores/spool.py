"""Rows kept for a second reading: in memory while they are few, else in temporary files."""

from __future__ import annotations

from collections.abc import Iterator
from tempfile import TemporaryFile
from typing import IO

from plainstep.core.changes.batch import Changes
from plainstep.deferred import pa

# Bytes that are kept in memory.
IN_MEMORY = 64 << 20


class TableSpool:
    """Rows that are read once from their source, and as often as needed from here."""

    def __init__(self) -> None:
        self._kept: list[pa.Table] = []
        self._bytes = 0
        # One for each run of batches with the same columns: a value that does not fit makes a column a text.
        self._files: list[IO[bytes]] = []
        self._writer: pa.RecordBatchStreamWriter | None = None
        self._schema: pa.Schema | None = None

    def add(self, table: pa.Table) -> None:
        """Keep a batch."""
        self._kept.append(table)
        self._bytes += table.nbytes
        if self._bytes <= IN_MEMORY:
            return
        for one in self._kept:
            self._write(one)
        self._kept, self._bytes = [], 0

    def _write(self, table: pa.Table) -> None:
        if self._writer is None or table.schema != self._schema:
            self.done()
            file = TemporaryFile(prefix="plainstep-")  # noqa: SIM115 (it lives as long as the spool)
            self._files.append(file)
            self._schema = table.schema
            # Not the file format: there, a column of codes has one list of them for all batches.
            self._writer = pa.ipc.new_stream(file, table.schema)
        self._writer.write_table(table)

    def done(self) -> None:
        """No more is added."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None

    def close(self) -> None:
        """Forget the rows."""
        for file in self._files:
            file.close()
        self._files, self._kept, self._writer = [], [], None

    def __call__(self) -> Iterator[pa.Table]:
        """All rows, in the order in which they were added."""
        for file in self._files:
            file.seek(0)
            for batch in pa.ipc.open_stream(file):
                yield pa.Table.from_batches([batch])
        yield from self._kept


class Spool:
    """Changes that are read once from their source, and as often as needed from here."""

    def __init__(self) -> None:
        self._tables = TableSpool()

    def add(self, changes: Changes) -> None:
        """Keep a batch."""
        self._tables.add(changes.table)

    def done(self) -> None:
        """No more is added."""
        self._tables.done()

    def __call__(self) -> Iterator[Changes]:
        """All changes, in the order in which they were added."""
        return map(Changes, self._tables())
