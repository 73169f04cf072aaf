"""Rows kept for a second reading: in memory while they are few, else in temporary files."""

from __future__ import annotations

import errno
import shutil
import tempfile
import threading
import weakref
from collections.abc import Iterator
from contextlib import suppress
from typing import IO

from msgspec import Struct

from plainstep.core.changes.batch import Changes
from plainstep.deferred import pa
from plainstep.display.text import size
from plainstep.errors import Refused, StoreError
from plainstep.workspace import workspace

# Bytes that are kept in memory.
IN_MEMORY = 64 << 20
# Room that is left to others in the scratch folder.
SPARE = 64 << 20


class Kept(Struct, frozen=True):
    """A table on a shelf: where it begins, its bytes when it is read, and its rows."""

    start: int
    nbytes: int
    rows: int


class Shelf:
    """Tables in a temporary file, packed, to be read one by one. The file has no name, so that nothing is left of it, whatever happens."""

    def __init__(self) -> None:
        self.folder = workspace.scratch or tempfile.gettempdir()
        self._file: IO[bytes] | None = None
        self._alone = threading.Lock()

    def put(self, table: pa.Table) -> Kept:
        """Keep a table.

        Raises:
            Refused: there is no room for it.
            StoreError: the folder cannot be written.
        """
        self.expect(table.nbytes)
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile(dir=self.folder)  # noqa: SIM115 (it lives as long as the shelf)
                weakref.finalize(self, _close, self._file)
            start = self._file.seek(0, 2)
            options = pa.ipc.IpcWriteOptions(compression="lz4")
            with pa.ipc.new_stream(self._file, table.schema, options=options) as writer:
                writer.write_table(table)
        except OSError as error:
            if error.errno == errno.ENOSPC:
                raise _no_room(self.folder, table.nbytes) from error
            raise StoreError(
                f"The scratch folder {self.folder} cannot be written: {error.strerror or error}.",
                "What does not fit in memory is kept there.",
                "Name another one: scratch = '...' under [engine] in plainstep.toml.",
            ) from error
        return Kept(start, table.nbytes, table.num_rows)

    def get(self, kept: Kept) -> pa.Table:
        """A table that was kept."""
        assert self._file is not None
        with self._alone:
            self._file.seek(kept.start)
            return pa.ipc.open_stream(self._file).read_all()

    def expect(self, nbytes: int) -> None:
        """Refuse what there is no room for, before it is written.

        Raises:
            Refused: there is none.
        """
        try:
            free = shutil.disk_usage(self.folder).free
        except OSError:
            return  # what is wrong with the folder shows when it is written
        if free < nbytes + SPARE:
            raise _no_room(self.folder, nbytes + SPARE)


def _close(file: IO[bytes]) -> None:
    with suppress(OSError):  # what did not fit before does not now
        file.close()


def _no_room(folder: str, nbytes: int) -> Refused:
    free = shutil.disk_usage(folder).free
    return Refused(
        f"The scratch folder {folder} has {size(free)} left, and this window needs about {size(nbytes)} more there.",
        "What does not fit in memory is kept there until it is merged. Nothing was merged.",
        "Name a folder with room: scratch = '...' under [engine] in plainstep.toml; or take less at a time: at_most in the load.",
    )


class TableSpool:
    """Rows that are read once from their source, and as often as needed from here."""

    def __init__(self) -> None:
        self._waiting: list[pa.Table] = []
        self._bytes = 0
        self._shelf = Shelf()
        self._kept: list[Kept] = []

    def add(self, table: pa.Table) -> None:
        """Keep a batch."""
        self._waiting.append(table)
        self._bytes += table.nbytes
        if self._bytes <= min(IN_MEMORY, workspace.rows):
            return
        self._kept += map(self._shelf.put, self._waiting)
        self._waiting, self._bytes = [], 0

    def close(self) -> None:
        """Forget the rows."""
        self._shelf, self._kept, self._waiting = Shelf(), [], []

    def __call__(self) -> Iterator[pa.Table]:
        """All rows, in the order in which they were added."""
        yield from map(self._shelf.get, self._kept)
        yield from self._waiting


class Spool:
    """Changes that are read once from their source, and as often as needed from here."""

    def __init__(self) -> None:
        self._tables = TableSpool()

    def add(self, changes: Changes) -> None:
        """Keep a batch."""
        self._tables.add(changes.table)

    def __call__(self) -> Iterator[Changes]:
        """All changes, in the order in which they were added."""
        return map(Changes, self._tables())
