"""Store URLs of embedded databases: ``scheme:///relative/path`` or ``scheme:////absolute/path``."""

from __future__ import annotations

import os
from collections.abc import Container
from contextlib import suppress
from pathlib import Path
from urllib.parse import SplitResult, unquote, urlsplit

from plainstep.errors import ConfigError, StoreError
from plainstep.redaction import shown_url


def parts_of(url: str) -> SplitResult:
    """The parts of a URL.

    Raises:
        ConfigError: it is none.
    """
    try:
        return urlsplit(url)
    except ValueError:  # brackets where none may stand
        raise ConfigError(f"{shown_url(url)!r} is not a valid URL.", "", "Write [ as %5B and ] as %5D.") from None


def file_of(url: str, base: Path) -> Path:
    """The file an embedded store's URL names.

    Args:
        url: such as ``sqlite:///town.db`` (relative to ``base``) or ``sqlite:////var/town.db``.
        base: the folder that relative paths start from.

    Raises:
        ConfigError: the URL names no file.
    """
    parts = parts_of(url)
    path = unquote(parts.path)
    if parts.query or parts.fragment:
        raise ConfigError(
            f"The URL {shown_url(url)!r} has something after its path.",
            "An embedded store takes no settings, and ? or # in the name of a file is written as %3F or %23.",
        )
    if parts.netloc or not path.startswith("/") or path == "/":
        scheme = parts.scheme
        raise ConfigError(
            f"The URL {shown_url(url)!r} names no file.",
            "An embedded store's URL has three slashes before a relative path, four before an absolute one.",
            f"Write {scheme}:///town.db or {scheme}:////data/town.db.",
        )
    return base / path[1:]


def holders(path: Path) -> str:
    """Who else has a file open, as far as this machine tells (Linux only)."""
    try:
        wanted = path.stat()
        others = [entry.name for entry in Path("/proc").iterdir() if entry.name.isdigit()]
    except OSError:
        return ""
    found = [pid for pid in others if int(pid) != os.getpid() and _is_open(f"/proc/{pid}/fd", wanted)]
    return ", ".join(f"{_command(pid)} (process {pid})" for pid in sorted(found, key=int)[:4])


def is_open_here(path: Path, but: Container[int] = ()) -> bool:
    """Whether this process has a file open, other than by some descriptors."""
    try:
        return _is_open("/dev/fd", path.stat(), but)
    except OSError:  # there is no such file
        return False


def _is_open(descriptors: str, wanted: os.stat_result, but: Container[int] = ()) -> bool:
    with (
        suppress(OSError),
        os.scandir(descriptors) as entries,
    ):  # the system does not tell, or not of another user's process
        for entry in entries:
            with suppress(OSError):  # closed by now
                if os.path.samestat(entry.stat(), wanted) and int(entry.name) not in but:
                    return True
    return False


def _command(pid: str) -> str:
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip()
    except OSError:
        return "a process"


def locked(path: Path, seconds: float) -> StoreError:
    """The error for a file that stayed locked."""
    who = holders(path)
    return StoreError(
        f"{path} stayed locked by another connection for {seconds:g} seconds.",
        f"It is also open in: {who}." if who else "Another program, or this one, holds it in a transaction.",
        "Let it finish or end it, and run the command again. Nothing was written.",
    )
