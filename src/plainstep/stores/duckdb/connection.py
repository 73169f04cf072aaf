"""Connections to DuckDB files, and its errors in our words.

A DuckDB file admits one writing process at a time, so it is held only while it is read or written: attached to
an in-memory instance that each process keeps (a tenth of the cost of an instance of its own), and detached.
"""

from __future__ import annotations

import atexit
import fcntl
import os
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import IO, Any, cast

from plainstep.deferred import duckdb, duckdb_library, pa
from plainstep.errors import LostConnection, PlainStepError, StoreError
from plainstep.sql.engine import NO_VARIABLES, silence
from plainstep.sql.literals import quoted, text
from plainstep.stores.urls import is_open_here, locked
from plainstep.workspace import scratch_folder, workspace

CONFIG: dict[str, Any] = {"autoinstall_known_extensions": False, "autoload_known_extensions": False} | NO_VARIABLES
_guard = threading.Lock()
_instances: dict[int, duckdb.DuckDBPyConnection] = {}
# The processes whose instance has a folder for what does not fit in memory.
_spilling: set[int] = set()
# Files by device and number, which stay open as long as the process: to close one would end the lock on it.
_locked_again: dict[tuple[int, int], IO[bytes]] = {}


def _instance() -> duckdb.DuckDBPyConnection:
    """A connection to this process's in-memory instance, which spills into the folder that is named by now."""
    with _guard:
        made = _made()
        if os.getpid() not in _spilling:
            made.execute(f"SET GLOBAL temp_directory = {text(_scratch())}")
            _spilling.add(os.getpid())
        return made.cursor()


def _made() -> duckdb.DuckDBPyConnection:
    """This process's in-memory instance; the guard is held."""
    if os.getpid() not in _instances:
        made = duckdb_library.connect(config=CONFIG)
        silence(made)
        _instances[os.getpid()] = made
    return _instances[os.getpid()]


def start_ahead() -> None:
    """Begin to make this process's instance, in a thread that ends by itself: a quarter of a step with nothing to do, most of it outside of Python."""

    def start() -> None:
        with suppress(Exception), _guard:  # it is tried again, and told, where it is needed
            _made()

    threading.Thread(target=start).start()


def _scratch() -> str:
    """The folder for what this process's instance does not hold in memory: removed when it ends."""
    stack, process = ExitStack(), os.getpid()
    # Not by a process that was forked from it.
    atexit.register(lambda: stack.close() if os.getpid() == process else None)
    return stack.enter_context(scratch_folder())


class _Turns:
    """Threads of this process take turns at files.

    Two that each have their turn at one file and wait for that of the other would wait for ever (loads between two files, in both
    directions): the second of them gives up instead, and its step is tried again. It then takes these files together, first the one that it
    did not get, as the thread did that it gave way to: so it cannot meet the same one again. It does so until one of them is asked for
    within the other's turn, for a step has some short turns before that.
    """

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._locks: dict[Path, threading.RLock] = {}
        self._holders: dict[Path, int] = {}
        self._waiting: dict[int, Path] = {}
        self._mine = threading.local()

    @contextmanager
    def taken(self, path: Path) -> Iterator[None]:
        """This thread's turn at a file.

        Raises:
            LostConnection: to wait for it would be to wait for itself.
        """
        me = threading.get_ident()
        together = getattr(self._mine, "together", [])
        if path not in together:
            together = [path]
        elif any(self._holders.get(one) == me for one in together):
            together = self._mine.together = [path]
        with ExitStack() as turns:
            for one in together:
                turns.enter_context(self._taken(one, me))
            yield

    @contextmanager
    def _taken(self, path: Path, me: int) -> Iterator[None]:
        with self._guard:
            lock = self._locks.setdefault(path, threading.RLock())
        if not lock.acquire(blocking=False):
            self._wait(lock, path, me)
        try:
            before = self._holders.get(path)
            self._holders[path] = me
            yield
        finally:
            if before is None:
                del self._holders[path]
            lock.release()

    def _wait(self, lock: threading.RLock, path: Path, me: int) -> None:
        with self._guard:
            if self._waits_for(path, me):
                self._mine.together = [path, *(one for one, holder in list(self._holders.items()) if holder == me)]
                raise LostConnection(
                    f"{path} is in use by a load that waits for a file which this load is using.",
                    "One of the two has to give way.",
                    "Run the step again.",
                )
            self._waiting[me] = path
        try:
            lock.acquire()
        finally:
            with self._guard:
                del self._waiting[me]

    def _waits_for(self, path: Path | None, me: int) -> bool:
        """Whether a thread is waited for, by whoever has its turn at a file, or by whom that one waits for."""
        seen = set()
        while path is not None and path not in seen:
            seen.add(path)
            holder = self._holders.get(path)
            if holder == me:
                return True
            path = self._waiting.get(holder) if holder is not None else None
        return False


