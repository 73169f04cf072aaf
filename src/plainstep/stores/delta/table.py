"""A Delta table as one that keeps its versions."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from plainstep.deferred import pa, pc
from plainstep.errors import Refused
from plainstep.stores.delta.log import DataFile, Log, State, Version
from plainstep.stores.delta.rows import Rows
from plainstep.stores.delta.schema import MODE, columns_of
from plainstep.stores.lake.changes import rows_of
from plainstep.stores.lake.source import VersionedTable
from plainstep.stores.objects import Objects

# The column of recorded changes that says what each is; and its words, for rows that were and for rows that are.
KIND = "_change_type"
WERE, ARE = ("delete", "update_preimage"), ("insert", "update_postimage")
# So many of the newest versions are looked at, to see whether a table records its changes.
RECENT = 20


class DeltaTable(VersionedTable):
    """A Delta table.

    Args:
        objects: where its store is.
        folder: its folder there.
        place: its name, for messages.
    """

    kind = "a Delta table"
    kept = "delta.logRetentionDuration says how long they are kept."
    to_record = " (where a table is set to record its changes, they are read as they were made, and less is read)"

    def __init__(self, objects: Objects, folder: str, place: str) -> None:
        self.objects, self.folder, self.place = objects, folder, place
        self._log: Log | None = None
        self._state: State | None = None
        self._seen: Log | None = None

    @property
    def log(self) -> Log:
        """Its log, as it stood when it was last asked how far it goes."""
        if self._log is None:
            self._log = Log(self.objects, self.folder, self.place)
        return self._log

    @property
    def state(self) -> State:
        """The newest version."""
        if self._state is None or self._seen is not self.log:
            self._state, self._seen = self.log.state(self.log.head, self._state), self.log
        return self._state

    def renew(self) -> None:
        self._log = None

    @property
    def identity(self) -> str:
        return str(self.state.metadata.get("id"))

    @property
    def head(self) -> int:
        return self.log.head

    @property
    def oldest(self) -> int:
        return self.log.oldest

    @property
    def records(self) -> bool:
        """As its newest version shows in which rows went: what only brings rows is recorded by its files."""
        for number in reversed(self.log.commits[-RECENT:]):
            version = self.log.version(number)
            if version.recorded or version.removed:
                return bool(version.recorded)
        return False

    def columns(self) -> dict[str, str]:
        is_mapped = (self.state.metadata.get("configuration") or {}).get(MODE, "none") != "none"
        return {one.name: one.physical for one in columns_of(self.state.metadata, self.place)} if is_mapped else {}

    def at(self, number: int) -> datetime | None:
        return self.log.version(number).at if number in self.log.commits else None

    def versions(self, after: int, upto: int) -> Iterator[Version]:
        return (self.log.version(number) for number in range(after + 1, upto + 1))

    def other_table(self, version: Version) -> Refused | None:
        if version.metadata is None or version.metadata.get("id") == self.identity:
            return None
        return Refused(
            f"Version {version.number} made another table of {self.place}.",
            "What became of the rows before, its log does not tell.",
            "plainstep reload LOAD compares the whole table and goes on from there.",
        )

    def rows(self) -> Rows:
        return Rows(self.log, self.state.metadata)

    def files(self) -> Sequence[DataFile]:
        return list(self.state.files.values())

    def sides(self, version: Version, rows: Rows) -> tuple[pa.Table, pa.Table]:
        """The rows that a version took away, and those that it brought: as it recorded them, or as its files tell."""
        whole = self.log.completed(version)
        if not whole.recorded:
            return rows_of(whole.removed, whole.added, rows)
        found = pa.concat_tables([rows.of(file, (KIND,)) for file in whole.recorded])
        old, new = (found.filter(pc.is_in(found[KIND], value_set=pa.array(words))) for words in (WERE, ARE))
        return old.drop_columns([KIND]), new.drop_columns([KIND])
