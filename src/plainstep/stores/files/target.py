"""A folder of files to append a journal to.

Marks, ledger and the list of files are kept in a SQLite file beside them. Files are written where no reader looks; the
commit of that file's transaction, with mark, ledger row and the new files' names, is the moment at which a step is made;
then the files get their names. Whoever comes next gives names to what a crash left without, and removes what was never
committed: there is nothing to clean up by hand.
"""

from __future__ import annotations

import fcntl
import os
import shutil
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from plainstep.core.changes.batch import flat, in_tables
from plainstep.core.diff import widened
from plainstep.core.positions import TableMark
from plainstep.deferred import np, pa, pc, pq
from plainstep.errors import Refused, StoreError
from plainstep.formats.writer import file_name, writer
from plainstep.stores.api import KeyedRows
from plainstep.stores.keyed_rows import ScannedRows
from plainstep.stores.ledger import FoundBooks
from plainstep.stores.merge import Merge, run
from plainstep.stores.records import Commit, TableInfo
from plainstep.stores.sqlite.database import SqliteDatabase
from plainstep.stores.sqlite.target import SqliteTarget, kept_version

if TYPE_CHECKING:
    import sqlite3

    from plainstep.core.shapes.edits import Edits

OWN = ".plainstep"
FILES = "plainstep_files"
CREATE = f"""CREATE TABLE IF NOT EXISTS {FILES} (
    file VARCHAR PRIMARY KEY, table_name VARCHAR NOT NULL, load_name VARCHAR NOT NULL, step BIGINT NOT NULL,
    row_count BIGINT NOT NULL, named BIGINT NOT NULL
)"""
# Rows that are written at a time: each partition's become a part of its file, which is to be no small one.
AT_ONCE = 1 << 18
# So many files of a step are open at a time: processes are often allowed 1,024.
MOST_OPEN = 400
# What a partition without a value is called.
NONE = "none"


