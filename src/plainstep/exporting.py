"""Changes as files: CSV, JSON Lines or Parquet, written batch by batch."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from plainstep.errors import ConfigError, StoreError

if TYPE_CHECKING:
    import pyarrow as pa

FORMATS = ("csv", "jsonl", "parquet")
Write = Callable[["pa.Table"], None]


@contextmanager
def new_file(path: Path) -> Iterator[IO[bytes]]:
    """A new file, which gets its name when all is in it.

    Raises:
        StoreError: it cannot be written.
    """
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    try:
        with part.open("wb") as out:
            yield out
        part.replace(path)
    except OSError as error:
        raise StoreError(f"{path} cannot be written: {error.strerror or error}.") from error
    finally:
        part.unlink(missing_ok=True)


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
    import pyarrow as pa

    if form == "jsonl":

        def write(table: pa.Table) -> None:
            out.write(b"".join(_lines(table)))

        yield write
        return
    if form == "csv":
        from pyarrow.csv import CSVWriter

        with CSVWriter(pa.PythonFile(out, "w"), _of_texts(schema)) as csv:
            yield lambda table: csv.write_table(_in_texts(table))
        return
    if form != "parquet":
        raise ConfigError(f"There is no format {form!r}.", f"Known: {', '.join(FORMATS)}.")
    from pyarrow.parquet import ParquetWriter

    with ParquetWriter(pa.PythonFile(out, "w"), schema) as parquet:
        yield parquet.write_table


def _lines(table: pa.Table) -> Iterator[bytes]:
    from plainstep.core.jsonable import finite, plain

    for row in table.to_pylist():
        told: dict[str, Any] = {name: finite(value) for name, value in row.items()}
        yield json.dumps(told, default=plain, ensure_ascii=False).encode() + b"\n"


def _of_texts(schema: pa.Schema) -> pa.Schema:
    """The columns, with lists and bytes as texts: CSV has neither."""
    import pyarrow as pa

    return pa.schema([pa.field(one.name, pa.string() if _odd(one.type) else one.type) for one in schema])


def _odd(kind: pa.DataType) -> bool:
    import pyarrow as pa

    return bool(pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_large_binary(kind))


def _in_texts(table: pa.Table) -> pa.Table:
    import pyarrow as pa

    from plainstep.core.jsonable import plain

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
