"""Reading files of rows: JSON Lines, CSV, Parquet and Avro, plain or compressed, in bounded memory."""

from __future__ import annotations

import io
import sys
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from typing import Any

from plainstep.core.arrays import Bools
from plainstep.core.layouts.rows import LINE
from plainstep.deferred import np, pa, pc, pq
from plainstep.formats import lines as text
from plainstep.formats.avro import avro_columns, read_avro
from plainstep.formats.csv import header, read_csv
from plainstep.formats.limits import Bounded, refuse_columns, refuse_unpacked
from plainstep.formats.lines import (  # fmt: skip
    FIRST,
    ROWS,
    SOME,
    Kind,
    Rows,
    damaged,
    is_blank,
    kind_of,
    read_safely,
    too_long,
    whole_lines,
)
from plainstep.formats.openable import Openable, arrow_file
from plainstep.formats.prefetch import fetched

# Rows for each different text of a column that is read by the numbers of its texts.
OFTEN = 16


@cache
def blanks() -> Bools:
    """Which bytes are blanks, by their number."""
    return np.isin(np.arange(256), list(b" \t\r\n\v\f"))


def read(
    file: Openable,
    shown: str,
    upto: int | None = None,
    start: int = 0,
    lines: int = 0,
    wanted: pa.Schema | None = None,
    few: bool = False,
    kind: Kind | None = None,
) -> Iterator[Rows]:
    """The rows of a file, in batches.

    Args:
        file: the file.
        shown: its name, for messages.
        upto: at which byte to end, for files to which lines are added; None for all.
        start: at which byte to begin, for such files.
        lines: how many lines there are before it.
        wanted: the columns that are wanted, of those that it has; None for all. CSV is read in their types, or as
            texts where a value does not fit.
        few: whether only some first rows are wanted.
        kind: what it is; default: as its name says.

    Raises:
        DataError: the file is damaged; the message names the line, or the part.
    """
    kind = kind or kind_of(shown)
    lines -= 1 if lines and kind.format == "csv" and not kind.form.names else 0  # the header is read again
    readers: dict[str, Callable[..., Iterator[Rows]]] = {
        "json": _json, "csv": read_csv, "parquet": _parquet, "avro": read_avro,
    }  # fmt: skip
    with read_safely(shown), opened(file, kind, upto, start) as stream:
        for rows in readers[kind.format](_in_utf8(stream, kind), shown, kind, wanted, few):
            yield Rows(rows.table, rows.lines + lines) if lines else rows


def _in_utf8(stream: Any, kind: Kind) -> Any:
    """The stream of a CSV file in UTF-8, however it is written."""
    if kind.format != "csv" or not kind.form.charset:
        return stream
    plain = stream if isinstance(stream, pa.NativeFile) else pa.PythonFile(stream, mode="r")
    return pa.transcoding_input_stream(plain, kind.form.charset, "utf-8")


def opened(source: Openable, kind: Kind, upto: int | None = None, start: int = 0) -> Any:
    """A file as a stream of what is in it. Where it does not begin at the begin, a header comes first nevertheless."""
    file = arrow_file(source)
    if kind.compression:
        return Bounded(pa.input_stream(file, compression=kind.compression), file.size(), source.name)
    if upto is None and not start:
        return file
    head = b""
    if start and kind.format == "csv" and not kind.form.names:
        while not head.endswith(b"\n") and (more := file.read(1 << 16)):
            head += more
            head = head[: head.find(b"\n") + 1] or head
    file.seek(start)
    return _Part(head, file, (upto if upto is not None else file.size()) - start)


class _Part(io.RawIOBase):
    """Bytes that were read already, and then some of a file."""

    def __init__(self, head: bytes, file: Any, size: int) -> None:
        self.head, self.file, self.left = head, file, size

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        into = memoryview(buffer)
        if self.head:
            found = min(len(self.head), len(into))
            into[:found], self.head = self.head[:found], self.head[found:]
            return found
        found = self.file.readinto(into[: self.left])
        self.left -= found
        return found

    def close(self) -> None:
        self.file.close()
        super().close()


