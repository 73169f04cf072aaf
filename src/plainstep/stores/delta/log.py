"""The log of a Delta table: what each version did, and which files one is made of. No row is read here."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote, unquote

from plainstep.copying import replace
from plainstep.deferred import pq
from plainstep.errors import DataError, Refused
from plainstep.properties import cached_property
from plainstep.stores.objects import Objects

COMMIT = re.compile(r"(\d{20})\.json")
CHECKPOINT = re.compile(r"(\d{20})\.checkpoint(?:\.(\d{10})\.(\d{10})|\.[0-9a-f-]{36})?\.(parquet|json)")
# What a reader must know of to read a table right, and what of that is known here.
KNOWN = {
    "columnMapping", "deletionVectors", "timestampNtz", "v2Checkpoint", "vacuumProtocolCheck", "typeWidening", "typeWidening-preview",
}  # fmt: skip
# The highest protocol by number alone: 2 is column mapping, from 3 on features are listed.
LISTED = 3

# What to do where a source lacks what it was.
RELOAD = "plainstep reload LOAD compares the whole table, if that can be read, and goes on from there."

# The names of files of our own begin so.
OURS = "plainstep-"

Action = dict[str, Any]


@dataclass(frozen=True)
class DataFile:
    """A data file as a version has it.

    Attributes:
        path: its name, from where the table begins.
        partition: the values of the columns that stand in no file; None where the log does not repeat them.
        vector: its deletion vector, or None.
        size: its bytes.
        stats: what its rows hold, as JSON; empty where nobody says.
    """

    path: str
    partition: Mapping[str, str | None] | None = field(hash=False)
    vector: Mapping[str, Any] | None = field(default=None, hash=False)
    size: int = field(default=0, compare=False)
    stats: str = field(default="", compare=False)

    @staticmethod
    def of(action: Action) -> DataFile:
        """What an action says of a file."""
        return DataFile(
            unquote(action["path"]),
            action.get("partitionValues"),
            action.get("deletionVector"),
            action.get("size") or 0,
            action.get("stats") or "",
        )

    def ends(self, name: str) -> tuple[Any, Any]:
        """The least and the greatest value of a column; of those that the log does not tell, None."""
        stats = json.loads(self.stats) if self.stats else {}
        found = stats.get("minValues", {}).get(name), stats.get("maxValues", {}).get(name)
        # Others may cut long texts, and the greatest then lies below what is there.
        return found if self.path.startswith(OURS) or not isinstance(found[1], str) else (None, None)

    @property
    def quoted(self) -> str:
        """Its name as the log writes it."""
        return quote(self.path, safe="/=+,@-._~!$&'()*;:")

    @property
    def key(self) -> tuple[str, str]:
        """What tells it apart in the log: a file with other rows deleted is another one."""
        vector = self.vector or {}
        told = f"{vector['storageType']}{vector['pathOrInlineDv']}@{vector.get('offset')}" if vector else ""
        return self.path, told


@dataclass(frozen=True)
class Version:
    """What a version did.

    Attributes:
        number: its number.
        at: when it was made.
        added, removed: files that it added and removed, where their rows changed.
        recorded: files in which the changes themselves are recorded.
        metadata, protocol: what it says of the table, if it says anything.
    """

    number: int
    at: datetime | None
    added: list[DataFile]
    removed: list[DataFile]
    recorded: list[DataFile]
    metadata: Action | None
    protocol: Action | None

    @staticmethod
    def of(number: int, actions: list[Action], changed: datetime | None) -> Version:
        """A version out of its actions."""
        said: Action = next((one["commitInfo"] for one in actions if "commitInfo" in one), {})
        millis = said.get("inCommitTimestamp") or said.get("timestamp")
        at = datetime.fromtimestamp(millis / 1000, UTC) if isinstance(millis, int | float) else changed

        def files(name: str) -> list[DataFile]:
            found = [one[name] for one in actions if one.get(name)]
            return [DataFile.of(one) for one in found if name == "cdc" or one.get("dataChange", True)]

        def last(name: str) -> Action | None:
            return next((one[name] for one in reversed(actions) if one.get(name)), None)

        return Version(number, at, files("add"), files("remove"), files("cdc"), last("metaData"), last("protocol"))

    @property
    def changes_rows(self) -> bool:
        """Whether any row may have changed."""
        return bool(self.added or self.removed or self.recorded)


@dataclass
class State:
    """What a version is made of.

    Attributes:
        number: the version.
        metadata, protocol: what the log says of the table.
        files: its data files, by what tells them apart.
        stamp: when its commit was written, which tells it from another table's in its place; None where that is not known.
    """

    number: int = -1
    metadata: Action = field(default_factory=dict)
    protocol: Action = field(default_factory=dict)
    files: dict[tuple[str, str], DataFile] = field(default_factory=dict)
    stamp: datetime | None = None

    def apply(self, action: Action) -> None:
        """Go on by an action."""
        if action.get("metaData"):
            self.metadata = action["metaData"]
        if action.get("protocol"):
            self.protocol = action["protocol"]
        if action.get("remove"):
            self.files.pop(DataFile.of(action["remove"]).key, None)
        if action.get("add"):
            found = DataFile.of(action["add"])
            self.files[found.key] = found


class Log:
    """The log of a table, as it stands when it is first looked at.

    Args:
        objects: where the table is.
        folder: the table's folder there; empty for all of it.
        place: its name, for messages.
        remedy: what to do where something of it is gone.
        upto: the version at which it is to end; None for the newest.
        since: an earlier version to go on from, so that what came before is not listed: an earlier state's, or a checkpoint's.
    """

    def __init__(
        self,
        objects: Objects,
        folder: str,
        place: str,
        remedy: str = RELOAD,
        upto: int | None = None,
        since: int | None = None,
    ) -> None:
        self.objects, self.place, self.remedy, self.upto, self.since = objects, place, remedy, upto, since
        self.folder = f"{folder.strip('/')}/" if folder.strip("/") else ""

    @cached_property
    def _listed(self) -> dict[str, datetime]:
        folder = f"{self.folder}_delta_log"
        after = "" if self.since is None else f"{folder}/{self.since:020}"  # before all of that version's files
        found = ((one.name.removeprefix(f"{folder}/"), one.changed) for one in self.objects.names(folder, after))
        return {name: changed for name, changed in found if "/" not in name}

    @property
    def last_checkpoint(self) -> int | None:
        """The version of the last checkpoint, as far as a file says it that is there to spare a listing; None where it does not."""
        try:
            return int(json.loads(self.objects.read(f"{self.folder}_delta_log/_last_checkpoint"))["version"])
        except (FileNotFoundError, ValueError, KeyError, TypeError):
            return None

    def goes_on(self, known: State | None) -> bool:
        """Whether the newest version can be told from what is listed: an earlier state still stands, or a checkpoint is there."""
        return self.since in self.checkpoints or (known is not None and self._still_stands(known))

    def _still_stands(self, known: State) -> bool:
        return known.stamp == self._listed.get(f"{known.number:020}.json") is not None

    @cached_property
    def commits(self) -> list[int]:
        """The versions whose commits are there, in order."""
        found = sorted(int(found[1]) for name in self._listed if (found := COMMIT.fullmatch(name)))
        return found if self.upto is None else [one for one in found if one <= self.upto]

    @cached_property
    def checkpoints(self) -> dict[int, list[str]]:
        """The files of each checkpoint that is whole."""
        parts: dict[tuple[int, str], list[str]] = {}
        for name in sorted(self._listed):
            found = CHECKPOINT.fullmatch(name)
            if found:
                parts.setdefault((int(found[1]), found[3] or name), []).append(name)
        return {
            number: names for (number, whole), names in parts.items() if not whole.isdigit() or len(names) == int(whole)
        }

    @property
    def head(self) -> int:
        """The newest version.

        Raises:
            Refused: there is no table.
        """
        if not self.commits:
            raise Refused(
                f"There is no Delta table {self.place}.", "", "Check 'from' in the load, and the store's URL."
            )
        return self.commits[-1]

    @property
    def oldest(self) -> int:
        """The version after which all commits are there."""
        found = self.head
        there = set(self.commits)
        while found - 1 in there:
            found -= 1
        return found - 1

    def version(self, number: int) -> Version:
        """What a version did.

        Raises:
            Refused: its commit is gone.
        """
        name = f"{number:020}.json"
        return Version.of(number, list(self._actions(name)), self._listed.get(name))

    def completed(self, version: Version) -> Version:
        """A version with the partitions of the files that it removed, which some writers leave out.

        Raises:
            Refused: what the version before it was made of is not held any more.
        """
        if all(file.partition is not None for file in version.removed):
            return version
        before = self.state(version.number - 1).files
        return replace(version, removed=[before.get(file.key, file) for file in version.removed])

    def _actions(self, name: str) -> Iterator[Action]:
        try:
            lines = self.objects.read(f"{self.folder}_delta_log/{name}").decode().splitlines()
            yield from (json.loads(line) for line in lines if line.strip())
        except FileNotFoundError:
            raise self.refuse_gone(f"the commit {name}") from None
        except ValueError as error:
            raise DataError(
                f"The commit {name} of {self.place} cannot be read: {error}.",
                "What the table is made of is not known.",
                self.remedy,
            ) from error

    def refuse_gone(self, what: str) -> Refused:
        """The error for what was cleaned up before it was read."""
        return Refused(
            f"{self.place} lacks {what}.",
            "What it tells of was cleaned up, or vacuumed, before it was read.",
            self.remedy,
        )

    def state(self, number: int, known: State | None = None) -> State:
        """What a version is made of: the newest checkpoint before it, and what came after.

        Args:
            number: the version.
            known: an earlier version, to go on from.

        Raises:
            Refused: that is not held any more, or it takes features that are not known.
        """
        start = max((one for one in self.checkpoints if one <= number), default=-1)
        if known is not None and start <= known.number <= number and self._still_stands(known):
            return self._gone_on(replace(known, number=number, files=dict(known.files)), known.number)
        found = State(number)
        for name in self.checkpoints.get(start, ()):
            for action in self._checkpointed(name):
                found.apply(action)
        return self._gone_on(found, start)

    def _gone_on(self, found: State, start: int) -> State:
        found.stamp = self._listed.get(f"{found.number:020}.json")
        for one in range(start + 1, found.number + 1):
            for action in self._actions(f"{one:020}.json"):
                found.apply(action)
        if not found.metadata:
            raise DataError(f"The log of {self.place} does not say what its table is.")
        refuse_unknown(found.protocol, self.place)
        return found

    def _checkpointed(self, name: str) -> Iterator[Action]:
        if name.endswith(".json"):
            actions = list(self._actions(name))
        else:
            with self.objects.open(f"{self.folder}_delta_log/{name}") as opened:
                actions = [_plain(one) for one in _rows(opened)]
        for action in actions:
            if action.get("sidecar"):
                path = unquote(action["sidecar"]["path"])
                with self.objects.open(f"{self.folder}_delta_log/_sidecars/{path}") as opened:
                    yield from (_plain(one) for one in _rows(opened))
            else:
                yield action


def _rows(opened: Any) -> Iterator[Action]:
    file = pq.ParquetFile(opened)
    names = [name for name in ("metaData", "protocol", "add", "sidecar") if name in file.schema_arrow.names]
    for batch in file.iter_batches(columns=names):
        yield from batch.to_pylist()


def _plain(action: Action) -> Action:
    """An action of a checkpoint as one of a commit: maps are lists of pairs there."""
    for part in filter(None, action.values()):
        for name in ("partitionValues", "configuration"):
            if isinstance(part.get(name), list):
                part[name] = dict(part[name])
    metadata = action.get("metaData")
    if metadata and isinstance(metadata["format"].get("options"), list):
        metadata["format"]["options"] = dict(metadata["format"]["options"])
    return action


def refuse_unknown(protocol: Action, place: str) -> None:
    """Refuse a table that takes a reader more than is known here.

    Raises:
        Refused: it does.
    """
    version = protocol.get("minReaderVersion", 1)
    unknown = sorted(set(protocol.get("readerFeatures") or ()) - KNOWN) if version == LISTED else []
    if version > LISTED or unknown:
        what = ", ".join(unknown) or f"version {version} of its protocol"
        raise Refused(
            f"{place} takes a reader that knows {what}.",
            "Without that, its rows would be read wrong.",
            "Read it by an engine that does, or turn the feature off.",
        )
