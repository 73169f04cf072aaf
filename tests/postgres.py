"""A PostgreSQL cluster of the tests' own, made from the installed binaries in a temporary folder."""

from __future__ import annotations

import contextlib
import functools
import itertools
import os
import pwd
import shlex
import shutil
import socket
import subprocess
import tempfile
import threading
import unittest
import uuid
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import psycopg

from tests.support import Town


class Writers:
    """Three connections in transactions of their own, none of which waits for another: a statement that would is left out."""

    def __init__(self, database: Database) -> None:
        self.connections = [database.connect() for _ in range(3)]
        for connection in self.connections:
            connection.execute("SET lock_timeout = '15ms'")

    def close(self) -> None:
        for connection in self.connections:
            connection.close()

    def act(self, what: str, who: int, key: int = 0) -> None:
        connection = self.connections[who]
        inside = connection.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        words = {
            "begin": "" if inside else "BEGIN",
            "commit": "COMMIT" if inside else "",
            "rollback": "ROLLBACK" if inside else "",
            "savepoint": "SAVEPOINT here" if inside else "",
            "undo": "ROLLBACK TO here" if inside else "",
            "put": f"INSERT INTO tree VALUES ({key}, {who}, 'x') ON CONFLICT (k) DO UPDATE SET a = coalesce(tree.a, 0) + 7, b = '{who}'",
            "delete": f"DELETE FROM tree WHERE k = {key}",
            "rekey": f"UPDATE tree SET k = k + 10 WHERE k = {key}",
            "xid": "SELECT pg_current_xact_id()" if inside else "",  # a number now, and writes only later
        }[what]
        if not words:
            return
        if inside and what in ("put", "delete", "rekey"):
            with contextlib.suppress(psycopg.Error), connection.transaction():
                connection.execute(words)
        else:
            with contextlib.suppress(psycopg.Error):
                connection.execute(words)
                return
            if what == "undo":  # there was no savepoint
                connection.execute("ROLLBACK")


VALUES = """INSERT INTO "Odd schema"."tree ""x"" é.1" VALUES
    (%s, -3, 7, 9007199254740993, 1.1, 1e300, 12345.678, 123456789012345678901234567890.12, 0.10, E'a"b,c\\n\\\\', '', 'ab', true,
     '1999-12-31', '23:59:59.5', '2020-02-29 12:00:00.000001', '2020-06-01 12:00+05:30', '1 mon -2 days 03:04:05.6',
     'C0FFEE00-0000-0000-0000-000000000000', '\\x00ff', '{"b" : [1,  2]}', '{"z": null}', '{1,NULL,3}', '{"a,b","",null}', 'park', '[1,5)',
     '[2020-01-01 00:00+00,)', 12.5, '10.0.0.1/8', B'101', 'reserved')"""

TREE = "CREATE TABLE tree (k int PRIMARY KEY, a int, b text)"

ROWS = "INSERT INTO tree SELECT n, n, 'oak' FROM generate_series(1, 200) n"

ODD = '"Odd schema"."tree ""x"" é.1"'

EDITS = [
    "UPDATE tree SET a = a + 1 WHERE k < 100",
    "DELETE FROM tree WHERE k % 7 = 0",
    "INSERT INTO tree VALUES (500, 5, 'elm')",
]

COMMANDS = (
    ("capture", "on", "source.public.tree"), ("step",), ("--debug", "step"), ("step", "--json"), ("status",), ("status", "--json"),
    ("status", "--metrics"), ("look", "tree"), ("net", "tree"), ("trace", "tree", "1"), ("ledger",), ("ledger", "--json"), ("check",),
    ("capture", "list"), ("trim", "source", "--yes"), ("watermark", "tree"), ("reload", "tree"), ("report", "-o", os.devnull),
    ("--debug", "status"), ("--debug", "reload", "tree"),
)  # fmt: skip

# A password is made of these, with signs between them that mean something in a URL. Neither may be seen anywhere.
CHUNKS = ("zqxj7", "vkwy9")

