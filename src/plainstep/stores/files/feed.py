"""A folder of files as a feed.

Which rows were merged is told by a position and by the files that it was reached with: a position that stands in the
rows, or else a file and a line. Both are kept with the watermark.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from copy import copy
from datetime import datetime
from functools import lru_cache
from typing import TYPE_CHECKING, Any, TypeVar

from plainstep.copying import replace
from plainstep.core.durations import duration
from plainstep.core.position_labels import earlier, parted
from plainstep.deferred import pa
from plainstep.errors import ConfigError, Refused
from plainstep.stores.feed import Ends
from plainstep.stores.files import refusals
from plainstep.stores.files.compaction import is_compacted, lies_between
from plainstep.stores.files.ends import KnownEnds
from plainstep.stores.files.folders import Folder
from plainstep.stores.files.listing import (  # fmt: skip
    COPY,
    File,
    Listing,
    Seen,
    content,
    copies,
    file_order,
    fingerprint,
    is_as_it_was,
    lines_in,
    listed,
    names_of,
    packed,
    remembered,
    rows_in,
    unpacked,
)
from plainstep.stores.files.merge_order import Order
from plainstep.stores.files.pieces import by_file, by_position
from plainstep.stores.files.reading import is_merged, rows_between, unmerged_part
from plainstep.stores.files.schema import Shape, form_of

if TYPE_CHECKING:
    from datetime import timedelta

    from plainstep.settings.layout import LayoutConfig
    from plainstep.stores.api import Reading


Looked = TypeVar("Looked")
# So often files are listed anew where one of them goes while they are looked into.
TRIES = 3


class FileFeed:
    """The rows of some files.

    Args:
        folder: where its files lie.
        pattern: a file, a folder, or a glob below it.
        place: its name, for messages.
        layout: how they are read.
        overlap: how far before the watermark to begin, or None.
    """

    partitioned_by, is_ordered = "folder", True
    beside: tuple[str, ...] = ()
    # The folder below the store's in which its files lie, where only those of one are meant.
    within: str | None = None

    def __init__(
        self, folder: Folder, pattern: str, place: str, layout: LayoutConfig, overlap: int | timedelta | None
    ) -> None:
        self.folder, self.pattern, self.place, self.layout, self.overlap = folder, pattern, place, layout, overlap
        self.identity = f"{pattern} by {', '.join(layout.position) or 'file and line'}"
        self.shape = Shape(place, layout, lambda: self._listing().files)
        self._known = KnownEnds(self._order)
        self._listed: Listing | None = None
        # Whether it was asked how far they can be read since they were listed: then they are listed anew when it is asked again.
        self._asked = False
        self._unpacked = lru_cache(maxsize=4)(unpacked)
        self._compared: tuple[Listing, dict[str, Seen], tuple[dict[str, str], list[File]]] | None = None
        # The files that were found to be copies when it was last asked how far they can be read.
        self._twice: set[str] | None = None

    @property
    def is_numbered(self) -> bool:
        """Whether its positions begin with a number or a time. Without files, nobody knows."""
        if not self._listing().files:
            return False
        kind = self.shape.order.kinds[0] if self.shape.order is not None else None
        return kind is not None and bool(pa.types.is_integer(kind) or pa.types.is_timestamp(kind))

    def _order(self) -> Order:
        """How positions are compared, where they stand in the rows."""
        assert self.shape.order is not None
        return self.shape.order

    def _listing(self) -> Listing:
        """The files that are there: as they were when it was last asked how far they can be read, so that a step sees one state of them."""
        if self._listed is None:
            if self.within is None:
                self.folder.look_again()
            self._listed, self._asked = self._look(), False
        return self._listed

    def _names(self) -> set[str]:
        return {file.name for file in self._listing().files}

    def _look(self) -> Listing:
        settle = duration(self.layout.settle)
        assert settle is not None  # judged when it was read
        links, form = self.layout.follow_links, form_of(self.layout)
        return listed(self.folder, self.pattern, settle.total_seconds(), links, form, self.within)

    def partitions(self) -> list[str]:
        """The folders in which it has files: each may be in an order of its own."""
        return sorted({name.rpartition("/")[0] for name in names_of(self.folder, self.pattern, form_of(self.layout))})

    def partition(self, name: str) -> FileFeed:
        """The files of one folder, in the columns of all of them."""
        one = copy(self)
        one.within, one.place, one._known, one._listed = (
            name,
            f"{self.place}, folder {name or '.'}",
            KnownEnds(self._order),
            None,
        )
        one._twice, one._asked = None, False
        return one

    @property
    def is_typed(self) -> bool:
        """Whether its columns have types of their own, which those of CSV have not."""
        return self.shape.is_typed

    def sample(self) -> pa.Table:
        """Some rows, to learn from what they are made of; of one folder, if only its files are meant."""
        if self.within is None:
            return self.shape.sample()
        return Shape(self.place, self.layout, lambda: self._listing().files).sample()

    def want(self, kinds: dict[str, pa.DataType | None]) -> None:
        """Say what will be read of the rows."""
        self.shape.want(kinds)

    def columns(self) -> pa.Schema:
        """The columns of what ``read`` gives."""
        return self.shape.columns()

    def warnings(self) -> list[str]:
        """What is not read, and why."""
        found = self._listing()
        said = [f"{self.place}: {found.waiting}; it and the files after it wait"] if found.waiting else []
        said += [f"{self.place}: {name} is left out: its name does not say what it is" for name in found.ignored[:3]]
        files = found.files
        if self._twice is not None:  # of many files, those are compared of which it is known already
            sizes = {file.size for file in files if file.name in self._twice}
            files = [file for file in files if file.size in sizes]
        twice = dict[str, str]()
        with suppress(FileNotFoundError):  # one goes meanwhile: that is told by whoever reads it
            twice = copies(self.folder, files, {})
        return said + [f"{self.place}: {name} is left out: it is {other} once more" for name, other in twice.items()]

    def label(self, position: str) -> str:
        """A position as people know it: without what must be known to go on from it."""
        return position.partition("\t")[0]

    def _copies(self, before: dict[str, Seen]) -> dict[str, str]:
        """The files that are there under a second name."""
        return self._compared_with(before)[0]

    def _unread(self, before: dict[str, Seen]) -> list[File]:
        """The files that may hold rows which were not merged."""
        return self._compared_with(before)[1]

    def _compared_with(self, before: dict[str, Seen]) -> tuple[dict[str, str], list[File]]:
        """Both of these; looked for once among the files that are listed."""
        listing = self._listing()
        if self._compared is None or self._compared[0] is not listing or self._compared[1] is not before:
            twice = copies(self.folder, listing.files, before)
            unread = [
                file
                for file in listing.files
                if file.name not in twice and not is_merged(before.get(file.name), file.size)
            ]
            self._compared = listing, before, (twice, unread)
        return self._compared[2]

    def ends(self) -> Ends:
        """How far it can be read now."""
        return self.ends_after("")

    def ends_after(self, watermark: str) -> Ends:
        """How far it can be read now, going on from a watermark."""
        if self._asked:
            self._listed = None
        ends = self._looked_at(lambda: self._ends_after(watermark))
        self._asked = True
        return ends

    def _looked_at(self, look: Callable[[], Looked]) -> Looked:
        """What looking into files tells. One that goes meanwhile is as one that was gone before.

        Raises:
            Refused: one goes after it was told how far they can be read.
        """
        for _ in range(1 if self._asked else TRIES):
            try:
                return look()
            except FileNotFoundError as error:
                gone = error
                if not self._asked:
                    self._listed = None
        raise refusals.gone(self.place, str(gone.filename or gone)) from gone

    def _ends_after(self, watermark: str) -> Ends:
        there = self._listing().files
        label, before = self._unpacked(watermark)
        is_whole = self._is_whole(before, label)
        if not there:
            return Ends(None, watermark or None, is_whole=is_whole)
        self.folder.expect(file.source for file in self._unread(before))
        if self.shape.order is not None:
            self._known.learn(self._unread(before))
        again = self._compacted(before, label)
        files = [file for file in self._unread(before) if file.name not in again]
        seen = {file.name: self._seen(file) for file in files}
        twice = self._copies(before)
        self._twice = {*twice, *(name for name, one in before.items() if one.lines == COPY)}
        if self.shape.order is None:
            names = [f"{name}:{one.lines or 'end'}" for name, one in seen.items()]
            last = max([*names[-1:], label], key=file_order)
            seen |= self._known_copies(twice)
            token = self._token(last, seen, watermark) if last else None
            return Ends(names[0] if names else None, token, is_whole=is_whole)
        known = [ends for file in files if (ends := self._known.of(file))]
        firsts, lasts = [ends[0] for ends in known], [ends[1] for ends in known] + ([label] if label else [])
        newest = max(lasts, key=self._known.place) if lasts else None
        seen |= self._known_copies(twice) | {name: replace(self._seen(one), lines=COPY) for name, one in again.items()}
        token = self._token(newest, seen, watermark) if newest is not None else None
        return Ends(min(firsts, key=self._known.place) if firsts else None, token, is_whole=is_whole)

    def _token(self, label: str, seen: dict[str, Seen], watermark: str) -> str:
        """A position with what is known of files: the watermark, where nothing came. (Packing ten thousand takes 40 ms.)

        Args:
            label: the position.
            seen: what is known of files that are new.
            watermark: what was known.
        """
        place, before = self._unpacked(watermark)
        known = remembered(before, seen, self._names())
        nothing_new = all(before.get(name) == one for name, one in seen.items()) and len(known) == len(before)
        return watermark if label == place and nothing_new else packed(label, known)

    def _is_whole(self, before: dict[str, Seen], label: str) -> bool:
        """Whether all is there that was merged: the files, copies of them, or what they were put together in."""
        there = self._names()
        twice = [one for name, one in before.items() if one.lines == COPY and name in there]
        marks = {(one.size, one.head, one.tail) for one in twice}
        gone = [one for name, one in before.items() if one.lines != COPY and name not in there]
        gone = [one for one in gone if (one.size, one.head, one.tail) not in marks]
        for copied in twice if gone and self.layout.position else ():
            ends = copied.first, copied.last
            if copied.first and is_compacted(copied.rows, ends, label, gone, self._known.place):
                gone = [one for one in gone if not lies_between(one, ends, self._known.place)]
        return not gone

    def _known_copies(self, twice: dict[str, str]) -> dict[str, Seen]:
        """Files that need not be read, remembered so: what they are copies of may change, or go."""
        found = [file for file in self._listing().files if file.name in twice]
        return {file.name: replace(self._seen(file), lines=COPY) for file in found}

    def _seen(self, file: File) -> Seen:
        marks = fingerprint(file.source, file.size, file.name)
        seen = Seen(file.size, *marks, changed=file.changed, content=content(file.source, file.size))
        if self.shape.order is None:
            return replace(seen, lines=lines_in(file) if file.kind.grows else 0)
        first, last = self._known.of(file) or ("", "")
        return replace(seen, rows=rows_in(file), first=first, last=last)

    def _compacted(self, before: dict[str, Seen], label: str) -> dict[str, File]:
        """New files that only hold what was merged from several others, which are gone."""
        if not label or not self._listing().files or self.shape.order is None:
            return {}
        there = {one.name for one in self._listing().files}
        gone = [one for name, one in before.items() if name not in there and one.lines != COPY]
        new = [file for file in self._unread(before) if file.name not in before]
        ends = {file.name: found for file in new if (found := self._known.of(file))}
        return {
            file.name: file
            for file in new
            if file.name in ends and is_compacted(rows_in(file), ends[file.name], label, gone, self._known.place)
        }

    @contextmanager
    def opened(self) -> Iterator[tuple[Ends, Reading | None]]:
        """How far it can be read. Files have no transactions."""
        yield self.ends(), None

    def at_or_before(self, position: str) -> str | None:
        """A position, with the files that are there; None if it lies before all of them."""
        return self._looked_at(lambda: self._at_or_before(position))

    def _at_or_before(self, position: str) -> str | None:
        files = self._listing().files
        if self.shape.order is None:
            return self._at_line(position, files)
        place = self._known.place(position)
        known = {file.name: ends for file in files if (ends := self._known.of(file))}
        if not known or place < min(self._known.place(first) for first, _ in known.values()):
            return None
        last = max((last for _, last in known.values()), key=self._known.place)
        if place >= self._known.place(last):
            position = last
        # One that begins later is not yet known: it may still go by another name.
        seen = {
            one.name: self._seen(one)
            for one in files
            if one.name in known and self._known.place(known[one.name][0]) <= place
        }
        merged_to = {name: replace(one, done=self._known.place(known[name][1]) <= place) for name, one in seen.items()}
        return packed(position, merged_to)

    def reached_from(self, after: str, position: str) -> str:
        """A position, with the files that are gone since another one, and those that were known to be copies there."""
        before, (label, seen) = self._unpacked(after)[1], self._unpacked(position)
        known = {name: before[name] for name in seen if name in before and before[name].lines == COPY}
        return packed(label, remembered(before, seen | known, self._names()))

    def rows_at_most(self, after: str | None, upto: str | None) -> int | None:
        """How many rows the files hold that are not merged, where each tells it."""
        before, there = self._unpacked(after or "")[1], self._unpacked(upto or "")[1]
        new = [one for name, one in there.items() if one.lines != COPY and one != before.get(name)]
        counts = [one.lines if self.shape.order is None else one.rows for one in new]
        return sum(counts) if all(counts) else None

    def _at_line(self, position: str, files: list[File]) -> str | None:
        name, colon, line = position.rpartition(":")
        if not colon or not (line.isdigit() or line == "end"):
            raise ConfigError(
                f"{position!r} is not a position here.", "A position is a file and a line, as in trees.csv:17."
            )
        seen = {file.name: self._seen(file) for file in files if file.name <= name}
        if name in seen and line != "end" and (not seen[name].lines or int(line) < seen[name].lines):
            seen[name] = replace(seen[name], lines=int(line), done=False)
        return packed(position, seen) if seen else None

    def before_time(self, moment: datetime) -> str | None:
        """Not told without reading everything: see ``FeedSource.locate``."""
        raise NotImplementedError

    def count(self, after: str | None, upto: str | None) -> tuple[int | None, bool, datetime | None]:
        """Whether there are rows in between. How many is not known without reading them."""
        label, before = self._unpacked(after or "")
        last, there = self._unpacked(upto or "")
        if self.layout.position:
            waits = last != label and bool(last) and (not label or self._known.place(last) > self._known.place(label))
            return None, waits, None
        new = [name for name, one in there.items() if one.lines != COPY and one != before.get(name)]
        return None, bool(new), None

    def refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        """Why a load cannot go on from a watermark: files came late, or were changed after they were merged."""
        return self._looked_at(lambda: self._refusal(load, watermark, reload))

    def _refusal(self, load: str, watermark: str, reload: Callable[[bool], str]) -> Refused | None:
        label, before = self._unpacked(watermark)
        again = self._compacted(before, label)
        there = {file.name for file in self._listing().files}
        parted = next((name for name, one in before.items() if not one.done and name not in there), None)
        if parted:
            return refusals.parted(load, parted, reload(False))
        for file in [*self._unread(before), *self._written_again(before)]:
            known = before.get(file.name)
            if file.name in again:
                continue
            if known and not is_as_it_was(file, known):
                return refusals.changed(load, file.name, self._remedy(load, watermark, reload))
            late = self._late(file, known, label)
            if late:
                return refusals.late(load, file.name, late, label, self._remedy(load, watermark, reload))
        return None

    def _remedy(self, load: str, watermark: str, reload: Callable[[bool], str]) -> str:
        """How all files are merged again."""
        label, before = self._unpacked(watermark)
        return refusals.all_again(load, self._is_whole(before, label), reload)

    def _written_again(self, before: dict[str, Seen]) -> list[File]:
        """The files that were written since they were merged, and have the size that they had."""
        known = [(file, before[file.name]) for file in self._listing().files if file.name in before]
        return [
            file
            for file, seen in known
            if seen.done and seen.changed and file.size == seen.size and file.changed != seen.changed
        ]

    def _late(self, file: File, known: Seen | None, label: str) -> str:
        """Where new rows of a file begin, if that is not after the watermark."""
        if known and (not known.done or file.size == known.size):
            return ""
        if self.shape.order is None:
            return f"{file.name}:1" if not known and file_order(file.name) < file_order(label) else ""
        ends = self._known.of(file, known.size if known else 0)
        if ends is None or self._known.place(ends[0]) > self._back(label):
            return ""
        return ends[0]

    def _back(self, label: str) -> tuple[Any, ...]:
        """A watermark, moved back by the overlap."""
        values = parted(label, len(self.layout.position))
        if self.overlap:
            values[0] = earlier(values[0], self.overlap)
        assert self.shape.order is not None
        return self.shape.order.parsed(values)

    def read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        """The rows in between, in order.

        Raises:
            Refused: a file is gone since it was looked at.
        """
        try:
            yield from self._read(after, upto)
        except FileNotFoundError as error:
            raise refusals.gone(self.place, str(error.filename or error)) from error

    def _read(self, after: str | None, upto: str | None) -> Iterator[pa.Table]:
        if upto is None:
            return
        label, before = self._unpacked(after or "")
        last, there = self._unpacked(upto)
        files = [file for file in self._listing().files if file.name in there]
        twice = copies(self.folder, files, {name: one for name, one in before.items() if name in there})
        files = [file for file in files if file.name not in twice and there[file.name].lines != COPY]
        sizes = {file.name: there[file.name].size for file in files}
        chosen = [file if file.size == sizes[file.name] else replace(file, size=sizes[file.name]) for file in files]
        if self.shape.order is not None:
            if self.overlap is None:  # then all rows of those that are merged lie before the watermark
                chosen = [file for file in chosen if not is_merged(before.get(file.name), sizes[file.name])]
            lower, is_again = self._back(label) if label else None, self.overlap is not None
            yield from rows_between(self.shape, self._known, chosen, lower, self._known.place(last), is_again)
            return
        parts = [unmerged_part(file, before.get(file.name), there[file.name]) for file in chosen]
        yield from self.shape.rows(part for part in parts if part)

    def pieces(self, after: str | None, upto: str | None, most: int) -> list[tuple[str | None, str]]:
        """Some files each: where positions stand in the rows, such as have no position between those of others."""
        files = self._listing().files
        if upto is None:
            return []
        if self.shape.order is None:
            return by_file(files, after, upto, most)
        return by_position(files, after, upto, most, self._known.of, self._known.place)

    def told(self, position: str) -> str:
        """Which row a position means."""
        return self.label(position) if self.shape.order is None else f"{self.place} at {self.label(position)}"
