"""Which files a feed is made of, which of them are finished, and which were merged already."""

from __future__ import annotations

import base64
import json
import time
import zlib
from collections import Counter
from collections.abc import Collection
from contextlib import ExitStack, suppress
from dataclasses import dataclass, field
from functools import lru_cache
from hashlib import blake2b
from pathlib import PurePath

from plainstep.copying import replace
from plainstep.deferred import np, pa, pc
from plainstep.errors import ConfigError, DataError, Refused
from plainstep.formats.lines import USUAL, Form, Kind, Rows, damaged, kind_of
from plainstep.formats.openable import Openable
from plainstep.formats.reader import columns_of, read, rows_told
from plainstep.stores.files.folders import Folder, Found, is_kept_out

# Names that programs give to what they have not finished, or keep for themselves.
UNFINISHED = (".tmp", ".part", ".partial", ".crdownload", ".swp")
# Bytes at the begin and at the end of what was merged of a file, by which it is known again.
KNOWN_BY = 1 << 16
# Files of no more bytes are known by all of them: at most some 10 ms each, beside seconds for parsing them.
WHOLE = 16 << 20
# What a list of files begins with that is written in base64. (Earlier releases wrote base85, which does not hold this character: it
# is a fifteenth shorter, and took 50 ms a step of a thousand files.)
BASE64 = ":"
# So many files that are gone are remembered, in case they come again.
REMEMBERED = 10_000
# So many files are looked at to see whether a new one is the begin of one of them; and so many bytes of each, which tell most apart.
CANDIDATES, OPENING = 100, 1024


@dataclass(frozen=True)
class File:
    """A file of a feed.

    Attributes:
        name: its name below the folder, with slashes.
        source: what it is read from.
        kind: what its name says of it.
        size: how many bytes of it can be read: up to the end of its last finished line.
        unfinished: why the rest must wait, or empty.
        changed: a number that is another one when it was written anew.
    """

    name: str
    source: Openable
    kind: Kind
    size: int
    unfinished: str = ""
    changed: int = 0


@dataclass
class Listing:
    """What is there.

    Attributes:
        files: the files that can be read, in the order of their names.
        ignored: names of files that belong to no feed.
        waiting: the file that is not finished, and why, if there is one. It and those after it wait.
    """

    files: list[File] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)
    waiting: str = ""


def _meant(folder: Folder, pattern: str) -> list[Found]:
    """The files that a pattern means; without those that are not finished."""
    return [
        found
        for found in folder.found(pattern)
        if not is_kept_out(found.name) and not found.name.lower().endswith(UNFINISHED)
    ]


def names_of(folder: Folder, pattern: str, form: Form = USUAL) -> list[str]:
    """The names of the files of a feed, whether they are finished or not."""
    return [found.name for found in _meant(folder, pattern) if kind_of(found.file.name, form).format]


def listed(
    folder: Folder,
    pattern: str,
    settled: float,
    follow_links: bool = False,
    form: Form = USUAL,
    within: str | None = None,
) -> Listing:
    """Look at the files of a feed.

    Args:
        folder: where the store is.
        pattern: a file, a folder, or a glob below it.
        settled: for how many seconds a file must have been left alone to be taken as it is.
        follow_links: whether links may lead out of the folder.
        form: what the layout says of them.
        within: the folder in which they lie, if only those of one are meant.

    Raises:
        ConfigError: the pattern leads out of the folder.
        Refused: there is no such folder, or a link leads out of it.
        DataError: a file that is left alone ends in the middle.
    """
    folder.check()
    if PurePath(pattern).is_absolute() or ".." in PurePath(pattern).parts:
        raise ConfigError(
            f"{pattern!r} does not lie below {folder.shown}.",
            "",
            "Name a file, a folder or a glob below the store's own.",
        )
    listing = Listing()
    for found in _meant(folder, pattern):
        if within is not None and found.name.rpartition("/")[0] != within:
            continue
        if not follow_links and folder.leads_out(found):
            raise _link_out(found.name, folder.shown)
        kind = kind_of(found.file.name, form)
        if not kind.format:
            listing.ignored.append(found.name)
            continue
        try:
            file = _looked_at(found, kind, settled)
        except FileNotFoundError:  # taken away meanwhile
            continue
        if file.size:
            listing.files.append(file)
        if file.unfinished:
            listing.waiting = f"{file.name} {file.unfinished}"
            break  # what comes after it comes after its rest, too
    return listing


def _link_out(name: str, folder: str) -> Refused:
    return Refused(
        f"{name} is a link that leads out of {folder}.",
        "Whoever puts files there could have any file read that you may read.",
        "Put the file itself there; or set follow_links = true in the load's layout.",
    )


