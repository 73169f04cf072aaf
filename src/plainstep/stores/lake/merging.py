"""What a step makes of a versioned table: which of its rows go, which files are written anew for that, and which rows come.

Only files that may hold one of the keys are looked at, and of these first the keys alone. Where few rows of a large file go, and the table
takes deletion vectors, these rows are marked as deleted; else what is left of the file is written anew.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Protocol

from plainstep.copying import replace
from plainstep.core.arrays import Bools, Ints, flat
from plainstep.core.shapes.apply import Applied, applied, found_in, places_of
from plainstep.core.shapes.edits import Edits
from plainstep.core.shapes.spread import SpreadEdits
from plainstep.deferred import np, pa, pc
from plainstep.stores.lake.files import FileRows, LakeFile
from plainstep.stores.lake.writer import Writer

# Files that are smaller than so many bytes are written together with what comes, once there are so many of them.
SMALL, MANY = 8 << 20, 16
# The share of a file's rows up to which they are marked: of more, the file is written anew, which costs readers less from then on. (A
# step over 1 % of a million rows took a third of the time so.)
FEW = 0.05
# Files that are smaller are written anew, whatever goes.
LARGE = 1 << 20


class MergedFile(LakeFile, Protocol):
    """A data file of a table that is merged into."""

    @property
    def key(self) -> Any:
        """What tells it apart."""
        ...

    @property
    def size(self) -> int:
        """Its bytes."""
        ...

    def ends(self, name: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column, whole numbers or texts; of those that are not known, None."""
        ...


@dataclass
class Merged:
    """What a step made of a table.

    Attributes:
        done: what was counted; rows that were not as expected only where they count, and parts of rows where they may not be.
        removed: the files that are no part of it any more.
        marked: those of them that stay with other rows deleted, with the numbers of all rows that are.
    """

    done: Applied
    removed: list[Any] = field(default_factory=list)
    marked: list[tuple[Any, Ints]] = field(default_factory=list)


