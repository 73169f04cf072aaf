"""The first and the last rows of a file, without reading what lies between, where that can be."""

from __future__ import annotations

from collections.abc import Iterator

import pyarrow as pa

from plainstep.stores.files.formats import Rows, opened, read
from plainstep.stores.files.listing import File

# Bytes at the end of a file of lines in which its last line is looked for.
TAIL = 1 << 16


def edges(file: File, start: int = 0) -> Iterator[pa.Table]:
    """The first row of a file, and the last one."""
    if file.kind.grows and file.size - start > TAIL:
        yield from _of_lines(file, start)
    elif file.kind.format == "parquet" and not file.kind.compression:
        yield from _of_parquet(file)
    else:
        yield from _of_all(read(file.path, file.name, file.size if file.kind.grows else None, start))


def _of_all(batches: Iterator[Rows]) -> Iterator[pa.Table]:
    last = None
    for rows in batches:
        if rows.table.num_rows:
            if last is None:
                yield rows.table.slice(0, 1)
            last = rows.table
    if last is not None:
        yield last.slice(last.num_rows - 1)


def _of_lines(file: File, start: int) -> Iterator[pa.Table]:
    for rows in read(file.path, file.name, file.size, start):
        yield rows.table.slice(0, 1)
        break
    with file.path.open("rb") as stream:
        stream.seek(file.size - TAIL)
        tail = stream.read(TAIL)
    cut = tail.rfind(b"\n", 0, len(tail.rstrip()))
    if cut < 0 or (file.kind.format == "csv" and b'"' in tail):  # a quoted line end is none
        *_, last = _of_all(read(file.path, file.name, file.size, start))
        yield last
        return
    for rows in read(file.path, file.name, file.size, file.size - TAIL + cut + 1):
        yield rows.table.slice(rows.table.num_rows - 1)


def _of_parquet(file: File) -> Iterator[pa.Table]:
    import pyarrow.parquet as pq

    from plainstep.stores.files.formats import damaged

    try:
        with opened(file.path, file.kind) as stream:
            parquet = pq.ParquetFile(stream)
            groups = [group for group in range(parquet.num_row_groups) if parquet.metadata.row_group(group).num_rows]
            if groups:
                yield parquet.read_row_group(groups[0]).slice(0, 1)
                rows = parquet.read_row_group(groups[-1])
                yield rows.slice(rows.num_rows - 1)
    except (pa.ArrowException, OSError, ValueError) as error:
        raise damaged(file.name, str(error).splitlines()[0]) from error
