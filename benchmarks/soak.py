"""An unattended run over every store that can be had here, while servers, the run itself and connections are killed: nothing lost,
nothing doubled, memory and files flat.

``python -m benchmarks.soak [MINUTES]``. In the first and the last quarter the run is left alone, so that its memory, its open files and its
steps can be compared; in between it is killed, too.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, ClassVar

import psycopg
import pymysql
from pyiceberg.catalog import load_catalog
from pyiceberg.exceptions import CommitFailedException, NoSuchTableError
from sqlalchemy.exc import SQLAlchemyError
from tests import mariadb
from tests.brokers import Broker, Kafka, Nats, Rabbit, Redis
from tests.postgres import Cluster, Database, binaries

import plainstep

TREE = "CREATE TABLE {} (k INTEGER PRIMARY KEY, a INTEGER, b VARCHAR(40))"
KEYS = 400
STORES = """
[stores.town]
url = "sqlite:///town.db"
[stores.bank]
url = "{bank}"
[stores.maria]
url = "{maria}"
[stores.land]
url = "file:///in"
[stores.house]
url = "duckdb:///house.duckdb"
[stores.shed]
url = "sqlite:///shed.db"
[stores.lake]
url = "delta:///lake"
[stores.ice]
url = "iceberg+sqlite:///ice.db?warehouse=ice"
"""
LAYOUT = (
    'operation = "op"\ninsert = ["insert"]\nupdate = ["update"]\ndelete = ["delete"]\nwas = "was.*"\nnow = "now.*"\n'
)
# By name: from, into, and what else is said.
LOADS = {
    "sqlite_duckdb": ("town.tree", "house.a", ""),
    "sqlite_delta": ("town.tree", "lake.a", ""),
    "postgres_sqlite": ("bank.tree", "shed.b", ""),
    "postgres_history": ("bank.tree", "house.b", "shape = 'history'\n"),
    "postgres_log_iceberg": ("bank.elm", "ice.town.c", "changes = 'log'\n"),
    "postgres_log_duckdb": ("bank.elm", "house.c", "changes = 'log'\n"),
    "mariadb_sqlite": ("maria.tree", "shed.d", ""),
    "mariadb_log_postgres": ("maria.elm", "bank.e", "changes = 'log'\n"),
    "mariadb_log_mariadb": ("maria.elm", "maria.f", "changes = 'log'\n"),
}


class Writer(threading.Thread):
    """Changes rows of one table, again and again, whatever becomes of its server."""

    def __init__(self, connect: Callable[[], Any], table: str, mark: str, stop: threading.Event) -> None:
        super().__init__(daemon=True)
        self.connect, self.table, self.mark, self.stop = connect, table, mark, stop
        self.random, self.commits = random.Random(table), 0

    def run(self) -> None:
        connection = None
        while not self.stop.is_set():
            try:
                connection = connection or self.connect()
                cursor = connection.cursor()
                for _ in range(self.random.randint(1, 5)):
                    self._change(cursor)
                if self.random.random() < 0.02:
                    time.sleep(self.random.uniform(0, 4))  # a transaction that stays open
                connection.commit()
                self.commits += 1
            except (sqlite3.Error, psycopg.Error, pymysql.Error, OSError):
                with suppress(Exception):
                    connection and connection.close()
                connection = None
                time.sleep(0.5)
            time.sleep(0.05)

    def _change(self, cursor: Any) -> None:
        key, value = self.random.randrange(KEYS), self.random.randrange(1000)
        cursor.execute(
            f"UPDATE {self.table} SET a = {self.mark}, b = {self.mark} WHERE k = {self.mark}", (value, f"é{value}", key)
        )
        if cursor.rowcount == 0:
            cursor.execute(
                f"INSERT INTO {self.table} VALUES ({self.mark}, {self.mark}, {self.mark})", (key, value, None)
            )
        elif self.random.random() < 0.3:
            cursor.execute(f"DELETE FROM {self.table} WHERE k = {self.mark}", (key,))


class Sender(threading.Thread):
    """Sends changes as messages, or lands them as files."""

    def __init__(self, send: Callable[[list[dict[str, Any]]], None], stop: threading.Event, seed: str) -> None:
        super().__init__(daemon=True)
        self.send, self.stop, self.random = send, stop, random.Random(seed)
        self.rows, self.sent = dict[int, dict[str, Any]](), 0

    def run(self) -> None:
        while not self.stop.is_set():
            self.some(self.random.randint(1, 20))
            time.sleep(0.3)

    def some(self, count: int) -> None:
        """Send so many."""
        found = []
        for _ in range(count):
            key, value = self.random.randrange(KEYS), self.random.randrange(1000)
            was, now = self.rows.pop(key, None), {"k": key, "a": value, "b": f"é{value}"}
            op = "insert" if was is None else "delete" if self.random.random() < 0.3 else "update"
            if op != "delete":
                self.rows[key] = now
            found.append({"op": op, "was": was, "now": None if op == "delete" else now})
        self.send(found)
        self.sent += count


def lander(folder: Path) -> Callable[[list[dict[str, Any]]], None]:
    """Lands files whose names rise."""
    folder.mkdir()
    count = iter(range(10**9))

    def land(changes: list[dict[str, Any]]) -> None:
        path = folder / f".{next(count):08}"
        path.write_text("".join(json.dumps(one) + "\n" for one in changes))
        path.rename(folder / f"{path.name[1:]}.jsonl")

    return land


class Keeper(threading.Thread):
    """Expires snapshots of the Iceberg table, as whoever looks after one does: every commit copies what is told of each."""

    def __init__(self, folder: Path, stop: threading.Event) -> None:
        super().__init__(daemon=True)
        self.folder, self.stop, self.expired = folder, stop, 0

    def run(self) -> None:
        while not self.stop.wait(20):
            with suppress(NoSuchTableError, CommitFailedException, SQLAlchemyError):
                catalog = load_catalog("default", type="sql", uri=f"sqlite:///{self.folder / 'ice.db'}")
                table = catalog.load_table("town.c")
                before = len(table.snapshots())
                table.maintenance.expire_snapshots().older_than(datetime.now(UTC) - timedelta(minutes=1)).commit()
                self.expired += before - len(table.refresh().snapshots())


class Archivist(threading.Thread):
    """Takes files away that both loads have merged, as whoever looks after a folder does, and brings them back in the end."""

    # So many of them stay; and no more are away than are remembered, should they come again.
    STAY, AWAY = 500, 9_000

    def __init__(self, config: Path, stop: threading.Event) -> None:
        super().__init__(daemon=True)
        self.config, self.stop = config, stop
        self.folder, self.away = config.parent / "in", config.parent / "away"
        self.away.mkdir()

    def run(self) -> None:
        taken = 0
        while not self.stop.wait(20):
            with suppress(plainstep.PlainStepError):
                loads = [plainstep.load_project(self.config).load(name) for name in ("files", "files_journal")]
                marks = [mark.token.partition(":")[0] for load in loads if (mark := load.target.watermark(load.name))]
                merged = sorted(
                    path for path in self.folder.glob("*.jsonl") if len(marks) == 2 and path.name < min(marks)
                )
                for path in merged[: max(0, min(len(merged) - self.STAY, self.AWAY - taken))]:
                    path.rename(self.away / path.name)
                    taken += 1

    def bring_back(self) -> None:
        """For what is compared in the end: all that was ever told."""
        for path in self.away.glob("*.jsonl"):
            path.rename(self.folder / path.name)


class Run:
    """The run that is soaked, begun again when it was killed."""

    def __init__(self, config: Path) -> None:
        self.config, self.log = config, (config.parent / "run.log").open("a")
        self.begin()

    def begin(self) -> None:
        words = [sys.executable, "-m", "plainstep", "-c", str(self.config), "run", "--every", "1s", "--json"]
        self.process = subprocess.Popen(words, stdout=self.log, stderr=self.log, cwd=self.config.parent, env=os.environ)

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()
        self.begin()

    def held(self) -> tuple[float, int, float]:
        """What it holds: MiB, and open files; and the processor's seconds it has taken since it began."""
        place = Path(f"/proc/{self.process.pid}")
        lines = (place / "status").read_text().splitlines()
        memory = next(int(line.split()[1]) for line in lines if line.startswith("VmRSS")) / 1024
        ticks = (place / "stat").read_text().rpartition(")")[2].split()[11:13]
        seconds = sum(map(int, ticks)) / os.sysconf("SC_CLK_TCK")
        return memory, len(list((place / "fd").iterdir())), seconds


