"""The rows of the data files of an Iceberg table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any

from plainstep.core.arrays import Bools, Ints
from plainstep.deferred import deferred, np, pa, pq
from plainstep.errors import Refused
from plainstep.stores.iceberg.schema import columns_of, number_of
from plainstep.stores.lake.files import FileRows

(conversions,) = deferred("pyiceberg", "conversions")


@dataclass(frozen=True)
class DataFile:
    """A data file as a version has it.

    Attributes:
        path: where it is.
        constants: the values of columns that may stand in no file, by their numbers.
        gone: the numbers of its rows that are deleted, from 0 on; None where none is.
        source: as the library that reads metadata has it.
        columns: the table's columns by name, as that library has them.
    """

    path: str
    constants: Mapping[int, Any] = field(default_factory=dict, hash=False, compare=False)
    gone: Ints | None = field(default=None, hash=False, compare=False)
    source: Any = field(default=None, hash=False, compare=False)
    columns: Mapping[str, Any] = field(default_factory=dict, hash=False, compare=False)

    @property
    def key(self) -> str:
        """What tells it apart."""
        return self.path

    @property
    def size(self) -> int:
        """Its bytes."""
        return int(self.source.file_size_in_bytes)

    def ends(self, name: str) -> tuple[Any, Any]:
        """Bounds of the values of a column; None where there are none."""
        column = self.columns[name]
        bounds = ((one or {}).get(column.field_id) for one in (self.source.lower_bounds, self.source.upper_bounds))
        lower, upper = (None if one is None else conversions.from_bytes(column.field_type, one) for one in bounds)
        return lower, upper


class Rows(FileRows):
    """Reads the rows of files, in the columns that the table has.

    Args:
        table: as the library that reads metadata has it.
        place: its name, for messages.
    """

    def __init__(self, table: Any, place: str) -> None:
        self.place, self._io = place, table.io
        self.columns = columns_of(table.schema(), place)
        self.schema = pa.schema([(one.name, one.kind) for one in self.columns])
        mapping = table.name_mapping()
        self._names = {one.field_id: set(one.names) for one in mapping} if mapping else {}

    def opened(self, path: str) -> AbstractContextManager[Any]:
        found: AbstractContextManager[Any] = self._io.new_input(path).open()
        return found

    def refuse_gone(self, what: str) -> Refused:
        return Refused(
            f"{self.place} lacks {what}.",
            "What it tells of was cleaned up, when snapshots were expired, before it was read.",
            "plainstep reload LOAD compares the whole table, if that can be read, and goes on from there.",
        )

    def deleted(self, file: DataFile, count: int) -> Bools:
        found = np.zeros(count, dtype=np.bool_)
        if file.gone is not None:
            if len(file.gone) and int(file.gone.max()) >= count:
                raise Refused(f"A file of deletes names rows of {file.path} in {self.place} that are not there.")
            found[file.gone] = True
        return found

    def read(self, file: Any, parquet: pq.ParquetFile, only: Sequence[str] | None, more: Sequence[str]) -> pa.Table:
        wanted = [one for one in self.columns if only is None or one.name in only]
        places = self._places(parquet.schema_arrow)
        there = {one.name: places[one.number] for one in wanted if one.number in places}
        read = parquet.read(columns=[*(one.name for one in there.values()), *more])
        columns: dict[str, Any] = {}
        for one in wanted:
            if one.name in there:
                values = read[there[one.name].name]
                is_text = pa.types.is_dictionary(values.type) and one.kind in (pa.string(), pa.binary())
                columns[one.name] = (
                    values if is_text and str(one.declared) != "uuid" else one.of_file(values, there[one.name])
                )
            else:  # it came to the table after this file was written, or is the same in all of it
                columns[one.name] = one.repeated(file.constants.get(one.number), read.num_rows)
        return pa.table(columns | {name: read[name] for name in more})

    def _places(self, schema: pa.Schema) -> dict[int, pa.Field]:
        """The columns of a file by their numbers; where it has none, by the names that the table maps to them."""
        numbered = {number: one for one in schema if (number := number_of(one)) is not None}
        if numbered:
            return numbered
        names = {one.name: one for one in schema}
        found = {}
        for column in self.columns:
            for name in self._names.get(column.number, {column.name}) & names.keys():
                found[column.number] = names[name]
        return found

    def deletes(self, path: str) -> pa.Table:
        """A file of deletes: ``file_path`` and ``pos``."""
        try:
            with self.opened(path) as opened:
                return pq.read_table(opened, columns=["file_path", "pos"])
        except FileNotFoundError:
            raise self.refuse_gone(f"the file of deletes {path}") from None
