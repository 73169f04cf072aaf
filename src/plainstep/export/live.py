"""A page that stays up: the report, always current, and the same for programs. It is read only."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING, Any, ClassVar

from plainstep.core.json_values import plain
from plainstep.errors import ConfigError, PlainStepError, StoreError
from plainstep.export.openmetrics import openmetrics
from plainstep.export.report import page as report
from plainstep.redaction import redacted
from plainstep.views.status import UNHEALTHY

if TYPE_CHECKING:
    from plainstep.loads.load import Load
    from plainstep.stores.records import LedgerEntry
    from plainstep.views.status import LoadStatus

    Loads = Callable[[], list[tuple[Load, LoadStatus]]]

# Seconds for which what was found out serves every request: stores are asked no more often, however many ask here.
FRESH = 5.0
# Seconds after which a browser asks for the page again.
REFRESH = 15
# Seconds that a request may take to arrive, and how many may be at it at a time. Each takes a thread.
PATIENCE, AT_ONCE = 10.0, 16
# Steps that /ledger.json tells.
STEPS = 500
LOOPBACK = ("127.0.0.1", "localhost", "[::1]", "::1")


def address_of(said: str) -> tuple[str, int]:
    """A host and a port, out of ``HOST:PORT`` or ``PORT``; without a host, this machine alone can ask.

    Raises:
        ConfigError: it is neither.
    """
    host, _, port = said.rpartition(":")
    if not port.isdigit() or not 0 <= int(port) < 65536:
        raise ConfigError(f"{said!r} is not an address to listen at.", "", "Write 127.0.0.1:8088, or 8088.")
    return host.strip("[]") or "127.0.0.1", int(port)


class Live:
    """What is told, found out at most once in ``FRESH`` seconds.

    Args:
        name: what the page is of.
        loads: gives the loads and where each stands. It is called in the thread that asks.
        steps: gives so many of the newest steps.
    """

    def __init__(self, name: str, loads: Loads, steps: Callable[[int], list[LedgerEntry]]) -> None:
        self.name, self._loads, self._steps = name, loads, steps
        self._lock = threading.Lock()
        self._drawn: report.Drawn = {}
        self._known: dict[str, tuple[float, str]] = {}

    def told(self, path: str) -> tuple[int, str, str] | None:
        """What is answered for a path: the status, the type and the text; None where there is nothing."""
        if path not in PATHS:
            return None
        kind, make = PATHS[path]
        with self._lock:
            made_at, text = self._known.get(path, (0.0, ""))
            if not text or time.monotonic() - made_at > FRESH:
                text = make(self)
                self._known[path] = (time.monotonic(), text)
        return 503 if path == "/health" and not text.startswith("ok") else 200, kind, text

    def page(self) -> str:
        """The report."""
        return report.page(self.name, self._loads(), REFRESH, self._drawn)

    def metrics(self) -> str:
        """Where loads stand, for a monitor."""
        return openmetrics(one for _, one in self._loads())

    def health(self) -> str:
        """``ok``, or which loads are not, and why."""
        bad = [one for _, one in self._loads() if one.health in UNHEALTHY]
        return "".join(f"{one.load}: {one.health}: {one.reason}\n" for one in bad) or "ok\n"

    def status(self) -> str:
        """Where each load stands, as ``plainstep status --json`` tells it."""
        return _json([one.to_dict() for _, one in self._loads()])

    def ledger(self) -> str:
        """The newest steps, as ``plainstep ledger --json`` tells them."""
        return _json([one.to_dict() for one in self._steps(STEPS)])


PATHS: dict[str, tuple[str, Callable[[Live], str]]] = {
    "/": ("text/html", Live.page),
    "/metrics": ("application/openmetrics-text; version=1.0.0", Live.metrics),
    "/health": ("text/plain", Live.health),
    "/status.json": ("application/json", Live.status),
    "/ledger.json": ("application/json", Live.ledger),
}


def _json(data: Any) -> str:
    return json.dumps(data, default=plain, ensure_ascii=False)


class _Handler(BaseHTTPRequestHandler):
    """Answers GET and HEAD, and nothing else."""

    live: ClassVar[Live]
    alone: ClassVar[bool]
    room: ClassVar[threading.Semaphore]
    server_version, sys_version = "plainstep", ""
    timeout = PATIENCE

    def do_GET(self) -> None:
        """The answer to a request."""
        if self.alone and self.headers.get("Host", "").rpartition(":")[0] not in LOOPBACK:
            # Else a page of somebody's, in a browser here, could ask under a name that it had lead to this machine.
            self._answer(421, "text/plain", "This is asked for by its address.\n")
            return
        if not self.room.acquire(timeout=PATIENCE):
            self._answer(503, "text/plain", "Too many are asking.\n")
            return
        try:
            told = self.live.told(self.path.partition("?")[0])
            self._answer(*(told or (404, "text/plain", f"There is {', '.join(PATHS)}.\n")))
        except PlainStepError as error:
            self._answer(503, "text/plain", f"{error.what}\n")
        except OSError:  # whoever asked is gone
            pass
        except Exception as error:
            self._answer(500, "text/plain", redacted(f"Unexpected error: {type(error).__name__}\n"))
        finally:
            self.room.release()

    do_HEAD = do_GET  # noqa: N815 (http.server's own name)

    def _answer(self, status: int, kind: str, text: str) -> None:
        body = text.encode()
        self.send_response(status)
        self.send_header("Content-Type", kind if "openmetrics" in kind else f"{kind}; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        for name, value in (
            ("Cache-Control", "no-store"),
            ("X-Content-Type-Options", "nosniff"),
            ("X-Frame-Options", "DENY"),
            ("Referrer-Policy", "no-referrer"),
            ("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'"),
        ):
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Nothing: a monitor asks every few seconds."""


@contextmanager
def served(live: Live, address: tuple[str, int]) -> Iterator[str]:
    """Serve the page in threads of its own, as long as the block takes; its URL.

    Raises:
        StoreError: the address cannot be listened at.
    """
    host, port = address
    mine = {"live": live, "alone": host in LOOPBACK, "room": threading.Semaphore(AT_ONCE)}
    try:
        server = ThreadingHTTPServer(address, type("Handler", (_Handler,), mine))
    except OSError as error:
        raise StoreError(
            f"Cannot listen at {host}:{port}: {error.strerror or error}.", "", "Give --listen another port."
        ) from None
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, name="page", daemon=True)
    thread.start()
    try:
        yield f"http://{host}:{server.server_address[1]}/"
    finally:
        server.shutdown()
        server.server_close()
