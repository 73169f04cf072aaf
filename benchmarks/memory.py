"""The most memory a window takes: 20 million changes over 2 million keys, collapsed batch by batch."""

from __future__ import annotations

import resource
import sys
import time
from collections.abc import Iterator

import numpy as np
import pyarrow as pa

from benchmarks import row
from plainstep.core.changes.batch import Changes
from plainstep.core.changes.collapse import Collapser

CHANGES = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000_000
KEYS = CHANGES // 10
BATCH = 1 << 18


def batches() -> Iterator[Changes]:
    """A feed that is made as it is read, so that only what collapsing keeps is held."""
    chance = np.random.default_rng(5)
    species = pa.array(["field maple", "hornbeam", "rowan", "silver birch"])
    for start in range(0, CHANGES, BATCH):
        size = min(BATCH, CHANGES - start)
        key = pa.array(chance.integers(0, KEYS, size))
        columns = {
            "op": pa.array(np.full(size, 2, np.int8)),
            "seq": pa.array(np.arange(start + 1, start + 1 + size)),
            "at": pa.nulls(size, pa.timestamp("us", "UTC")),
        }
        for side in ("was.", "now."):
            columns[side + "tree_id"] = key
            columns[side + "species"] = species.take(pa.array(chance.integers(0, 4, size)))
            columns[side + "height_m"] = pa.array(chance.random(size))
            columns[side + "girth_cm"] = pa.array(chance.integers(0, 300, size))
        yield Changes(pa.table(columns))


def main() -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    began = time.perf_counter()
    collapser = Collapser(["tree_id"])
    for batch in batches():
        collapser.add(batch)
    net = collapser.result()
    took = time.perf_counter() - began
    assert net.read == CHANGES, net.read
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"\nmemory: {CHANGES:,} changes over {KEYS:,} keys, to {len(net):,} net changes\n")
    row("", "peak", "before", "time", "wanted")
    row("whole process", f"{peak:,.0f} MiB", f"{before:,.0f} MiB", f"{took:.1f} s", "1,024 MiB")


if __name__ == "__main__":
    main()