class Merging:
    """Makes a step's edits to a table.

    Args:
        rows: reads its files.
        files: these.
        schema: the columns that it is to have.
        writer: writes new files.
        marks: whether rows may be marked as deleted.
    """

    def __init__(
        self, rows: FileRows, files: Sequence[MergedFile], schema: pa.Schema, writer: Writer[Any], marks: bool
    ) -> None:
        self.rows, self.files, self.schema, self.writer, self.marks = rows, list(files), schema, writer, marks

    def merged(self, key: Sequence[str], rounds: Sequence[Edits], anew: bool) -> Merged:
        """Make the edits; rows that are only appended are another's matter, if all is asked at once.

        Args:
            key: the key columns.
            rounds: what is asked; of several rounds, each of other keys than those before it.
            anew: whether every file is written anew, for its columns change.
        """
        if isinstance(rounds, SpreadEdits):
            return self._spread(key, rounds, anew)
        if not in_one_round(rounds):
            return self._in_rounds(key, rounds, anew)
        [edits] = rounds
        if edits.clear:
            done = applied(self.schema.empty_table(), key, _looked_up(edits))
            self.writer.add(done.rows)
            return Merged(_counted(done, edits), self.files)
        hits = dict[Any, Bools]()
        edited = self._edited(key, edits, hits)
        found = self._parted(hits, anew, bool(_keys(key, edits)) or _appends(edits))
        left = np.ones(edited.rows.num_rows, dtype=np.bool_)
        for file in _in_order(found.anew, key):
            left[self._rewritten(file, hits.get(file.key), key, edited.rows)] = False
        self.writer.add(edited.rows if left.all() else edited.rows.filter(pa.array(left)))
        return Merged(_counted(edited, edits), found.touched, found.marked)

    def _in_rounds(self, key: Sequence[str], rounds: Sequence[Edits], anew: bool) -> Merged:
        """Make edits that do not fit in memory: rows that come are written round after round, and what is left of files at the end."""
        total, hits, removed = Applied(self.schema.empty_table()), dict[Any, Bools](), list[MergedFile]()
        for edits in rounds:
            if edits.clear:
                removed, self.files = self.files, []
            done = self._edited(key, edits, hits)
            self.writer.add(done.rows)
            total = _counted(done, edits, total)
            total.append += in_batches(iter(edits.append), self.writer)
        found = self._parted(hits, anew, asked=True)
        for file in found.anew:
            self._rewritten(file, hits.get(file.key), (), total.rows)
        return Merged(total, [*removed, *found.touched], found.marked)

    def _spread(self, key: Sequence[str], rounds: SpreadEdits, anew: bool) -> Merged:
        """Make edits on several machines: rows that come are written where they are, then what is left of files is, side by side."""
        total, hits, removed = Applied(self.schema.empty_table()), dict[Any, Bools](), list[MergedFile]()
        for made in rounds.each(partial(_round_of, self, tuple(key))):
            self.writer.adds += made.adds
            total = _summed(total, made.done)
            if made.clear:
                removed, self.files = removed or self.files, []
            for name, (count, rows) in made.hits.items():
                hits.setdefault(name, np.zeros(count, dtype=np.bool_))[rows] = True
        found = self._parted(hits, anew, asked=True)
        groups = [[(file, hits.get(file.key)) for file in some] for some in _together(found.anew)]
        for adds in rounds.every(partial(_left_of, self), groups):
            self.writer.adds += adds
        return Merged(total, [*removed, *found.touched], found.marked)

    def elsewhere(self) -> Merging:
        """The same on another machine, with a writer of its own."""
        return Merging(self.rows, self.files, self.schema, self.writer.another(), self.marks)

    def _edited(self, key: Sequence[str], edits: Edits, hits: dict[Any, Bools]) -> Applied:
        """The rows that edits are about, after them.

        Args:
            key: the key columns.
            edits: what is asked.
            hits: which rows of each file are edited or gone, by the files' keys; those that are now are noted there.
        """
        wanted = _keys(key, edits)
        taken = [self.schema.empty_table()]
        # Of rows that only go, or are put whole, nothing but their keys is read.
        needed = not edits.patch and edits.add is None
        for file in self.files:
            hit, keys = self._hit(file, wanted)
            if hit is not None:
                assert keys is not None
                taken.append(self._fitted((keys if needed else self.rows.of(file)).filter(pa.array(hit))))
                hits[file.key] = hits[file.key] | hit if file.key in hits else hit
        return applied(pa.concat_tables(taken), key, _looked_up(edits))

    def _parted(self, hits: dict[Any, Bools], anew: bool, asked: bool) -> _Touched:
        """The files that are touched: those of which rows are marked, and those that are written anew.

        Args:
            hits: which of their rows are edited or gone.
            anew: whether every file is written anew.
            asked: whether anything is written at all; then small files go along with it.
        """
        small = [file for file in self.files if file.size < SMALL]
        packed = {file.key for file in small} if len(small) > MANY and asked else set()
        found = _Touched()
        for file in self.files:
            hit = hits.get(file.key)
            if hit is None and not anew and file.key not in packed:
                continue
            found.touched.append(file)
            if hit is not None and self.marks and not anew and file.size >= LARGE and hit.mean() <= FEW:
                found.marked.append((file, self._marked(file, hit)))
            else:
                found.anew.append(file)
        return found

    def _rewritten(self, file: MergedFile, hit: Bools | None, key: Sequence[str], edited: pa.Table) -> Ints:
        """Write what is left of a file; edited rows that were in it stand where they stood, so that it needs no sorting.

        Args:
            file: the file.
            hit: which of its rows are edited or gone; None where none is.
            key: the key columns.
            edited: all rows as they are after the edits.

        Returns:
            The numbers of those of them that are written with this file.
        """
        whole = self._fitted(self.rows.of(file))
        if hit is None or not key:
            self.writer.add(whole if hit is None else whole.filter(pa.array(~hit)))
            return np.zeros(0, dtype=np.int64)
        rows = np.flatnonzero(hit)
        near = np.flatnonzero(_within(file, edited.select(key)))
        places = places_of(edited.select(key).take(pa.array(near)), whole.select(key).take(pa.array(rows)))
        at, first = np.unique(places, return_index=True)  # a key stands in a file once; of others, one is enough
        at, first = near[at[at >= 0]], rows[first[at >= 0]]
        gone = hit.copy()
        gone[first] = False
        whole = _replaced(whole, first, edited.take(pa.array(at)))
        self.writer.add(whole.filter(pa.array(~gone)) if gone.any() else whole)
        return at

    def _marked(self, file: MergedFile, hit: Bools) -> Ints:
        """The numbers of the rows of a file that are deleted, those that are hit now among them."""
        before = self.rows.deleted(file, len(hit) + self.rows.deleted_count(file))
        before[np.flatnonzero(~before)[hit]] = True
        return np.flatnonzero(before)

    def _hit(self, file: MergedFile, wanted: Sequence[pa.Table]) -> tuple[Bools | None, pa.Table | None]:
        """Which rows of a file have one of some keys, and the columns that tell it; None where none has."""
        near = [keys.filter(pa.array(within)) for keys in wanted if (within := _within(file, keys)).any()]
        if not near:
            return None, None
        names = _names(wanted)
        there = self._fitted(self.rows.of(file, only=names), names)
        found = np.zeros(there.num_rows, dtype=np.bool_)
        for keys in near:
            found |= found_in(there.select(keys.column_names), keys)
        return (found, there) if found.any() else (None, None)

    def _fitted(self, rows: pa.Table, names: Sequence[str] | None = None) -> pa.Table:
        """Rows in the columns that the table is to have, or in some of them."""
        wanted = pa.schema([one for one in self.schema if names is None or one.name in names])
        return fitted(rows, wanted)


