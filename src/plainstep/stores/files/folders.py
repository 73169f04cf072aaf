"""Where files lie: a folder, or a bucket of object storage; what is there, and how each is opened."""

from __future__ import annotations

import io
import os
import re
import zlib
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path, PurePath
from stat import S_ISLNK, S_ISREG
from typing import IO, Any, Literal, Protocol, cast

from plainstep.errors import Refused
from plainstep.formats.openable import Openable, unreadable
from plainstep.stores.objects import Listed, Objects

# Of a bucket, files up to so many bytes are fetched whole, and kept while they are looked at again and again in one step; and how many
# bytes of them at a time.
SMALL, KEPT = 4 << 20, 128 << 20
# Bytes of larger ones that are fetched at a time.
BLOCK = 1 << 20
# So many are fetched at a time: a bucket takes some 30 ms to begin with each, whatever its size.
AT_ONCE = 16
# Times that a folder is looked at, until it is told twice alike. On ext4, with eight thousand files and 250 more a second, a sixth of
# single looks told of a file and not of one that had landed before it.
TRIES = 4
# What makes a name a pattern.
GLOB = re.compile(r"[*?\[]")
GLOB_PARTS = re.compile(r"(\*\*/|\*\*|\*|\?|\[!?\]?[^\]]*\])")


@dataclass(frozen=True)
class Found:
    """A file that is there.

    Attributes:
        name: its name below the folder, with slashes.
        file: what it is read from.
        size: its bytes.
        changed: when it was last written, in seconds since 1970.
        written: a number that is another one when it was written anew.
        is_link: whether it is a link to a file.
    """

    name: str
    file: Openable
    size: int
    changed: float
    written: int
    is_link: bool = False


class Folder(Protocol):
    """A place with files.

    Attributes:
        shown: where it is, for messages.
    """

    shown: str

    def check(self) -> None:
        """Refuse to read a place that is not there.

        Raises:
            Refused: it is not.
        """
        ...

    def found(self, pattern: str) -> list[Found]:
        """What a file's name, a folder or a glob means, in the order of names."""
        ...

    def file(self, name: str) -> Openable | None:
        """What a file is read from, by its name; None where it is not there."""
        ...

    def leads_out(self, found: Found) -> bool:
        """Whether a file is a link to one that lies elsewhere."""
        ...

    def expect(self, files: Iterable[Openable]) -> None:
        """Be told which files will be read soon."""
        ...

    def look_again(self) -> None:
        """Forget what was there."""
        ...


class _LocalFile(type(Path())):  # type: ignore[misc]
    """A path on this machine. (What is found below one is one, too.)"""

    def open(self, *words: Any, **more: Any) -> Any:
        """Open the file.

        Raises:
            Refused: it may not be read.
        """
        try:
            return super().open(*words, **more)
        except PermissionError:
            raise unreadable(self) from None


def is_kept_out(name: str) -> bool:
    """Whether a file or folder below a store's is one that programs keep for themselves: its name, or a folder's, begins with a dot or ``_``."""
    return any(part.startswith((".", "_")) and part != "." for part in name.split("/"))


class LocalFolder:
    """A folder on this machine.

    Args:
        path: where it is.
    """

    def __init__(self, path: Path) -> None:
        self.path, self.shown = cast("Path", _LocalFile(path)), str(path)

    def check(self) -> None:
        if not self.path.is_dir():
            raise Refused(
                f"There is no folder {self.path}.",
                "Behind file: three slashes begin a path beside plainstep.toml, four an absolute one.",
                "Check the store's url in plainstep.toml.",
            )
        # Of a folder, asked once for all its files.
        top = self.path.resolve()
        self._inside = cache(lambda name: (self.path / name).resolve().is_relative_to(top))

    def found(self, pattern: str) -> list[Found]:
        self._refuse_unreadable(pattern)
        there = self._named(pattern)
        for _ in range(TRIES):
            before, there = there, self._named(pattern)
            if there.keys() == before.keys():
                break
        # What lands all the time: of files that land in the order of their names, those up to the last of before are all there.
        last = max(before, default="")
        names = sorted(name for name in there if name <= last)
        return [found for name in names if (found := _local(name, there[name]))]

    def _named(self, pattern: str) -> dict[str, Path]:
        """What a pattern means, by name.

        Of files that land meanwhile, the system may tell of a later one and not of an earlier one: what was there when it was
        begun is told for certain, and no more.
        """
        place = self.path / pattern
        paths = place.rglob("*") if place.is_dir() else self.path.glob(pattern)
        above = len(str(self.path / "-")) - 1
        return {str(path)[above:]: path for path in paths}

    def _refuse_unreadable(self, pattern: str) -> None:
        """Refuse to look into folders that may not be read: pathlib passes over what is in those."""
        for folder in self._looked_into(pattern):
            may = os.access(folder, os.R_OK | os.X_OK)
            if not may and folder.is_dir() and not is_kept_out(str(folder.relative_to(self.path))):
                raise unreadable(folder)

    def _looked_into(self, pattern: str) -> Iterator[Path]:
        """The folders in which a pattern means files, the upper ones first."""
        for above in reversed(PurePath(pattern).parents):
            yield from [self.path] if above == PurePath() else self.path.glob(str(above))
        if (self.path / pattern).is_dir():
            yield from (self.path / pattern).glob("**")

    def file(self, name: str) -> Openable | None:
        path = self.path / name
        return path if path.exists() else None

    def leads_out(self, found: Found) -> bool:
        return not self._inside(found.name if found.is_link else found.name.rpartition("/")[0])

    def expect(self, files: Iterable[Openable]) -> None:
        """Nothing: the system keeps what was read."""

    def look_again(self) -> None:
        """Nothing: it is looked at each time."""


