"""What all formats have in common: what a name says, rows with their lines, and text in blocks of whole lines."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from plainstep.deferred import np, pa
from plainstep.errors import DataError

# Bytes of text that are made into rows at a time: so many that the work is Arrow's and not Python's.
BLOCK = 1 << 23
# Of a file, so many bytes are read at first, and so many times as many while there are more: what is read of many small ones may be held at
# a time, and a whole block for each would be gigabytes.
SMALL, LARGER = 1 << 16, 16
# No line is longer, where nothing else is said: a file that seems to have one is none of lines.
LONGEST = 1 << 26
ROWS = 1 << 17
# The same where only some first rows are wanted.
FIRST, SOME = 1 << 18, 1 << 10
# Bytes in which the end of a line is looked for first.
NEAR = 1 << 16

COMPRESSED = {".gz": "gzip", ".bz2": "bz2", ".zst": "zstd", ".lz4": "lz4"}
FORMATS = {
    ".jsonl": "json", ".ndjson": "json", ".json": "json", ".csv": "csv", ".tsv": "csv", ".parquet": "parquet",
    ".avro": "avro",
}  # fmt: skip


@dataclass(frozen=True)
class Form:
    """What a layout says of files, beside their names.

    Attributes:
        longest: how many bytes a row may have.
        separator: between the values of a CSV line; empty where the name says it.
        names: the columns of CSV files that have no header; none where they have one.
        nulls: the words that stand for null in CSV files, where they are not in quotes.
        charset: how CSV files are written, where not in UTF-8.
        is_csv: whether files are CSV whose names do not say what they are.
    """

    longest: int = LONGEST
    separator: str = ""
    names: tuple[str, ...] = ()
    nulls: tuple[str, ...] = ("",)
    charset: str = ""
    is_csv: bool = False


# Files as their names say.
USUAL = Form()


@dataclass(frozen=True)
class Kind:
    """What a file is, by its name and by what a layout says.

    Attributes:
        format: ``json``, ``csv``, ``parquet`` or ``avro``; empty where the name does not say.
        compression: as Arrow names it, or empty.
        delimiter: between the values of a CSV line.
        form: what the layout says of such files.
    """

    format: str
    compression: str
    delimiter: str = ","
    form: Form = USUAL

    @property
    def longest(self) -> int:
        """How many bytes a row may have."""
        return self.form.longest

    @property
    def grows(self) -> bool:
        """Whether lines may be added to such a file."""
        return self.format in ("json", "csv") and not self.compression


def kind_of(name: str, form: Form = USUAL) -> Kind:
    """What a file is, by its name and by what a layout says."""
    return _kind_of(name.rpartition("/")[2].lstrip(".").partition(".")[2], form)


@lru_cache(maxsize=256)
def _kind_of(suffix: str, form: Form) -> Kind:
    suffixes = [f".{part.lower()}" for part in suffix.split(".")]
    compression = COMPRESSED.get(suffixes[-1], "")
    last = (suffixes[:-1] if compression else suffixes)[-1:]
    found = (FORMATS.get(last[0], "") if last else "") or ("csv" if form.is_csv else "")
    return Kind(found, compression, form.separator or ("\t" if last == [".tsv"] else ","), form)


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
        "Fix or remove it, and run the command again.",
    )


def too_long(shown: str, what: str, longest: int) -> DataError:
    """The error for a row that is larger than it may be."""
    size = f"{longest >> 20} MiB" if longest >= 1 << 20 else f"{longest:,} bytes"
    return DataError(
        f"{shown} cannot be read: {what} is longer than {size}.",
        "It would be held in memory several times over. Nothing of it was merged.",
        "If it is what it should be, set max_row in the load's layout.",
    )


@contextmanager
def read_safely(shown: str) -> Iterator[None]:
    """Whatever a library meets in a damaged file is told as one error."""
    try:
        yield
    except FileNotFoundError:
        raise
    except (pa.ArrowException, OSError, EOFError, ValueError, MemoryError, RecursionError) as error:
        raise damaged(shown, str(error).splitlines()[0] if str(error) else type(error).__name__) from error


def whole_lines(stream: Any, shown: str, size: int, longest: int = LONGEST) -> Iterator[memoryview]:
    """The stream in blocks that end where a line ends.

    Raises:
        DataError: a line is longer than it may be.
    """
    rest = memoryview(b"")
    room = min(size, SMALL)
    while True:
        more = max(room, len(rest))  # a long line is not copied again for every piece of it
        block = np.empty(len(rest) + more, dtype=np.uint8).data  # not zeroed: that alone would cost a tenth
        block[: len(rest)] = rest
        found = stream.readinto(block[len(rest) :])
        if not found:
            break
        block = block[: len(rest) + found]
        cut = _last_line_end(block)
        if not cut and len(block) > longest:
            raise too_long(shown, "a line", longest)
        if found == more and room < size:  # it is no small file
            room, rest = min(size, room * LARGER), block
            continue
        rest = block[cut:]
        if cut:
            yield block[:cut]
    if len(rest):
        yield rest


def is_blank(block: memoryview | bytes) -> bool:
    """Whether a block holds nothing but blanks: mostly, its first letter tells that it does not."""
    return not bytes(block[:NEAR]).strip() and not bytes(block).strip()


def _last_line_end(block: memoryview) -> int:
    """Where the last whole line ends: mostly, near the end."""
    for start in (max(len(block) - NEAR, 0), 0):
        cut = bytes(block[start:]).rfind(b"\n") + 1
        if cut:
            return start + cut
    return 0


def first_line(block: memoryview) -> bytes:
    """The first line, with its end."""
    near = bytes(block[:NEAR])
    return (near if b"\n" in near else bytes(block)).partition(b"\n")[0] + b"\n"
