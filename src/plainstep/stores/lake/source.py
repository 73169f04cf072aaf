"""The versions of a table as a source: a position is a version, and its changes are what that version did."""

from __future__ import annotations

import json
import re
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from typing import Any, Protocol

from plainstep.core.arrays import utc_time
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.cutting import Cut, spread
from plainstep.core.changes.ops import NOW, WAS, Op
from plainstep.core.positions import Position, Span, Waiting, Watermark, Window
from plainstep.deferred import np, pa
from plainstep.errors import ConfigError, Refused
from plainstep.stores.lake.changes import changes_of, doubled
from plainstep.stores.lake.files import FileRows, LakeFile
from plainstep.stores.records import Batches, Snapshot

# Changes that are put together into a batch.
BATCH = 1 << 16


class Version(Protocol):
    """What a version did.

    Attributes:
        number: its number.
        at: when it was made.
    """

    @property
    def number(self) -> int: ...

    @property
    def at(self) -> datetime | None: ...

    @property
    def changes_rows(self) -> bool:
        """Whether any row may have changed."""
        ...


class VersionedTable(ABC):
    """A table that keeps its versions, as it stood when it was last renewed.

    Attributes:
        place: its name, for messages.
        kind: what it is, as in "a Delta table".
        kept: how it is said how long versions are kept.
    """

    place: str
    kind: str
    kept: str

    @abstractmethod
    def renew(self) -> None:
        """Look at it anew."""

    @property
    @abstractmethod
    def identity(self) -> str:
        """What tells it from another table of its name."""

    @property
    @abstractmethod
    def head(self) -> int:
        """The newest version."""

    @property
    @abstractmethod
    def oldest(self) -> int:
        """The version after which all are there."""

    @property
    @abstractmethod
    def records(self) -> bool:
        """Whether it records its changes, so that what came and went within a version shows."""

    @property
    def to_record(self) -> str:
        """What recording would save; empty where it cannot be had."""
        return ""

    @abstractmethod
    def columns(self) -> dict[str, str]:
        """For each column, by what files know it whatever it is called; none where that is its name."""

    @abstractmethod
    def at(self, number: int) -> datetime | None:
        """When a version was made; None where that is not held."""

    @abstractmethod
    def versions(self, after: int, upto: int) -> Iterator[Version]:
        """The versions after one and up to another.

        Raises:
            Refused: one is not held any more.
        """

    def other_table(self, version: Any) -> Refused | None:
        """Why a version made another table of this; None if it did not."""
        return None

    @abstractmethod
    def rows(self) -> FileRows:
        """What reads its files, in the columns that it has now."""

    @abstractmethod
    def files(self) -> Sequence[LakeFile]:
        """Its files now."""

    @abstractmethod
    def sides(self, version: Any, rows: Any) -> tuple[pa.Table, pa.Table]:
        """The rows that a version took away, and those that it brought."""


@dataclass(frozen=True)
class _Files:
    """Some of the files of a version."""

    number: int
    at: datetime | None
    files: Sequence[LakeFile]


