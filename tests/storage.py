"""Object storage of the tests' own: a stand-in for S3 on this machine."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from unittest import mock

import obstore


@contextmanager
def storage() -> Iterator[dict[str, str]]:
    """A server with the bucket ``larkmoor``, and the environment by which it is reached."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
        try:
            for _ in range(600):
                with socket.socket() as probe:
                    if probe.connect_ex(("127.0.0.1", port)) == 0:
                        break
                time.sleep(0.1)
            said = {
                "AWS_ACCESS_KEY_ID": "larkmoor", "AWS_SECRET_ACCESS_KEY": "s3cretword", "AWS_REGION": "us-east-1",
                "AWS_ENDPOINT_URL": f"http://127.0.0.1:{port}", "AWS_ALLOW_HTTP": "true",
            }  # fmt: skip
            made = urllib.request.Request(f"{said['AWS_ENDPOINT_URL']}/larkmoor", method="PUT")
            urllib.request.urlopen(made).close()
            with mock.patch.dict(os.environ, said):
                yield said
        finally:
            server.kill()


@contextmanager
def lost_answers(part: str, again: bool) -> Iterator[list[str]]:
    """Meanwhile, what is written under names with some part is written, and the first time its answer is lost.

    Args:
        part: what the names contain.
        again: whether the request is then sent again, as libraries do by themselves; else an error is told.
    """
    real, names = obstore.put, list[str]()

    def put(store: Any, name: str, data: bytes, **more: Any) -> Any:
        done = real(store, name, data, **more)
        if part in name and not names:
            names.append(name)
            if not again:
                raise obstore.exceptions.GenericError("connection reset by peer")
            return real(store, name, data, **more)
        return done

    with mock.patch("plainstep.stores.objects.obstore.put", put):
        yield names
