"""The rows of the data files of a Delta table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any

from plainstep.core.arrays import Bools
from plainstep.deferred import np, pa, pq
from plainstep.errors import Refused
from plainstep.stores.delta.deletions import deleted_rows
from plainstep.stores.delta.log import Action, DataFile, Log
from plainstep.stores.delta.schema import by_number, columns_of
from plainstep.stores.lake.files import FileRows

FIELD_ID = b"PARQUET:field_id"


class Rows(FileRows):
    """Reads the rows of files, in the columns that the table has.

    Args:
        log: the table's log.
        metadata: what it says of the table.
    """

    def __init__(self, log: Log, metadata: Action) -> None:
        self.place = log.place
        self.log, self.columns, self._by_number = log, columns_of(metadata, log.place), by_number(metadata)
        self.schema = pa.schema([(one.name, one.kind) for one in self.columns])

    def opened(self, path: str) -> AbstractContextManager[Any]:
        return self.log.objects.open(self._name(path))

    def refuse_gone(self, what: str) -> Refused:
        return self.log.refuse_gone(what)

    def _name(self, path: str) -> str:
        return self.log.folder + path

    def read(self, file: Any, parquet: pq.ParquetFile, only: Sequence[str] | None, more: Sequence[str]) -> pa.Table:
        """What stands in a file. What it says of its partition holds for all rows; it may be parted otherwise than the table is now."""
        wanted = [one for one in self.columns if only is None or one.name in only]
        partition: Mapping[str, str | None] = file.partition or {}
        places = self._places(parquet)
        there = {one.name: places[one.name] for one in wanted if one.name in places and one.physical not in partition}
        read = parquet.read(columns=[*there.values(), *more])
        columns: dict[str, Any] = {}
        for one in wanted:
            if one.physical in partition:
                columns[one.name] = one.of_partition(partition[one.physical], read.num_rows)
            elif one.name in there:
                values = read[there[one.name]]
                columns[one.name] = values if pa.types.is_dictionary(values.type) else one.of_file(values)
            else:  # it came to the table after this file was written
                columns[one.name] = pa.nulls(read.num_rows, one.kind)
        return pa.table(columns | {name: read[name] for name in more})

    def _places(self, file: pq.ParquetFile) -> dict[str, str]:
        """The table's columns that a file has, with their names there."""
        found = file.schema_arrow
        if not self._by_number:
            names = set(found.names)
            return {one.name: one.physical for one in self.columns if one.physical in names}
        numbers = {int((one.metadata or {}).get(FIELD_ID, b"-1")): one.name for one in found}
        return {one.name: numbers[one.number] for one in self.columns if one.number in numbers}

    def deleted_count(self, file: DataFile) -> int:
        return int(file.vector["cardinality"]) if file.vector else 0

    def deleted(self, file: DataFile, count: int) -> Bools:
        """Which of the rows of a file are deleted."""
        found = np.zeros(count, dtype=np.bool_)
        if file.vector is not None:
            try:
                read = lambda name: self.log.objects.read(self._name(name))  # noqa: E731
                found[deleted_rows(dict(file.vector), read, self.log.place)] = True
            except FileNotFoundError:
                raise self.log.refuse_gone(f"the deletion vector of {file.path}") from None
            except IndexError:
                raise Refused(
                    f"The deletion vector of {file.path} in {self.log.place} names rows that are not there."
                ) from None
        return found
