"""Python scripts in processes of their own that begin at once: forked from one that has imported everything already.

Kills and races need many processes, and Python's own beginning with all imports takes most of a second of a core: far more than a step.
One process imports, opens nothing, and forks for each script that it is given; it ends with the process that began it.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any, NoReturn, TextIO, cast

# What is imported before the first fork, where it is there.
IMPORTED = (
    "plainstep.project_file", "plainstep.loads.step", "plainstep.cli.main", "plainstep.cli.commands.operating",
    "numpy", "pyarrow", "pyarrow.compute", "pyarrow.csv", "pyarrow.json", "pyarrow.parquet", "pyarrow.dataset",
    "duckdb", "sqlite3", "psycopg", "pymysql", "pandas",
    "plainstep.stores.sqlite.store", "plainstep.stores.duckdb.store", "plainstep.stores.files.store",
    "plainstep.stores.postgresql.store", "plainstep.stores.mysql.store",
)  # fmt: skip
BEGIN = "import sys; from plainstep.testing.processes import serve; serve(sys.argv[1])"


class Script:
    """A script that runs in another process; used as ``subprocess.Popen`` is.

    Args:
        script: Python, as for ``python -c``.
        words: its arguments.
        folder: where it runs.
        environment: its environment variables.

    Attributes:
        stdin, stdout: its standard input, and its standard output and error together, as text.
        returncode: as ``subprocess.Popen`` has it; None while it runs.
    """

    def __init__(self, script: str, words: tuple[str, ...], folder: Path, environment: Mapping[str, str]) -> None:
        mine, theirs = os.pipe(), os.pipe()
        self.stdin: TextIO = os.fdopen(mine[1], "w")
        self.stdout: TextIO = os.fdopen(theirs[0])
        self.returncode: int | None = None
        asked = json.dumps({"script": script, "words": words, "folder": str(folder), "environment": dict(environment)})
        self._told = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._told.connect(_server())
        socket.send_fds(self._told, [b"{"], [mine[0], theirs[1]])
        self._told.sendall(f"{asked[1:]}\n".encode())
        os.close(mine[0])
        os.close(theirs[1])
        self.pid = int(_line(self._told))

    def poll(self) -> int | None:
        """Its status if it has ended."""
        if self.returncode is None and select.select([self._told], [], [], 0)[0]:
            self.returncode = int(_line(self._told))
            self._told.close()
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it ends.

        Raises:
            subprocess.TimeoutExpired: it has not ended after so many seconds.
        """
        if self.returncode is None and not select.select([self._told], [], [], timeout)[0]:
            raise subprocess.TimeoutExpired("script", timeout or 0)
        return cast(int, self.poll())

    def communicate(self, input: str | None = None, timeout: float | None = None) -> tuple[str, None]:
        """Write its input, read its output, wait until it ends; a script that takes longer than ``timeout`` is killed."""
        begun = time.monotonic()
        late = threading.Timer(timeout, self.kill) if timeout else None
        if late:
            late.start()
        try:
            with contextlib.suppress(BrokenPipeError, ValueError):
                self.stdin.write(input or "")
                self.stdin.close()
            told = self.stdout.read()
            self.stdout.close()
            self.wait()
        finally:
            if late:
                late.cancel()
        if timeout and time.monotonic() - begun >= timeout:
            raise subprocess.TimeoutExpired("script", timeout, told)
        return told, None

    def send_signal(self, number: int) -> None:
        """Send it a signal, if it runs."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        """End it at once."""
        self.send_signal(signal.SIGKILL)

    def terminate(self) -> None:
        """Ask it to end."""
        self.send_signal(signal.SIGTERM)


@cache
def _server() -> str:
    """The address of the process that forks for this one; it is begun where there is none yet."""
    folder = tempfile.TemporaryDirectory(prefix="plainstep-")
    address = str(Path(folder.name) / "scripts")
    paths = os.pathsep.join([*sys.path, os.environ.get("PYTHONPATH", "")])
    # Threads of a library for numbers do not live through a fork.
    settings = {**os.environ, "PYTHONPATH": paths, "OPENBLAS_NUM_THREADS": "1"}
    server = subprocess.Popen(
        [sys.executable, "-c", BEGIN, address], stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=settings
    )
    assert server.stdin and server.stdout
    server.stdout.readline()  # it listens now
    atexit.register(folder.cleanup)
    atexit.register(server.wait)
    atexit.register(server.stdin.close)
    return address


def _line(told: socket.socket) -> bytes:
    with told.makefile("rb", buffering=0) as file:  # nothing of the next line is taken
        return file.readline()


def serve(address: str) -> None:
    """Fork for every script that is asked for, until standard input ends: then the process that began this one has."""
    for name in IMPORTED:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener:
        listener.bind(address)
        listener.listen()
        print("listening", flush=True)
        while True:
            ready, _, _ = select.select([listener.fileno(), 0], [], [])
            if 0 in ready:
                return
            told, _ = listener.accept()
            if os.fork() == 0:
                listener.close()
                _supervise(told)
            told.close()


def _supervise(told: socket.socket) -> NoReturn:
    """Run one script in a child, and tell its process number and its end."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    begun, descriptors, _, _ = socket.recv_fds(told, 1, 2)
    asked = begun + _line(told)
    child = os.fork()
    if child == 0:
        told.close()
        _run(json.loads(asked), descriptors)
    for one in descriptors:
        os.close(one)
    told.sendall(f"{child}\n".encode())
    _, status = os.waitpid(child, 0)
    with contextlib.suppress(BrokenPipeError):
        told.sendall(f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _run(asked: dict[str, Any], descriptors: list[int]) -> NoReturn:
    """Be the script, and end as it does."""
    for here, there in ((descriptors[0], 0), (descriptors[1], 1), (descriptors[1], 2)):
        os.dup2(here, there)
    for one in descriptors:
        os.close(one)
    sys.stdin, sys.stdout, sys.stderr = (os.fdopen(number, mode) for number, mode in enumerate("rww"))
    os.environ.clear()
    os.environ.update(asked["environment"])
    os.chdir(asked["folder"])
    sys.argv = ["-c", *asked["words"]]
    status = 0
    try:
        exec(compile(asked["script"], "<script>", "exec"), {"__name__": "__main__"})
    except SystemExit as ended:
        status = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
        status = 1
    with contextlib.suppress(BaseException):
        atexit._run_exitfuncs()
    for file in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            file.flush()
    os._exit(status)
