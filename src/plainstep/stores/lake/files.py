"""Reading the data files of a versioned table, in the columns that the table has."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from io import SEEK_END
from typing import Any, Protocol

from plainstep.core.arrays import Bools
from plainstep.deferred import pa, pc, pq
from plainstep.errors import Refused
from plainstep.formats.limits import refuse_unpacked
from plainstep.formats.reader import refuse_large_parquet


class LakeFile(Protocol):
    """A data file."""

    @property
    def path(self) -> str:
        """Its name."""
        ...


class FileRows(ABC):
    """Reads the rows of files.

    Attributes:
        place: the table's name, for messages.
        schema: the table's columns.
    """

    place: str
    schema: pa.Schema

    @abstractmethod
    def opened(self, path: str) -> AbstractContextManager[Any]:
        """A file to be read in parts.

        Raises:
            FileNotFoundError: it is gone.
        """

    @abstractmethod
    def read(
        self, file: LakeFile, parquet: pq.ParquetFile, only: Sequence[str] | None, more: Sequence[str]
    ) -> pa.Table:
        """What stands in a file, in the table's columns; texts may be in dictionaries.

        Args:
            file: the file.
            parquet: what stands in it.
            only: the table's columns that are wanted; None for all.
            more: columns that the file has beside the table's.
        """

    @abstractmethod
    def deleted(self, file: Any, count: int) -> Bools:
        """Which of the rows of a file are deleted."""

    def deleted_count(self, file: Any) -> int:
        """How many of the rows of a file are deleted."""
        return 0

    @abstractmethod
    def refuse_gone(self, what: str) -> Refused:
        """The error for what was cleaned up before it was read."""

    def of(self, file: LakeFile, more: Sequence[str] = (), only: Sequence[str] | None = None) -> pa.Table:
        """The rows of a file that are not deleted; see ``whole`` for the arguments."""
        rows = self.whole(file, more, only)
        deleted = self.deleted(file, rows.num_rows)
        return rows.filter(pa.array(~deleted)) if deleted.any() else rows

    def batches(self, files: Sequence[LakeFile]) -> Iterator[pa.RecordBatch]:
        """The rows of some files."""
        for file in files:
            yield from self.of(file).to_batches()

    def whole(self, file: LakeFile, more: Sequence[str] = (), only: Sequence[str] | None = None) -> pa.Table:
        """The rows of a file, deleted ones as well.

        Args:
            file: the file.
            more: columns that the file has beside the table's.
            only: the table's columns that are wanted; None for all.

        Raises:
            Refused: the file is gone, or damaged.
        """
        try:
            with self.opened(file.path) as opened:
                size = opened.seek(0, SEEK_END)
                opened.seek(0)
                shown = f"{self.place}: {file.path}"
                found = pq.ParquetFile(opened)
                refuse_large_parquet(found.metadata, size, shown)
                # A text that many rows share stands once in the file: it is counted before it is copied for each of them.
                found = pq.ParquetFile(opened, read_dictionary=_texts(found.schema_arrow))
                rows = self.read(file, found, only, more)
                refuse_unpacked(sum(map(_bytes, rows.columns)), size, shown)
                kinds = {one.name: one.type for one in self.schema}
                return pa.table({name: _plain(rows[name], kinds.get(name)) for name in rows.column_names})
        except FileNotFoundError:
            raise self.refuse_gone(f"the file {file.path}") from None
        except (pa.ArrowException, OSError) as error:
            raise Refused(
                f"The file {file.path} of {self.place} cannot be read in the table's columns: {str(error)[:160]}.",
                "It is damaged, or its columns are of other types than the table has now.",
                "plainstep reload LOAD compares the whole table, if that can be read.",
            ) from error


def _texts(schema: pa.Schema) -> list[str]:
    """The columns of a file that hold texts or bytes."""
    return [one.name for one in schema if pa.types.is_string(one.type) or pa.types.is_binary(one.type)]


def _bytes(column: pa.ChunkedArray) -> int:
    """Bytes of a column's texts, each as often as it stands there."""
    if not pa.types.is_dictionary(column.type):
        return 0
    counts = (pc.sum(pc.binary_length(chunk.dictionary).take(chunk.indices)).as_py() for chunk in column.chunks)
    return sum(count or 0 for count in counts)


def _plain(column: pa.ChunkedArray, kind: pa.DataType | None) -> pa.ChunkedArray:
    """A column with its texts in every row."""
    return column.cast(kind or column.type.value_type) if pa.types.is_dictionary(column.type) else column