_turns = _Turns()


class _Connection:
    """A connection that imports DuckDB's package as soon as more is asked of it than to run statements."""

    def __init__(self, connection: duckdb.DuckDBPyConnection) -> None:
        self._connection = connection
        self.execute = connection.execute

    def __getattr__(self, name: str) -> Any:
        import_module("duckdb")  # it gives connections their other methods
        return getattr(self._connection, name)


@contextmanager
def opened(path: Path, read_only: bool, wait: float) -> Iterator[duckdb.DuckDBPyConnection]:
    """A connection whose default database is the file. Waits while another process holds it.

    Raises:
        StoreError: the file stayed locked, is not a DuckDB database, or cannot be read or written.
        LostConnection: another thread has its turn at the file, and waits for one that this thread is using.
    """
    path = path.resolve()  # however it is named, one file has one lock
    with _turns.taken(path):
        connection, attachment = _connected(path, read_only, wait)
        try:
            with told(path):
                yield cast("duckdb.DuckDBPyConnection", _Connection(connection))
        finally:
            _let_go(connection, attachment)


@contextmanager
def told(path: Path) -> Iterator[None]:
    """DuckDB's errors in our words."""
    try:
        yield
    except PlainStepError:
        raise
    except duckdb_library.Error as error:
        raise _explained(error, path) from error


def batches_of(result: pa.RecordBatchReader) -> Iterator[pa.RecordBatch]:
    """The rows of a result.

    Raises:
        duckdb.Error: the query failed in their middle: out of Arrow's reader, this comes as if reading a file had failed.
    """
    try:
        yield from result
    except OSError as error:
        raise duckdb.Error(str(error)) from error


@dataclass
class _Attachment:
    """A file that is attached, and how many connections of the thread that has its turn at the file use it.

    One that is opened within another shares it: a file that is attached twice, to be read, is open twice, and to close one of two ends the
    lock of the other as well (so it is with locks of POSIX), so that another process could write to what is being read.
    """

    path: Path
    name: str
    users: int = 0


# By file, for the thread that has its turn at it.
_attachments: dict[Path, _Attachment] = {}


def _connected(path: Path, read_only: bool, wait: float) -> tuple[duckdb.DuckDBPyConnection, _Attachment | None]:
    """A connection to the file, and what it is attached as; None where the file is open in this process by somebody else's doing."""
    attachment = _attachments.get(path)
    # Where both only read, it could be attached beside, and would end the other's lock: that it is open has to be seen before.
    if attachment is None and read_only and _is_open_here(path):
        with suppress(StoreError):  # it is not DuckDB that has it open
            return _shared(path, read_only), None
    connection = _instance()
    try:
        if attachment is None:
            attachment = _attached(connection, path, read_only, wait)
        attachment.users += 1
        connection.execute(f"USE {quoted(attachment.name)}")
        return connection, attachment
    except duckdb_library.Error as error:
        connection.close()
        if attachment is None and _is_open_here(path):
            return _shared(path, read_only), None
        raise _explained(error, path) from error


