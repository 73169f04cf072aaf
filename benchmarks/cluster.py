"""A step on a standalone Spark cluster of two workers beside the same step by one process: time by phase, bytes shuffled and written.

``python -m benchmarks.cluster [ROWS ...]``: a table of so many rows is loaded first, then a tenth as many changes are merged into it, in
files of 250,000 rows. Both engines use the same two cores: what is measured is what the cluster costs, and how its parts grow.
"""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pyspark

import plainstep
from benchmarks import row, seconds

FILE = 250_000
SPECIES = pa.array(["field maple", "hornbeam", "rowan", "silver birch"])
HOME = Path(pyspark.__file__).parent

CONFIG = """
[stores.land]
url = "file:///land"
[stores.local]
url = "delta:///local"
[stores.spark]
url = "delta:///spark"
[engine]
master = "{master}"
options = {{ "spark.executor.memory" = "2g", "spark.eventLog.enabled" = "true", "spark.eventLog.dir" = "{events}", "spark.eventLog.rolling.enabled" = "false", "spark.eventLog.compress" = "false" }}
"""
LOAD = """
[loads.{name}]
from = "land.*.parquet"
into = "{name}.tree"
key = ["tree_id"]
[loads.{name}.layout]
operation = "op"
insert = ["insert"]
update = ["update"]
delete = ["delete"]
"""


def land(folder: Path, number: int, ids: Any, ops: list[str]) -> int:
    """A file of changes; its bytes."""
    count = len(ids)
    spread = ids * 7 % 97
    table = pa.table(
        {
            "op": pa.array(ops).take(pa.array(np.arange(count) % len(ops))),
            "tree_id": pa.array(ids),
            "species": SPECIES.take(pa.array(spread % 4)),
            "height_m": pa.array((spread + number % 2) / 10.0),
            "girth_cm": pa.array(spread),
        }
    )
    path = folder / f"{number:05}.parquet"
    pq.write_table(table, path.with_suffix(".part"), compression="zstd")
    path.with_suffix(".part").rename(path)
    return path.stat().st_size


@contextmanager
def cluster(folder: Path) -> Iterator[str]:
    """A standalone master with two workers of one core each."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = str(free.getsockname()[1])
    environment = os.environ | {
        "SPARK_LOCAL_IP": "127.0.0.1",
        "PYSPARK_PYTHON": sys.executable,
        "SPARK_NO_DAEMONIZE": "1",
    }
    started = []
    master = f"spark://127.0.0.1:{port}"
    words = [["master.Master", "--host", "127.0.0.1", "--port", port, "--webui-port", "0"]]
    words += [
        [
            "worker.Worker",
            "--cores",
            "1",
            "--memory",
            "2g",
            "--work-dir",
            str(folder / f"work{n}"),
            "--webui-port",
            "0",
            master,
        ]
        for n in range(2)
    ]
    try:
        for name, *rest in words:
            command = [str(HOME / "bin" / "spark-class"), f"org.apache.spark.deploy.{name}", *rest]
            started.append(
                subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            )
            time.sleep(4)
        yield master
    finally:
        for one in reversed(started):
            one.terminate()
            one.wait()


def phases(events: Path, seen: int) -> tuple[dict[str, dict[str, float]], int]:
    """What the stages of each of Spark's jobs took, by the job's description; and how many events there are now."""
    [log] = [path for path in events.iterdir() if not path.name.startswith(".")]
    lines = log.read_text().splitlines()
    described, found = dict[int, str](), defaultdict[str, Any](lambda: defaultdict(float))
    for number, line in enumerate(lines):
        event = json.loads(line)
        if event["Event"] == "SparkListenerJobStart":
            told = (event.get("Properties") or {}).get("spark.job.description", "").partition(": ")[2]
            described |= dict.fromkeys(event["Stage IDs"], told)
            begun = event["Submission Time"], event["Job ID"], told
        if number < seen:
            continue
        if event["Event"] == "SparkListenerJobEnd" and event["Job ID"] == begun[1]:
            found[begun[2]]["seconds"] += (event["Completion Time"] - begun[0]) / 1000
        if event["Event"] == "SparkListenerTaskEnd":
            metrics, phase = event["Task Metrics"], found[described[event["Stage ID"]]]
            phase["shuffled"] += metrics["Shuffle Write Metrics"]["Shuffle Bytes Written"]
            phase["tasks"] += 1
    return found, len(lines)


def size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*.parquet"))


def measured(rows: int, master: str, folder: Path) -> None:
    events = folder / "events"
    events.mkdir(exist_ok=True)
    place = folder / str(rows)
    (place / "land").mkdir(parents=True)
    (place / "plainstep.toml").write_text(
        CONFIG.format(master=master, events=events) + "".join(LOAD.format(name=name) for name in ("local", "spark"))
    )
    landed, number = 0, 0
    for start in range(0, rows, FILE):
        landed += land(place / "land", number, np.arange(start, min(start + FILE, rows)), ["insert"])
        number += 1
    seen, before = 0, 0
    for what, count in (("first load", rows), ("a tenth changed", rows // 10)):
        if what != "first load":
            landed = 0
            ids = np.random.default_rng(1).permutation(rows)[:count]
            for start in range(0, count, FILE):
                landed += land(
                    place / "land", number, ids[start : start + FILE], ["update", "update", "update", "delete"]
                )
                number += 1
        took = {}
        for engine in ("local", "spark"):
            project = plainstep.load_project(place / "plainstep.toml")
            project.choose_engine(engine)
            if engine == "spark" and not seen:  # the cluster is there already, for whoever steps again and again
                from plainstep.spark.session import session

                session(master, project.engines["spark"]().options).parallelize([1], 2).count()
                seen = phases(events, 0)[1]
            begun = time.perf_counter()
            project.step(engine)
            took[engine] = time.perf_counter() - begun
        found, seen = phases(events, seen)
        shuffled = sum(one["shuffled"] for one in found.values())
        written, before = size(place / "spark") - before, size(place / "spark")
        print(f"\n{rows:,} rows, {what}: {count:,} changes, {landed / count:.1f} bytes each as they landed")
        row("one process, two cores", seconds(took["local"]), "1.00")
        row("Spark, two workers of a core", seconds(took["spark"]), f"{took['local'] / took['spark']:.2f}")
        for phase, one in found.items():
            print(
                f"    {phase:<34}{one['seconds']:8.2f} s {one['tasks']:6.0f} tasks {one['shuffled'] / count:8.1f} bytes shuffled a change"
            )
        print(
            f"    {'beside these (plan, commit)':<34}{took['spark'] - sum(one['seconds'] for one in found.values()):8.2f} s"
        )
        print(
            f"    shuffled {shuffled / count:.1f} bytes a change, written {written / count:.1f} (files that stay, and those that go)"
        )


def main() -> None:
    folder = Path(tempfile.mkdtemp(prefix="plainstep-bench-"))
    try:
        with cluster(folder) as master:
            for rows in [int(one) for one in sys.argv[1:]] or [1_000_000, 4_000_000, 16_000_000]:
                measured(rows, master, folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
