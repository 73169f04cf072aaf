"""A progress bar on stderr, for what takes over a second; none where nobody is watching."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from plainstep.progress import told_to

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

# Seconds before a bar shows: what takes less needs none, and would only flicker.
PATIENCE = 1.0
BLUE = "#0072B2"


@contextmanager
def bar() -> Iterator[None]:
    """Show a bar on stderr once the work in this context has taken over a second."""
    if not sys.stderr.isatty():
        yield
        return
    shown = _Bars()
    try:
        with told_to(shown.hear):
            yield
    finally:
        shown.close()


class _Bars:
    def __init__(self) -> None:
        self.began, self.lock = time.monotonic(), threading.Lock()
        self.done: dict[str, int] = {}
        self.totals: dict[str, int | None] = {}
        self.tasks: dict[str, TaskID] = {}
        self.progress: Progress | None = None

    def hear(self, what: str, rows: int, total: int | None) -> None:
        """Some rows more. Several loads may be read at once, and one in several steps (``--until-done``).

        Args:
            what: what is read.
            rows: how many more.
            total: how many there are in all, as this step knows it: at the first step, those of the whole way.
        """
        with self.lock:
            self._add(what, rows, total)

    def _add(self, what: str, rows: int, total: int | None) -> None:
        self.totals.setdefault(what, total)
        self.done[what] = self.done.get(what, 0) + rows
        if self.progress is None:
            if time.monotonic() - self.began < PATIENCE:
                return
            self.progress = _new_progress()
            self.progress.start()
        if what not in self.tasks:
            self.tasks[what] = self.progress.add_task(what, total=self.totals[what])
        self.progress.update(self.tasks[what], completed=self.done[what])

    def close(self) -> None:
        if self.progress:
            self.progress.stop()


def _new_progress() -> Progress:
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        Progress,
        ProgressColumn,
        Task,
        TextColumn,
        TimeElapsedColumn,
        TimeRemainingColumn,
    )
    from rich.text import Text

    class _Done(ProgressColumn):
        """How many rows are read, and of how many, if that is known."""

        def render(self, task: Task) -> Text:
            of = f" of {max(task.total, task.completed):,.0f}" if task.total else ""
            return Text(f"{task.completed:,.0f}{of} rows")

    columns = (
        TextColumn("{task.description}"),
        BarColumn(complete_style=BLUE, finished_style=BLUE, pulse_style=BLUE),
        _Done(),
        TimeElapsedColumn(),
        TimeRemainingColumn(),
    )
    return Progress(*columns, console=Console(stderr=True), transient=True)
