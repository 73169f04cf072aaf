"""The books of a folder of files: a target that only appends, each step in files of its own.

Watermarks, ledger and the list of files are kept in a SQLite file beside them. Files are written where no reader looks; the
commit of that file's transaction, with watermark, ledger row and the new files' names, is the moment at which a step is made;
then the files get their names. Whoever comes next gives names to what a crash left without, and removes what was never
committed: there is nothing to clean up by hand.
"""

from __future__ import annotations

import fcntl
import os
import shutil
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from plainstep.core.positions import MergedTable
from plainstep.errors import StoreError
from plainstep.stores.commit_errors import only_journals, refuse_place
from plainstep.stores.merge import Merge, run
from plainstep.stores.sqlite.database import SqliteDatabase
from plainstep.stores.sqlite.target import SqliteTarget, kept_version

if TYPE_CHECKING:
    import sqlite3

    from plainstep.core.shapes.edits import Edits
    from plainstep.deferred import pa
    from plainstep.stores.ledger import FoundBooks
    from plainstep.stores.records import Commit, Part, TableInfo

OWN = ".plainstep"
FILES = "plainstep_files"
CREATE = f"""CREATE TABLE IF NOT EXISTS {FILES} (
    file VARCHAR PRIMARY KEY, table_name VARCHAR NOT NULL, load_name VARCHAR NOT NULL, step BIGINT NOT NULL,
    row_count BIGINT NOT NULL, named BIGINT NOT NULL
)"""


class CommitLog(SqliteTarget):
    """A target that appends files to a folder. What becomes of watermarks, ledger and files is settled here; how rows are laid out
    in files, by ``write``.

    Args:
        name: the store's name.
        folder: where it is.
        wait: how many seconds to wait for a lock.
    """

    def __init__(self, name: str, folder: Path, wait: float) -> None:
        self.folder = folder
        self.own = self.folder / OWN
        path = quote(str((self.own / "books.sqlite").absolute()))
        super().__init__(SqliteDatabase(name, f"sqlite:///{path}", Path("/"), wait))
        self.place = name

    @abstractmethod
    def write(self, commit: Commit, part: Part, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> dict[str, int]:
        """Write rows into new files, each at ``new(file)``, and see to it that they outlive a loss of power.

        Returns:
            How many rows each file has, by its name below the folder.
        """

    def standing_table(self, name: str) -> MergedTable | None:
        """A table, which lies where its watermark lies."""
        return MergedTable(name, "", True)

    def new(self, file: str) -> Path:
        """Where a file is written before it is in the log."""
        return self.own / "new" / file

    def files(self, name: str) -> list[str]:
        """A journal's files, oldest first."""
        sql = f"SELECT file FROM {FILES} WHERE table_name = ? ORDER BY step, file"
        return [file for (file,) in self._rows(FILES, sql, [name])]

    def there(self, file: str) -> Path:
        """Where a file is: a crash may have left it without its name."""
        path = self.folder / file
        return path if path.exists() else self.new(file)

    def finish(self) -> None:
        """Give committed files their names."""
        if self._rows(FILES, f"SELECT 1 FROM {FILES} WHERE named = 0 LIMIT 1", []):
            with self._alone():
                self._name_what_was_committed()

    def commit(self, *commits: Commit) -> None:
        """Write the files, move the watermarks and add the ledger rows: all of it, or nothing.

        Raises:
            WatermarkMoved: a watermark is no longer where it was read.
            Refused: something else than a journal is asked for.
            StoreError: the files cannot be written.
        """
        try:
            self.own.mkdir(parents=True, exist_ok=True)
            # The folder's lock first, and the transaction within: whoever names files must not meet one that is being written.
            with self._alone():
                self._name_what_was_committed()
                with self.database.opened("rwc") as connection:
                    connection.execute("PRAGMA synchronous = FULL")  # files lose their old place after this commit
                    connection.execute("BEGIN IMMEDIATE")
                    try:
                        run([_Append(connection, self, commit, self.found) for commit in commits])
                        connection.execute("COMMIT")
                    except BaseException:
                        if connection.in_transaction:
                            connection.execute("ROLLBACK")
                        raise
                self._name_what_was_committed()
        except OSError as error:
            raise StoreError(f"{self.folder} cannot be written: {error.strerror or error}.") from error

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """Keep others from writing here meanwhile."""
        with (self.own / "lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

    def _name_what_was_committed(self) -> None:
        """Give committed files their names, and remove what was never committed."""
        with self.database.opened("rwc") as connection:
            connection.execute(CREATE)
            for (file,) in connection.execute(f"SELECT file FROM {FILES} WHERE named = 0").fetchall():
                path = self.folder / file
                path.parent.mkdir(parents=True, exist_ok=True)
                new = self.new(file)
                if new.exists():
                    new.replace(path)
                    synced(path.parent)
            connection.execute(f"UPDATE {FILES} SET named = 1 WHERE named = 0")
        shutil.rmtree(self.own / "new", ignore_errors=True)


def synced(path: Path) -> None:
    """See to it that a file, or the names in a folder, outlive a loss of power."""
    number = os.open(path, os.O_RDONLY)
    try:
        os.fsync(number)
    finally:
        os.close(number)


class _Append(Merge):
    """A commit that only appends, into files."""

    def __init__(self, connection: sqlite3.Connection, log: CommitLog, commit: Commit, kept: FoundBooks) -> None:
        super().__init__(commit, kept)
        self.connection, self.log = connection, log

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        return self.connection.execute(sql, parameters).rowcount

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.connection.execute(sql, parameters).fetchone() is not None

    def _prepare(self) -> None:
        """Nothing to make: each file has the columns that its rows have."""
        if self.part.key:
            raise only_journals(self.log.place)
        refuse_place(self.log.place, self.part.table, OWN)
        self.fitted(None)

    def remove(self, edits: Edits) -> None:
        """Nothing ever goes."""

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        """Write rows as they come, into files that are in the log from this commit on."""
        counts = self.log.write(self.commit, self.part, schema, batches)
        entry = self.commit.entry
        for file, count in counts.items():
            values = [file, self.part.table, entry.load, entry.step, count]
            self.execute(
                f"INSERT INTO {FILES} (file, table_name, load_name, step, row_count, named) VALUES (?, ?, ?, ?, ?, 0)",
                values,
            )
        return sum(counts.values())

    def kept_version(self) -> int | None:
        return kept_version(self.connection)

    def holds_rows(self) -> bool:
        return True

    def stamp(self) -> str:
        """Nothing to do: the watermarks lie in the folder itself, and go where it goes."""
        return ""

    def table_info(self) -> TableInfo | None:
        raise only_journals(self.log.place)

    def declaration(self, field: pa.Field) -> str:
        raise only_journals(self.log.place)

    def drop(self, keys: pa.Table) -> int:
        raise only_journals(self.log.place)

    def put(self, new: pa.Table, known: pa.Table) -> int:
        raise only_journals(self.log.place)

    def patch(self, rows: pa.Table) -> int:
        raise only_journals(self.log.place)

    def add(self, rows: pa.Table) -> int:
        raise only_journals(self.log.place)