def _is_open_here(path: Path) -> bool:
    """Whether somebody else of this process has a file open."""
    return is_open_here(path, {file.fileno() for file in _locked_again.values()})


def _attached(connection: duckdb.DuckDBPyConnection, path: Path, read_only: bool, wait: float) -> _Attachment:
    """A file that was not attached, attached as soon as no other process holds it."""
    connection.execute(f"SET GLOBAL memory_limit = '{workspace.database}B'")
    name = f"plainstep_{threading.get_ident()}_{time.monotonic_ns()}"
    options = " (READ_ONLY)" if read_only else ""
    _execute_when_free(connection, f"ATTACH {text(str(path))} AS {quoted(name)}{options}", path, wait)
    _attachments[path] = _Attachment(path, name)
    return _attachments[path]


def _execute_when_free(connection: duckdb.DuckDBPyConnection, attach: str, path: Path, wait: float) -> None:
    until = time.monotonic() + wait
    pause = 0.005  # a step of a few rows keeps the file for some 20 ms
    while True:
        try:
            connection.execute(attach)
            return
        except duckdb_library.Error as error:
            if "lock" not in str(error).lower() or "already attached" in str(error):
                raise
            if time.monotonic() > until:
                raise locked(path, wait) from error
        time.sleep(pause)
        pause = min(pause * 1.5, 0.2)


def _shared(path: Path, read_only: bool) -> duckdb.DuckDBPyConnection:
    """A connection beside somebody else's of this process: a file is opened once a process."""
    try:
        try:
            shared = duckdb.connect(str(path))
        except duckdb.ConnectionException:  # it is open for reading, or with other settings
            if not read_only:
                raise
            shared = duckdb.connect(str(path), read_only=True)
        silence(shared)
        # Of this connection alone: the file is open for others, too.
        shared.execute("SET python_enable_replacements = false")
        return shared
    except duckdb_library.Error as error:
        _lock_again(path)
        raise StoreError(
            f"{path} is open in this process in another way: {error}.",
            "DuckDB opens a file once a process.",
            "Close that connection and run the step again.",
        ) from error


def _lock_again(path: Path) -> None:
    """Lock a file that is open elsewhere in this process, where to connect to it failed.

    Connecting opened the file before it failed, and closed it: with that, all locks end that a process has on a file (so it is with those
    of POSIX), and another process could write to it beside whoever has it open here. The lock ends when that one closes the file.
    """
    with suppress(OSError):  # nobody may write to it
        there = path.stat()
        file = _locked_again.get((there.st_dev, there.st_ino)) or path.open("r+b")
        _locked_again[there.st_dev, there.st_ino] = file
        try:
            fcntl.lockf(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:  # others read it, and so it is open here for reading
            fcntl.lockf(file, fcntl.LOCK_SH | fcntl.LOCK_NB)


def _let_go(connection: duckdb.DuckDBPyConnection, attachment: _Attachment | None) -> None:
    try:
        if attachment is not None:
            attachment.users -= 1
            if not attachment.users:
                del _attachments[attachment.path]
                _detach(connection, attachment.name)
    finally:
        connection.close()


def _detach(connection: duckdb.DuckDBPyConnection, name: str) -> None:
    try:
        connection.execute("USE memory")
        connection.execute(f"DETACH {quoted(name)}")
    except duckdb_library.Error:  # it was given up in the middle of a result, which ends with it
        connection.close()
        _instance().execute(f"DETACH {quoted(name)}")


def _explained(error: duckdb.Error, path: Path) -> StoreError:
    told = str(error).splitlines()[0]
    if "not a valid DuckDB" in told:
        return StoreError(f"{path} is not a DuckDB database.", "", "Check the store's url in plainstep.toml.")
    return StoreError(f"DuckDB says of {path}: {told}", "Nothing was written.")
