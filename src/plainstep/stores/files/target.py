"""A folder of files to append a journal to: how its rows are laid out in files."""

from __future__ import annotations

import os
import sys
from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import IO, TYPE_CHECKING, Any

from plainstep.core.arrays import flat
from plainstep.core.changes.batch import in_tables
from plainstep.core.diff import widened
from plainstep.deferred import np, pa, pc, pq
from plainstep.errors import Refused
from plainstep.formats.openable import Openable, arrow_file
from plainstep.formats.reader import columns_of
from plainstep.formats.writer import file_name, writer
from plainstep.stores.api import KeyedRows
from plainstep.stores.commit_log import CommitLog
from plainstep.stores.keyed_rows import ScannedRows
from plainstep.stores.records import TableInfo

if TYPE_CHECKING:
    from plainstep.stores.records import Commit, LedgerEntry, Part

# Rows that are written at a time: each partition's become a part of its file, which is to be no small one.
AT_ONCE = 1 << 18
# So many files of a step are open at a time: processes are often allowed 1,024.
MOST_OPEN = 400
# What a partition without a value is called.
NONE = "none"


class Journals(ABC):
    """The journals of a target of files: how their rows are written and read.

    Attributes:
        place: the store's name, for messages.
        most_open: so many files of a step are open at a time.
        longest: bytes in memory of the rows that go into one file; more go into another one.
    """

    place: str
    most_open = MOST_OPEN
    longest = sys.maxsize

    @abstractmethod
    def files(self, name: str) -> list[str]:
        """A journal's files, oldest first."""

    @abstractmethod
    def source(self, file: str) -> Openable | None:
        """What one of them is read from; None where it is gone."""

    @abstractmethod
    def create(self, file: str) -> AbstractContextManager[IO[bytes]]:
        """A new file, written where no reader looks; when it is closed, it lasts."""

    def write(self, commit: Commit, part: Part, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> dict[str, int]:
        """Write rows as they come, each into the file of its partition.

        Returns:
            How many rows each file has, by its name.
        """
        with _Parts(self, commit.entry, part, schema) as parts:
            for rows in in_tables(schema, batches, AT_ONCE):
                parts.write(rows)
        return parts.counts

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """The columns of a journal's newest file, or None if there is no file."""
        files = self.files(name)
        if not files:
            return None
        if not files[-1].endswith(".parquet"):
            return TableInfo(pa.schema([]), True)

        newest = self.source(files[-1])
        if newest is None:
            raise self._gone(name, files[-1])
        return TableInfo(columns_of(newest, files[-1]), True)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema itself."""
        return pa.schema([(field.name, field.type) for field in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a journal, in the given columns and types; null where a file has no such column.

        Raises:
            Refused: its files are not Parquet.
        """

        for file in self.files(name):
            if not file.endswith(".parquet"):
                raise Refused(
                    f"The journal {self.place}.{name} is not in Parquet.",
                    "Its values are texts there, and could not be compared as what they are.",
                    'Set format = "parquet" for a journal that is to be checked.',
                )
            source = self.source(file)
            if source is None:
                raise self._gone(name, file)
            with pq.ParquetFile(arrow_file(source)) as parquet:
                names = [one for one in schema.names if one in parquet.schema_arrow.names]
                for batch in parquet.iter_batches(columns=names):
                    yield self._typed(name, file, widened(batch, schema), schema)

    def _gone(self, name: str, file: str) -> Refused:
        return Refused(
            f"A file of the journal {self.place}.{name} is gone: {file}.",
            "What it holds cannot be compared. Steps do not need files that were written before, and go on.",
            f"Put it back at {self.shown(file)}.",
        )

    @abstractmethod
    def shown(self, file: str) -> str:
        """Where a file belongs, for messages."""

    def _typed(self, name: str, file: str, rows: pa.RecordBatch, schema: pa.Schema) -> pa.RecordBatch:
        """Rows in other types.

        Raises:
            Refused: they hold values that these do not.
        """
        try:
            return rows.cast(schema)
        except pa.ArrowInvalid as error:
            raise Refused(
                f"{file} of the journal {self.place}.{name} holds values that no longer fit the source's columns: {error}.",
                "They changed their types since, so the whole of it cannot be compared. Steps go on.",
                f"plainstep ledger tells when the columns of {name} changed.",
            ) from None


class FolderTarget(Journals, CommitLog):
    """A folder that a journal is appended to; see ``CommitLog`` for its arguments."""

    files = CommitLog.files

    def source(self, file: str) -> Openable | None:
        """What a file is read from; None where it is gone."""
        path = self.there(file)
        return path if path.exists() else None

    @contextmanager
    def create(self, file: str) -> Iterator[IO[bytes]]:
        """A new file, written where no reader looks; when it is closed, it lasts."""
        path = self.new(file)
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("wb") as out:
            yield out
            out.flush()
            os.fsync(out.fileno())

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a journal, to be looked up by key: by reading all of them."""
        return ScannedRows(self, name)

    def shown(self, file: str) -> str:
        """Where a file belongs."""
        return str(self.folder / file)


class _Parts:
    """The files of one step: one for each partition, or several where there are more partitions than may be open."""

    def __init__(self, log: Journals, entry: LedgerEntry, part: Part, schema: pa.Schema) -> None:
        self.log, self.entry, self.part, self.schema, self.form = log, entry, part, schema, part.form
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
            values: Any = pa.repeat(pa.scalar(self.entry.load), table.num_rows)
        elif name == "date":
            when = pc.coalesce(table["changed_at"], table["stepped_at"])
            values = pc.strftime(when.cast(pa.timestamp("us", self.form.zone)), "%Y-%m-%d")
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
        file.bytes += rows.nbytes
        if file.bytes >= self.log.longest:
            self._open.pop(label).close(None, None, None)

    def _new(self, label: str) -> _File:
        """A new file for a partition; closes the one that was left alone longest, if too many are open."""
        if len(self._open) >= self.log.most_open:
            self._open.pop(next(iter(self._open))).close(None, None, None)
        entry = self.entry
        self._begun[label] += 1
        more = f"-{self._begun[label]}" if self._begun[label] > 1 else ""
        last = f"{file_name(entry.load)}-{entry.step:08d}{more}.{self.form.format}"
        name = "/".join(part for part in (self.part.table, label, last) if part)
        self.counts[name] = 0
        return _File(name, self.log.create(name), self.form.format, self.schema)


class _File:
    """A file that is being written where no reader looks."""

    def __init__(self, name: str, file: AbstractContextManager[IO[bytes]], form: str, schema: pa.Schema) -> None:
        self.name, self._file, self.bytes = name, file, 0
        self._writer = writer(form, file.__enter__(), schema)
        self.write = self._writer.__enter__()

    def close(self, *error: Any) -> None:
        """Write its end, and see to it that it lasts."""
        self._writer.__exit__(*error)
        self._file.__exit__(*error)
