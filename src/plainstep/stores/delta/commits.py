"""One commit of a Delta table: a step's rows, and the book that says how far its load is merged by them."""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Sequence
from typing import TYPE_CHECKING

from plainstep.core.positions import MergedTable
from plainstep.deferred import pa
from plainstep.stores.books import Book, followed_by, taken_over
from plainstep.stores.delta.books import PROPERTY, LakeBooks
from plainstep.stores.delta.deletions import in_file, inline, name_of, packed
from plainstep.stores.delta.log import Action, DataFile, Log, State
from plainstep.stores.delta.rows import Rows
from plainstep.stores.delta.schema import APPENDS, ASKS, VECTORS, held_as, is_on, schema_text
from plainstep.stores.delta.writer import Writer
from plainstep.stores.lake.commits import LakeCommit, refuse_what_asks, schema_of
from plainstep.stores.records import Commit, LedgerEntry, Part, TableInfo

if TYPE_CHECKING:
    from plainstep.core.arrays import Ints

# What is written here needs no newer reader, and no newer writer; but times without a zone do.
PLAIN = {"minReaderVersion": 1, "minWriterVersion": 2}
ZONELESS, MARKING = "timestampNtz", "deletionVectors"
# Bytes up to which a deletion vector stands in the log itself.
INLINE = 512
# Features of a table that a writer may pass over, where no column and no property uses them.
PASSED_OVER = {
    "appendOnly", "invariants", "checkConstraints", "changeDataFeed", "generatedColumns", "columnMapping", "identityColumns",
    MARKING, ZONELESS, "v2Checkpoint", "vacuumProtocolCheck",
}  # fmt: skip
# What a column's metadata says that a writer would have to keep to.
BINDING = ("delta.invariants", "delta.generationExpression", "delta.identity.start", "delta.columnMapping.id")


class TableCommit(LakeCommit[State, Action]):
    """A commit, tried on one version of a table.

    Args:
        books: the books of the table's loads.
        commit: what to write.
        table: the table's name.
        log: the table's log.
    """

    def __init__(self, books: LakeBooks, commit: Commit, table: str, log: Log) -> None:
        super().__init__(commit, table)
        self.books, self.objects, self.log = books, books.objects, log

    def made(self, state: State | None, book: Book | None, entry: LedgerEntry) -> bool:
        actions = [self._edited(part, state, entry) for part in self.commit.parts]
        metadata, changes = actions[0] if actions else (dict(state.metadata) if state else {}, [])
        self.refuse_contradictions(entry)
        self._note(metadata, entry, book, bool(_files_after(state, changes)))
        number = (state.number if state else -1) + 1
        lines = [
            self._info(number),
            *self._protocol(metadata, state),
            {"metaData": metadata},
            *changes,
            self._transaction(),
        ]
        data = "\n".join(json.dumps(one, ensure_ascii=False) for one in lines).encode()
        with self.committing():
            return self.objects.put(f"{self.log.folder}_delta_log/{number:020}.json", data, new=True)

    def remove(self, names: Sequence[str]) -> None:
        self.objects.remove([self.log.folder + name for name in names])

    def names(self, adds: Sequence[Action]) -> list[str]:
        return [one["path"] for one in adds]

    def _edited(self, part: Part, state: State | None, entry: LedgerEntry) -> tuple[Action, list[Action]]:
        """What the table's log says of it from here on, and the files that go and come."""
        rows = Rows(self.log, state.metadata) if state else None
        info = TableInfo(rows.schema, bool(state.files), state.metadata["id"]) if rows and state else None
        fit = part.fit(info)
        entry.note = "; ".join(filter(None, (fit.note, entry.note)))
        schema = schema_of(part, info, fit, held_as)
        if rows is None:
            rows = Rows(self.log, {"schemaString": schema_text(schema)})
        metadata = dict(state.metadata) if state else _new_metadata(self.books.vectors)
        files = list(state.files.values()) if state else []
        writer = self._writer(schema, part)
        found = self.merged(part, rows, files, writer, entry, bool(fit.shed or fit.widened), is_on(metadata, VECTORS))
        metadata["schemaString"] = schema_text(schema)
        removes = [{"remove": _removal(file)} for file in found.removed]
        adds = [{"add": one} for one in (*writer.adds, *self.appended(part, self._writer(schema, part), entry))]
        adds += [{"add": self._marked(file, deleted)} for file, deleted in found.marked]
        return metadata, [*removes, *adds]

    def _writer(self, schema: pa.Schema, part: Part) -> Writer:
        return Writer(self.objects, self.log.folder, schema, part.key)

    def _marked(self, file: DataFile, deleted: Ints) -> Action:
        """A file with some of its rows deleted, as the log says it."""
        data, name = packed(deleted), uuid.uuid4()
        vector = inline(data, len(deleted))
        if len(data) > INLINE:
            body, vector = in_file(data, len(deleted), name)
            self.written.append(name_of(vector["pathOrInlineDv"]))
            self.objects.put(self.log.folder + self.written[-1], body, new=True)
        stats = json.loads(file.stats) | {"tightBounds": False} if file.stats else {}
        return {
            "path": file.quoted, "partitionValues": dict(file.partition or {}), "size": file.size, "modificationTime": int(time.time() * 1000),
            "dataChange": True, "stats": json.dumps(stats, ensure_ascii=False), "deletionVector": vector,
        }  # fmt: skip

    def _note(self, metadata: Action, entry: LedgerEntry, book: Book | None, holds_rows: bool) -> None:
        """Write the load's book, and name it among the table's properties."""
        commit = self.commit
        if commit.amends:
            return
        tables = (MergedTable(self.table, metadata["id"], holds_rows),) if commit.parts else ()
        after = followed_by(book, commit, entry, tables)
        properties = dict(metadata.get("configuration") or {})
        if commit.takes_over:
            properties |= self._taken_over(properties)
        metadata["configuration"] = properties | {PROPERTY + commit.watermark.load: self.books.write(after)}

    def _taken_over(self, properties: dict[str, str]) -> dict[str, str]:
        """The books of other loads that merged into the table, which know of this one from here on."""
        load, found = self.commit.watermark.load, {}
        for name, at in properties.items():
            if name.startswith(PROPERTY) and name != PROPERTY + load:
                found[name] = self.books.write(taken_over(self.books.read(at), self.table, load))
        return found

    def _protocol(self, metadata: Action, state: State | None) -> list[Action]:
        """What a reader and a writer must know, where that is not said yet."""
        zoneless = any(one["type"] == "timestamp_ntz" for one in json.loads(metadata["schemaString"])["fields"])
        needs = {name for name, holds in ((ZONELESS, zoneless), (MARKING, is_on(metadata, VECTORS))) if holds}
        known = set((state.protocol if state else {}).get("readerFeatures") or ())
        if state and needs <= known:
            return []
        if not needs:
            return [{"protocol": PLAIN}]
        before = state.protocol if state else {}
        return [
            {
                "protocol": {
                    "minReaderVersion": 3,
                    "minWriterVersion": 7,
                    "readerFeatures": sorted({*(before.get("readerFeatures") or ()), *needs}),
                    "writerFeatures": sorted({*(before.get("writerFeatures") or ("appendOnly", "invariants")), *needs}),
                }
            }
        ]

    def _info(self, number: int) -> Action:
        commit = self.commit
        said = {"load": commit.watermark.load, "step": commit.watermark.step}
        return {
            "commitInfo": {
                "timestamp": int(time.time() * 1000), "operation": "MERGE" if number else "CREATE TABLE", "operationParameters": {},
                "engineInfo": "plainstep", "isBlindAppend": False, "userMetadata": json.dumps(said, ensure_ascii=False),
            }
        }  # fmt: skip

    def _transaction(self) -> Action:
        watermark = self.commit.watermark
        return {
            "txn": {
                "appId": f"plainstep/{watermark.load}",
                "version": watermark.step,
                "lastUpdated": int(time.time() * 1000),
            }
        }


