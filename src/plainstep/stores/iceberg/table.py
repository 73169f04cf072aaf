"""An Iceberg table as one that keeps its versions: they are its snapshots, from the first to the current one, by their sequence numbers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from plainstep.core.arrays import Ints
from plainstep.deferred import np, pa, pc
from plainstep.errors import Refused
from plainstep.properties import cached_property
from plainstep.stores.iceberg.rows import DataFile, Rows
from plainstep.stores.lake.changes import rows_of
from plainstep.stores.lake.source import VersionedTable

# The format that is read and written: the one before has no order of versions of its own, the next one cannot be written here.
FORMAT = 2
# What entries of manifests say that they are of.
DATA, POSITIONS = 0, 1
# What became of the file of an entry.
EXISTING, DELETED = 0, 2


@dataclass(frozen=True)
class Snapshot:
    """A version.

    Attributes:
        snapshot: as the library that reads metadata has it.
        before: the one before it, or None.
        io: what reads its manifests.
    """

    snapshot: Any
    before: Snapshot | None
    io: Any

    @property
    def number(self) -> int:
        """Its number, rising with every one."""
        return int(self.snapshot.sequence_number)

    @property
    def at(self) -> datetime:
        """When it was made."""
        return datetime.fromtimestamp(self.snapshot.timestamp_ms / 1000, UTC)

    @property
    def changes_rows(self) -> bool:
        """Whether any row may have changed: not where files were only written anew."""
        return self.snapshot.summary.operation.value != "replace" and any(True for _ in self.did())

    def did(self) -> Iterator[Any]:
        """What it did, as entries of manifests: files that it added or removed."""
        for manifest in self.snapshot.manifests(self.io):
            if manifest.added_snapshot_id == self.snapshot.snapshot_id:
                for entry in manifest.fetch_manifest_entry(self.io, discard_deleted=False):
                    if entry.snapshot_id == self.snapshot.snapshot_id and int(entry.status) != EXISTING:
                        yield entry

    def holds(self, deletes: bool) -> Iterator[Any]:
        """What it is made of, as entries of manifests: data files, or files of deletes."""
        for manifest in self.snapshot.manifests(self.io):
            if (int(manifest.content) != DATA) == deletes and holds_files(manifest):
                yield from manifest.fetch_manifest_entry(self.io, discard_deleted=True)


def holds_files(manifest: Any) -> bool:
    """Whether a manifest names files that are there; some name only files that went in the snapshot that added it."""
    return bool(manifest.has_added_files() or manifest.has_existing_files())


class IcebergTable(VersionedTable):
    """An Iceberg table.

    Args:
        load: looks it up in its catalogue.
        place: its name, for messages.
        upto: the number of the snapshot at which it is to end; None for the newest.
    """

    kind = "an Iceberg table"
    kept = "Whoever expires snapshots decides how long they are kept."
    records = False

    def __init__(self, load: Callable[[], Any], place: str, upto: int | None = None) -> None:
        self._load, self.place, self.upto = load, place, upto
        self._positions: dict[str, pa.Table] = {}

    @cached_property
    def table(self) -> Any:
        """As it stood when it was last asked how far it goes.

        Raises:
            Refused: there is none, or it is of a format that is not read.
        """
        found = self._load()
        if found.format_version != FORMAT:
            raise Refused(
                f"{self.place} is an Iceberg table of format {found.format_version}, which is not read.",
                "The format 2 is: it numbers its snapshots, and says in files of deletes which rows are gone.",
                "Upgrade a table of format 1 (its property format-version says which it is).",
            )
        return found

    @cached_property
    def chain(self) -> dict[int, Snapshot]:
        """The current snapshot and those before it, as far as they are held, oldest first, by their numbers."""
        known = {one.snapshot_id: one for one in self.table.snapshots()}
        found, one = [], self.table.current_snapshot()
        while one is not None:
            found.append(one)
            # Those of a table of format 1 that was upgraded have the number 0, all of them.
            one = known.get(one.parent_snapshot_id) if one.sequence_number else None
        made: dict[int, Snapshot] = {}
        last: Snapshot | None = None
        for one in reversed(found):
            last = Snapshot(one, last, self.table.io)
            made[last.number] = last
        return {number: one for number, one in made.items() if self.upto is None or number <= self.upto}

    def newest_step(self, load: str) -> int:
        """The newest step of a load whose snapshot is part of the history; 0 if none is, or those that are left do not say."""
        told = (one.snapshot.summary for one in reversed(self.chain.values()))
        return next((int(one["plainstep-step"]) for one in told if one and one["plainstep-load"] == load), 0)

    def at_step(self, load: str, step: int) -> int | None:
        """The number of the last snapshot before a load's next step; None where that is not held any more."""
        found = self.head
        for number, one in reversed(self.chain.items()):
            told = one.snapshot.summary
            said = int(told["plainstep-step"]) if told and told["plainstep-load"] == load else None
            if said is not None and said <= step:
                return found if said == step else None
            found = number - 1 if said is not None else found
        return None

    def renew(self) -> None:
        for name in ("table", "chain"):
            self.__dict__.pop(name, None)

    @property
    def identity(self) -> str:
        return str(self.table.metadata.table_uuid)

    @property
    def head(self) -> int:
        return max(self.chain, default=0)

    @property
    def oldest(self) -> int:
        # Where snapshots were expired, the first one that is left may say that none was before it: its number tells.
        first = min(self.chain, default=0)
        return 0 if first == 1 else first

    def columns(self) -> dict[str, str]:
        return {one.name: str(one.field_id) for one in self.table.schema().fields}

    def at(self, number: int) -> datetime | None:
        return self.chain[number].at if number in self.chain else None

    def versions(self, after: int, upto: int) -> Iterator[Snapshot]:
        return (one for number, one in self.chain.items() if after < number <= upto)

    def rows(self) -> Rows:
        return Rows(self.table, self.place)

    def files(self) -> Sequence[DataFile]:
        return list(self.files_of(self.chain[self.head]).values()) if self.chain else []

    def files_of(self, snapshot: Snapshot) -> dict[str, DataFile]:
        """The data files of a version, by their names."""
        gone = self._gone(snapshot)
        return {
            entry.data_file.file_path: self._file(entry.data_file, gone.get(entry.data_file.file_path))
            for entry in snapshot.holds(deletes=False)
        }

    def sides(self, version: Snapshot, rows: Rows) -> tuple[pa.Table, pa.Table]:
        before, after = self._gone(version.before), self._gone(version)
        removed, added, marks = list[DataFile](), list[DataFile](), False
        for entry in version.did():
            if int(entry.data_file.content) != DATA:
                marks = True
            elif int(entry.status) == DELETED:
                removed.append(self._file(entry.data_file, before.get(entry.data_file.file_path)))
            else:
                added.append(self._file(entry.data_file, after.get(entry.data_file.file_path)))
        if marks:  # files that stay, of which other rows are deleted
            here, there = self.files_of(version), self.files_of(version.before) if version.before else {}
            for path in sorted(here.keys() & there.keys()):
                if not _same(before.get(path), after.get(path)):
                    removed.append(there[path])
                    added.append(here[path])
        return rows_of(removed, added, rows)

    def _file(self, data_file: Any, gone: Ints | None) -> DataFile:
        if data_file.file_format.value != "PARQUET":
            raise self._unread(f"files of {data_file.file_format.value} ({data_file.file_path})")
        spec = self.table.specs()[data_file.spec_id]
        constants = {
            one.source_id: data_file.partition[place]
            for place, one in enumerate(spec.fields)
            if str(one.transform) == "identity"
        }
        columns = {one.name: one for one in self.table.schema().fields}
        return DataFile(data_file.file_path, constants, gone, data_file, columns)

    def _gone(self, snapshot: Snapshot | None) -> dict[str, Ints]:
        """The numbers of the rows that are deleted, for each data file that has such in a version."""
        found: dict[str, list[Ints]] = {}
        for entry in snapshot.holds(deletes=True) if snapshot else ():
            if int(entry.data_file.content) != POSITIONS:
                raise self._unread("deletes by the values of columns (equality deletes)")
            table = self._deletes(entry.data_file)
            for path in pc.unique(table["file_path"]).to_pylist():
                rows = table["pos"].filter(pc.equal(table["file_path"], path))
                found.setdefault(path, []).append(rows.to_numpy())
        return {path: np.unique(np.concatenate(rows)) for path, rows in found.items()}

    def _deletes(self, file: Any) -> pa.Table:
        """A file of deletes: paths of data files, and numbers of rows in them. It never changes."""
        if file.file_path not in self._positions:
            if file.file_format.value != "PARQUET":
                raise self._unread(f"deletes in files of {file.file_format.value}")
            self._positions[file.file_path] = self.rows().deletes(file.file_path)
        return self._positions[file.file_path]

    def _unread(self, what: str) -> Refused:
        return Refused(
            f"{self.place} has {what}, which are not read.",
            "What its rows are would not be known.",
            "Have whoever maintains the table write its files anew, in Parquet and without such deletes (a compaction).",
        )


def _same(one: Ints | None, other: Ints | None) -> bool:
    if one is None or other is None:
        return one is other
    return np.array_equal(one, other)