def steps_of(log: Path) -> list[dict[str, Any]]:
    found = []
    for line in log.read_text().splitlines():
        with suppress(ValueError):  # a line of a process that was killed
            found += [json.loads(line)] if line.startswith("{") else []
    return found


def quarters(log: Path, began: float, seconds: float) -> None:
    """The first and the last quarter's steps, compared."""
    steps = [one for one in steps_of(log) if one["outcome"] == "stepped"]
    print(f"\n{'':<26}{'first quarter':>28}{'last quarter':>28}")
    for load in sorted({one["load"] for one in steps}):
        cells = []
        for start in (0.0, 0.75):
            low, high = began + seconds * start, began + seconds * (start + 0.25)
            mine = [one for one in steps if one["load"] == load and low <= _time(one["at"]) < high]
            told = (
                f"{len(mine):5} steps, {statistics.median([one['seconds'] for one in mine]) * 1000:6.0f} ms"
                if mine
                else "-"
            )
            cells.append(told)
        print(f"{load:<26}{cells[0]:>28}{cells[1]:>28}")


def _time(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


def settings(folder: Path, stores: str, brokers: dict[str, tuple[Broker, str]]) -> Path:
    """The plainstep.toml."""
    config, text = folder / "plainstep.toml", stores
    for name, (source, into, more) in LOADS.items():
        text += f"[loads.{name}]\nfrom = '{source}'\ninto = '{into}'\n{more}"
    feeds = {"files": ("land.*.jsonl", "lake.g", LAYOUT)}
    for name, (broker, into) in brokers.items():
        text += f"[stores.{name}]\nurl = '{broker.url}'\n"
        feeds[name] = (f"{name}.{broker.name}", into, f"{LAYOUT}missing_field = 'null'\n{broker.layout}")
    for name, (source, into, layout) in feeds.items():
        for load, place, shape in ((name, into, "mirror"), (f"{name}_journal", f"shed.{name}_journal", "journal")):
            text += f"[loads.{load}]\nfrom = '{source}'\ninto = '{place}'\nkey = ['k']\nfirst = 'start'\n"
            text += f"shape = '{shape}'\n[loads.{load}.layout]\n{layout}"
    config.write_text(text)
    return config


class EndlessRabbit(Rabbit):
    """A stream that keeps every message: else ``check`` would compare with what is left of it."""

    arguments: ClassVar[dict[str, Any]] = {"x-queue-type": "stream"}


def sender(broker: Broker) -> Callable[[list[dict[str, Any]]], None]:
    """Sends messages with the row's key."""
    return lambda some: broker.send(*((str((one["now"] or one["was"])["k"]).encode(), one) for one in some))


def main() -> None:
    """Run, and say what was seen."""
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    found = binaries()
    assert found, "PostgreSQL's server binaries are not installed"
    cluster = Cluster(found, wal_level="logical")
    server = mariadb.Server(**{"innodb-flush-log-at-trx-commit": "1", "sync-binlog": "1"})
    bank, maria = Database(server=cluster), mariadb.Database(of=server)
    folder = Path(tempfile.mkdtemp(prefix="plainstep-soak-"))
    for table in ("tree", "elm"):
        with bank.connect() as connection:
            connection.execute(TREE.format(table))
        maria.sql(TREE.format(table))
    with sqlite3.connect(folder / "town.db") as town:
        town.execute(TREE.format("tree"))
    brokers: dict[str, tuple[Broker, str]] = {
        "redis": (Redis(), "shed.h"), "nats": (Nats(), "house.i"), "rabbit": (EndlessRabbit(), "lake.j"), "kafka": (Kafka(), "house.k"),
    }  # fmt: skip
    config = settings(folder, STORES.format(bank=cluster.url(bank.name), maria=maria.url), brokers)
    project = plainstep.load_project(config)
    for place, how in (
        ("town.tree", "capture"),
        ("bank.tree", "capture"),
        ("maria.tree", "capture"),
        ("bank.elm", "log"),
        ("maria.elm", "log"),
    ):
        project.capture_on(place, how=how)

    stop = threading.Event()
    writers = [
        Writer(lambda: sqlite3.connect(folder / "town.db", timeout=30), "tree", "?", stop),
        *(Writer(lambda: psycopg.connect(cluster.url(bank.name)), table, "%s", stop) for table in ("tree", "elm")),
        *(Writer(lambda: server.connect(maria.name, autocommit=False), table, "%s", stop) for table in ("tree", "elm")),
    ]
    senders = {name: Sender(sender(broker), stop, name) for name, (broker, _) in brokers.items()}
    senders["files"] = Sender(lander(folder / "in"), stop, "files")
    for one in senders.values():
        one.some(5)  # what it is made of is to be seen
    keeper = Keeper(folder, stop)
    archivist = Archivist(config, stop)
    threads: list[threading.Thread] = [*writers, *senders.values(), keeper, archivist]
    for thread in threads:
        thread.start()
    run = Run(config)
    done = soaked(run, cluster, server, 60 * minutes)
    stop.set()
    for thread in threads:
        thread.join()
    run.process.send_signal(signal.SIGTERM)
    status = run.process.wait(120)
    log = (folder / "run.log").read_text()
    steps = steps_of(folder / "run.log")
    counts = {word: sum(one["outcome"] == word for one in steps) for word in ("stepped", "failed", "refused")}
    print(
        f"\nminutes {minutes:g}; {done}; exit status of the run {status}; tracebacks in its log: {log.count('Traceback')}"
    )
    print(
        f"steps {counts['stepped']:,}, failed {counts['failed']:,}, refused {counts['refused']:,}; changes merged {sum(one['changes'] for one in steps):,}; "
        f"snapshots expired {keeper.expired:,}"
    )
    for refused in [one for one in steps if one["outcome"] == "refused"][:5]:
        print(f"REFUSED {refused['load']} {refused.get('error')}")
    archivist.bring_back()
    finish(folder, config, senders)
    for broker, _ in brokers.values():
        broker.close()
    shutil.rmtree(folder, ignore_errors=True)


def soaked(run: Run, cluster: Cluster, server: mariadb.Server, seconds: float) -> str:
    """Kill and restart everything for so long; what was done."""
    chance, began, held = random.Random(7), time.time(), list[tuple[float, float, int, float]]()
    done = dict.fromkeys(("PostgreSQL stopped", "MariaDB killed", "connections ended", "run killed"), 0)
    while (passed := time.time() - began) < seconds:
        time.sleep(min(chance.uniform(8, 25), max(seconds - passed, 0.1)))
        held.append((time.time() - began, *run.held()))
        is_middle = 0.25 < (time.time() - began) / seconds < 0.75
        what = chance.choice([*done] if is_middle else [*done][:3])
        if what == "PostgreSQL stopped":
            cluster.stop(chance.choice(["immediate", "fast"]))
            time.sleep(chance.uniform(0, 3))
            cluster.start()
        elif what == "MariaDB killed":
            server.kill()
            server.start()
        elif what == "connections ended":
            with suppress(psycopg.Error), cluster.connect() as connection:
                connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type IN ('client backend', 'walsender')"
                )
        else:
            run.kill()
        done[what] += 1
    for start in (0.0, 0.75):
        some = [one for one in held if seconds * start <= one[0] < seconds * (start + 0.25) + 1]
        print(
            f"{'first' if start == 0 else 'last'} quarter, MiB: {', '.join(f'{one[1]:.0f}' for one in some)}; open files: {', '.join(str(one[2]) for one in some)}"
        )
        # A host that gives less of its processors makes steps longer, and takes no more of their time.
        low, high = began + some[0][0], began + some[-1][0]
        steps = sum(low <= _time(one["at"]) < high for one in steps_of(run.config.parent / "run.log"))
        used = some[-1][3] - some[0][3]
        print(f"processor time {used:.0f} s for {steps:,} steps: {1000 * used / max(steps, 1):.0f} ms each")
    quarters(run.config.parent / "run.log", began, seconds)
    return ", ".join(f"{what} {count}" for what, count in done.items())


def finish(folder: Path, config: Path, senders: dict[str, Sender]) -> None:
    """Step once more, and compare everything."""
    project = plainstep.load_project(config)
    for _ in range(2):
        for outcome in project.step(raise_errors=False):
            if outcome.error:
                print(f"{outcome.load}: {outcome.error}")
    wrong = 0
    for one in project.check(raise_errors=False):
        wrong += not one.ok
        print(
            f"{one.load:<26}{'equal' if one.ok else 'DIFFERENT':<11}{one.source_rows:>8,} and {one.target_rows:,} rows {one.error or ''}"
        )
    with sqlite3.connect(folder / "shed.db") as shed:
        for name, sender in senders.items():
            [count] = shed.execute(f"SELECT count(*) FROM {name}_journal").fetchone()
            wrong += count != sender.sent
            print(f"{name:<26}sent {sender.sent:,}, in the journal {count:,}")
    assert not wrong, "see above"


if __name__ == "__main__":
    main()
