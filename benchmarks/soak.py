"""A pace against PostgreSQL under pgbench, whose server is stopped and started again: nothing lost, nothing doubled.

python -m benchmarks.soak [MINUTES]
"""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.postgres import Cluster, Database, binaries

import plainstep

MINUTES = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
TABLES = ("accounts", "tellers", "branches")
CONFIG = """
[stores.bank]
url = "{url}"
[stores.house]
url = "duckdb:///house.duckdb"
"""


def memory(pid: int) -> float:
    """What a process holds, in MiB."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS")) / 1024


def busy(bench: Path, cluster: Cluster, database: Database) -> subprocess.Popen[bytes]:
    """Start pgbench: two clients, 100 transactions a second."""
    where = ["-h", "127.0.0.1", "-p", str(cluster.port), "-U", "postgres", database.name]
    words = [str(bench), "-n", "-c", "2", "-T", "36000", "-R", "100", *where]
    return subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def main() -> None:
    """Run, and say what was seen."""
    found = binaries()
    assert found, "PostgreSQL's server binaries are not installed"
    cluster = Cluster(found, fsync="on")
    database = Database(server=cluster)
    where = ["-h", "127.0.0.1", "-p", str(cluster.port), "-U", "postgres", database.name]
    subprocess.run([str(found / "pgbench"), "-q", "-i", "-s", "2", *where], check=True, capture_output=True)
    folder = Path(tempfile.mkdtemp(prefix="plainstep-soak-"))
    loads = "".join(f'[loads.{name}]\nfrom = "bank.pgbench_{name}"\ninto = "house.{name}"\n' for name in TABLES)
    config = folder / "plainstep.toml"
    config.write_text(CONFIG.format(url=cluster.url(database.name)) + loads)
    for name in TABLES:
        plainstep.load_project(config).capture_on(f"bank.pgbench_{name}")
    log = (folder / "pace.log").open("w")
    words = [sys.executable, "-m", "plainstep", "-c", str(config), "run", "--every", "1s", "--json"]
    pace = subprocess.Popen(words, stdout=log, stderr=log, cwd=folder, env=os.environ)
    while (folder / "pace.log").read_text().count('"stepped"') < len(TABLES):
        time.sleep(0.5)  # from here on every change is one that a later step reads
    held = []
    restarts = 0
    chance = random.Random(7)
    until = time.monotonic() + 60 * MINUTES
    while time.monotonic() < until:
        writers = busy(found / "pgbench", cluster, database)
        time.sleep(min(chance.uniform(20, 60), max(until - time.monotonic(), 1)))
        held.append(memory(pace.pid))
        cluster.stop(chance.choice(["immediate", "fast"]))
        writers.wait()
        time.sleep(chance.uniform(0, 5))
        cluster.start()
        restarts += 1
    time.sleep(30)  # the longest rest of a load that failed a few times
    pace.send_signal(signal.SIGTERM)
    status = pace.wait(60)
    text = (folder / "pace.log").read_text()
    steps = [json.loads(line) for line in text.splitlines() if line.startswith("{")]
    print(f"minutes {MINUTES:g}, restarts of the server {restarts}, exit status of the pace {status}")
    print(
        f"steps {sum(one['outcome'] == 'stepped' for one in steps):,}, failed {sum(one['outcome'] == 'failed' for one in steps):,}"
    )
    print(f"changes merged {sum(one['changes'] for one in steps):,}; tracebacks in the log: {text.count('Traceback')}")
    print(f"memory of the pace in MiB: {', '.join(f'{one:.0f}' for one in held)}")
    project = plainstep.load_project(config)
    project.step()
    for one in project.check():
        print(f"{one.load}: {'equal' if one.ok else 'DIFFERENT'}, rows {one.source_rows:,} and {one.target_rows:,}")
        assert one.ok
    merged = {name: sum(entry.changes for entry in project.ledger(name)) for name in TABLES}
    with database.connect() as connection:
        for name in TABLES:
            row = connection.execute(f'SELECT count(*) FROM plainstep."public.pgbench_{name}" WHERE seq > 0').fetchone()
            print(f"{name}: changes recorded {row[0] if row else 0:,}, in the ledger {merged[name]:,}")


if __name__ == "__main__":
    main()