def refuse_others(state: State, place: str) -> None:
    """Refuse a table that asks more of its writers than is done here.

    Raises:
        Refused: it does.
    """
    metadata, properties = state.metadata, dict(state.metadata.get("configuration") or {})
    fields = json.loads(metadata["schemaString"])["fields"]
    unknown = sorted(set(state.protocol.get("writerFeatures") or ()) - PASSED_OVER)
    asked = sorted(name for name in properties if name.startswith(ASKS) and name != VECTORS and is_on(metadata, name))
    asks = {
        "is partitioned": bool(metadata.get("partitionColumns")),
        "takes rows only, and gives none back": is_on(metadata, APPENDS),
        f"asks its writers for {', '.join(asked)}": bool(asked),
        "has constraints": any(name.startswith("delta.constraints.") for name in properties),
        "has columns by other names, that are computed, or that are bound": any(
            name in (one.get("metadata") or {}) for one in fields for name in BINDING
        ),
        "has nested columns": any(not isinstance(one["type"], str) for one in fields),
        f"takes a writer that knows {', '.join(unknown)}": bool(unknown),
    }
    refuse_what_asks(place, asks)


def _new_metadata(vectors: bool) -> Action:
    return {
        "id": str(uuid.uuid4()), "name": None, "description": None, "format": {"provider": "parquet", "options": {}},
        "partitionColumns": [], "configuration": {VECTORS: "true"} if vectors else {}, "createdTime": int(time.time() * 1000),
    }  # fmt: skip


def _removal(file: DataFile) -> Action:
    found: Action = {
        "path": file.quoted, "deletionTimestamp": int(time.time() * 1000), "dataChange": True, "extendedFileMetadata": True,
        "partitionValues": dict(file.partition or {}), "size": file.size,
    }  # fmt: skip
    return found | ({"deletionVector": dict(file.vector)} if file.vector else {})


def _files_after(state: State | None, changes: list[Action]) -> set[str]:
    found = {file.path for file in state.files.values()} if state else set()
    found -= {one["remove"]["path"] for one in changes if "remove" in one}
    return found | {one["add"]["path"] for one in changes if "add" in one}
