"""A PostgreSQL cluster of the tests' own, made from the installed binaries in a temporary folder."""

from __future__ import annotations

import atexit
import functools
import itertools
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import unittest
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import psycopg

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
        atexit.register(self.end)

    def _run(self, program: str, *words: Any) -> None:
        command = [str(self.bin / program), *map(str, words)]
        log = (self.path / "log").open("a")
        if self.owner:
            shutil.chown(self.path / "log", self.owner)
        try:
            subprocess.run(command, check=True, stdout=log, stderr=log, user=self.owner, cwd="/", timeout=60)
        except subprocess.CalledProcessError as error:
            raise RuntimeError((self.path / "log").read_text()[-3000:]) from error
        finally:
            log.close()

    def start(self) -> None:
        self._run("pg_ctl", "-D", self.data, "-l", self.path / "server.log", "-w", "start")

    def stop(self, mode: str = "immediate") -> None:
        self._run("pg_ctl", "-D", self.data, "-m", mode, "-w", "stop")

    def end(self) -> None:
        self.stop()
        shutil.rmtree(self.path, ignore_errors=True)

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


roles = itertools.count()


def role(options: str = "") -> str:
    """A role of its own, which may log in and owns nothing."""
    name = f"role_{os.getpid()}_{next(roles)}"
    with cluster().connect() as connection:
        connection.execute(f"CREATE ROLE {name} LOGIN {options}")
    return name