@dataclass(frozen=True)
class _MadeElsewhere:
    """What one round came to on another machine: the files that were written, which rows of which files went (how many rows the file
    has, and their numbers), what was counted, and whether every row went first."""

    adds: list[Any]
    hits: dict[Any, tuple[int, Any]]
    done: Applied
    clear: bool


def _round_of(merging: Merging, key: Sequence[str], edits: Edits) -> _MadeElsewhere:
    """One round, on another machine."""
    merging, hits = merging.elsewhere(), dict[Any, Bools]()
    if edits.clear:
        merging.files = []
    done = merging._edited(key, edits, hits)
    merging.writer.add(done.rows)
    total = _counted(done, edits)
    total.append += in_batches(iter(edits.append), merging.writer)
    merging.writer.flush()
    total.rows = merging.schema.empty_table()  # what is cut off of a table goes along when it is sent
    gone = {name: (len(hit), np.flatnonzero(hit).astype(np.uint32)) for name, hit in hits.items()}
    return _MadeElsewhere(merging.writer.adds, gone, total, edits.clear)


def _left_of(merging: Merging, files: Sequence[tuple[MergedFile, Bools | None]]) -> list[Any]:
    """The files that hold what is left of some, written on another machine."""
    merging = merging.elsewhere()
    for file, hit in files:
        merging._rewritten(file, hit, (), merging.schema.empty_table())
    merging.writer.flush()
    return merging.writer.adds


def _together(files: Sequence[MergedFile]) -> list[list[MergedFile]]:
    """Files in groups, so that small ones become one."""
    found, held = list[list[MergedFile]](), SMALL
    for file in files:
        if held + file.size > SMALL:
            found.append([])
            held = 0
        found[-1].append(file)
        held += file.size
    return found


@dataclass
class _Touched:
    """The files that edits touch: all, those that stay with rows of them deleted, and those that are written anew."""

    touched: list[MergedFile] = field(default_factory=list)
    marked: list[tuple[MergedFile, Ints]] = field(default_factory=list)
    anew: list[MergedFile] = field(default_factory=list)


def in_one_round(rounds: Sequence[Edits]) -> bool:
    """Whether all is asked at once, on this machine."""
    return len(rounds) == 1 and not isinstance(rounds, SpreadEdits)