ALL_TYPES = """CREATE TYPE kind AS ENUM ('street', 'park');
CREATE DOMAIN girth AS numeric(6, 1) CHECK (VALUE > 0);
CREATE TABLE "Odd schema"."tree ""x"" é.1" (
    k bigint PRIMARY KEY, i2 smallint, i4 int, i8 bigint, f4 real, f8 double precision, n numeric(12, 3), big numeric(60, 2),
    free numeric, t text, v varchar(9), c char(4), b boolean, d date, tm time, ts timestamp, tz timestamptz, iv interval,
    u uuid, by bytea, j json, jb jsonb, a int[], at text[], e kind, r int4range, tr tstzrange, g girth, ip inet, bits bit(3),
    "select" text, made int GENERATED ALWAYS AS (i4 + 1) STORED)"""

HBA = """
local all all trust
host all wary 127.0.0.1/32 scram-sha-256
host all all 127.0.0.1/32 trust
"""
SETTINGS = {
    "wal_level": "logical",
    "max_replication_slots": 30,
    "max_wal_senders": 4,
    "max_connections": 60,
    "max_prepared_transactions": 4,
    "fsync": "off",
    "autovacuum_naptime": "10s",
    "shared_buffers": "256MB",
    "listen_addresses": "127.0.0.1",
}


def binaries() -> Path | None:
    """The folder of initdb and postgres, the newest there is."""
    known = shutil.which("initdb")
    if known:
        return Path(known).resolve().parent
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda file: int(file.parts[4]))
    return found[-1].parent if found else None


def _owner() -> str | None:
    """Who shall own the cluster: PostgreSQL does not run as root."""
    if os.geteuid():
        return None
    names = {entry.pw_name for entry in pwd.getpwall()}
    return "postgres" if "postgres" in names else "nobody"


class Cluster:
    """A server on a free loopback port, which ends with the process."""

    def __init__(self, bin: Path, **settings: Any) -> None:
        self.bin, self.owner = bin, _owner()
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-pg-"))
        if self.owner:
            shutil.chown(self.path, self.owner)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = int(probe.getsockname()[1])
        self.data = self.path / "data"
        self._run("initdb", "-D", self.data, "-U", "postgres", "-E", "UTF8", "--locale=C", "--no-sync")
        (self.data / "pg_hba.conf").write_text(HBA)
        lines = {**SETTINGS, "port": self.port, "unix_socket_directories": self.path, **settings}
        with (self.data / "postgresql.conf").open("a") as file:
            file.writelines(f"{name} = '{value}'\n" for name, value in lines.items())
        self.start()
        self._watch()

    def _watch(self) -> None:
        """Have the server end with this process, however that ends: a worker of the tests is killed when they are done."""
        stop = f"{shlex.quote(str(self.bin / 'pg_ctl'))} -D {shlex.quote(str(self.data))} -m immediate -w stop"
        self.watcher = subprocess.Popen(
            ["sh", "-c", f"read _; {stop}; rm -rf {shlex.quote(str(self.path))}"],
            stdin=subprocess.PIPE,  # closed by the system when this process is gone
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            user=self.owner,
            cwd="/",
            start_new_session=True,
        )

    def _run(self, program: str, *words: Any) -> None:
        command = [str(self.bin / program), *map(str, words)]
        log = (self.path / "log").open("a")
        if self.owner:
            shutil.chown(self.path / "log", self.owner)
        try:
            subprocess.run(command, check=True, stdout=log, stderr=log, user=self.owner, cwd="/", timeout=240)
        except subprocess.CalledProcessError as error:
            raise RuntimeError((self.path / "log").read_text()[-3000:]) from error
        finally:
            log.close()

    def start(self) -> None:
        self._run("pg_ctl", "-D", self.data, "-l", self.path / "server.log", "-w", "start")

    def stop(self, mode: str = "immediate") -> None:
        self._run("pg_ctl", "-D", self.data, "-m", mode, "-w", "stop")

    def end(self) -> None:
        """Let the watcher end it, and wait for that."""
        self.watcher.communicate()

    def url(self, database: str, user: str = "postgres") -> str:
        return f"postgresql://{user}@127.0.0.1:{self.port}/{database}"

    def connect(self, database: str = "postgres", user: str = "postgres", **more: Any) -> psycopg.Connection[Any]:
        return psycopg.connect(self.url(database, user), autocommit=True, **more)


