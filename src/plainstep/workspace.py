"""How much memory this process may take, and the folder for what does not fit: both are the process's, as memory is."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path

# What is taken of the machine's memory where nothing is said: a half; of a small one, so much, if three quarters of it are that.
SHARE, LEAST = 2, 1 << 30
# What a process takes with its libraries loaded and nothing in them (as measured: 150 MiB, and 80 more with numba).
AT_REST = 240 << 20
# A collapse holds its rows three times for moments (as they were, as they come, as they are taken), beside what is being read and
# written: a tenth of what is left kept a window of 50,000,000 keys below its limit.
ROWS = 10
# What an embedded database, or an evaluator, may take of what is left.
DATABASE = 3


@dataclass
class Workspace:
    """Where this process works.

    Attributes:
        memory: bytes that it may take; 0 for a fair share of the machine's.
        scratch: the folder for what does not fit; empty for the system's.
    """

    memory: int = 0
    scratch: str = ""

    @property
    def limit(self) -> int:
        """Bytes that the process may take."""
        there = _of_the_machine()
        return self.memory or max(there // SHARE, min(LEAST, there * 3 // 4))

    @property
    def free(self) -> int:
        """Bytes of them that are left for rows."""
        return max(self.limit - AT_REST, 64 << 20)

    @property
    def rows(self) -> int:
        """Bytes of rows that are held at a time; beyond, they go to the scratch folder."""
        return self.free // ROWS

    @property
    def database(self) -> int:
        """Bytes that an embedded database may take."""
        return self.free // DATABASE


@cache
def _of_the_machine() -> int:
    """The machine's memory, or that of the container that the process is in."""
    found = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    with suppress(OSError, ValueError):  # there is none, or it says "max"
        found = min(found, int(Path("/sys/fs/cgroup/memory.max").read_text()))
    return found


workspace = Workspace()

# What the names of our folders in the scratch folder begin with, and the file in each that its process holds a lock on: what has both
# is removed when nobody holds it, so nothing else may ever be called so.
PREFIX, LOCK = "plainstep-scratch-", "plainstep-scratch.lock"


@contextmanager
def scratch_folder() -> Iterator[str]:
    """A folder in the scratch folder, removed in the end; those of processes that were killed are removed first."""
    scratch = workspace.scratch or tempfile.gettempdir()
    for left in Path(scratch).glob(f"{PREFIX}*/{LOCK}"):
        _remove_if_left(left)
    with (
        tempfile.TemporaryDirectory(prefix=PREFIX, dir=scratch, ignore_cleanup_errors=True) as folder,
        Path(folder, "new").open("w") as lock,
    ):
        fcntl.flock(lock, fcntl.LOCK_EX)
        Path(folder, "new").rename(Path(folder, LOCK))  # never there without being held
        yield folder


def _remove_if_left(lock: Path) -> None:
    """Remove the folder of a lock that no process holds. (Its number would not do: it may be one of another container.)"""
    with suppress(OSError), lock.open("r+") as file:  # it is held, or gone
        if os.fstat(file.fileno()).st_uid != os.getuid():
            return
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        shutil.rmtree(lock.parent, ignore_errors=True)
