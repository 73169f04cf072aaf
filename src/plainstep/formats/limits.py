"""How much a file may make of a few bytes: who drops files into a folder decides what is in them.

Memory and time to read a file stay within what its size, and these numbers, allow. What is beyond is refused with the file's name.
"""

from __future__ import annotations

import io
from typing import Any

from plainstep.errors import DataError
from plainstep.formats.lines import damaged

# No table has so many columns, and Arrow and DuckDB need seconds for each thousand more.
COLUMNS = 4096
# What a packed file may be unpacked to, whatever it was packed from; and how many times its own size beyond that. (Logs of much
# the same lines pack 20 to 1, seldom 100 to 1; blanks and zeros 1,000 to 1.)
UNPACKED, RATIO = 1 << 29, 100


def refuse_columns(count: int, shown: str) -> None:
    """Refuse more columns than a table has.

    Raises:
        DataError: there are more.
    """
    if count > COLUMNS:
        raise damaged(shown, f"it has {count:,} columns, and no more than {COLUMNS:,} are read")


def refuse_unpacked(size: int, packed: int, shown: str) -> None:
    """Refuse a file that becomes far more than it is.

    Raises:
        DataError: it does.
    """
    if size > max(UNPACKED, packed * RATIO):
        raise DataError(
            f"{shown} cannot be read: its {packed:,} bytes unpack to more than {size >> 20:,} MiB.",
            f"More than {UNPACKED >> 20} MiB, and than {RATIO} times its size, is read of no packed file. Nothing of it was merged.",
            "If it is what it should be, split it, or store it unpacked.",
        )


class Bounded(io.RawIOBase):
    """A stream that is unpacked, and refused once it has become far more than its file is.

    Args:
        stream: what is unpacked.
        packed: the size of the file.
        shown: its name.
    """

    def __init__(self, stream: Any, packed: int, shown: str) -> None:
        self.stream, self.packed, self.shown = stream, packed, shown
        self.size = 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        into = memoryview(buffer)
        data = self.stream.read(len(into))
        into[: len(data)] = data
        self.size += len(data)
        refuse_unpacked(self.size, self.packed, self.shown)
        return len(data)

    def close(self) -> None:
        self.stream.close()
        super().close()
