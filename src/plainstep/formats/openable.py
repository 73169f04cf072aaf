"""What a file is read from: a path, or anything else that can be opened as often as is needed."""

from __future__ import annotations

from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, Literal, Protocol

from plainstep.deferred import pa

if TYPE_CHECKING:
    from io import BufferedReader


class Openable(Protocol):
    """Something that can be opened and read, as a path can."""

    @property
    def name(self) -> str:
        """Its last name."""
        ...

    def open(self, mode: Literal["rb"]) -> IO[bytes] | BufferedReader:
        """What is in it, from its begin on; one can seek in it."""
        ...


def arrow_file(file: Openable) -> Any:
    """A file as Arrow's."""
    return pa.OSFile(str(file)) if isinstance(file, Path) else pa.PythonFile(file.open("rb"), mode="r")