@functools.cache
def cluster() -> Cluster:
    """This process's server.

    Raises:
        unittest.SkipTest: PostgreSQL is not installed.
    """
    bin = binaries()
    if bin is None:
        told = "PostgreSQL's server binaries are not installed: apt-get install postgresql"
        if os.environ.get("CI"):
            raise RuntimeError(told)
        raise unittest.SkipTest(told)
    return Cluster(bin)


class Database:
    """A database of its own, dropped in the end."""

    def __init__(self, *statements: str, server: Cluster | None = None) -> None:
        self.server = server or cluster()
        self.name = f"t_{uuid.uuid4().hex[:12]}"
        with self.server.connect() as connection:
            connection.execute(f"CREATE DATABASE {self.name}")
        self.sql(*statements)

    def __enter__(self) -> Database:
        return self

    def __exit__(self, *_: object) -> None:
        with self.server.connect() as connection:
            for (slot,) in connection.execute(
                "SELECT slot_name FROM pg_replication_slots WHERE database = %s", [self.name]
            ).fetchall():
                connection.execute("SELECT pg_drop_replication_slot(%s)", [slot])
            connection.execute(f"DROP DATABASE {self.name} WITH (FORCE)")

    @property
    def url(self) -> str:
        return self.server.url(self.name)

    def connect(self, user: str = "postgres", **more: Any) -> psycopg.Connection[Any]:
        return self.server.connect(self.name, user, **more)

    def sql(self, *statements: str, user: str = "postgres") -> None:
        """Run statements, each in a transaction of its own."""
        with self.connect(user) as connection:
            for statement in statements:
                connection.execute(statement)

    def rows(self, table: str = "tree", values: Sequence[Any] = ()) -> list[Any]:
        """All rows of a table (or of a query), sorted."""
        sql = table if table.upper().startswith("SELECT") else f"SELECT * FROM {table}"
        with self.connect() as connection:
            return sorted(connection.execute(sql, values or None).fetchall(), key=repr)


class Relay:
    """Stands between clients and a server, and counts how often a client waits for an answer."""

    def __init__(self, port: int) -> None:
        self.waits = 0
        self._to, self._server = port, socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def __enter__(self) -> Relay:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.close()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, server = self._server.accept()[0], socket.create_connection(("127.0.0.1", self._to))
                spoke = threading.Event()  # whether the client spoke last
                for one, other in ((client, server), (server, client)):
                    threading.Thread(target=self._pass, args=[one, other, one is client, spoke], daemon=True).start()

    def _pass(self, one: socket.socket, other: socket.socket, is_client: bool, spoke: threading.Event) -> None:
        with contextlib.suppress(OSError), one, other:
            while said := one.recv(1 << 16):
                if is_client:
                    self.waits += not spoke.is_set()
                    spoke.set()
                else:
                    spoke.clear()
                other.sendall(said)


roles = itertools.count()


def role(options: str = "") -> str:
    """A role of its own, which may log in and owns nothing."""
    name = f"role_{os.getpid()}_{next(roles)}"
    with cluster().connect() as connection:
        connection.execute(f"CREATE ROLE {name} LOGIN {options}")
    return name


INTO = ("into_postgres", "into_duckdb", "into_sqlite")


@contextlib.contextmanager
def park(
    *statements: str, how: str = "capture", table: str = "public.tree", more: str = ""
) -> Iterator[tuple[Database, Database, Town]]:
    """A source database, a target database, and a town with loads from the one into the other and into two files."""
    with Database(*statements) as source, Database() as target, Town() as town:
        loads = "".join(
            f"[loads.{name}]\nfrom = 'source.{table}'\ninto = '{into}'\nchanges = '{how}'\n{more}\n"
            for name, into in zip(INTO, ("target.copied", "house.copied", "shed.copied"), strict=True)
        )
        stores = f"[stores.source]\nurl = '{source.url}'\n[stores.target]\nurl = '{target.url}'\n"
        files = "[stores.house]\nurl = 'duckdb:///house.duckdb'\n[stores.shed]\nurl = 'sqlite:///shed.db'\n"
        town.config.write_text(stores + files + loads)
        town.project.capture_on(f"source.{table}", (), how)
        yield source, target, town