def _local(name: str, path: Path) -> Found | None:
    """A file as it is there; None for what is none, or is gone. (The system is asked once for each: there may be many thousands.)"""
    try:
        stat = path.lstat()
        is_link = S_ISLNK(stat.st_mode)
        stat = path.stat() if is_link else stat
    except OSError:
        return None
    if not S_ISREG(stat.st_mode):
        return None
    return Found(name, path, stat.st_size, stat.st_mtime, stat.st_mtime_ns, is_link)


class Kept:
    """Small files that were fetched lately: so many bytes of them as one store may take."""

    def __init__(self) -> None:
        self._files: OrderedDict[tuple[str, int], bytes] = OrderedDict()
        self._bytes = 0

    def __contains__(self, key: tuple[str, int]) -> bool:
        return key in self._files

    def get(self, key: tuple[str, int]) -> bytes | None:
        """A file; None if it is not kept."""
        found = self._files.get(key)
        if found is not None:
            self._files.move_to_end(key)
        return found

    def keep(self, key: tuple[str, int], data: bytes) -> None:
        """Keep a file, and let go of those that were not wanted longest."""
        if key not in self._files:
            self._files[key] = data
            self._bytes += len(data)
        while self._bytes > KEPT and len(self._files) > 1:
            self._bytes -= len(self._files.popitem(last=False)[1])


class Bucket:
    """What stands below a URL of object storage.

    Args:
        objects: it.
        kept: what was fetched of it lately, by whichever feed.
    """

    def __init__(self, objects: Objects, kept: Kept) -> None:
        self.objects, self.shown, self.kept = objects, objects.where, kept
        self._listed: dict[str, list[Found]] = {}

    def check(self) -> None:
        """Nothing: a bucket without files of some name is no other than one that never had any."""

    def found(self, pattern: str) -> list[Found]:
        if pattern not in self._listed:  # to list costs a request for each thousand files
            self._listed[pattern] = self._found(pattern)
        return self._listed[pattern]

    def look_again(self) -> None:
        self._listed.clear()

    def _found(self, pattern: str) -> list[Found]:
        if not (magic := GLOB.search(pattern)):
            one = self._stored(pattern.strip("/"))
            return (
                [_found(one)] if one else [_found(self._of(about)) for about in self.objects.names(pattern.strip("/"))]
            )
        fits = _pattern(pattern)
        listed = self.objects.names(pattern[: magic.start()].rpartition("/")[0])
        return [_found(self._of(about)) for about in listed if fits.fullmatch(about.name)]

    def file(self, name: str) -> Openable | None:
        return self._stored(name)

    def _stored(self, name: str) -> Stored | None:
        try:
            return self._of(self.objects.about(name)) if name else None
        except FileNotFoundError:
            return None

    def _of(self, about: Listed) -> Stored:
        changed = about.changed.timestamp()
        # Times are in whole seconds at some services: of two writings in one, the tag tells.
        written = int(changed * 1000) * 1_000_000 + zlib.crc32(about.tag.encode()) % 1_000_000
        return Stored(self, about.name, about.size, changed, written)

    def leads_out(self, found: Found) -> bool:
        """No: there are no links."""
        return False

    def expect(self, files: Iterable[Openable]) -> None:
        wanted, left = list[Stored](), KEPT // 2
        for one in files:
            if isinstance(one, Stored) and one.size <= SMALL and one.key not in self.kept:
                left -= one.size
                if left < 0:
                    break
                wanted.append(one)
        if len(wanted) > 1:
            with ThreadPoolExecutor(AT_ONCE) as pool:
                for stored, data in zip(wanted, pool.map(lambda one: self.objects.read(one.path), wanted), strict=True):
                    self.kept.keep(stored.key, data)

    def whole(self, stored: Stored) -> bytes:
        """A small file."""
        found = self.kept.get(stored.key)
        if found is None:
            found = self.objects.read(stored.path)
            self.kept.keep(stored.key, found)
        return found


@dataclass(frozen=True)
class Stored:
    """A file in a bucket.

    Attributes:
        bucket: where it is.
        path: its name there.
        size: its bytes.
        changed: when it was last written, in seconds since 1970.
        written: which writing of it.
    """

    bucket: Bucket
    path: str
    size: int
    changed: float
    written: int

    @property
    def name(self) -> str:
        """Its last name."""
        return self.path.rpartition("/")[2]

    @property
    def key(self) -> tuple[str, int]:
        """What tells it from another one, and from itself written anew."""
        return self.path, self.written

    def open(self, mode: Literal["rb"] = "rb") -> IO[bytes] | io.BufferedReader:
        """What is in it."""
        if self.size <= SMALL:
            return io.BytesIO(self.bucket.whole(self))
        return io.BufferedReader(self.bucket.objects.open(self.path), BLOCK)


def _found(stored: Stored) -> Found:
    return Found(stored.path, stored, stored.size, stored.changed, stored.written)


def _pattern(glob: str) -> re.Pattern[str]:
    """A glob as paths know it: ``*`` within a name, ``**`` for folders, however many."""
    parts = GLOB_PARTS.split(glob)
    found = {"**/": "(?:[^/]+/)*", "**": ".*", "*": "[^/]*", "?": "[^/]"}
    return re.compile(
        "".join(
            found.get(part) or (_choice(part) if place % 2 else re.escape(part)) for place, part in enumerate(parts)
        )
    )


def _choice(letters: str) -> str:
    """One letter of several, or none of them."""
    inner = re.sub(r"([\\\[&~|])", r"\\\1", letters[1:-1])
    return f"[^/{inner[1:]}]" if inner.startswith("!") else f"[{inner}]"
