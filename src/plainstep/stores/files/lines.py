"""What all formats have in common: what a name says, rows with their lines, and text in blocks of whole lines."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from plainstep.errors import DataError

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


def damaged(shown: str, why: str) -> DataError:
    """The error for a file that cannot be read."""
    return DataError(
        f"{shown} cannot be read: {why}.",
        "It is damaged, cut off, or not what its name says. Nothing of it was merged.",
        "Mend or remove it, and run the command again.",
    )


def whole_lines(stream: Any, shown: str, size: int, quotes: bool = False) -> Iterator[bytes]:
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
