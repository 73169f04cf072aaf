"""A bucket of object storage, as small as one can be: it answers what a reader and a writer ask of one, over HTTP, on this machine."""

from __future__ import annotations

import hashlib
import os
import re
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import format_datetime
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit
from xml.sax.saxutils import escape, unescape

NAME = "larkmoor"


class Bucket:
    """Files by name, which are gone when the process ends.

    Attributes:
        files: each file, with what tells this writing of it, and when it was made.
        url: where it answers.
    """

    def __init__(self) -> None:
        self.files: dict[str, tuple[bytes, str, datetime]] = {}
        self._lock = threading.Lock()
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), partial(_Handler, self))
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_port}"

    def put(self, name: str, data: bytes, new: bool) -> str:
        """Write a file; what tells this writing of it, or nothing if it was to be new and is there."""
        with self._lock:
            if new and name in self.files:
                return ""
            tag = f'"{hashlib.sha256(data).hexdigest()[:32]}"'
            self.files[name] = data, tag, datetime.now(UTC)
            return tag

    def listed(self, said: dict[str, str]) -> str:
        """A list of files, as an answer: all at once, for there are few."""
        prefix, after = said.get("prefix", ""), said.get("start-after", "")
        names = sorted(name for name in self.files if name.startswith(prefix) and name > after)
        folders = set[str]()
        if mark := said.get("delimiter"):
            inner = {name: name[len(prefix) :].partition(mark) for name in names}
            folders = {prefix + parts[0] + mark for parts in inner.values() if parts[1]}
            names = [name for name, parts in inner.items() if not parts[1]]
        told = "".join(f"<Contents>{self._told(name)}</Contents>" for name in names)
        told += "".join(f"<CommonPrefixes><Prefix>{escape(one)}</Prefix></CommonPrefixes>" for one in sorted(folders))
        return f"<ListBucketResult><IsTruncated>false</IsTruncated>{told}</ListBucketResult>"

    def _told(self, name: str) -> str:
        data, tag, made = self.files[name]
        return (
            f"<Key>{escape(name)}</Key><LastModified>{made:%Y-%m-%dT%H:%M:%S.000Z}</LastModified>"
            f"<ETag>{escape(tag)}</ETag><Size>{len(data)}</Size>"
        )

    @contextmanager
    def reached(self) -> Iterator[None]:
        """Meanwhile, the environment leads to it."""
        said = {
            "AWS_ENDPOINT_URL": self.url, "AWS_ALLOW_HTTP": "true", "AWS_REGION": "larkmoor",
            "AWS_ACCESS_KEY_ID": "larkmoor", "AWS_SECRET_ACCESS_KEY": "of no use elsewhere",
        }  # fmt: skip
        before = {name: os.environ.get(name) for name in said}
        os.environ.update(said)
        try:
            yield
        finally:
            for name, value in before.items():
                os.environ.pop(name) if value is None else os.environ.__setitem__(name, value)


class _Handler(BaseHTTPRequestHandler):
    """What is asked of a bucket, one request after the other."""

    protocol_version = "HTTP/1.1"

    def __init__(self, bucket: Bucket, *of_server: Any) -> None:
        self.bucket = bucket
        super().__init__(*of_server)

    def do_PUT(self) -> None:
        source = self.headers["x-amz-copy-source"]
        copied = None if source is None else self.bucket.files.get(_name(source))
        if source is not None and copied is None:
            self._answer(404, {})
            return
        data = copied[0] if copied else self._body()
        tag = self.bucket.put(_name(self.path), data, self.headers["If-None-Match"] == "*")
        body = b"" if source is None else f"<CopyObjectResult><ETag>{escape(tag)}</ETag></CopyObjectResult>".encode()
        self._answer(200 if tag else 412, {"ETag": tag} if tag else {}, body)

    def do_GET(self) -> None:
        asked = urlsplit(self.path)
        if "list-type" in asked.query:
            said = {name: values[0] for name, values in parse_qs(asked.query).items()}
            self._answer(200, {"Content-Type": "application/xml"}, self.bucket.listed(said).encode())
        else:
            self._answer_file(self.headers["Range"])

    def do_HEAD(self) -> None:
        self._answer_file(None)

    def do_DELETE(self) -> None:
        self.bucket.files.pop(_name(self.path), None)
        self._answer(204, {})

    def do_POST(self) -> None:
        """Remove some files."""
        names = [unescape(one) for one in re.findall("<Key>(.*?)</Key>", self._body().decode())]
        for name in names:
            self.bucket.files.pop(name, None)
        told = "".join(f"<Deleted><Key>{escape(name)}</Key></Deleted>" for name in names)
        self._answer(200, {"Content-Type": "application/xml"}, f"<DeleteResult>{told}</DeleteResult>".encode())

    def _body(self) -> bytes:
        return self.rfile.read(int(self.headers["Content-Length"] or 0))

    def _answer_file(self, part: str | None) -> None:
        found = self.bucket.files.get(_name(self.path))
        if found is None:
            self._answer(404, {})
            return
        data, tag, made = found
        said = {"ETag": tag, "Last-Modified": format_datetime(made, usegmt=True)}
        start, end = _range(part, len(data)) if part else (0, len(data))
        if part:
            said["Content-Range"] = f"bytes {start}-{end - 1}/{len(data)}"
        self._answer(206 if part else 200, said, data[start:end])

    def _answer(self, status: int, said: dict[str, str], body: bytes = b"") -> None:
        self.send_response(status)
        for name, value in said.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def log_message(self, *_: Any) -> None:
        """Nothing: nobody reads along."""


def _name(path: str) -> str:
    return unquote(urlsplit(path).path).lstrip("/").removeprefix(f"{NAME}/")


def _range(part: str, size: int) -> tuple[int, int]:
    """Where a part of a file begins and ends, as ``bytes=A-B`` asks for it."""
    first, _, last = part.removeprefix("bytes=").partition("-")
    if not first:
        return max(size - int(last), 0), size
    return int(first), min(int(last) + 1, size) if last else size
