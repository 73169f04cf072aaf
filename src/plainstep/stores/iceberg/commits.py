"""One commit of an Iceberg table: a snapshot with a step's rows, and the book of its load among the table's properties."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from plainstep.core.positions import MergedTable
from plainstep.deferred import deferred, pa
from plainstep.stores.books import Book, followed_by, is_full, taken_over, written
from plainstep.stores.iceberg.books import PROPERTY, CatalogBooks
from plainstep.stores.iceberg.rows import DataFile, Rows
from plainstep.stores.iceberg.schema import declared_as, held_as
from plainstep.stores.iceberg.table import FORMAT, IcebergTable, holds_files
from plainstep.stores.lake import commits
from plainstep.stores.lake.writer import Writer
from plainstep.stores.records import Commit, LedgerEntry, Part, TableInfo

(arrow_files,) = deferred("pyiceberg.io", "pyarrow")

# Of a table that is made: its format, and how many files of metadata are kept of those that every commit leaves behind.
MADE = {
    "format-version": str(FORMAT), "write.parquet.compression-codec": "zstd", "write.metadata.delete-after-commit.enabled": "true",
    "write.metadata.previous-versions-max": "20",
}  # fmt: skip
# The library tries a commit again by itself, and writes the same files after somebody else's: a step is made anew instead.
ONCE = {"commit.retry.num-retries": "0"}


class TableCommit(commits.LakeCommit[IcebergTable, Any]):
    """A commit, tried on one version of a table.

    Args:
        books: the books of the catalogue's loads.
        commit: what to write.
        table: the table's name.
        place: its name, for messages.
    """

    def __init__(self, books: CatalogBooks, commit: Commit, table: str, place: str) -> None:
        super().__init__(commit, table)
        self.books, self.catalog, self.place = books, books.catalog, place
        self._io: Any = None

    def made(self, state: IcebergTable | None, book: Book | None, entry: LedgerEntry) -> bool:
        parts = self.commit.parts
        # What is committed goes after the version that was read, and no other.
        transaction = state.table.transaction() if state else self.catalog.creation(self.table, parts[0].schema, MADE)
        table = transaction._table  # the library has no other way to what a new one is to be
        said = {"properties": table.metadata.properties | ONCE}
        table.metadata = table.metadata.model_copy(update=said | (_newest(table.metadata) if state else {}))
        self._io = table.io
        removed, adds = list[DataFile](), list[Any]()
        for part in parts:
            removed, adds = self._edited(part, state, transaction, entry)
        self.refuse_contradictions(entry)
        files = {one.path for one in state.files()} if state else set()
        holds_rows = bool(adds or files - {one.path for one in removed})
        self._note(transaction, entry, book, MergedTable(self.table, str(table.metadata.table_uuid), holds_rows))
        watermark = self.commit.watermark
        snapshot = transaction.update_snapshot(
            {"plainstep-load": watermark.load, "plainstep-step": str(watermark.step)}
        )
        with _lean(snapshot.overwrite() if removed or not adds else snapshot.fast_append()) as change:
            for file in removed:
                change.delete_data_file(file.source)
            for one in adds:
                change.append_data_file(one)
        with self.committing():
            return self.catalog.committed(transaction)

    def remove(self, names: Sequence[str]) -> None:
        for name in names:
            self._io.delete(name)

    def names(self, adds: Sequence[Any]) -> list[str]:
        return [one.file_path for one in adds]

    def _edited(
        self, part: Part, state: IcebergTable | None, transaction: Any, entry: LedgerEntry
    ) -> tuple[list[DataFile], list[Any]]:
        """The files that go and come."""
        rows = state.rows() if state else Rows(transaction._table, self.place)
        files = state.files() if state else ()
        info = TableInfo(rows.schema, bool(files), state.identity) if state else None
        fit = part.fit(info)
        entry.note = "; ".join(filter(None, (fit.note, entry.note)))
        schema = commits.schema_of(part, info, fit, held_as)
        if info is not None:
            _change(transaction, schema, fit.shed, fit.widened, fit.added)
        writer = _Writer(transaction, self._io, schema, part.key)
        found = self.merged(part, rows, files, writer, entry, bool(fit.shed), marks=False)
        appended = self.appended(part, _Writer(transaction, self._io, schema, part.key), entry)
        return found.removed, [*writer.adds, *appended]

    def _note(self, transaction: Any, entry: LedgerEntry, book: Book | None, merged: MergedTable) -> None:
        """Write the load's book among the table's properties."""
        commit = self.commit
        if commit.amends:
            return
        if book is not None and is_full(book):
            book = self.books.put_aside(book, transaction._table)
        after = followed_by(book, commit, entry, (merged,) if commit.parts else ())
        load = commit.watermark.load
        said = {PROPERTY + load: written(after).decode()}
        if commit.takes_over:
            others = [name for name in transaction._table.metadata.properties if name.startswith(PROPERTY)]
            for name in others:
                other = self.books.of_table(transaction._table, name.removeprefix(PROPERTY))
                if other is not None and name != PROPERTY + load:
                    said[name] = written(taken_over(other, self.table, load)).decode()
        transaction.set_properties(said)


def _newest(metadata: Any) -> dict[str, Any]:
    """Of a table's snapshots, those that a commit looks at. (The library copies all of them twenty times; the catalogue has its own.)"""
    wanted = {metadata.current_snapshot_id, *(one.snapshot_id for one in metadata.refs.values())}
    found = [one for one in metadata.snapshots if one.snapshot_id in wanted]
    return {"snapshots": found, "snapshot_log": [], "metadata_log": []}


def _lean(change: Any) -> Any:
    """The library's change of a table, without manifests of earlier snapshots that name no file any more.

    It keeps them all, and reads each in every commit: of a hundred steps, the last took five times as long as the first.
    """
    existing = change._existing_manifests
    change._existing_manifests = lambda: [one for one in existing() if holds_files(one)]
    return change


class _Writer(Writer[Any]):
    """Writes rows into files, one or more for each partition.

    Args:
        transaction: the library's, with the columns that the table is to have.
        io: the library's, which writes files.
        schema: the columns.
        key: the columns by which rows are arranged within files.
    """

    def __init__(self, transaction: Any, io: Any, schema: pa.Schema, key: Sequence[str]) -> None:
        super().__init__(schema, key)
        self._metadata, self._io = transaction.table_metadata, io

    def written(self, rows: pa.Table) -> list[Any]:
        return list(arrow_files._dataframe_to_data_files(self._metadata, rows, self._io))


def _change(
    transaction: Any, schema: pa.Schema, shed: Iterable[str], widened: Iterable[str], added: Iterable[str]
) -> None:
    """Change the columns of a table: those that go first, for one that comes may have the name of one of them."""
    if shed:
        with transaction.update_schema(allow_incompatible_changes=True) as change:
            for name in shed:
                change.delete_column((name,))
    if widened or added:
        with transaction.update_schema() as change:
            for name in widened:
                change.update_column((name,), declared_as(schema.field(name)))
            for name in added:
                change.add_column((name,), declared_as(schema.field(name)))


def refuse_others(table: IcebergTable) -> None:
    """Refuse a table that asks more of its writers than is done here.

    Raises:
        Refused: it does.
    """
    fields = table.table.schema().fields
    asks = {
        "has columns that take no null": any(one.required for one in fields),
        "has nested columns": any(not one.field_type.is_primitive for one in fields),
        "has columns of a type that is not written": any(str(one.field_type) in ("uuid",) for one in fields),
    }
    commits.refuse_what_asks(table.place, asks)
