"""Iceberg tables, written by the library that others write them with; and files of deletes, which it does not write."""

from __future__ import annotations

import os
import re
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.manifest import (  # fmt: skip
    DataFile,
    DataFileContent,
    FileFormat,
    ManifestContent,
    ManifestEntry,
    ManifestEntryStatus,
    ManifestFile,
    ManifestWriterV2,
)
from pyiceberg.table import Table
from pyiceberg.table.snapshots import Operation
from pyiceberg.table.update.snapshot import _FastAppendFiles
from pyiceberg.typedef import Record

from plainstep.testing import Act
from tests.lakeside import VersionedTables

SPACE = "town"


def catalogue(folder: Path, **more: str) -> SqlCatalog:
    """A catalogue in a folder, made if it is not there."""
    (folder / "warehouse").mkdir(exist_ok=True)
    said = {"uri": f"sqlite:///{folder / 'catalog.db'}", "warehouse": (folder / "warehouse").as_uri()}
    found = SqlCatalog("default", **(said | more))
    found.create_namespace_if_not_exists(SPACE)
    return found


class Catalogued(VersionedTables):
    """Somebody who writes Iceberg tables."""

    url = "iceberg+sqlite:///catalog.db?warehouse=warehouse"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.catalogue = catalogue(folder)

    def named(self, table: str) -> str:
        return f"{SPACE}." + re.sub(r"\W", "_", table)

    def create(self, table: str, schema: pa.Schema, key: Sequence[str]) -> None:
        self.catalogue.create_table(self.named(table), schema)
        self.rows[table] = {}

    def stands(self, rows: dict[Any, Any], acts: Sequence[Act]) -> list[dict[Any, Any]]:
        """Rows that are put in place of others come in a snapshot of their own, after one that has none."""
        return [{}, *super().stands(rows, acts)]

    def put(self, table: str, rows: list[Any], is_more: bool) -> None:
        there = self.catalogue.load_table(self.named(table))
        change = there.append if is_more else there.overwrite
        change(pa.Table.from_pylist(rows, there.schema().as_arrow()))


class CataloguedInBucket(Catalogued):
    """The same, with files in object storage; see ``tests.storage``."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.url = f"iceberg+sqlite:///catalog.db?warehouse=s3://larkmoor/{folder.name}"
        where = {"s3.endpoint": os.environ["AWS_ENDPOINT_URL"], "s3.region": os.environ["AWS_REGION"]}
        self.catalogue = catalogue(folder, warehouse=f"s3://larkmoor/{folder.name}", **where)


class _Marks(_FastAppendFiles):
    """A snapshot that adds files of deletes."""

    marks: Sequence[DataFile] = ()

    def _manifests(self) -> list[ManifestFile]:
        where = f"{self._transaction.table_metadata.location}/metadata/{uuid.uuid4()}.avro"
        spec, schema = self._transaction.table_metadata.spec(), self._transaction.table_metadata.schema()
        with _DeleteManifest(spec, schema, self._io.new_output(where), self._snapshot_id, "deflate") as writer:
            for one in self.marks:
                writer.add(
                    ManifestEntry.from_args(
                        status=ManifestEntryStatus.ADDED, snapshot_id=self._snapshot_id, data_file=one
                    )
                )
        return [writer.to_manifest_file(), *self._existing_manifests()]


class _DeleteManifest(ManifestWriterV2):
    def content(self) -> ManifestContent:
        return ManifestContent.DELETES

    @property
    def _meta(self) -> dict[str, str]:
        return super()._meta | {"content": "deletes"}


def mark(
    table: Table, rows: dict[str, Sequence[int]], content: DataFileContent = DataFileContent.POSITION_DELETES
) -> None:
    """Delete rows by their numbers in data files, which stay."""
    pairs = [{"file_path": path, "pos": number} for path, numbers in rows.items() for number in sorted(numbers)]
    where = Path(table.location().removeprefix("file://")) / "data" / f"{uuid.uuid4()}-deletes.parquet"
    pq.write_table(pa.Table.from_pylist(pairs, pa.schema([("file_path", pa.string()), ("pos", pa.int64())])), where)
    one = DataFile.from_args(
        content=content, file_path=where.as_uri(), file_format=FileFormat.PARQUET, partition=Record(), record_count=len(pairs),
        file_size_in_bytes=where.stat().st_size,
    )  # fmt: skip
    one.spec_id = table.spec().spec_id
    with table.transaction() as transaction:
        producer = _Marks(Operation.DELETE, transaction, table.io)
        producer.marks = [one]
        producer.commit()
