"""Merging into DuckDB: rows, watermark and ledger row in one transaction."""

from __future__ import annotations

import re
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from itertools import count
from typing import TYPE_CHECKING, Any

from plainstep.core.changes.batch import in_tables
from plainstep.core.positions import MergedTable
from plainstep.deferred import duckdb, pa
from plainstep.errors import Refused
from plainstep.sql.literals import quoted, text
from plainstep.stores import ledger as books
from plainstep.stores.api import KeyedRows
from plainstep.stores.commit_errors import moved
from plainstep.stores.duckdb.connection import batches_of
from plainstep.stores.duckdb.table import DuckdbTable
from plainstep.stores.duckdb.types import declaration, plain
from plainstep.stores.keyed_rows import SqlRows
from plainstep.stores.merge import Merge, run
from plainstep.stores.records import Commit, LedgerEntry, TableInfo
from plainstep.stores.sql_target import SqlTarget

if TYPE_CHECKING:
    from plainstep.core.shapes.edits import Edits
    from plainstep.stores.duckdb.database import DuckdbDatabase

STAGED = "plainstep_staged"
# Rows of a stream that are inserted at a time. (DuckDB would read a stream in threads of its own; what a store gives is
# read in the thread that opened it.)
AT_ONCE = 1 << 19


class DuckdbTarget(SqlTarget):
    """A DuckDB file to merge into. Made when it is not there."""

    def __init__(self, database: DuckdbDatabase) -> None:
        super().__init__()
        self.database = database

    def asked(self, sql: Callable[[books.Books], str], parameters: Sequence[Any] = ()) -> list[Any]:
        """The rows of a query of the tables of watermarks and of steps; none where they are not there yet."""
        if not self.database.path.exists():
            return []
        with self.database.opened(read_only=True) as connection:
            kept = self.found.books(lambda: _kept_version(connection))
            try:
                return connection.execute(sql(kept), parameters).fetchall()
            except duckdb.CatalogException:
                return []

    def record_refusal(self, entry: LedgerEntry) -> None:
        """Write down that a step was refused, unless that is written already."""
        with self.database.opened(read_only=False) as connection:
            connection.execute(books.EMBEDDED.insert_refusal, books.entry_values(entry))

    def table(self, name: str, key: tuple[str, ...]) -> TableInfo | None:
        """A table's columns, or None if there is none."""
        if not self.database.path.exists():
            return None
        with self.database.opened(read_only=True) as connection:
            return _table_info(connection, name)

    def standing_table(self, name: str) -> MergedTable | None:
        """A table as it stands, as a watermark would keep it; None if there is none."""
        if not self.database.path.exists():
            return None
        with self.database.opened(read_only=True) as connection:
            try:
                row = connection.execute(f"SELECT 1 FROM {quoted(name)} LIMIT 1").fetchone()
            except duckdb.CatalogException:
                return None
            return MergedTable(name, _identity_in(_comment(connection, name)), row is not None)

    def fits(self, schema: pa.Schema) -> pa.Schema:
        """The schema as DuckDB would hold it.

        Raises:
            Refused: DuckDB has nothing to hold a column.
        """

        long = {"large_string": pa.string(), "large_binary": pa.binary()}
        for field in schema:
            declaration(field.type)
        return pa.schema([(field.name, long.get(str(field.type), field.type)) for field in schema])

    def rows(self, name: str, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """All rows of a table, in the given columns and types."""
        selected = ", ".join(quoted(field.name) for field in schema)
        with self.database.opened(read_only=True) as connection:
            for batch in batches_of(connection.sql(f"SELECT {selected} FROM {quoted(name)}").to_arrow_reader(1 << 16)):
                yield batch.cast(schema)

    def by_key(self, name: str) -> KeyedRows:
        """The rows of a table, to be looked up by key."""
        return SqlRows(DuckdbTable(self.database, name, {}))

    def commit(self, *commits: Commit) -> None:
        """Make all edits, move the watermarks and add the ledger rows, in one transaction.

        Raises:
            WatermarkMoved: the watermark is no longer where it was read.
            Refused: the edits contradict what is there, and the load is strict; or a part of a row has no row.
        """
        with self.database.opened(read_only=False) as connection:
            connection.execute("BEGIN")
            try:
                run([_Merge(connection, commit, self.found) for commit in commits])
                connection.execute("COMMIT")
            except BaseException as error:
                _roll_back(connection)
                if isinstance(error, duckdb.TransactionException) and _of_another(error):
                    raise moved(commits[0].watermark.load) from error
                if isinstance(error, duckdb.ConstraintException) and "still referenced" in str(error):
                    raise _still_referenced(error) from error
                raise


def _of_another(error: duckdb.Error) -> bool:
    """Whether a transaction failed for what another one wrote, and not, say, for want of room on the disk."""
    return any(
        word in str(error).lower() for word in ("conflict", "constraint", "has been altered", "has been dropped")
    )


def _still_referenced(error: duckdb.Error) -> Refused:
    told = str(error).splitlines()[0].removeprefix("Constraint Error: ").partition(". If")[0]
    return Refused(
        f"DuckDB refuses to delete a row: {told}.",
        "It cannot remove a row and the row that this points to in one transaction, so nothing was written.",
        "Make that table without the foreign key: a group keeps parents and children together without it.",
    )


def _roll_back(connection: duckdb.DuckDBPyConnection) -> None:
    with suppress(duckdb.Error):  # a COMMIT that failed has rolled back already
        connection.execute("ROLLBACK")


def _count(result: duckdb.DuckDBPyConnection) -> int:
    rows = result.fetchall()  # to the end: a result that is half read blocks its connection
    return int(rows[0][0]) if rows else 0


def _table_info(connection: duckdb.DuckDBPyConnection, name: str) -> TableInfo | None:
    try:
        first = connection.sql(f"SELECT * FROM {quoted(name)} LIMIT 1").to_arrow_table()
    except duckdb.CatalogException:
        return None

    return TableInfo(plain(first.schema), first.num_rows > 0, _identity_in(_comment(connection, name)))


# What stands in a table's comment for its identity: it goes with the table, also under another name, and with no copy.
# (DuckDB numbers its tables anew whenever it opens a file.)
IDENTITY = re.compile(r"\[plainstep ([0-9a-f]{32})\]")


def _comment(connection: duckdb.DuckDBPyConnection, name: str) -> str:
    sql = "SELECT comment FROM duckdb_tables() WHERE database_name = current_database() AND schema_name = 'main' AND lower(table_name) = lower(?)"
    rows = connection.execute(sql, [name]).fetchall()
    return str(rows[0][0] or "") if rows else ""


def _identity_in(comment: str) -> str:
    """What tells a table from another one of its name, or empty."""
    found = IDENTITY.search(comment)
    return found[1] if found else ""


def _kept_version(connection: duckdb.DuckDBPyConnection) -> int | None:
    """The format of the tables of watermarks and of steps, or None if they are not there yet."""
    kept = books.EMBEDDED
    sql = "SELECT table_name FROM duckdb_tables() WHERE database_name = current_database() AND table_name IN (?, ?)"
    there = {name for (name,) in connection.execute(sql, books.telling(kept)).fetchall()}

    def first(query: str) -> Sequence[Any] | None:
        rows = connection.execute(query).fetchall()
        return rows[0] if rows else None

    return books.version_of(kept, there, first)


# Loads of a group are merged on one connection, in turns: each has names of its own.
_numbers = count()


class _Stage:
    """Rows that SQL reads under a name, others after these under the same one.

    DuckDB keeps whatever was registered under a name until its transaction ends, though the name is given up: with a name for each round,
    all rows of a window would be kept.

    Args:
        name: the name.

    Attributes:
        rows: what stands under it now.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.rows: pa.Table | None = None

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The rows, as Arrow's protocol for streams has them."""
        assert self.rows is not None
        return self.rows.__arrow_c_stream__(requested_schema)


class _Merge(Merge):
    """The five primitives, in DuckDB's words.

    Rows are replaced by deleting and inserting: on a table without an index that is three times as fast as
    ON CONFLICT, which needs one.
    """

    def __init__(self, connection: duckdb.DuckDBPyConnection, commit: Commit, kept: books.FoundBooks) -> None:
        super().__init__(commit, kept)
        self.connection = connection
        self._referenced_tables: set[str] | None = None
        self._stages: dict[pa.Schema, _Stage] = {}

    def execute(self, sql: str, parameters: Sequence[Any] = ()) -> int:
        return _count(self.connection.execute(sql, parameters))

    def finds(self, sql: str, parameters: Sequence[Any]) -> bool:
        return bool(self.connection.execute(sql, parameters).fetchall())

    def table_info(self) -> TableInfo | None:
        return _table_info(self.connection, self.part.table)

    def kept_version(self) -> int | None:
        return _kept_version(self.connection)

    def stamp(self) -> str:
        said = _comment(self.connection, self.part.table) or f"Merged by the load {self.commit.watermark.load}."
        identity = uuid.uuid4().hex
        self.execute(f"COMMENT ON TABLE {self.table} IS {text(f'{said} [plainstep {identity}]')}")
        return identity

    def declaration(self, field: pa.Field) -> str:
        return declaration(field.type)

    @contextmanager
    def _staged(self, rows: pa.Table) -> Iterator[str]:
        """The rows under a name that SQL can use."""
        stage = self._stages.get(rows.schema)
        if stage is None:
            stage = self._stages[rows.schema] = _Stage(f"{STAGED}_{next(_numbers)}")
            stage.rows = rows
            self.connection.register(stage.name, stage)
        stage.rows = rows
        try:
            yield stage.name
        finally:
            stage.rows = None

    def _same_key(self, staged: str) -> str:
        return " AND ".join(f"{self.table}.{quoted(name)} = {staged}.{quoted(name)}" for name in self.key)

    def drop(self, keys: pa.Table) -> int:
        with self._staged(keys) as staged:
            return self.execute(f"DELETE FROM {self.table} USING {staged} WHERE {self._same_key(staged)}")

    def remove(self, edits: Edits) -> None:
        """Rows that go leave with those that are replaced: a pass over the table's keys is most of what either costs."""
        known = edits.put.slice(edits.new).select(self.key) if edits.put is not None else None
        if known is not None and known.num_rows and self._referenced():
            known = None  # it stays, and is updated: other rows point to it
        if edits.drop is None or not edits.drop.num_rows or known is None or not known.num_rows:
            super().remove(edits)
            if known is not None and known.num_rows and not edits.clear:
                self.odd += known.num_rows - self.drop(known)
            return
        leaving = pa.concat_tables([edits.drop, known.cast(edits.drop.schema)])
        missing = leaving.num_rows - self.drop(leaving)
        self.tally.drop += self._stood(edits.drop) if missing else edits.drop.num_rows
        self.odd += missing

    def _stood(self, keys: pa.Table) -> int:
        """How many of some rows were there before this transaction."""
        with self.connection.cursor() as before:
            before.execute(f"USE {quoted(self._database())}")
            before.register(STAGED, keys)
            sql = f"SELECT count(*) FROM {self.table} JOIN {STAGED} ON {self._same_key(STAGED)}"
            try:
                return _count(before.execute(sql))
            except duckdb.CatalogException:  # the table is new
                return 0

    def _database(self) -> str:
        return str(self.connection.execute("SELECT current_database()").fetchall()[0][0])

    def put(self, new: pa.Table, known: pa.Table) -> int:
        """Insert rows, after those that should not be there were looked for. Known ones have left already."""
        if self._referenced():
            return self._put_in_place(new, known)
        if new.num_rows:
            self.odd += self.drop(new.select(self.key))
        rows = pa.concat_tables([new, known])
        return self._insert(rows, rows.column_names)

    def _referenced(self) -> bool:
        """Whether a foreign key points to the table: then a row cannot be replaced by deleting and inserting it."""
        if self._referenced_tables is None:
            sql = "SELECT referenced_table FROM duckdb_constraints() WHERE constraint_type = 'FOREIGN KEY'"
            self._referenced_tables = {name for (name,) in self.connection.execute(sql).fetchall()}
        return self.part.table in self._referenced_tables

    def _put_in_place(self, new: pa.Table, known: pa.Table) -> int:
        """Update rows that are there, and insert those that are not; count in ``odd`` what was otherwise."""
        for rows, there in ((known, True), (new, False)):
            if rows.num_rows:
                found = self._update(rows, "{new}") if self.others(rows) else 0
                self.odd += rows.num_rows - found if there else found
                names = ", ".join(quoted(name) for name in rows.column_names)
                with self._staged(rows) as staged:
                    self.execute(
                        f"INSERT INTO {self.table} ({names}) SELECT {names} FROM {staged} "
                        f"WHERE NOT EXISTS (SELECT 1 FROM {self.table} WHERE {self._same_key(staged)})"
                    )
        return int(new.num_rows + known.num_rows)

    def _insert(self, rows: pa.Table, columns: Sequence[str]) -> int:
        names = ", ".join(quoted(name) for name in columns)
        with self._staged(rows) as staged:
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
        return sum(self._insert(part, schema.names) for part in in_tables(schema, batches, AT_ONCE))
