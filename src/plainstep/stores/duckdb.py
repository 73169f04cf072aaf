"""DuckDB files as stores to merge into.

A DuckDB file admits one writing process at a time, so it is held only while it is read or written: attached to
an in-memory instance that each process keeps (a tenth of the cost of an instance of its own), and detached.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import duckdb

from plainstep.core.positions import Mark
from plainstep.errors import PlainStepError, Refused, StoreError
from plainstep.stores import bookkeeping as books
from plainstep.stores.base import CaptureInfo, Commit, LedgerEntry, Source, TableInfo
from plainstep.stores.merging import Merge
from plainstep.stores.sql import quoted, text
from plainstep.stores.urls import file_of, locked

if TYPE_CHECKING:
    import pyarrow as pa


CONFIG: dict[str, Any] = {"autoinstall_known_extensions": False, "autoload_known_extensions": False}

STAGED = "plainstep_staged"

_guard = threading.Lock()
_instances: dict[int, duckdb.DuckDBPyConnection] = {}
_busy: dict[Path, threading.RLock] = {}


def _instance() -> duckdb.DuckDBPyConnection:
    """This process's in-memory instance."""
    with _guard:
        if os.getpid() not in _instances:
            _instances[os.getpid()] = duckdb.connect(config=CONFIG)
        return _instances[os.getpid()].cursor()


def _turn(path: Path) -> threading.RLock:
    """The lock by which threads of this process take turns at a file."""
    with _guard:
        return _busy.setdefault(path, threading.RLock())


@contextmanager
def opened(path: Path, read_only: bool, wait: float) -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection whose default database is the file. Waits while another process holds it.

    Raises:
        StoreError: the file stayed locked, is no DuckDB database, or cannot be read or written.
    """
    path = path.resolve()  # however it is named, one file has one lock
    with _turn(path):
        connection, detach = _attached(path, read_only, wait)
        try:
            yield connection
        except PlainStepError:
            raise
        except duckdb.Error as error:
            raise _explained(error, path) from error
        finally:
            _let_go(connection, detach)


def _attached(path: Path, read_only: bool, wait: float) -> tuple[duckdb.DuckDBPyConnection, str]:
    """A connection to the file, and the name to detach it by; no name where the connection is the process's own."""
    connection = _instance()
    name = f"plainstep_{threading.get_ident()}_{time.monotonic_ns()}"
    options = " (READ_ONLY)" if read_only else ""
    try:
        _attach_when_free(connection, f"ATTACH {text(str(path))} AS {quoted(name)}{options}", path, wait)
        connection.execute(f"USE {quoted(name)}")
        return connection, name
    except duckdb.Error as error:
        connection.close()
        if "already attached" in str(error):  # this very process has the file open: share its instance
            return _shared(path), ""
        raise _explained(error, path) from error


def _attach_when_free(connection: duckdb.DuckDBPyConnection, attach: str, path: Path, wait: float) -> None:
    until = time.monotonic() + wait
    pause = 0.005
    while True:
        try:
            connection.execute(attach)
            return
        except duckdb.Error as error:
            if "lock" not in str(error).lower() or "already attached" in str(error):
                raise
            if time.monotonic() > until:
                raise locked(path, wait) from error
        time.sleep(pause)
        pause = min(pause * 1.5, 0.2)


def _shared(path: Path) -> duckdb.DuckDBPyConnection:
    try:
        return duckdb.connect(str(path))
    except duckdb.Error as error:
        raise StoreError(
            f"{path} is open in this process in another way: {error}.",
            "DuckDB opens a file once a process.",
            "Close that connection and run the step again.",
        ) from error


def _let_go(connection: duckdb.DuckDBPyConnection, name: str) -> None:
    try:
        if name:
            connection.execute("USE memory")
            connection.execute(f"DETACH {quoted(name)}")
    finally:
        connection.close()


def _explained(error: duckdb.Error, path: Path) -> StoreError:
    told = str(error).splitlines()[0]
    if "not a valid DuckDB" in told:
        return StoreError(f"{path} is not a DuckDB database.", "", "Check the store's url in plainstep.toml.")
    return StoreError(f"DuckDB says of {path}: {told}", "Nothing was written.")