def _counted(done: Applied, edits: Edits, before: Applied | None = None) -> Applied:
    """What was counted, after what was counted before: what was not as expected only where it is a contradiction."""
    found = replace(done, odd=done.odd * edits.strict, halves=done.halves * edits.whole)
    return _summed(before or Applied(done.rows.slice(0, 0)), found)


def _summed(before: Applied, done: Applied) -> Applied:
    names = ("put", "patch", "drop", "append", "add", "odd", "halves")
    return Applied(before.rows, **{name: getattr(before, name) + getattr(done, name) for name in names})


def _in_order(files: list[MergedFile], key: Sequence[str]) -> list[MergedFile]:
    """Files by the least key that they hold, where that is known, so that what is written of them is in order."""
    if not key:
        return files
    least = [file.ends(key[0])[0] for file in files]
    if {type(one) for one in least} not in ({int}, {str}):
        return files
    return [one for _, _, one in sorted(zip(least, range(len(files)), files, strict=True))]


def _replaced(rows: pa.Table, places: Ints, others: pa.Table) -> pa.Table:
    """Rows with others in place of some of them."""
    mask = np.zeros(rows.num_rows, dtype=np.bool_)
    mask[places] = True
    order, these = pa.array(np.argsort(places)), pa.array(np.sort(places))
    columns = []
    for name in rows.column_names:
        column, new = flat(rows[name]), flat(others[name]).take(order)
        if column.take(these).equals(new):  # most updates leave most columns as they are
            columns.append(column)
            continue
        try:
            columns.append(pc.replace_with_mask(column, mask, new))
        except pa.ArrowNotImplementedError:  # lists and objects
            numbers = np.arange(len(column))
            numbers[mask] = len(column) + np.arange(len(new))
            columns.append(pa.concat_arrays([column, new]).take(pa.array(numbers)))
    return pa.table(columns, schema=rows.schema)


def fitted(rows: pa.Table, schema: pa.Schema) -> pa.Table:
    """Rows in some columns: null where they lack one."""
    there = {*rows.column_names}
    columns = [
        rows[one.name].cast(one.type) if one.name in there else pa.nulls(rows.num_rows, one.type) for one in schema
    ]
    return pa.Table.from_arrays(columns, schema=schema)


def _looked_up(edits: Edits) -> Edits:
    """The edits without those that look at no row that is there."""
    return replace(edits, append=(), clear=False)


def _names(keys: Sequence[pa.Table]) -> list[str]:
    """The columns of some keys."""
    return list(dict.fromkeys(name for one in keys for name in one.column_names))


def _appends(edits: Edits) -> bool:
    return not isinstance(edits.append, tuple) or bool(edits.append)


def _keys(key: Sequence[str], edits: Edits) -> list[pa.Table]:
    """The keys of the rows that may change: tables of them, by whatever columns."""
    found = [edits.drop, edits.clean, *edits.purge]
    found += [one.select(key) for one in (edits.put, edits.add, *edits.patch) if one is not None]
    return [one for one in found if one is not None and one.num_rows]


def _within(file: MergedFile, keys: pa.Table) -> Bools:
    """Which of some keys a file may hold, by the least and the greatest values that are told of it.

    Of many files, each is asked for a part of the keys only: to look for all of them in each took twice as long (10 % of 20,000,000 rows).
    """
    found = np.ones(keys.num_rows, dtype=np.bool_)
    for name in keys.column_names:
        least, greatest = file.ends(name)
        column = flat(keys[name])
        kind = int if pa.types.is_integer(column.type) else str if pa.types.is_string(column.type) else None
        if kind is not None and type(least) is type(greatest) is kind:
            ends = pc.and_(pc.greater_equal(column, least), pc.less_equal(column, greatest))
            found &= np.asarray(pc.fill_null(ends, False))
    return found


def in_batches(batches: Iterator[pa.RecordBatch], writer: Writer[Any]) -> int:
    """Write rows as they come; how many they are."""
    count = 0
    for batch in batches:
        writer.add(fitted(pa.Table.from_batches([batch]), writer.schema))
        count += batch.num_rows
    return count
