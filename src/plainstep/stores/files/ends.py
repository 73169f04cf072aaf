"""The first and the last rows of files, without reading what lies between, where that can be, and their positions."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.batch import in_lots
from plainstep.core.position_labels import parted
from plainstep.deferred import pa, pq
from plainstep.errors import DataError
from plainstep.formats import lines
from plainstep.formats.lines import NEAR, Rows, read_safely, whole_lines
from plainstep.formats.reader import lines_of, opened, read
from plainstep.stores.files.listing import File

if TYPE_CHECKING:
    from plainstep.stores.files.merge_order import Order, PositionValues

# Bytes at the end of a file of lines in which its last line is looked for.
TAIL = 1 << 16


class KnownEnds:
    """The first and the last position of each file where positions stand in the rows, looked at once.

    Args:
        order: tells how positions are compared.
    """

    def __init__(self, order: Callable[[], Order]) -> None:
        self._order = order
        self._ends: dict[tuple[str, int, int], tuple[str, str] | None] = {}
        self._places: dict[str, PositionValues] = {}

    def of(self, file: File, start: int = 0) -> tuple[str, str] | None:
        """The first and the last position of a file, from a byte on; None where there is no row.

        Raises:
            DataError: the last lies before the first, or a row has no position.
        """
        known = (file.name, file.size, start)
        if known not in self._ends:
            [self._ends[known]] = self._look_at([file], start)
        return self._ends[known]

    def learn(self, files: Iterable[File]) -> None:
        """Look at some files all at once: of many small ones that is several times as fast as one after the other."""
        new = [file for file in files if (file.name, file.size, 0) not in self._ends]
        for file, ends in zip(new, self._look_at(new, 0), strict=True):
            self._ends[file.name, file.size, 0] = ends

    def place(self, label: str) -> PositionValues:
        """A position as it is compared. (Those of files are asked for again and again.)"""
        if label not in self._places:
            order = self._order()
            self._places[label] = order.parsed(parted(label, len(order.paths)))
        return self._places[label]

    def _look_at(self, files: list[File], start: int) -> list[tuple[str, str] | None]:
        order, whose = self._order(), list[tuple[File, str]]()

        def rows() -> Iterator[pa.Table]:
            for file in files:
                for number, table in enumerate(edges(file, list(order.paths), start)):
                    whose.append((file, "last" if number else "first"))
                    yield table.take([0])  # a row of its own, so that the rest of the file is let go of

        labels: dict[str, list[str]] = {file.name: [] for file in files}
        begun = 0
        for table in in_lots(rows()):

            def told(row: int, begun: int = begun) -> str:
                file, which = whose[begun + row]
                return f"{file.name}, its {which} row"

            found = order.each_label(order.columns(table, told))
            for (file, _), label in zip(whose[begun : begun + len(found)], found, strict=True):
                labels[file.name].append(label)
            begun += len(found)
        return [self._ends_by(name, found) for name, found in labels.items()]

    def _ends_by(self, name: str, labels: list[str]) -> tuple[str, str] | None:
        if not labels:
            return None
        if self.place(labels[-1]) < self.place(labels[0]):
            raise DataError(
                f"{name}: its last position {labels[-1]} lies before its first, {labels[0]}.",
                f"Within a file, positions ({', '.join(self._order().paths)}) must not go backwards.",
                "Fix 'position' in the layout, or sort the file.",
            )
        return labels[0], labels[-1]


def edges(file: File, paths: list[str], start: int = 0) -> Iterator[pa.Table]:
    """The first row of a file, and the last one: of the columns that these paths begin with, at least."""
    if file.kind.grows and file.size - start > TAIL:
        yield from _of_lines(file, start)
    elif file.kind.format == "parquet" and not file.kind.compression:
        yield from _of_parquet(file, paths)
    elif file.kind.format == "json" and file.kind.compression:
        yield from _of_packed_lines(file)
    else:
        yield from _of_all(read(file.source, file.name, file.size if file.kind.grows else None, start, kind=file.kind))


def _of_all(batches: Iterator[Rows]) -> Iterator[pa.Table]:
    last = None
    for rows in batches:
        if rows.table.num_rows:
            if last is None:
                yield rows.table.slice(0, 1)
            last = rows.table
    if last is not None:
        yield last.slice(last.num_rows - 1)


def _of_packed_lines(file: File) -> Iterator[pa.Table]:
    """All must be unpacked to come to the end, but only the first and the last block are made into rows."""
    last = None
    with read_safely(file.name), opened(file.source, file.kind) as stream:
        for block in whole_lines(stream, file.name, lines.BLOCK, file.kind.longest):
            if bytes(block[:NEAR]).strip() or bytes(block).strip():
                if last is None:
                    yield lines_of(block, file.name, 0)[0].table.slice(0, 1)
                last = block
    if last is not None:
        rows = lines_of(last, file.name, 0)[0].table
        yield rows.slice(rows.num_rows - 1)


def _of_lines(file: File, start: int) -> Iterator[pa.Table]:
    for rows in read(file.source, file.name, file.size, start, few=True, kind=file.kind):
        yield rows.table.slice(0, 1)
        break
    with file.source.open("rb") as stream:
        stream.seek(file.size - TAIL)
        tail = stream.read(TAIL)
    cut = tail.rfind(b"\n", 0, len(tail.rstrip()))
    # A line end within quotes is none. After one that is not, quotes come in pairs.
    while file.kind.format == "csv" and cut >= 0 and tail.count(b'"', cut) % 2:
        cut = tail.rfind(b"\n", 0, cut)
    if cut < 0:
        *_, last = _of_all(read(file.source, file.name, file.size, start, kind=file.kind))
        yield last
        return
    for rows in read(file.source, file.name, file.size, file.size - TAIL + cut + 1, kind=file.kind):
        yield rows.table.slice(rows.table.num_rows - 1)


def _of_parquet(file: File, paths: list[str]) -> Iterator[pa.Table]:
    with read_safely(file.name), opened(file.source, file.kind) as stream:
        parquet = pq.ParquetFile(stream)
        groups = [group for group in range(parquet.num_row_groups) if parquet.metadata.row_group(group).num_rows]
        if groups:
            known = _from_statistics(parquet.metadata, paths)
            if known is not None:
                yield from known
                return
            names = [name for name in parquet.schema_arrow.names if any(_begins(path, name) for path in paths)]
            yield parquet.read_row_group(groups[0], names).slice(0, 1)
            rows = parquet.read_row_group(groups[-1], names)
            yield rows.slice(rows.num_rows - 1)


def _from_statistics(metadata: Any, paths: list[str]) -> list[pa.Table] | None:
    """The same by what the file says of its columns: where rows are in order, its least value is the first one."""
    [path] = paths if len(paths) == 1 else [""]
    schema = metadata.schema.to_arrow_schema()
    if path not in schema.names or not pa.types.is_integer(schema.field(path).type):
        return None
    chunks = [
        metadata.row_group(group).column(place)
        for group in range(metadata.num_row_groups)
        for place in range(metadata.num_columns)
        if metadata.row_group(group).column(place).path_in_schema == path
    ]
    told = [chunk.statistics for chunk in chunks if chunk.statistics is not None]
    if len(told) != metadata.num_row_groups or any(not one.has_min_max or one.null_count for one in told):
        return None
    ends = (min(one.min for one in told), max(one.max for one in told))
    return [pa.table({path: pa.array([end], schema.field(path).type)}) for end in ends]


def _begins(path: str, name: str) -> bool:
    return path == name or path.startswith(name + ".")