def _json(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    """Lines as they are: what they hold is read by whoever knows which fields are wanted."""
    line = 0
    for block in whole_lines(stream, shown, FIRST if few else text.BLOCK, kind.longest):
        if is_blank(block):
            line += bytes(block).count(b"\n")
            continue
        rows, count = lines_of(block, shown, line)
        line += count
        if len(rows.lines):
            yield rows


def lines_of(block: memoryview, shown: str, before: int) -> tuple[Rows, int]:
    """The lines of a block that are not blank, and how many there are in all.

    Raises:
        DataError: one is not text.
    """
    data = np.frombuffer(block, dtype=np.uint8)
    ends = np.flatnonzero(data == 10) + 1
    if not len(ends) or ends[-1] != len(block):
        ends = np.append(ends, len(block))
    offsets = np.concatenate(([0], ends)).astype(np.int32)
    texts = pa.StringArray.from_buffers(len(ends), pa.py_buffer(offsets), pa.py_buffer(block))
    _check_text(texts, shown, before)
    numbers = np.arange(before + 1, before + 1 + len(ends))
    short = np.flatnonzero(np.diff(offsets) <= 2)
    blank = short[blanks()[data[offsets[short]]] & blanks()[data[offsets[short + 1] - 1]]]
    if len(blank):
        kept = np.ones(len(ends), dtype=np.bool_)
        kept[blank] = False
        texts, numbers = texts.filter(pa.array(kept)), numbers[kept]
    return Rows(pa.table({LINE: texts}), numbers), len(ends)


def _check_text(texts: pa.Array, shown: str, before: int) -> None:
    try:
        texts.validate(full=True)
    except pa.ArrowInvalid:
        for row in range(len(texts)):
            try:
                texts.slice(row, 1).validate(full=True)
            except pa.ArrowInvalid:
                raise damaged(shown, f"line {before + row + 1} is not text in UTF-8") from None


def _parquet(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    coded = [field.name for field in wanted or () if pa.types.is_dictionary(field.type)]
    whole = _seekable(stream, kind)
    size = whole.size()  # asked for once: Arrow finds it by seeking, which must not meet a part that is being fetched
    file = pq.ParquetFile(whole, read_dictionary=coded)
    refuse_large_parquet(file.metadata, size, shown)
    names = None if wanted is None else [name for name in file.schema_arrow.names if name in wanted.names]
    line = unpacked = 0
    batches = _parquet_batches(whole, file, coded, names, SOME if few else ROWS, shown, kind.longest)
    for batch in fetched(batches, 0 if file.metadata.num_rows > ROWS and not few else 2):
        yield Rows(pa.Table.from_batches([batch]), np.arange(line + 1, line + 1 + batch.num_rows))
        line += batch.num_rows
        unpacked += batch.nbytes
        refuse_unpacked(unpacked, size, shown)
    if line != file.metadata.num_rows:
        raise damaged(shown, f"it says that it has {file.metadata.num_rows:,} rows, and has {line:,}")


def _parquet_batches(
    whole: Any, file: Any, coded: list[str], names: list[str] | None, rows: int, shown: str, most: int
) -> Iterator[pa.RecordBatch]:
    """The rows of a file, so many at a time as its longest values allow.

    A text that stands once in a file's dictionary may stand in every row. How long the longest is, is looked up for each part of
    the file (its dictionary is read for that), and so many rows are read at a time as would hold no more than some rows may. Texts of
    which there are few are read by their numbers, which takes a fifth less.
    """
    texts = [
        field.name
        for field in file.schema_arrow
        if (names is None or field.name in names) and (pa.types.is_string(field.type) or pa.types.is_binary(field.type))
    ]
    short = pq.ParquetFile(whole, read_dictionary=texts) if texts else None
    few: list[str] | None = None
    for group in range(file.num_row_groups):
        longest, count = 1, file.metadata.row_group(group).num_rows
        if short is not None and count > SOME:
            first = next(short.iter_batches(1, row_groups=[group], columns=texts), None)
            if first is not None:
                longest = sum(_longest(column) for column in first.columns)
                if few is None:
                    few = [name for name in first.schema.names if _distinct(first.column(name)) * OFTEN <= count]
                    file = pq.ParquetFile(whole, read_dictionary=[*coded, *few]) if few else file
        if longest > most:
            raise too_long(shown, "a row", most)
        for batch in file.iter_batches(max(min(rows, most // max(longest, 1)), 1), row_groups=[group], columns=names):
            yield _as_texts(batch, few or ())


def _as_texts(batch: pa.RecordBatch, names: Sequence[str]) -> pa.RecordBatch:
    """A batch in which some columns are texts again, and not numbers of texts."""
    fields = [field.with_type(field.type.value_type) if field.name in names else field for field in batch.schema]
    return batch.cast(pa.schema(fields)) if names else batch


def _distinct(column: pa.Array) -> int:
    """How many values a part of a file has, as far as it lists them; else more than it has rows."""
    return len(column.dictionary) if pa.types.is_dictionary(column.type) else sys.maxsize


def _longest(column: pa.Array) -> int:
    """Bytes of the longest value of a dictionary, or of a column."""
    values = column.dictionary if pa.types.is_dictionary(column.type) else column
    return pc.max(pc.binary_length(values)).as_py() or 0 if len(values) else 0


def refuse_large_parquet(metadata: Any, size: int, shown: str) -> None:
    """Refuse a file that says of itself that it becomes far more than it is.

    Raises:
        DataError: it does.
    """
    refuse_columns(metadata.num_columns, shown)
    refuse_unpacked(
        sum(metadata.row_group(group).total_byte_size for group in range(metadata.num_row_groups)), size, shown
    )


def _seekable(stream: Any, kind: Kind) -> Any:
    return pa.BufferReader(stream.read()) if kind.compression else stream


def rows_told(file: Openable, shown: str) -> int:
    """How many rows a Parquet file says that it holds.

    Raises:
        DataError: the file is damaged.
    """
    with read_safely(shown), file.open("rb") as stream:
        return int(pq.read_metadata(stream).num_rows)


def columns_of(file: Openable, shown: str, kind: Kind | None = None) -> pa.Schema:
    """The columns of a file, read from its beginning or its end.

    Raises:
        DataError: the file is damaged.
    """
    kind = kind or kind_of(shown)
    if kind.format == "json":
        return pa.schema([(LINE, pa.string())])
    with read_safely(shown), opened(file, kind) as stream:
        if kind.format == "csv":
            block = next(whole_lines(_in_utf8(stream, kind), shown, FIRST, kind.longest), memoryview(b""))
            return pa.schema([(name, pa.string()) for name in header(block, shown, kind)[0]])
        if kind.format == "parquet":
            return pq.read_schema(_seekable(stream, kind)).remove_metadata()
        return avro_columns(stream, shown)
