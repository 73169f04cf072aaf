"""Delta tables, written by the library that others write them with; and deletion vectors, which it does not write."""

from __future__ import annotations

import json
import re
import struct
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
from deltalake import DeltaTable, TableFeatures, write_deltalake
from pyroaring import BitMap64

from plainstep.stores.delta.deletions import MAGIC, in_file, inline
from tests.lakeside import VersionedTables

# A table that records its changes: the format names the property after the feature, and the library that writes knows that by name.
RECORDED = {f"delta.enable{str(TableFeatures.ChangeDataFeed).rpartition('.')[2]}": "true"}


class Lake(VersionedTables):
    """Somebody who writes Delta tables."""

    url = "delta:///lake"
    configuration: dict[str, str] = {}

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.schemas: dict[str, pa.Schema] = {}

    def named(self, table: str) -> str:
        return re.sub(r"\W", "_", table)  # the library that writes takes no other folders

    def path(self, table: str) -> str:
        folder = self.folder / "lake" / self.named(table)
        folder.mkdir(parents=True, exist_ok=True)
        return str(folder)

    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        DeltaTable.create(self.path(table), schema, configuration=self.configuration)
        self.rows[table], self.schemas[table] = {}, schema

    def put(self, table: str, rows: list[Any], is_more: bool) -> None:
        mode: Any = "append" if is_more else "overwrite"
        write_deltalake(self.path(table), pa.Table.from_pylist(rows, self.schemas[table]), mode=mode)


class LakeInBucket(Lake):
    """The same, in object storage; see ``tests.storage``."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = f"delta+s3://larkmoor/{folder.name}"

    def path(self, table: str) -> str:
        return f"s3://larkmoor/{self.folder.name}/{self.named(table)}"


class RecordedLake(Lake):
    """Somebody who merges, into tables that record their changes."""

    configuration = RECORDED

    def commit(self, table: str, before: dict[Any, Any], rows: dict[Any, Any]) -> None:
        names = self.schemas[table].names
        if not all(name.isidentifier() for name in names):
            super().commit(table, before, rows)
            return
        other = [key for key in {*before, *rows} if before.get(key) != rows.get(key)]
        if not other:
            return
        some = [(rows.get(key) or before[key]) | {"gone": key not in rows} for key in other]
        source = pa.Table.from_pylist(some, self.schemas[table].append(pa.field("gone", pa.bool_())))
        sets = {name: f"s.{name}" for name in names}
        merge = DeltaTable(self.path(table)).merge(source, "t.k = s.k", source_alias="s", target_alias="t")
        merge.when_matched_delete("s.gone").when_matched_update(sets).when_not_matched_insert(sets).execute()


def vector(rows: Sequence[int], folder: Path | None = None) -> dict[str, Any]:
    """A deletion vector: in the log, or in a file of a table's folder, below a folder of its own as others name it."""
    data = struct.pack("<I", MAGIC) + bytes(BitMap64(rows).serialize())
    if folder is None:
        return inline(data, len(rows))
    name = uuid.uuid4()
    body, said = in_file(data, len(rows), name)
    (folder / "ab").mkdir(exist_ok=True)
    (folder / "ab" / f"deletion_vector_{name}.bin").write_bytes(body)
    return said | {"pathOrInlineDv": "ab" + said["pathOrInlineDv"]}


class ByHand:
    """A table whose log is written here, line by line.

    Args:
        folder: where it is made.
        schema: its columns, as the log says them.
    """

    def __init__(
        self, folder: Path, *fields: dict[str, Any], configuration: dict[str, str] | None = None, **more: Any
    ) -> None:
        self.folder, self.version = folder, 0
        (folder / "_delta_log").mkdir(parents=True)
        self.metadata = {
            "id": str(uuid.uuid4()), "format": {"provider": "parquet", "options": {}}, "partitionColumns": [],
            "configuration": configuration or {}, "schemaString": json.dumps({"type": "struct", "fields": fields}), **more,
        }  # fmt: skip
        self.commit({"protocol": {"minReaderVersion": 1, "minWriterVersion": 2}}, {"metaData": self.metadata})

    def commit(self, *actions: dict[str, Any], at: int = 0) -> None:
        stamp = {"commitInfo": {"timestamp": 1_790_000_000_000 + (at or self.version * 1000)}}
        lines = "\n".join(json.dumps(one) for one in (stamp, *actions))
        (self.folder / "_delta_log" / f"{self.version:020}.json").write_text(lines)
        self.version += 1

    def file(
        self, rows: pa.Table, name: str = "", partition: dict[str, str | None] | None = None, **more: Any
    ) -> dict[str, Any]:
        """A file of rows, as an action says it."""
        name = name or f"{uuid.uuid4()}.parquet"
        pq.write_table(rows, self.folder / name)
        return {
            "path": name, "partitionValues": partition or {}, "size": (self.folder / name).stat().st_size, "modificationTime": 0,
            "dataChange": True, **more,
        }  # fmt: skip


def field(name: str, kind: Any, physical: str = "", number: int = 0) -> dict[str, Any]:
    """A column, as the log says it."""
    said = {"delta.columnMapping.physicalName": physical, "delta.columnMapping.id": number} if physical else {}
    return {"name": name, "type": kind, "nullable": True, "metadata": said}