class DuckdbStore:
    """A DuckDB file.

    Args:
        name: the store's name in plainstep.toml.
        url: ``duckdb:///path``.
        base: the folder that relative paths start from.
        wait: how many seconds to wait while another process holds the file.
    """

    exclusive = True

    def __init__(self, name: str, url: str, base: Path, wait: float) -> None:
        self.name, self.url, self.wait = name, url, wait
        self.path = file_of(url, base)

    def opened(self, read_only: bool) -> AbstractContextManager[duckdb.DuckDBPyConnection]:
        """A connection whose default database is the file."""
        return opened(self.path, read_only, self.wait)

    def source(self, table: str, types: dict[str, str], how: str = "capture", reader: str = "") -> Source:
        """Always refused: DuckDB has no triggers, so nothing records its changes."""
        raise self._no_capture()

    def target(self) -> DuckdbTarget:
        """The file as a place to merge into."""
        return DuckdbTarget(self)

    def capture_on(self, table: str, key: tuple[str, ...] = (), how: str = "capture") -> tuple[CaptureInfo, bool]:
        """Always refused."""
        raise self._no_capture()

    def capture_off(self, table: str, how: str = "capture") -> CaptureInfo:
        """Always refused."""
        raise self._no_capture()

    def capture_refresh(self, table: str, how: str = "capture") -> tuple[CaptureInfo, str]:
        """Always refused."""
        raise self._no_capture()

    def captures(self) -> list[CaptureInfo]:
        """Nothing is ever captured here."""
        return []

    def _no_capture(self) -> Refused:
        return Refused(
            f"{self.name} is a DuckDB file, whose changes cannot be captured.",
            "DuckDB has no triggers, so nothing would record its changes.",
            "Name a store of another kind after 'from', such as sqlite:///town.db.",
        )


