"""Why a load cannot go on from where it stands in a folder of files."""

from __future__ import annotations

from collections.abc import Callable

from plainstep.errors import ChangesGone, Refused


def all_again(load: str, is_whole: bool, reload: Callable[[bool], str]) -> str:
    """How all files are merged again, in order."""
    if is_whole:
        return reload(True)
    return f"Bring back the files that are gone, then plainstep reload {load}. Without them: {reload(False)}"


def parted(load: str, name: str, reload: str) -> Refused:
    """A file is gone of which a part was merged only."""
    return ChangesGone(
        f"{name} is gone, and {load} had merged a part of it only.",
        "Its other rows would be missing, or those that are merged be read again under its new name.",
        f"Bring it back under this name; or {reload}",
    )


def changed(load: str, name: str, reload: str) -> Refused:
    """A file is not as it was when it was merged."""
    return Refused(
        f"{name} was changed after {load} had merged it.", "What was merged from it cannot be undone.", reload
    )


def late(load: str, name: str, begin: str, label: str, reload: str) -> Refused:
    """A file came late: it begins before the watermark."""
    return Refused(
        f"{name} came late: it begins at {begin}, and {load} is merged up to {label}.",
        "Merged now, older values would replace newer ones.",
        f"{reload} (An overlap in the load would read late files again.)",
    )


def gone(place: str, file: str) -> Refused:
    """The error for a file that is gone since it was looked at."""
    return Refused(
        f"{file} of {place} was removed while it was read.",
        "Rows of it that are not merged yet would be missed. Nothing was merged.",
        "Run the command again: it goes on with the files that are there. Bring the file back first, if its rows are wanted.",
    )
