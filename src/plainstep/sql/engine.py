"""DuckDB as an evaluator of SQL over Arrow columns: in memory, with no access to files, network or settings."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from plainstep.deferred import duckdb, duckdb_library, pa
from plainstep.workspace import scratch_folder, workspace

_local = threading.local()

# What expressions over some rows may take: memory, and seconds. (A batch of rows takes a few milliseconds.)
LIMIT, SECONDS = "1GB", 60.0
# What a large comparison may take; beyond, it goes to disk.
MEMORY = 400_000_000


# A table that is not there is not to be taken for a variable of ours, or of whoever calls us, that has its name.
NO_VARIABLES: dict[str, str | bool | int | float | list[str]] = {"python_enable_replacements": False}


def silence(made: duckdb.DuckDBPyConnection) -> None:
    """Keep DuckDB from drawing a bar among what we print, as it does where it takes a program for a person."""
    with suppress(duckdb_library.Error):  # where it cannot be set, as in a notebook without widgets, none is drawn
        made.execute("SET enable_progress_bar = false")


def connection() -> duckdb.DuckDBPyConnection:
    """This thread's evaluator."""
    if not hasattr(_local, "connection"):
        made = duckdb.connect(config=NO_VARIABLES | {"enable_external_access": False, "memory_limit": LIMIT})
        silence(made)
        made.execute("SET GLOBAL TimeZone = 'UTC'; SET lock_configuration = true")
        _local.connection = made
    found: duckdb.DuckDBPyConnection = _local.connection
    return found


@contextmanager
def scratch() -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection of one's own to this thread's evaluator, for temporary tables that fit in memory."""
    evaluator = connection().cursor()
    try:
        yield evaluator
    finally:
        evaluator.close()


@contextmanager
def spilling() -> Iterator[duckdb.DuckDBPyConnection]:
    """An evaluator of one's own, which keeps what does not fit in memory in temporary files."""
    with scratch_folder() as directory:
        settings: dict[str, str | bool | int | float | list[str]] = {
            "memory_limit": f"{min(MEMORY, workspace.database)}B",
            "temp_directory": directory,
            "preserve_insertion_order": False,
        }
        evaluator = duckdb.connect(config=settings | NO_VARIABLES)
        try:
            evaluator.execute("SET TimeZone = 'UTC'; SET enable_external_access = false")
            silence(evaluator)
            evaluator.execute("SET lock_configuration = true")
            yield evaluator
        finally:
            evaluator.close()


def evaluated(table: pa.Table, select: str, parameters: list[Any] | None = None) -> pa.Table:
    """What ``SELECT {select} FROM rows`` gives, in the order of the rows.

    Args:
        table: the rows.
        select: SQL expressions over its columns.
        parameters: values for ``?`` in them.
    """
    evaluator = connection()
    evaluator.register("rows", table)
    late = threading.Timer(SECONDS, evaluator.interrupt)
    late.daemon = True
    late.start()
    try:
        return evaluator.sql(f"SELECT {select} FROM rows", params=parameters).to_arrow_table()
    finally:
        late.cancel()
        evaluator.unregister("rows")
