"""Servers and receivers that others run: certificates, silence, limits, answers."""

from __future__ import annotations

import contextlib
import gzip
import http.server
import os
import shutil
import signal
import socket
import ssl
import subprocess
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from tests.postgres import TREE, Cluster, Database, binaries, park, role
from tests.support import Town


def certified(folder: Path, name: str) -> tuple[Path, Path]:
    """A certificate for this machine that nobody else has signed, and its key."""
    certificate, key = folder / f"{name}.crt", folder / f"{name}.key"
    words = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost",
             "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1", "-keyout", str(key), "-out", str(certificate)]  # fmt: skip
    subprocess.run(words, check=True, capture_output=True)
    return certificate, key


class Servers(unittest.TestCase):
    """Servers that fall silent, let nobody in any more, or are not who they should be."""

    def test_a_server_that_falls_silent(self) -> None:
        server = Cluster(binaries() or self.skipTest("no PostgreSQL"))
        with Database(TREE, server=server) as source, Town() as town:
            town.config.write_text(
                f"[stores.source]\nurl = '{source.url}'\nwait = 2\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
                "[loads.tree]\nfrom = 'source.tree'\ninto = 'house.tree'\n"
            )
            project = town.project
            project.capture_on("source.tree")
            project.step()
            source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
            pids = [
                int(pid)
                for (pid,) in source.rows(
                    "SELECT pid FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
                )
            ]
            pids.append(int((server.data / "postmaster.pid").read_text().split()[0]))
            silence = mock.patch.multiple("plainstep.stores.postgresql.connection", SILENCE=1.0, ANSWER=2)
            try:
                for pid in pids:
                    os.kill(pid, signal.SIGSTOP)
                with silence:
                    [outcome] = project.step(raise_errors=False)
                self.assertIn("The server does not answer", str(outcome.error))
            finally:
                for pid in pids:
                    os.kill(pid, signal.SIGCONT)
            self.assertIsNone(project.step()[0].error)
            self.assertEqual(town.rows("house"), [(1, 1, "oak")])
            source.sql("UPDATE tree SET a = 2")
            with silence, source.connect() as slow:  # a long wait is none of a server that is gone
                slow.execute("BEGIN; LOCK TABLE tree IN ACCESS EXCLUSIVE MODE")
                [outcome] = project.step(raise_errors=False)
                slow.execute("ROLLBACK")
            self.assertNotIn("has not answered", str(outcome.error))

    def test_no_connection_is_left(self) -> None:
        for full in ("source", "target"):
            with self.subTest(full), park(TREE) as (source, target, town):
                town.project.step("into_postgres")
                source.sql("INSERT INTO tree VALUES (1, 1, 'oak')")
                limited = source if full == "source" else target
                name = role()
                for database in (source, target):
                    database.sql(
                        f"GRANT ALL ON SCHEMA public, plainstep TO {name}",
                        f"GRANT ALL ON ALL TABLES IN SCHEMA public, plainstep TO {name}",
                    )
                target.sql(f"ALTER TABLE copied OWNER TO {name}")
                limited.sql(f"ALTER DATABASE {limited.name} CONNECTION LIMIT 0")
                text = town.config.read_text()
                town.config.write_text(text.replace(limited.url, limited.server.url(limited.name, name)))
                told = town.run("step", "into_postgres")
                self.assertEqual(told.exit_code, 1, told.output)
                self.assertIn("too many connections", told.stderr)
                self.assertIn("Wait until others have left", told.stderr)
                self.assertEqual(target.rows("copied"), [])
                limited.sql(f"ALTER DATABASE {limited.name} CONNECTION LIMIT -1")
                self.assertEqual(town.run("step", "into_postgres").exit_code, 0)
                self.assertEqual(target.rows("copied"), [(1, 1, "oak")])
                for database in (source, target):
                    database.sql(f"REASSIGN OWNED BY {name} TO postgres", f"DROP OWNED BY {name}")

    def test_certificates_that_are_not_the_servers(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            folder.chmod(0o755)
            (right, key), (wrong, _) = certified(folder, "right"), certified(folder, "wrong")
            key.chmod(0o600)
            server = Cluster(binaries() or self.skipTest("no PostgreSQL"))
            for file in (right, key):
                shutil.copy(file, server.data / file.name)
                (server.data / file.name).chmod(0o600)
                if server.owner:
                    shutil.chown(server.data / file.name, server.owner)
            with (server.data / "postgresql.conf").open("a") as settings_:
                settings_.write("ssl = on\nssl_cert_file = 'right.crt'\nssl_key_file = 'right.key'\n")
            server.stop("fast")
            server.start()
            with Database(TREE, server=server) as source, Town() as town:
                for root, told in ((wrong, "certificate verify failed"), (right, "")):
                    url = f"{source.url}?sslmode=verify-full&sslrootcert={root}"
                    town.config.write_text(
                        f"[stores.source]\nurl = '{url}'\n[stores.house]\nurl = 'duckdb:///house.duckdb'\n"
                        "[loads.tree]\nfrom = 'source.tree'\ninto = 'house.tree'\nchanges = 'diff'\nkey = ['k']\n"
                    )
                    done = town.run("step")
                    self.assertEqual(done.exit_code, 1 if told else 0, done.output)
                    self.assertIn(told, done.stderr)

    def test_receivers_that_are_not_who_they_should_be_or_never_end(self) -> None:
        def answer(connection: socket.socket, how: str) -> None:
            with contextlib.suppress(OSError), connection:
                connection.recv(65536)
                if how == "large":
                    body = gzip.compress(b"a" * (1 << 26))
                    connection.sendall(
                        b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n" % len(body) + body
                    )
                    return
                connection.sendall(
                    b"HTTP/1.1 500 \x1b[2J" + b"x" * 1000 + b"\r\n" if how == "rude" else b"HTTP/1.1 200 OK\r\n"
                )
                connection.sendall(b"Content-Length: 0\r\n\r\n" if how == "rude" else b"")
                while how == "slow":
                    connection.sendall(b"X: y\r\n")
                    time.sleep(0.05)
                while how == "endless":
                    connection.sendall(b"\r\n" + b"a" * 65536)

        def serve(listening: socket.socket, how: str) -> None:
            with contextlib.suppress(OSError):
                while True:
                    threading.Thread(target=answer, args=[listening.accept()[0], how], daemon=True).start()

        for how, told in (
            ("large", ""),
            ("endless", ""),
            ("slow", "no whole answer within 1 seconds"),
            ("rude", "answered 500"),
        ):
            with self.subTest(how), socket.create_server(("127.0.0.1", 0)) as listening:
                threading.Thread(target=serve, args=[listening, how], daemon=True).start()
                loads = (
                    "[loads.told]\nfrom = 'town.tree'\ninto = 'house.told'\nshape = 'events'\n"
                    f"deliver = 'http://127.0.0.1:{listening.getsockname()[1]}/'\n[loads.told.rules]\ngrown = 'true'\n"
                )
                with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT)", loads=loads) as town:
                    town.project.capture_on("town.tree")
                    town.project.step("told")
                    town.sql("INSERT INTO tree VALUES (1, 1)")
                    with mock.patch("plainstep.loads.delivery.senders.DEADLINE", 1.0 if how == "slow" else 20.0):
                        [outcome] = town.project.step("told")
                    said = " ".join(outcome.warnings)
                    self.assertIn(told, said)
                    self.assertNotIn("\x1b", said)
                    self.assertLess(len(said), 500)
                    assert outcome.delivery
                    self.assertEqual(outcome.delivery.waiting, 1 if told else 0)

    def test_a_receiver_with_another_certificate(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            (right, key), (wrong, _) = certified(Path(name), "right"), certified(Path(name), "wrong")
            got: list[bytes] = []

            class Receiver(http.server.BaseHTTPRequestHandler):
                def do_POST(self) -> None:
                    got.append(self.rfile.read(int(self.headers["Content-Length"])))
                    self.send_response(204)
                    self.end_headers()

                def log_message(self, *_: object) -> None:
                    pass

            server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Receiver)
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.load_cert_chain(right, key)
            server.socket = context.wrap_socket(server.socket, server_side=True)
            threading.Thread(target=server.serve_forever, daemon=True).start()
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)
            loads = (
                "[loads.told]\nfrom = 'town.tree'\ninto = 'house.told'\nshape = 'events'\n"
                f"deliver = 'https://127.0.0.1:{server.server_address[1]}/'\n[loads.told.rules]\ngrown = 'true'\n"
            )
            with Town("CREATE TABLE tree (k INTEGER PRIMARY KEY, a INT)", loads=loads) as town:
                town.project.capture_on("town.tree")
                town.project.step("told")
                town.sql("INSERT INTO tree VALUES (1, 1)")
                with mock.patch.dict(os.environ, {"SSL_CERT_FILE": str(wrong)}):
                    [outcome] = town.project.step("told")
                    self.assertIn("certificate", " ".join(outcome.warnings).lower())
                self.assertEqual(got, [])
                with mock.patch.dict(os.environ, {"SSL_CERT_FILE": str(right)}):
                    self.assertEqual(town.run("quarantine", "told", "--retry").exit_code, 0)
                self.assertEqual(len(got), 1)


if __name__ == "__main__":
    unittest.main()