class VersionsSource:
    """The versions of one table.

    Args:
        table: the table.
    """

    is_managed = False
    overlaps = False
    has_before_images = True
    has_exact_operations = True

    def __init__(self, table: VersionedTable) -> None:
        self.table, self.place = table, table.place
        self.paired_by: tuple[str, ...] = ()

    def key(self) -> tuple[str, ...]:
        """The columns that tell rows apart: those that the load names, for the table names none."""
        if not self.paired_by:
            raise ConfigError(
                f"{self.place} is {self.table.kind}, which has no key of its own.",
                "Without one, rows before and after a version cannot be told apart.",
                'Name the columns that tell its rows apart: key = ["..."] in the load.',
            )
        return self.paired_by

    def warnings(self) -> list[str]:
        """Nothing that a person should know."""
        return []

    def limitations(self) -> list[str]:
        """What the changes cannot tell."""
        if self.table.records:
            return []
        return ["what a version wrote and took back, for its files are compared" + self.table.to_record]

    def schema(self) -> pa.Schema:
        """The columns that changes and snapshots carry."""
        return self.table.rows().schema

    def span(self) -> Span:
        """How far the source can be read now."""
        self.table.renew()
        head, oldest = self.table.head, self.table.oldest
        columns = self.table.columns()
        token = json.dumps(columns, ensure_ascii=False, sort_keys=True) if columns else ""
        return Span(self.table.identity, oldest, head, self.table.at(head), token, start=oldest)

    def span_after(self, watermark: Watermark) -> Span:
        """How far the source can be read now, going on from a watermark."""
        return self.span()

    def continuity_error(self, watermark: Watermark, span: Span) -> Refused | None:
        """Why a load cannot go on from its watermark, or None if it can."""
        reload = f"plainstep reload {watermark.load} compares the whole table and goes on from there."
        if watermark.identity != span.identity:
            return Refused(
                f"The table that {watermark.load} was reading is not the one that is in {self.place} now.",
                "Versions of one mean nothing in the other.",
                reload,
            )
        if watermark.position > span.head:
            return Refused(
                f"{watermark.load} is merged up to version {watermark.position}, and {self.place} ends at version {span.head}.",
                "It was put back to an earlier state outside of its log.",
                reload,
            )
        if watermark.position < span.oldest:
            return Refused(
                f"{watermark.load} is merged up to version {watermark.position}, and {self.place} goes back to version "
                f"{span.oldest + 1} only.",
                "Those in between were cleaned up before they were merged.",
                f"{reload} ({self.table.kept})",
            )
        made_at = self.time_of(watermark.reached)
        is_known = made_at is not None or watermark.position == span.oldest
        how = "it has another time" if made_at else "that one is no longer part of its history"
        if watermark.at and (not is_known or (made_at and watermark.at != made_at)):
            return Refused(
                f"Version {watermark.position} of {self.place} is not the one that {watermark.load} merged: {how}.",
                "The table was put back to an earlier state outside of its log, and has changed differently since.",
                reload,
            )
        renamed = _renamed(watermark.token, span.token)
        if renamed:
            return Refused(
                f"In {self.place}, {' and '.join(renamed[:3])} since {watermark.load} was merged.",
                "That changes rows whose files nobody wrote: no version tells of them.",
                reload,
            )
        return None

    def time_of(self, position: Position) -> datetime | None:
        """When a version was made."""
        return self.table.at(position.number)

    def waiting(self, window: Window) -> Waiting:
        """Whether a window holds anything; how much is only known by reading it."""
        for version in self.table.versions(window.after, window.upto):
            if version.changes_rows:
                return Waiting(None, True, version.at)
        return Waiting(0, False)

    def read(self, window: Window) -> Batches:
        """The changes of a window, in batches.

        Raises:
            Refused: a version in between is not held any more, or made another table of this.
        """
        return Batches(self._changes(window))

    def is_spread(self) -> bool:
        """Yes: each version tells by itself what it did."""
        return True

    def pieces(self, window: Window, most: int) -> list[Any]:
        """A window in pieces: some versions each."""
        numbers = [one.number for one in self.table.versions(window.after, window.upto) if one.changes_rows]
        ends = [some[-1] for some in spread(numbers, most) if some]
        ends[-1:] = [window.upto]  # what came to nothing at the end is looked at, too
        return [Window(after, upto) for after, upto in pairwise([window.after, *ends])]

    def replays(self) -> bool:
        """No: files hold rows."""
        return False

    def pieces_of_all(self, span: Span, most: int) -> list[Any]:
        """The table as it stands: some of its files each."""
        if span.head != self.table.head:
            raise Refused(f"{self.place} was written meanwhile.", "", "Run the command again.")
        return [_Files(span.head, span.head_at, some) for some in spread(self.table.files(), most)]

    def read_piece(self, piece: Window | _Files) -> Batches:
        """The changes of a piece; rows as they stand are inserts."""
        return self.read(piece) if isinstance(piece, Window) else Batches(self._inserts(piece))

    def _inserts(self, piece: _Files) -> Iterator[Changes]:
        """The rows of some files, as inserts. (That no two have one key is seen when they are collapsed.)"""
        rows, start, given = self.table.rows(), 0, False
        for file in piece.files:
            found = rows.of(file)
            nothing = {WAS + one.name: pa.nulls(found.num_rows, one.type) for one in rows.schema}
            here = {NOW + one.name: found[one.name] for one in rows.schema}
            ops = pa.array(np.full(found.num_rows, Op.INSERT, dtype=np.int8))
            yield Changes(_placed(pa.table({"op": ops, **nothing, **here}), piece.number, piece.at, start))
            start, given = start + found.num_rows, True
        if not given:
            yield Changes(self._nothing())

    def _changes(self, window: Window) -> Iterator[Changes]:
        rows, start, gathered = self.table.rows(), 0, [self._nothing()]
        for version in self.table.versions(window.after, window.upto):
            if refusal := self.table.other_table(version):
                raise refusal
            if not version.changes_rows:
                continue
            found = changes_of(*self.table.sides(version, rows), self.key())
            gathered.append(_placed(found, version.number, version.at, start))
            start += found.num_rows
            if sum(map(len, gathered)) >= BATCH:
                yield Changes(pa.concat_tables(gathered))
                gathered = []
        if gathered:
            yield Changes(pa.concat_tables(gathered))

    def cut(self, window: Window, most: int) -> Position | None:
        """Where a window can be cut: after a version. What comes before is read for that."""
        cut = Cut(most)
        if not any(cut.found(changes.table["position"]) for changes in self._changes(window)):
            return None
        end = int(str(cut.place))
        return Position(end, window.upto_token, self.table.at(end))

    def _nothing(self) -> pa.Table:
        """No changes, with the columns that changes have."""
        schema = self.schema()
        sides = [pa.field(side + one.name, one.type) for side in ("was.", "now.") for one in schema]
        empty = pa.schema([pa.field("op", pa.int8()), *sides]).empty_table()
        return _placed(empty, 0, None, 0)

    @contextmanager
    def snapshot(self) -> Iterator[Snapshot]:
        """The table as it stands, with the version that it stands at."""
        span = self.span()
        rows, files = self.table.rows(), self.table.files()
        self._refuse_doubles(rows, files)
        yield Snapshot(span, rows.schema, rows.batches(files))

    def _refuse_doubles(self, rows: FileRows, files: Sequence[LakeFile]) -> None:
        """Refuse rows that have one key: nothing in the table forbids them."""
        key = list(self.key())
        there = [rows.of(file, only=key) for file in files]
        found = doubled(pa.concat_tables(there), key) if there else {}
        if found:
            raise Refused(
                f"Several rows of {self.place} have the key {', '.join(f'{name} {value}' for name, value in found.items())}.",
                f"It is {self.table.kind}, which lets them stand; which of them is meant, nothing tells.",
                "Name columns that tell its rows apart (key in the load), or remove all but one of them.",
            )

    def label(self, position: Position) -> str:
        """A position as people know it."""
        return str(position.number) if position.number >= 0 else "start"

    def parse(self, said: str) -> Position:
        """A position, as a person wrote it.

        Raises:
            ConfigError: it is not a version.
        """
        if not re.fullmatch(r"\d+", said):
            raise ConfigError(f"{said!r} is not a position here.", "A position is a version, as in 17.")
        return Position(int(said))

    def locate(self, point: int | datetime) -> Position:
        """The version that a number stands for, or the last one that was made at or before a time."""
        if isinstance(point, int):
            return Position(point)
        found = self.table.oldest
        for version in self.table.versions(found, self.table.head):
            if version.at is not None and version.at > point:
                break
            found = version.number
        return Position(found)

    def reserve(self) -> None:
        """Nothing to do: how long versions are kept is the table's to say."""

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        """Nothing to do: the table forgets by itself."""

    def trim(self, positions: Sequence[Position], really: bool = True) -> int:
        """Always refused: the log is the table's, and others may read it."""
        raise Refused(
            f"The versions of {self.place} are not Plain Step's to trim.",
            "Other readers may need it.",
            f"The table forgets by itself: {self.table.kept}",
        )


def _renamed(before: str, now: str) -> list[str]:
    """Which columns hold other values than they did, though no row was written: they got another's name, or were made anew."""
    if not before or not now:
        return []
    old, new = json.loads(before), json.loads(now)
    names = {lasting: name for name, lasting in old.items()}
    moved = [f"{names[one]} was renamed to {name}" for name, one in new.items() if names.get(one, name) != name]
    return moved + [
        f"{name} was dropped and made anew" for name, one in new.items() if one not in names and name in old
    ]


def _placed(changes: pa.Table, number: int, at: datetime | None, start: int) -> pa.Table:
    """The changes of a version, with where they stand."""
    count = changes.num_rows
    text = pa.array([str(number)] * count, pa.string())
    columns = {
        "op": changes["op"],
        "seq": pa.array(np.arange(start + 1, start + 1 + count)),
        "at": pa.array([at] * count, utc_time()),
        "txn": text,
        "position": text,
    }
    return pa.table(columns | {name: changes[name] for name in changes.column_names if name != "op"})