class FolderTarget(SqliteTarget):
    """A folder that a journal is appended to.

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

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """The columns of a journal's newest file, or None if there is no file."""
        files = self._files(name)
        if not files:
            return None
        if not files[-1].endswith(".parquet"):
            return TableInfo(pa.schema([]), True)

        return TableInfo(pq.read_schema(self._there(files[-1])).remove_metadata(), True)

    def standing_table(self, name: str) -> TableMark | None:
        """A journal, which lies where its mark lies."""
        return TableMark(name, "", True)

    def _files(self, name: str) -> list[str]:
        """A journal's files, oldest first."""
        sql = f"SELECT file FROM {FILES} WHERE table_name = ? ORDER BY step, file"
        return [file for (file,) in self._rows(FILES, sql, [name])]

    def _there(self, file: str) -> Path:
        """Where a file is: a crash may have left it without its name."""
        path = self.folder / file
        return path if path.exists() else self.own / "new" / file

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema itself."""
        return pa.schema([(field.name, field.type) for field in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a journal, in the given columns and types; null where a file has no such column.

        Raises:
            Refused: its files are not Parquet.
        """

        for file in self._files(name):
            if not file.endswith(".parquet"):
                raise Refused(
                    f"The journal {self.place}.{name} is not in Parquet.",
                    "Its values are texts there, and could not be compared as what they are.",
                    'Set format = "parquet" for a journal that is to be checked.',
                )
            path = self._there(file)
            if not path.exists():
                raise Refused(
                    f"A file of the journal {self.place}.{name} is gone: {file}.",
                    "What it holds cannot be compared. Steps need no file that is written, and go on.",
                    f"Put it back at {self.folder / file}.",
                )
            with pq.ParquetFile(path) as parquet:
                names = [one for one in schema.names if one in parquet.schema_arrow.names]
                for batch in parquet.iter_batches(columns=names):
                    yield self._typed(name, file, widened(batch, schema), schema)

    def _typed(self, name: str, file: str, rows: pa.RecordBatch, schema: pa.Schema) -> pa.RecordBatch:
        """Rows in other types.

        Raises:
            Refused: they hold values that these do not.
        """
        try:
            return rows.cast(schema)
        except pa.ArrowInvalid as error:
            raise Refused(
                f"{file} of the journal {self.place}.{name} holds values that the source's columns hold no more: {error}.",
                "They changed their types since, so the whole of it cannot be compared. Steps go on.",
                f"plainstep ledger tells when the columns of {name} changed.",
            ) from None

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a journal, to be looked up by key: by reading all of them."""
        return ScannedRows(self, name)

    def finish(self) -> None:
        """Give committed files their names."""
        if self._rows(FILES, f"SELECT 1 FROM {FILES} WHERE named = 0 LIMIT 1", []):
            with self._alone():
                self._name_what_was_committed()

    def commit(self, *commits: Commit) -> None:
        """Write the files, move the marks and add the ledger rows: all of it, or nothing.

        Raises:
            MarkMoved: a mark is no longer where it was read.
            Refused: something else than a journal is asked for.
            StoreError: the files cannot be written.
        """
        try:
            self.own.mkdir(parents=True, exist_ok=True)
            with self._alone():
                self._name_what_was_committed()
                with self.database.opened("rwc") as connection:
                    connection.execute("PRAGMA synchronous = FULL")
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
                new = self.own / "new" / file
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

    def __init__(self, connection: sqlite3.Connection, target: FolderTarget, commit: Commit, kept: FoundBooks) -> None:
        super().__init__(commit, kept)
        self.connection, self.target = connection, target

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        return self.connection.execute(sql, parameters).rowcount

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return self.connection.execute(sql, parameters).fetchone() is not None

    def _prepare(self) -> None:
        """Nothing to make: each file has the columns that its rows have."""
        if self.part.key:
            raise self._only_journals()
        parts = self.part.table.split("/")
        if any(part in ("", ".", "..") for part in parts) or parts[0] == OWN:
            raise Refused(
                f"{self.part.table!r} is no folder of its own below {self.target.place}.",
                "Files would be written elsewhere, or over what belongs to the marks.",
                "Name another folder after the store in 'into'.",
            )
        self.fitted(None)

    def remove(self, edits: Edits) -> None:
        """Nothing ever goes."""

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        """Write rows as they come, each into the file of its partition."""
        with _Parts(self, schema) as parts:
            for rows in in_tables(schema, batches, AT_ONCE):
                parts.write(rows)
        entry = self.commit.entry
        for file, count in parts.counts.items():
            values = [file, self.part.table, entry.load, entry.step, count]
            self.execute(
                f"INSERT INTO {FILES} (file, table_name, load_name, step, row_count, named) VALUES (?, ?, ?, ?, ?, 0)",
                values,
            )
        return sum(parts.counts.values())

    def _only_journals(self) -> Refused:
        return Refused(
            f"{self.target.place} is a folder of files, and rows in files are never changed.",
            "Only a journal is appended to.",
            'Set shape = "journal" in the load, or merge into a database.',
        )

    def kept_version(self) -> int | None:
        return kept_version(self.connection)

    def holds_rows(self) -> bool:
        return True

    def stamp(self) -> str:
        """Nothing to do: the marks lie in the folder itself, and go where it goes."""
        return ""

    def table_info(self) -> TableInfo | None:
        raise self._only_journals()

    def declaration(self, field: pa.Field) -> str:
        raise self._only_journals()

    def drop(self, keys: pa.Table) -> int:
        raise self._only_journals()

    def put(self, new: pa.Table, known: pa.Table) -> int:
        raise self._only_journals()

    def patch(self, rows: pa.Table) -> int:
        raise self._only_journals()

    def add(self, rows: pa.Table) -> int:
        raise self._only_journals()


class _Parts:
    """The files of one step: one for each partition, or several where there are more partitions than may be open."""

    def __init__(self, append: _Append, schema: pa.Schema) -> None:
        self.append, self.schema, self.form = append, schema, append.part.form
        self.counts: dict[str, int] = {}
        self._open: dict[str, _File] = {}  # by partition, the one that was written to last at the end
        self._begun: Counter[str] = Counter()

    def __enter__(self) -> _Parts:
        return self

    def __exit__(self, kind: type[BaseException] | None, *more: Any) -> None:
        for file in self._open.values():
            file.close(kind, *more)

    def write(self, table: pa.Table) -> None:
        """Write rows, each into the file of its partition."""

        if not self.form.partition:
            self._write("", table)
            return
        labels = pc.binary_join_element_wise(*(self._labels(table, name) for name in self.form.partition), "/")
        known = flat(labels).dictionary_encode()
        codes = known.indices.to_numpy(zero_copy_only=False)
        sorted_rows = table.take(pa.array(np.argsort(codes, kind="stable")))
        begin = 0
        for label, count in zip(known.dictionary.to_pylist(), np.bincount(codes).tolist(), strict=True):
            self._write(label, sorted_rows.slice(begin, count))
            begin += count

    def _labels(self, table: pa.Table, name: str) -> pa.Array:
        """The name of the folder that each row belongs in."""

        if name == "load":
            values: Any = pa.repeat(pa.scalar(self.append.commit.entry.load), table.num_rows)
        elif name == "date":
            values = pc.strftime(pc.coalesce(table["changed_at"], table["stepped_at"]), "%Y-%m-%d")
        elif name in table.column_names:
            values = table[name]
        else:
            values = pc.coalesce(table["now_" + name], table["was_" + name])
        found = flat(pc.fill_null(values.cast(pa.string()), NONE)).dictionary_encode()
        folders = [f"{file_name(name)}={file_name(one)}" for one in found.dictionary.to_pylist()]
        return pa.array(folders, pa.string()).take(found.indices)

    def _write(self, label: str, rows: pa.Table) -> None:
        file = self._open.pop(label, None) or self._new(label)
        self._open[label] = file
        file.write(rows)
        self.counts[file.name] += rows.num_rows

    def _new(self, label: str) -> _File:
        """A new file for a partition; closes the one that was left alone longest, if too many are open."""
        if len(self._open) >= MOST_OPEN:
            self._open.pop(next(iter(self._open))).close(None, None, None)
        entry = self.append.commit.entry
        self._begun[label] += 1
        more = f"-{self._begun[label]}" if self._begun[label] > 1 else ""
        last = f"{file_name(entry.load)}-{entry.step:08d}{more}.{self.form.format}"
        name = "/".join(part for part in (self.append.part.table, label, last) if part)
        self.counts[name] = 0
        return _File(name, self.append.target.own / "new" / name, self.form.format, self.schema)


class _File:
    """A file that is being written where no reader looks."""

    def __init__(self, name: str, path: Path, form: str, schema: pa.Schema) -> None:
        self.name = name
        path.parent.mkdir(parents=True, exist_ok=True)
        self._out = path.open("wb")
        self._writer = writer(form, self._out, schema)
        self.write = self._writer.__enter__()

    def close(self, *error: Any) -> None:
        """Write its end, and see to it that it lasts."""
        self._writer.__exit__(*error)
        self._out.flush()
        os.fsync(self._out.fileno())
        self._out.close()