def _looked_at(found: Found, kind: Kind, settled: float) -> File:
    old = time.time() - found.changed >= settled
    whole = File(found.name, found.file, kind, found.size, "", found.written)
    if not found.size or old:
        return whole
    if kind.grows:
        size = _finished_lines(found.file, found.size)
        return (
            replace(whole, size=size, unfinished="ends in a line that is not finished yet")
            if size < found.size
            else whole
        )
    if not _readable(found, kind):
        return replace(whole, size=0, unfinished="is not finished yet")
    return whole


def _finished_lines(file: Openable, size: int) -> int:
    """Where the last line of a file that has an end ends."""
    with file.open("rb") as stream:
        back = size
        while back:
            step = min(KNOWN_BY, back)
            stream.seek(back - step)
            found = stream.read(step).rfind(b"\n")
            if found >= 0:
                return back - step + found + 1
            back -= step
    return 0


@lru_cache(maxsize=1024)
def _readable(found: Found, kind: Kind) -> bool:
    """Whether a file that cannot be read in part can be read whole; as it is now, it need not be asked twice."""
    try:
        if kind.format == "parquet" and not kind.compression:
            columns_of(found.file, found.name)
        else:
            for _ in read(found.file, found.name, None, kind=kind):
                pass
    except DataError:
        return False
    return True


# In place of its lines, what a file is remembered with that is a copy of another.
COPY = -1


@dataclass(frozen=True)
class Seen:
    """What was seen of a file when it was merged.

    Attributes:
        size: how many bytes.
        head, tail: fingerprints of their begin and end.
        lines: how many lines, where lines may be added.
        done: whether all of it was merged, so that it need not be looked at again.
        changed: when it was last written, in nanoseconds; 0 where that is not known.
        rows: how many rows it holds, where that is known without reading it; else 0.
        first, last: its first and last position, where rows hold positions.
        content: a sum of all of it, unless it is large, or was merged by an earlier release.
    """

    size: int
    head: str
    tail: str
    lines: int = 0
    done: bool = True
    changed: int = field(default=0, compare=False)
    rows: int = field(default=0, compare=False)
    first: str = field(default="", compare=False)
    last: str = field(default="", compare=False)
    content: str = field(default="", compare=False)


def fingerprint(file: Openable, size: int, name: str) -> tuple[str, str]:
    """By what a file, up to a size, is known again.

    Raises:
        DataError: it has become shorter.
    """
    with file.open("rb") as stream:
        head = stream.read(min(size, KNOWN_BY))
        stream.seek(max(0, size - KNOWN_BY))
        tail = stream.read(min(size, KNOWN_BY))
    if len(tail) < min(size, KNOWN_BY):
        raise damaged(name, "it became shorter while it was read")
    return blake2b(head, digest_size=8).hexdigest(), blake2b(tail, digest_size=8).hexdigest()


def content(file: Openable, size: int) -> str:
    """A sum of all of a file, up to a size; of a large one, none."""
    if not 2 * KNOWN_BY < size <= WHOLE:  # of a small one, begin and end are all
        return ""
    with file.open("rb") as stream:
        return f"{zlib.crc32(stream.read(size)):08x}"  # four times as fast as the fastest digest


def is_as_it_was(file: File, known: Seen) -> bool:
    """Whether what was merged of a file stands there as it did."""
    if file.size < known.size or fingerprint(file.source, known.size, file.name) != (known.head, known.tail):
        return False
    return not known.content or content(file.source, known.size) == known.content


def packed(label: str, seen: dict[str, Seen]) -> str:
    """A position with all that must be known to go on from it, as one text."""
    plain = {name: [*vars(one).values()] for name, one in seen.items()}
    squeezed = zlib.compress(json.dumps(plain, separators=(",", ":")).encode(), 6)
    return f"{label}\t{BASE64}{base64.b64encode(squeezed).decode()}"


def unpacked(token: str) -> tuple[str, dict[str, Seen]]:
    """A position out of such a text, and the files that were merged."""
    label, tab, rest = token.partition("\t")
    if not tab:
        return label, {}
    squeezed = base64.b64decode(rest[1:]) if rest.startswith(BASE64) else base64.b85decode(rest)
    plain = json.loads(zlib.decompress(squeezed))
    return label, {
        name: Seen(size, head, tail, lines, bool(done), *more)  # earlier releases kept less
        for name, (size, head, tail, lines, done, *more) in plain.items()
    }


def remembered(before: dict[str, Seen], now: dict[str, Seen], there: Collection[str]) -> dict[str, Seen]:
    """What is known of files: of all that are there, and of the newest that are gone.

    Args:
        before: what was known.
        now: what is known of those that are new.
        there: the names of all that are there.
    """
    gone = [name for name in before if name not in now and name not in there]
    forgotten = {*gone[:-REMEMBERED]}
    return {name: one for name, one in before.items() if name not in forgotten} | now


