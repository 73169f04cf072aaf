"""Stepping at intervals until told to stop: each load at its own pace, none blocking another."""

from __future__ import annotations

import fcntl
import os
import signal
import stat
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import timedelta
from hashlib import sha256
from pathlib import Path
from tempfile import gettempdir
from typing import IO, TYPE_CHECKING

from plainstep.errors import PlainStepError, Refused
from plainstep.loads.outcome import StepOutcome
from plainstep.loads.step import step_together

if TYPE_CHECKING:
    from plainstep.loads.load import Load

# A load that fails is tried again after its interval, then after twice that, and so on up to this.
LONGEST_PAUSE = 600.0
# How many loads of one source step at once: a server bears more, but these are to leave room for its own work. Loads of other sources are never waited for.
AT_ONCE = 4


@dataclass
class Tick:
    """One turn of one load.

    Attributes:
        outcome: what the step did.
        failures: how many turns in a row failed or were refused, this one among them.
        pause: seconds until the load's next turn.
        recovered: whether the turn before this one had failed, and this one did not.
    """

    outcome: StepOutcome
    failures: int
    pause: float
    recovered: bool = False


class Runner:
    """Keeps stepping some loads.

    Args:
        together: the loads, those that step together in one list.
        every: the time from the end of one step of a load to the beginning of its next.
        tell: is called with every tick, from the threads that make them, one at a time.
    """

    def __init__(self, together: list[list[Load]], every: timedelta, tell: Callable[[Tick], None]) -> None:
        self.together, self.every, self.tell = together, every.total_seconds(), tell
        self._stop = threading.Event()
        self._telling = threading.Lock()
        self._turns = {load.from_store.name: threading.Semaphore(AT_ONCE) for loads in together for load in loads}

    def stop(self) -> None:
        """End after the steps at hand."""
        self._stop.set()

    def run(self) -> None:
        """Step until told to stop.

        Raises:
            Refused: another run of this machine steps one of the loads.
        """
        with alone([load for loads in self.together for load in loads]):
            threads = [threading.Thread(target=self._keep, args=[loads], name=loads[0].name) for loads in self.together]
            for thread in threads:
                thread.start()
            for thread in threads:
                while thread.is_alive():
                    thread.join(0.2)  # a join without an end would keep signals from being heard

    def _keep(self, loads: list[Load]) -> None:
        failures = 0
        while not self._stop.is_set():
            with self._turns[loads[0].from_store.name]:
                if self._stop.is_set():
                    return
                outcomes = _stepped(loads)
            failed = any(one.error for one in outcomes)
            recovered = failures > 0 and not failed
            failures = failures + 1 if failed else 0
            more = not failed and any(one.more for one in outcomes)
            pause = 0.0 if more else pause_after(failures, self.every)
            for outcome in outcomes:
                self._told(Tick(outcome, failures, pause, recovered))
            self._stop.wait(pause)

    def _told(self, tick: Tick) -> None:
        with self._telling:
            try:
                self.tell(tick)
            except OSError:  # whoever was listening is gone: nobody would know what happens from here on
                self.stop()


def pause_after(failures: int, every: float) -> float:
    """How many seconds a load rests after so many failures in a row: twice as long after each, within bounds."""
    doublings = min(max(failures - 1, 0), 32)
    return min(every * 2**doublings, max(LONGEST_PAUSE, every))


def _stepped(loads: list[Load]) -> list[StepOutcome]:
    """A step; what nobody foresaw is told like any other failure, and tried again."""
    try:
        return step_together(loads)
    except Exception as error:
        told = f"Unexpected error: {type(error).__name__}: {error}"
        next_ = f"plainstep --debug step {loads[0].name}"
        return [StepOutcome(load.name, "failed", error=PlainStepError(told, "", next_)) for load in loads]


@contextmanager
def until_told(runner: Runner) -> Iterator[None]:
    """SIGTERM and SIGINT end the run after the steps at hand; a second one ends the process at once."""

    def heard(number: int, frame: object) -> None:
        runner.stop()
        for one in (signal.SIGTERM, signal.SIGINT):
            signal.signal(one, signal.SIG_DFL)

    before = {number: signal.signal(number, heard) for number in (signal.SIGTERM, signal.SIGINT)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@contextmanager
def alone(loads: list[Load]) -> Iterator[None]:
    """See to it that no other run on this machine steps these loads.

    Two would do no harm (each window is merged once), but one of them is a mistake that somebody should know of.

    Raises:
        Refused: another does.
    """
    held: list[IO[str]] = []
    try:
        for load in loads:
            held.append(_locked(load))
        yield
    finally:
        for file in held:
            file.close()


def _run_folder() -> Path:
    """A folder of this user's own, in which nobody else can put anything.

    Raises:
        Refused: somebody else made it.
    """
    folder = Path(gettempdir()) / f"plainstep-{os.getuid()}"
    with suppress(FileExistsError):
        folder.mkdir(mode=0o700)
    found = folder.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & 0o077:
        raise Refused(
            f"{folder} is not a folder of this user's alone.",
            "Somebody else could decide what is locked there.",
            f"Remove it (rm -r {folder}), or set TMPDIR to another folder.",
        )
    return folder


def _locked(load: Load) -> IO[str]:
    place = f"{load.name} into {load.into_table} of {load.into_store.place}"
    path = _run_folder() / f"run-{sha256(place.encode()).hexdigest()[:16]}"
    file = os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600), "a+")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.seek(0)
        who = file.read(20).strip()
        who = who if who.isdigit() else ""
        file.close()
        raise Refused(
            f"Another run steps {load.name} already{f': process {who}' if who else ''}.",
            "Two would only be in each other's way.",
            f"Stop that one first{f': kill {who}' if who else ''}.",
        ) from None
    file.seek(0)
    file.truncate()
    file.write(str(os.getpid()))
    file.flush()
    return file