class DuckdbTarget:
    """A DuckDB file to merge into. Made when it is not there."""

    def __init__(self, store: DuckdbStore) -> None:
        self.store = store

    def _rows(self, sql: str, parameters: Sequence[Any]) -> list[Any]:
        if not self.store.path.exists():
            return []
        with self.store.opened(read_only=True) as connection:
            try:
                return connection.execute(sql, parameters).fetchall()
            except duckdb.CatalogException:
                return []

    def mark(self, load: str) -> Mark | None:
        """A load's mark, or None before its first step."""
        rows = self._rows(books.EMBEDDED.find_mark, [load])
        return books.mark_of(load, rows[0] if rows else None)

    def ledger(self, load: str | None = None, limit: int | None = None) -> list[LedgerEntry]:
        """The newest steps, oldest first."""
        return [books.entry_of(row) for row in reversed(self._rows(*books.EMBEDDED.find_entries(load, limit)))]

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none."""
        if not self.store.path.exists():
            return None
        with self.store.opened(read_only=True) as connection:
            return _table_info(connection, name)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as DuckDB would hold it.

        Raises:
            Refused: DuckDB has nothing to hold a column.
        """
        import pyarrow as pa

        long = {"large_string": pa.string(), "large_binary": pa.binary()}
        for field in schema:
            declaration(field.type)
        return pa.schema([(field.name, long.get(str(field.type), field.type)) for field in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        selected = ", ".join(quoted(field.name) for field in schema)
        with self.store.opened(read_only=True) as connection:
            for batch in connection.sql(f"SELECT {selected} FROM {quoted(name)}").to_arrow_reader(1 << 16):
                yield batch.cast(schema)

    def commit(self, commit: Commit) -> None:
        """Make all edits, move the mark and add the ledger row, in one transaction.

        Raises:
            MarkMoved: the mark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
        """
        with self.store.opened(read_only=False) as connection:
            connection.execute("BEGIN")
            try:
                _Merge(connection, commit).run()
                connection.execute("COMMIT")
            except BaseException as error:
                _roll_back(connection)
                if isinstance(error, duckdb.TransactionException):
                    raise books.moved(commit.mark.load) from error
                raise


def _roll_back(connection: duckdb.DuckDBPyConnection) -> None:
    with suppress(duckdb.Error):  # a COMMIT that failed has rolled back already
        connection.execute("ROLLBACK")


def _count(result: duckdb.DuckDBPyConnection) -> int:
    rows = result.fetchall()  # to the end: a result that is read half holds up its connection
    return int(rows[0][0]) if rows else 0


def _table_info(connection: duckdb.DuckDBPyConnection, name: str) -> TableInfo | None:
    try:
        first = connection.sql(f"SELECT * FROM {quoted(name)} LIMIT 1").to_arrow_table()
    except duckdb.CatalogException:
        return None
    return TableInfo(_plain(first.schema), first.num_rows > 0)


def _plain(schema: pa.Schema) -> pa.Schema:
    """The schema with times with a zone in UTC, whatever zone this machine is in."""
    import pyarrow as pa

    fields = []
    for field in schema:
        zoned = pa.types.is_timestamp(field.type) and field.type.tz is not None
        fields.append(pa.field(field.name, pa.timestamp("us", "UTC") if zoned else field.type))
    return pa.schema(fields)


def declaration(kind: pa.DataType) -> str:
    """The DuckDB type that holds an Arrow type.

    Raises:
        Refused: there is none.
    """
    import pyarrow as pa

    if pa.types.is_decimal(kind):
        if kind.precision > 38:
            raise Refused(f"DuckDB holds decimals of 38 digits at most, not {kind}.", "", "Leave the column out.")
        return f"DECIMAL({kind.precision},{kind.scale})"
    names = {
        "bool": "BOOLEAN",
        "date32[day]": "DATE",
        "time64[us]": "TIME",
        "timestamp[us]": "TIMESTAMP",
        "timestamp[us, tz=UTC]": "TIMESTAMPTZ",
        "int64": "BIGINT",
        "int32": "INTEGER",
        "int16": "SMALLINT",
        "int8": "TINYINT",
        "float": "REAL",
        "double": "DOUBLE",
        "string": "VARCHAR",
        "large_string": "VARCHAR",
        "binary": "BLOB",
        "large_binary": "BLOB",
    }
    if str(kind) not in names:
        raise Refused(f"DuckDB has no type here for {kind}.", "", "Leave the column out.")
    return names[str(kind)]


class _Merge(Merge):
    """The five primitives, in DuckDB's words.

    Rows are replaced by deleting and inserting: on a table without an index that is three times as fast as
    ON CONFLICT, which needs one.
    """

    def __init__(self, connection: duckdb.DuckDBPyConnection, commit: Commit) -> None:
        super().__init__(commit)
        self.connection = connection

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        return _count(self.connection.execute(sql, parameters))

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return bool(self.connection.execute(sql, parameters).fetchall())

    def table_info(self) -> TableInfo | None:
        return _table_info(self.connection, self.commit.table)

    def declaration(self, field: pa.Field) -> str:
        return declaration(field.type)

    @contextmanager
    def _staged(self, data: Any) -> Iterator[str]:
        """The data under a name that SQL can use."""
        self.connection.register(STAGED, data)
        try:
            yield STAGED
        finally:
            self.connection.unregister(STAGED)

    def _same_key(self, staged: str) -> str:
        return " AND ".join(f"{self.table}.{quoted(name)} = {staged}.{quoted(name)}" for name in self.key)

    def drop(self, keys: pa.Table) -> int:
        with self._staged(keys) as staged:
            return self.execute(f"DELETE FROM {self.table} USING {staged} WHERE {self._same_key(staged)}")

    def put(self, new: pa.Table, known: pa.Table) -> int:
        import pyarrow as pa

        if known.num_rows:
            self.odd += known.num_rows - self.drop(known.select(self.key))
        if new.num_rows:
            self.odd += self.drop(new.select(self.key))
        return self._insert(pa.concat_tables([new, known]), new.column_names)

    def _insert(self, data: Any, columns: Sequence[str]) -> int:
        names = ", ".join(quoted(name) for name in columns)
        with self._staged(data) as staged:
            return self.execute(f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {staged}")

    def _update(self, rows: pa.Table, value: str) -> int:
        """Set each column that is not in the key to a value, in which ``{old}`` and ``{new}`` are its two sides."""
        with self._staged(rows) as staged:
            sets = [
                f"{name} = {value.format(old=f'{self.table}.{name}', new=f'{staged}.{name}')}"
                for name in map(quoted, self.others(rows))
            ]
            return self.execute(
                f"UPDATE {self.table} SET {', '.join(sets)} FROM {staged} WHERE {self._same_key(staged)}"
            )

    def patch(self, rows: pa.Table) -> int:
        return self._update(rows, "{new}")

    def add(self, rows: pa.Table) -> int:
        names = ", ".join(quoted(name) for name in rows.column_names)
        self._update(rows, "coalesce({old}, 0) + {new}")
        with self._staged(rows) as staged:
            self.execute(
                f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {staged} "
                f"WHERE NOT EXISTS (SELECT 1 FROM {self.table} WHERE {self._same_key(staged)})"
            )
        return int(rows.num_rows)

    def stream(self, schema: pa.Schema, batches: Iterator[pa.RecordBatch]) -> int:
        import pyarrow as pa

        return self._insert(pa.RecordBatchReader.from_batches(schema, batches), schema.names)