def rows_in(file: File) -> int:
    """How many rows a file holds, where that can be told without reading it as rows; else 0."""
    if file.kind.compression or file.kind.format not in ("json", "csv", "parquet"):
        return 0
    if file.kind.format == "parquet":
        return rows_told(file.source, file.name)
    return lines_in(file) - (file.kind.format == "csv" and not file.kind.form.names)


def lines_in(file: File) -> int:
    """How many lines a file of lines has."""
    count = left = 0
    with file.source.open("rb") as stream:
        left, last = file.size, b"\n"
        while left:
            block = stream.read(min(left, 1 << 18))
            if not block:
                break
            # (Comparing all bytes is three times as fast as searching.)
            count += int(np.count_nonzero(np.frombuffer(block, dtype=np.uint8) == ord("\n")))
            left -= len(block)
            last = block[-1:]
    return count + (last != b"\n")


def copies(folder: Folder, files: list[File], before: dict[str, Seen]) -> dict[str, str]:
    """Files that are another one under a new name, which is merged already or comes before them.

    Args:
        folder: where the store is.
        files: what is there.
        before: what was merged.
    """
    known: dict[tuple[int, str, str], str] = {}
    for name, seen in before.items():
        known.setdefault((seen.size, seen.head, seen.tail), name)
    merged = {seen.size for seen in before.values()}
    sizes = Counter(file.size for file in files)
    growing = _Growing(files)
    found = {}
    for file in files:
        if file.name in before:
            continue
        longer = growing.begun_by(file) if file.kind.grows and before else None
        if longer:
            found[file.name] = longer
            continue
        if sizes[file.size] == 1 and file.size not in merged:
            continue
        marks = file.size, *fingerprint(file.source, file.size, file.name)
        alike = known.setdefault(marks, file.name)
        if alike != file.name and _same(file, folder.file(alike)):
            found[file.name] = alike
    return found


class _Growing:
    """The files to which lines may be added, the newest first.

    Args:
        files: all files, in order.
    """

    def __init__(self, files: list[File]) -> None:
        self.files = [file for file in reversed(files) if file.kind.grows]
        self.sizes = np.array([file.size for file in self.files], dtype=np.int64)
        self._openings: dict[str, bytes] = {}

    def begun_by(self, file: File) -> str | None:
        """The file that begins with all of this one, which was copied before it grew, if there is one among the newest."""
        marks = None
        for place in np.flatnonzero(self.sizes > file.size)[:CANDIDATES]:
            other = self.files[place]
            with suppress(FileNotFoundError):  # one that is merged may be taken away meanwhile
                if not self._opening(other).startswith(self._opening(file)):
                    continue
                marks = marks or fingerprint(file.source, file.size, file.name)
                if fingerprint(other.source, file.size, other.name) == marks and _same(file, other.source):
                    return other.name
        return None

    def _opening(self, file: File) -> bytes:
        """The first bytes of a file, by which most are told apart: each is opened once for that, and not once for each other."""
        if file.name not in self._openings:
            with file.source.open("rb") as stream:
                self._openings[file.name] = stream.read(min(file.size, OPENING))
        return self._openings[file.name]


def _same(file: File, other: Openable | None) -> bool:
    """Whether two files that begin and end alike are alike all through. If the other is gone, they are."""
    if other is None:
        return True
    with ExitStack() as opened:
        one = opened.enter_context(file.source.open("rb"))
        try:
            two = opened.enter_context(other.open("rb"))
        except FileNotFoundError:
            return True
        left = file.size
        while left:
            step = min(left, 1 << 20)
            if one.read(step) != two.read(step):
                return False
            left -= step
    return True


def file_order(label: str) -> str:
    """By what labels of files and lines are put in order of the files."""
    name, colon, line = label.rpartition(":")
    return name if colon and (line.isdigit() or line == "end") else label


def line_places(name: str, rows: Rows) -> pa.Array:
    """The file and the line of each of some rows. (To write them as texts takes as long as it takes to read rows.)"""
    files = pa.DictionaryArray.from_arrays(np.zeros(len(rows.lines), np.int32), pa.array([name]))
    return pa.StructArray.from_arrays([files, pa.array(rows.lines)], ["file", "line"])


def line_labels(places: pa.ChunkedArray) -> pa.ChunkedArray:
    """The positions of rows whose files and lines these are, where lines order them."""
    file, line = places.flatten()
    return pc.binary_join_element_wise(file.cast(pa.string()), line.cast(pa.string()), ":")
