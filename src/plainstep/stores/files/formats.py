"""Reading files of rows: JSON Lines, CSV, Parquet and Avro, plain or compressed, in bounded memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from plainstep.core.raw import LINE
from plainstep.errors import ConfigError, DataError
from plainstep.stores.files.ahead import ahead, fetched

# Bytes of text that are made into rows at a time: so many that the work is Arrow's and not Python's.
BLOCK = 1 << 23
# No line is longer: a file that seems to have one is none of lines.
LONGEST = 1 << 26
ROWS = 1 << 17
# The same where only some first rows are wanted.
FIRST, SOME = 1 << 18, 1 << 10

COMPRESSED = {".gz": "gzip", ".bz2": "bz2", ".zst": "zstd", ".lz4": "lz4"}
FORMATS = {
    ".jsonl": "json", ".ndjson": "json", ".json": "json", ".csv": "csv", ".tsv": "csv", ".parquet": "parquet",
    ".avro": "avro",
}  # fmt: skip


@dataclass(frozen=True)
class Kind:
    """What a file's name says of it.

    Attributes:
        format: ``json``, ``csv``, ``parquet`` or ``avro``; empty where the name does not say.
        compression: as Arrow names it, or empty.
        delimiter: between the values of a CSV line.
    """

    format: str
    compression: str
    delimiter: str = ","

    @property
    def grows(self) -> bool:
        """Whether lines may be added to such a file."""
        return self.format in ("json", "csv") and not self.compression


def kind_of(name: str) -> Kind:
    """What a file's name says of it."""
    suffixes = [suffix.lower() for suffix in Path(name).suffixes]
    compression = COMPRESSED.get(suffixes[-1], "") if suffixes else ""
    last = (suffixes[:-1] if compression else suffixes)[-1:]
    return Kind(FORMATS.get(last[0], "") if last else "", compression, "\t" if last == [".tsv"] else ",")


@dataclass(frozen=True)
class Rows:
    """Some rows of a file.

    Attributes:
        table: their columns.
        lines: the line, or the number, of each in its file.
    """

    table: pa.Table
    lines: np.ndarray[Any, np.dtype[np.int64]]


def read(
    path: Path,
    shown: str,
    upto: int | None = None,
    start: int = 0,
    lines: int = 0,
    wanted: pa.Schema | None = None,
    few: bool = False,
) -> Iterator[Rows]:
    """The rows of a file, in batches.

    Args:
        path: the file.
        shown: its name, for messages.
        upto: at which byte to end, for files to which lines are added; None for all.
        start: at which byte to begin, for such files.
        lines: how many lines there are before it.
        wanted: the columns that are wanted, of those that it has; None for all. CSV is read in their types, or as
            texts where a value does not fit.
        few: whether only some first rows are wanted.

    Raises:
        DataError: the file is damaged; the message names the line, or the part.
    """
    kind = kind_of(shown)
    lines -= 1 if lines and kind.format == "csv" else 0  # the header is read again
    readers: dict[str, Callable[..., Iterator[Rows]]] = {
        "json": _json, "csv": _csv, "parquet": _parquet, "avro": _avro,
    }  # fmt: skip
    try:
        with opened(path, kind, upto, start) as stream:
            for rows in readers[kind.format](stream, shown, kind, wanted, few):
                yield Rows(rows.table, rows.lines + lines) if lines else rows
    except (pa.ArrowException, OSError, EOFError, ValueError) as error:
        if isinstance(error, FileNotFoundError):
            raise
        raise damaged(shown, str(error).splitlines()[0] if str(error) else type(error).__name__) from error


def damaged(shown: str, why: str) -> DataError:
    """The error for a file that cannot be read."""
    return DataError(
        f"{shown} cannot be read: {why}.",
        "It is damaged, cut off, or not what its name says. Nothing of it was merged.",
        "Mend or remove it, and run the command again.",
    )


def opened(path: Path, kind: Kind, upto: int | None = None, start: int = 0) -> Any:
    """A file as a stream of what is in it. Where it does not begin at the begin, a header comes first all the same."""
    if kind.compression:
        return pa.input_stream(str(path), compression=kind.compression)
    file = pa.OSFile(str(path))
    if upto is None and not start:
        return file
    head = b""
    if start and kind.format == "csv":
        while not head.endswith(b"\n") and (more := file.read(1 << 16)):
            head += more
            head = head[: head.find(b"\n") + 1] or head
    file.seek(start)
    return pa.PythonFile(_Joined(head, _Part(file, (upto if upto is not None else file.size()) - start)), mode="r")


