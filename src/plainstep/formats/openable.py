"""What a file is read from: a path, or anything else that can be opened as often as is needed."""

from __future__ import annotations

from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, Literal, Protocol

from plainstep.deferred import pa
from plainstep.errors import Refused

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
    """A file as Arrow's.

    Raises:
        Refused: it may not be read.
    """
    if not isinstance(file, Path):
        return pa.PythonFile(file.open("rb"), mode="r")
    try:
        return pa.OSFile(str(file))
    except PermissionError:
        raise unreadable(file) from None


def unreadable(path: object) -> Refused:
    """The error for what is there, and may not be read."""
    return Refused(
        f"{path} cannot be read: permission denied.",
        "What it holds would be passed over.",
        "Let the user that runs Plain Step read it; or name in 'from' only what that user may read.",
    )
