"""A MariaDB server of the tests' own, made from the installed binaries in a temporary folder."""

from __future__ import annotations

import functools
import os
import shlex
import shutil
import signal
import socket
import subprocess
import tempfile
import time
import unittest
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pymysql

# Nothing that the tests write has to outlive the machine.
SETTINGS = {
    "bind-address": "127.0.0.1", "server-id": "17", "log-bin": "bin", "binlog-format": "ROW", "binlog-row-image": "FULL",
    "binlog-row-metadata": "FULL", "local-infile": "ON", "innodb-flush-log-at-trx-commit": "0", "sync-binlog": "0",
    "innodb-buffer-pool-size": "128M", "innodb-log-file-size": "48M", "max-connections": "100", "skip-name-resolve": "ON",
}  # fmt: skip


class Server:
    """A server on a free loopback port, which ends with the process."""

    def __init__(self, **settings: str) -> None:
        self.owner = None if os.geteuid() else "nobody"
        self.path = Path(tempfile.mkdtemp(prefix="plainstep-maria-", dir="/tmp"))
        if self.owner:
            shutil.chown(self.path, self.owner)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = int(probe.getsockname()[1])
        self.data, self.settings = self.path / "data", SETTINGS | settings
        self._run(
            "mariadb-install-db", "--no-defaults", f"--datadir={self.data}", "--auth-root-authentication-method=normal",
            "--skip-test-db", "--skip-name-resolve",
        )  # fmt: skip
        self.start()
        self._watch()

    def _run(self, *words: str) -> None:
        done = subprocess.run(words, capture_output=True, text=True, user=self.owner, cwd="/", timeout=120, check=False)
        if done.returncode:
            raise RuntimeError(done.stdout[-2000:] + done.stderr[-2000:])

    def start(self) -> None:
        """Start it, and wait until it answers."""
        options = [f"--{name}={value}" for name, value in self.settings.items()]
        log = self.path / "server.log"
        command = shlex.join(
            ["mariadbd", "--no-defaults", f"--datadir={self.data}", f"--socket={self.path}/socket", f"--port={self.port}",
             f"--pid-file={self.path}/pid", f"--log-error={log}", f"--tmpdir={self.path}", *options]
        )  # fmt: skip
        subprocess.run(
            ["sh", "-c", f"{command} >/dev/null 2>&1 &"], user=self.owner, cwd="/", start_new_session=True, check=True
        )
        for _ in range(600):
            try:
                self.connect().close()
                return
            except pymysql.Error:
                time.sleep(0.1)
        raise RuntimeError(log.read_text()[-3000:])

    def kill(self) -> None:
        """End it without a word, as a machine that loses its power does."""
        number = int((self.path / "pid").read_text())
        os.kill(number, signal.SIGKILL)
        while Path(f"/proc/{number}").exists():
            time.sleep(0.02)

    def _watch(self) -> None:
        """Have the server end with this process, however that ends."""
        folder = shlex.quote(str(self.path))
        self.watcher = subprocess.Popen(
            ["sh", "-c", f"read _; kill -9 $(cat {folder}/pid); sleep 0.2; rm -rf {folder}"],
            stdin=subprocess.PIPE,  # closed by the system when this process is gone
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, user=self.owner, cwd="/", start_new_session=True,
        )  # fmt: skip

    def url(self, database: str, user: str = "root") -> str:
        return f"mariadb://{user}@127.0.0.1:{self.port}/{database}"

    def connect(self, database: str | None = None, user: str = "root", **more: Any) -> pymysql.Connection[Any]:
        settings: dict[str, Any] = {"charset": "utf8mb4", "autocommit": True, "connect_timeout": 5, **more}
        return pymysql.connect(host="127.0.0.1", port=self.port, user=user, database=database, **settings)


@functools.cache
def server() -> Server:
    """This process's server.

    Raises:
        unittest.SkipTest: MariaDB is not installed.
    """
    if shutil.which("mariadbd") is None or shutil.which("mariadb-install-db") is None:
        told = "MariaDB's server is not installed: apt-get install mariadb-server"
        if os.environ.get("CI"):
            raise RuntimeError(told)
        raise unittest.SkipTest(told)
    return Server()


class Database:
    """A database of its own, dropped in the end."""

    def __init__(self, *statements: str, of: Server | None = None) -> None:
        self.server = of or server()
        self.name = f"t_{uuid.uuid4().hex[:12]}"
        with self.server.connect() as connection, connection.cursor() as cursor:
            cursor.execute(f"CREATE DATABASE {self.name} CHARACTER SET utf8mb4")
        self.sql(*statements)

    @staticmethod
    def of_name(name: str, of: Server) -> Database:
        """One that is there already, or will be."""
        found = Database.__new__(Database)
        found.server, found.name = of, name
        return found

    def __enter__(self) -> Database:
        return self

    def __exit__(self, *_: object) -> None:
        with self.server.connect() as connection, connection.cursor() as cursor:
            cursor.execute("SELECT id FROM information_schema.processlist WHERE db = %s", [self.name])
            for (number,) in cursor.fetchall():
                cursor.execute(f"KILL {number}")
            cursor.execute(f"DROP DATABASE {self.name}")

    @property
    def url(self) -> str:
        return self.server.url(self.name)

    def connect(self, user: str = "root", **more: Any) -> pymysql.Connection[Any]:
        return self.server.connect(self.name, user, **more)

    def sql(self, *statements: str) -> None:
        """Run statements, each in a transaction of its own."""
        with self.connect() as connection, connection.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)

    def rows(self, table: str = "tree", values: Sequence[Any] = ()) -> list[Any]:
        """All rows of a table (or of a query), sorted."""
        sql = table if table.upper().startswith("SELECT") else f"SELECT * FROM {table}"
        with self.connect() as connection, connection.cursor() as cursor:
            cursor.execute(sql, values or None)
            return sorted(cursor.fetchall(), key=repr)