class _Part(io.RawIOBase):
    """The first bytes of a file."""

    def __init__(self, file: Any, size: int) -> None:
        self.file, self.left = file, size

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        wanted = self.left if size is None or size < 0 else min(size, self.left)
        found: bytes = self.file.read(wanted)
        self.left -= len(found)
        return found

    def close(self) -> None:
        self.file.close()
        super().close()


def _json(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    """Lines as they are: what they hold is read by whoever knows which fields are wanted."""
    line = 0
    for block in _whole_lines(stream, shown, FIRST if few else BLOCK):
        ends = np.flatnonzero(np.frombuffer(block, dtype=np.uint8) == 10) + 1
        if not len(ends) or ends[-1] != len(block):
            ends = np.append(ends, len(block))
        offsets = np.concatenate(([0], ends)).astype(np.int32)
        texts = pa.StringArray.from_buffers(len(ends), pa.py_buffer(offsets), pa.py_buffer(block))
        _check_text(texts, shown, line)
        numbers = np.arange(line + 1, line + 1 + len(ends))
        line += len(ends)
        short = np.flatnonzero(np.diff(offsets) <= 2)
        if len(short):
            ink = pc.utf8_trim_whitespace(texts.take(pa.array(short)))
            blank = short[pc.equal(pc.binary_length(ink), 0).to_numpy(zero_copy_only=False)]
            keep = np.setdiff1d(np.arange(len(texts)), blank)
            texts, numbers = texts.take(pa.array(keep)), numbers[keep]
        if len(texts):
            yield Rows(pa.table({LINE: texts}), numbers)


def _check_text(texts: pa.Array, shown: str, before: int) -> None:
    try:
        texts.validate(full=True)
    except pa.ArrowInvalid:
        for row in range(len(texts)):
            try:
                texts.slice(row, 1).validate(full=True)
            except pa.ArrowInvalid:
                raise damaged(shown, f"line {before + row + 1} is no text in UTF-8") from None


def _whole_lines(stream: Any, shown: str, size: int, quotes: bool = False) -> Iterator[bytes]:
    """The stream in blocks that end where a line ends; with quotes, where one ends that is not within them."""
    rest = b""
    while True:
        block: bytes = stream.read(size)
        if not block:
            break
        if rest:
            block = rest + block
        cut = block.rfind(b"\n") + 1
        while quotes and cut and _quotes_in(block, cut) % 2:
            cut = block.rfind(b"\n", 0, cut - 1) + 1
        if not cut:
            rest = block
            if len(rest) > LONGEST:
                raise damaged(shown, f"a line is longer than {LONGEST >> 20} MiB")
            continue
        yield block if cut == len(block) else block[:cut]
        rest = block[cut:]
    if rest:
        if quotes and _quotes_in(rest, len(rest)) % 2:
            raise damaged(shown, "a quote is opened and not closed")
        yield rest


def _quotes_in(block: bytes, upto: int) -> int:
    return int(np.count_nonzero(np.frombuffer(block, dtype=np.uint8, count=upto) == ord('"')))


def _csv(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    """Values in the types that are wanted, or as texts. An empty value without quotes is a null."""
    blocks = _whole_lines(stream, shown, FIRST if few else BLOCK, quotes=True)
    head, rest = _header(next(blocks, b""), shown, kind)
    line = 1

    def parsed(block: bytes) -> pa.Table | _Odd:
        try:
            return _csv_block(block, head, kind, wanted)
        except _Odd as odd:
            return odd

    for found in ahead(chain([rest], blocks), parsed):
        if isinstance(found, _Odd):  # only here is it known how many rows came before
            raise damaged(shown, found.told(line))
        if found.num_rows:
            yield Rows(found, np.arange(line + 1, line + 1 + found.num_rows))
            line += found.num_rows


class _Odd(ValueError):
    """A block of CSV that cannot be read: the row that is odd, or what Arrow says."""

    def __init__(self, row: Any, said: str) -> None:
        super().__init__(said)
        self.row = row

    def told(self, line: int) -> str:
        """What is wrong with it, after so many lines."""
        if self.row is None:
            return f"after line {line}: {self}"
        number, found, wanted = line + (self.row.number or 1), self.row.actual_columns, self.row.expected_columns
        return f"line {number} has {found} values, and the header {wanted}: {self.row.text[:200]!r}"


def _csv_block(block: bytes, head: list[str], kind: Kind, wanted: pa.Schema | None) -> pa.Table:
    names = [name for name in head if wanted is None or name in wanted.names]
    texts = dict.fromkeys(head, pa.string())
    kinds = texts | {name: wanted.field(name).type for name in names} if wanted is not None else texts
    try:
        return _parsed(block, head, names, kinds, kind)
    except pa.ArrowInvalid:
        pass  # a value does not fit, or a line has too many: which one it is, is told below
    odd: list[Any] = []

    def refuse(row: Any) -> str:
        odd.append(row)
        return "error"

    try:
        return _parsed(block, head, names, texts, kind, refuse)
    except pa.ArrowInvalid as error:
        raise _Odd(odd[0] if odd else None, str(error).splitlines()[0]) from None


def _parsed(
    block: bytes,
    head: list[str],
    names: list[str],
    kinds: dict[str, pa.DataType],
    kind: Kind,
    refuse: Callable[[Any], str] | None = None,
) -> pa.Table:
    # As one piece: only then may line ends stand within quotes without being searched for.
    whole = pyarrow.csv.ReadOptions(column_names=head, use_threads=False, block_size=max(len(block), 1))
    if not block or block.isspace():
        return pa.schema([(name, kinds[name]) for name in names]).empty_table()
    return pyarrow.csv.read_csv(
        pa.BufferReader(block),
        whole,
        pyarrow.csv.ParseOptions(delimiter=kind.delimiter, invalid_row_handler=refuse),
        pyarrow.csv.ConvertOptions(
            column_types=kinds,
            include_columns=names,
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        ),
    )


def _header(block: bytes, shown: str, kind: Kind) -> tuple[list[str], bytes]:
    """The first line's names, and what follows it."""
    try:
        first = block.split(b"\n", 1)[0].decode("utf-8-sig")
    except UnicodeDecodeError:
        raise damaged(shown, "line 1 is no text in UTF-8") from None
    head = next(csv.reader([first.rstrip("\r")], delimiter=kind.delimiter), [])
    if len(set(head)) != len(head):
        twice = next(name for name in head if head.count(name) > 1)
        raise damaged(shown, f"two columns are named {twice!r}")
    return head, block.partition(b"\n")[2]


class _Joined(io.RawIOBase):
    """Bytes that were read already, and the stream they were read from."""

    def __init__(self, begin: bytes, stream: Any) -> None:
        self.begin, self.stream = begin, stream

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        if self.begin:
            size = len(self.begin) if size is None or size < 0 else size
            found, self.begin = self.begin[:size], self.begin[size:]
            return found
        rest: bytes = self.stream.read(size)
        return rest


def _parquet(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    import pyarrow.parquet as pq

    file = pq.ParquetFile(_seekable(stream, kind))
    names = None if wanted is None else [name for name in file.schema_arrow.names if name in wanted.names]
    line = 0
    for batch in fetched(file.iter_batches(SOME if few else ROWS, columns=names)):
        yield Rows(pa.Table.from_batches([batch]), np.arange(line + 1, line + 1 + batch.num_rows))
        line += batch.num_rows
    if line != file.metadata.num_rows:
        raise damaged(shown, f"it says that it has {file.metadata.num_rows:,} rows, and has {line:,}")


def _seekable(stream: Any, kind: Kind) -> Any:
    return pa.BufferReader(stream.read()) if kind.compression else stream


def _avro(stream: Any, shown: str, kind: Kind, wanted: pa.Schema | None, few: bool) -> Iterator[Rows]:
    try:
        import fastavro
    except ImportError as error:
        raise ConfigError(
            f"{shown} is an Avro file, and fastavro is not installed.", "", "pip install 'plainstep[files]'"
        ) from error
    line = 0
    try:
        reader = fastavro.reader(stream)
        schema = _avro_schema(reader.writer_schema, shown)
        gathered: list[Any] = []
        for record in reader:
            gathered.append(record)
            if len(gathered) == (SOME if few else ROWS):
                yield _avro_rows(gathered, schema, line)
                line += len(gathered)
                gathered = []
        if gathered:
            yield _avro_rows(gathered, schema, line)
    except DataError:
        raise
    except Exception as error:  # fastavro meets damage with errors of every kind
        raise damaged(shown, f"after record {line}: {type(error).__name__}: {str(error)[:200]}") from error


def _avro_rows(records: list[Any], schema: pa.Schema, line: int) -> Rows:
    return Rows(pa.Table.from_pylist(records, schema), np.arange(line + 1, line + 1 + len(records)))


AVRO = {
    "null": pa.null(), "boolean": pa.bool_(), "int": pa.int32(), "long": pa.int64(), "float": pa.float32(),
    "double": pa.float64(), "bytes": pa.binary(), "string": pa.string(), "enum": pa.string(), "fixed": pa.binary(),
}  # fmt: skip
LOGICAL = {
    "date": pa.date32(), "time-millis": pa.time64("us"), "time-micros": pa.time64("us"),
    "timestamp-millis": pa.timestamp("us", "UTC"), "timestamp-micros": pa.timestamp("us", "UTC"),
    "local-timestamp-millis": pa.timestamp("us"), "local-timestamp-micros": pa.timestamp("us"), "uuid": pa.string(),
}  # fmt: skip


def _avro_schema(schema: Any, shown: str) -> pa.Schema:
    if not isinstance(schema, dict) or schema.get("type") != "record":
        raise damaged(shown, "its schema is no record")
    named: dict[str, pa.DataType] = {}
    return pa.schema([(field["name"], _avro_kind(field["type"], named)) for field in schema["fields"]])


def _avro_kind(kind: Any, named: dict[str, pa.DataType]) -> pa.DataType:
    """The Arrow type for an Avro type; a union of null and one other is that other. Types with names may come again."""
    if isinstance(kind, list):
        others = [_avro_kind(one, named) for one in kind if one != "null"]
        return others[0] if len(others) == 1 else pa.string()
    if isinstance(kind, str):
        return AVRO.get(kind) or named.get(kind, pa.string())
    found = _avro_complex(kind, named)
    if "name" in kind:
        named[kind["name"]] = found
    return found


def _avro_complex(kind: Any, named: dict[str, pa.DataType]) -> pa.DataType:
    if kind.get("logicalType") == "decimal":
        return pa.decimal128(kind["precision"], kind.get("scale", 0))
    if kind.get("logicalType") in LOGICAL:
        return LOGICAL[kind["logicalType"]]
    if kind["type"] == "record":
        return pa.struct([(field["name"], _avro_kind(field["type"], named)) for field in kind["fields"]])
    if kind["type"] == "array":
        return pa.list_(_avro_kind(kind["items"], named))
    if kind["type"] == "map":
        return pa.map_(pa.string(), _avro_kind(kind["values"], named))
    return _avro_kind(kind["type"], named)


def columns_of(path: Path, shown: str) -> pa.Schema:
    """The columns of a file, read from its beginning or its end.

    Raises:
        DataError: the file is damaged.
    """
    kind = kind_of(shown)
    if kind.format == "json":
        return pa.schema([(LINE, pa.string())])
    try:
        with opened(path, kind) as stream:
            if kind.format == "csv":
                block = next(_whole_lines(stream, shown, FIRST), b"")
                return pa.schema([(name, pa.string()) for name in _header(block, shown, kind)[0]])
            if kind.format == "parquet":
                import pyarrow.parquet as pq

                return pq.read_schema(_seekable(stream, kind)).remove_metadata()
            return _avro_columns(stream, shown)
    except (pa.ArrowException, OSError, EOFError, ValueError) as error:
        raise damaged(shown, str(error).splitlines()[0] if str(error) else type(error).__name__) from error


def _avro_columns(stream: IO[bytes], shown: str) -> pa.Schema:
    import fastavro

    try:
        return _avro_schema(fastavro.reader(stream).writer_schema, shown)
    except DataError:
        raise
    except Exception as error:  # fastavro meets damage with errors of every kind
        raise damaged(shown, f"{type(error).__name__}: {str(error)[:200]}") from error
