"""Changes as files: CSV, JSON Lines or Parquet, written batch by batch."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from hashlib import sha256
from pathlib import Path
from secrets import token_hex
from typing import IO
from urllib.parse import quote

from plainstep.core.arrays import flat
from plainstep.core.json_values import finite, plain
from plainstep.deferred import np, pa, pacsv, pq
from plainstep.errors import ConfigError, StoreError
from plainstep.formats import FORMATS

# Letters of a name: with what stands before and after, file systems allow 255.
LONGEST_NAME = 150
Write = Callable[["pa.Table"], None]


@contextmanager
def new_file(path: Path) -> Iterator[IO[bytes]]:
    """A new file, which gets its name when all is in it. What is there and no file, such as a pipe, is written to as it is.

    Raises:
        StoreError: it cannot be written.
    """
    part = path.with_name(f".{token_hex(8)}.part")  # a name that nobody can have put a link at
    try:
        if path.exists() and not path.is_file():
            with path.open("wb") as out:
                yield out
            return
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o666), "wb") as out:
            yield out
        part.replace(path)
    except OSError as error:
        raise StoreError(f"{path} cannot be written: {error.strerror or error}.") from error
    finally:
        part.unlink(missing_ok=True)


def file_name(name: str) -> str:
    """A name as a part of a path: of one folder, and no longer than file systems allow."""
    found = quote(name, safe=" ")
    found = "%2E" + found[1:] if found.startswith(".") else found
    return found if len(found) <= LONGEST_NAME else f"{found[:LONGEST_NAME]}-{sha256(name.encode()).hexdigest()[:16]}"


def file_or(path: Path | None, stream: IO[bytes]) -> AbstractContextManager[IO[bytes]]:
    """A new file; without a path, the stream."""
    return nullcontext(stream) if path is None else new_file(path)


@contextmanager
def writer(form: str, out: IO[bytes], schema: pa.Schema) -> Iterator[Write]:
    """Something that writes tables of one schema in a format.

    Args:
        form: ``csv``, ``jsonl`` or ``parquet``.
        out: where to.
        schema: the columns of every table.

    Raises:
        ConfigError: there is no such format.
    """
    if form == "jsonl":

        def write(table: pa.Table) -> None:
            out.write(b"".join(_lines(table)))

        yield write
        return
    if form == "csv":
        with pacsv.CSVWriter(pa.PythonFile(out, "w"), _of_texts(schema)) as csv:
            yield lambda table: csv.write_table(_in_texts(table))
        return
    if form != "parquet":
        raise ConfigError(f"There is no format {form!r}.", f"Known: {', '.join(FORMATS)}.")

    with pq.ParquetWriter(pa.PythonFile(out, "w"), schema) as parquet:
        yield parquet.write_table


def _lines(table: pa.Table) -> Iterator[bytes]:
    """Rows as JSON, a line each. Values are made texts a column at a time, and each different one once."""
    names = [json.dumps(name, ensure_ascii=False).replace("%", "%%") for name in table.column_names]
    line = "{" + ", ".join(f"{name}: %s" for name in names) + "}\n"
    for row in zip(*map(_json_texts, table.columns), strict=True):
        yield (line % row).encode()


def _json_texts(column: pa.ChunkedArray) -> list[str]:
    """Each value as JSON."""

    encode = json.JSONEncoder(default=plain, ensure_ascii=False).encode
    values = flat(column)
    if pa.types.is_nested(values.type) or pa.types.is_null(values.type):
        return [encode(value) for value in values.to_pylist()]
    known = values.dictionary_encode()
    texts = [encode(finite(value)) for value in known.dictionary.to_pylist()]
    places = known.indices.fill_null(len(texts)).to_numpy(zero_copy_only=False)
    found: list[str] = np.array([*texts, "null"], dtype=object)[places].tolist()
    return found


def _of_texts(schema: pa.Schema) -> pa.Schema:
    """The columns, with lists and bytes as texts: CSV has neither."""
    return pa.schema([pa.field(one.name, pa.string() if _odd(one.type) else one.type) for one in schema])


def _odd(kind: pa.DataType) -> bool:
    return bool(pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_large_binary(kind))


def _in_texts(table: pa.Table) -> pa.Table:

    columns = []
    for column in table.columns:
        if _odd(column.type):
            texts = [
                None if value is None else " ".join(map(str, value)) if isinstance(value, list) else plain(value)
                for value in column.to_pylist()
            ]
            columns.append(pa.array(texts, pa.string()))
        else:
            columns.append(column)
    return pa.table(columns, schema=_of_texts(table.schema))
