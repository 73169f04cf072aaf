"""The memory and the time of a whole step over many keys: each is inserted, and updated once, in two scattered orders.

``python -m benchmarks.memory [duckdb|delta] [CHANGES] [MEMORY]``: the changes are made as they are read, so that only what a step
keeps is held; MEMORY is the setting, as in ``1GiB``.
"""

from __future__ import annotations

import os
import resource
import shutil
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from benchmarks import row
from plainstep.core.changes.batch import Changes
from plainstep.core.positions import Position, Span, Waiting, Window
from plainstep.core.sizes import size_of
from plainstep.loads.load import Load
from plainstep.loads.step import step
from plainstep.settings.load import LoadConfig
from plainstep.settings.reading import read_settings
from plainstep.stores.capabilities import with_target
from plainstep.stores.records import Batches
from plainstep.stores.registry import open_store
from plainstep.workspace import workspace

SCHEMA = pa.schema(
    [("tree_id", pa.int64()), ("species", pa.string()), ("height_m", pa.float64()), ("girth_cm", pa.int64())]
)
SPECIES = pa.array(["field maple", "hornbeam", "rowan", "silver birch"])
BATCH = 1 << 17
# Numbers without a common divisor with any count of keys here: by them, keys come in two orders that have nothing in common.
ORDERS = 7_368_787, 3_267_000_013


class Made:
    """A feed that is made as it is read."""

    is_managed = True
    overlaps = False
    has_before_images = True
    has_exact_operations = True

    def __init__(self, changes: int) -> None:
        self.changes, self.keys = changes, changes // 2

    def key(self) -> tuple[str, ...]:
        return ("tree_id",)

    def warnings(self) -> list[str]:
        return []

    def schema(self) -> pa.Schema:
        return SCHEMA

    def span(self) -> Span:
        return Span("made", 0, self.changes, None)

    def time_of(self, position: Position) -> datetime | None:
        return None

    def waiting(self, window: Window) -> Waiting:
        return Waiting(window.upto - window.after, window.upto > window.after)

    def read(self, window: Window) -> Batches:
        return Batches(self._batches(window))

    def _batches(self, window: Window) -> Iterator[Changes]:
        for start in range(window.after, window.upto, BATCH):
            n = np.arange(start, min(start + BATCH, window.upto))
            inserts = n < self.keys
            ids = np.where(inserts, n * ORDERS[0] % self.keys, (n - self.keys) * ORDERS[1] % self.keys)
            columns = {
                "op": pa.array(np.where(inserts, 1, 2).astype(np.int8)),
                "seq": pa.array(n + 1),
                "at": pa.nulls(len(n), pa.timestamp("us", "UTC")),
            }
            columns |= _images("was.", ids, 0, inserts)
            columns |= _images("now.", ids, 1 - inserts.astype(np.int64), None)
            yield Changes(pa.table(columns))

    def acknowledge(self, watermark: Position, upto: Position) -> None:
        pass

    def reserve(self) -> None:
        pass


def _images(side: str, ids: Any, version: Any, absent: Any) -> dict[str, pa.Array]:
    mixed = ids * 2_654_435_761 + version
    return {
        side + "tree_id": pa.array(ids, mask=absent),
        side + "species": SPECIES.take(pa.array(mixed % 4, mask=absent)),
        side + "height_m": pa.array(mixed % 4_001 * 0.01, mask=absent),
        side + "girth_cm": pa.array(mixed % 307, mask=absent),
    }


class Sources:
    """Opens the feed."""

    def __init__(self, changes: int) -> None:
        self.made: Any = Made(changes)

    def whole(self, load: Load) -> Any:
        return self.made

    def taken(self, load: Load, whole: Any) -> Any:
        return whole

    def together(self, loads: Sequence[Load]) -> AbstractContextManager[None]:
        return nullcontext()


class Watch:
    """The most memory of this process, of which what a file keeps in the system's cache is no part."""

    def __init__(self) -> None:
        self.most = 0
        threading.Thread(target=self._look, daemon=True).start()

    def _look(self) -> None:
        page = os.sysconf("SC_PAGE_SIZE")
        while True:
            self.most = max(self.most, int(Path("/proc/self/statm").read_text().split()[1]) * page)
            time.sleep(0.05)


def main() -> None:
    into = sys.argv[1] if len(sys.argv) > 1 else "duckdb"
    changes = int(float(sys.argv[2])) if len(sys.argv) > 2 else 20_000_000
    workspace.memory = size_of(sys.argv[3] if len(sys.argv) > 3 else "1GiB")
    folder = Path(tempfile.mkdtemp(prefix="plainstep-memory-"))
    try:
        url = {"duckdb": f"duckdb:///{folder}/house.duckdb", "delta": f"delta:///{folder}/lake"}[into]
        house = with_target(open_store("house", url, folder, 10.0))
        town = open_store("town", f"sqlite:///{folder}/town.db", folder, 10.0)
        said = {"from": "town.tree", "into": "house.tree", "key": ["tree_id"], "first": "start"}
        load = Load(Sources(changes), "tree", read_settings(LoadConfig, said), town, "tree", house, "tree")
        watch, began = Watch(), time.perf_counter()
        outcome = step(load)
        took = time.perf_counter() - began
        assert outcome.entry is not None, outcome.error
        assert (outcome.entry.changes, outcome.entry.put) == (changes, changes // 2), outcome.entry
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
        print(f"\nmemory: {changes:,} changes over {changes // 2:,} keys, from the start into {into}\n")
        row("", "peak", "limit", "time", "a million")
        row(
            "whole process",
            f"{peak:,} MiB",
            f"{workspace.limit >> 20:,} MiB",
            f"{took:.1f} s",
            f"{took / changes * 1e6:.2f} s",
        )
        row("its own memory", f"{watch.most >> 20:,} MiB")
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
