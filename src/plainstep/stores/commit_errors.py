"""Why a commit is not made."""

from __future__ import annotations

from plainstep.errors import Refused, WatermarkMoved
from plainstep.stores.records import Commit


def moved(load: str) -> WatermarkMoved:
    """The error for a watermark that is no longer where it was read."""
    return WatermarkMoved(
        f"Another step of {load} moved its watermark first.",
        "Nothing was written by this one.",
        "The step can be run again.",
    )


def contradicted(commit: Commit) -> Refused:
    """The error for more contradictions than are tolerated."""
    load, count = commit.watermark.load, commit.entry.contradictions
    what = f"{count:,} of the {commit.entry.changes:,} changes of {load} contradict what is there."
    if commit.tolerated == 0:
        return Refused(
            what,
            "A row to insert is there already, or one to update or delete is not; strict = true refuses that.",
            f"plainstep check {load} tells which rows differ; plainstep reload {load} fixes them.",
        )
    return misread(load, what)


def misread(
    load: str,
    what: str,
    why: str = "A row to insert is there already, or one to update or delete is not: codes may be swapped, the key not unique, "
    "or the order wrong.",
) -> Refused:
    """The error for changes that their layout may misread."""
    return Refused(
        what, why, f"plainstep look {load} shows what the layout makes of the rows; strict = false merges them anyway."
    )


def half_a_row(commit: Commit, count: int) -> Refused:
    """The error for parts of rows that the target does not have."""
    return Refused(
        f"{count:,} changes of {commit.watermark.load} carry part of a row that the target does not have.",
        "Partial rows are not inserted.",
        f"plainstep reload {commit.watermark.load}",
    )


def only_journals(place: str) -> Refused:
    """The error for a load of another shape than a journal, into files."""
    return Refused(
        f"{place} is a folder of files, and rows in files are never changed.",
        "Only a journal is appended to.",
        'Set shape = "journal" in the load, or merge into a database.',
    )


def refuse_place(place: str, table: str, own: str) -> None:
    """Refuse a table that is not a folder of its own.

    Raises:
        Refused: it lies outside the store, or where the store keeps its books.
    """
    parts = table.split("/")
    if any(part in ("", ".", "..") for part in parts) or parts[0] == own:
        raise Refused(
            f"{table!r} is not a folder of its own below {place}.",
            "Files would be written elsewhere, or over what belongs to the watermarks.",
            "Name another folder after the store in 'into'.",
        )
