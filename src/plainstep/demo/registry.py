"""A registry of schemas, as small as one can be: it answers what a reader asks of one, over HTTP, on this machine."""

from __future__ import annotations

import json
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import urlsplit


class Registry:
    """A registry of schemas, of which each has a number."""

    def __init__(self) -> None:
        self.schemas: dict[int, dict[str, Any]] = {}
        self.subjects: dict[str, list[int]] = {}
        self.asked: list[str] = []
        registry = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                registry.asked.append(self.path)
                asked = urlsplit(self.path)
                found = registry.answer(asked.path.strip("/").split("/"))
                if isinstance(found, dict):
                    compiled = found["compiled"] if "serialized" in asked.query else found["schema"]
                    found = {name: value for name, value in found.items() if name != "compiled"} | {"schema": compiled}
                body = json.dumps(found if found is not None else {"error_code": 40403}).encode()
                self.send_response(200 if found is not None else 404)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *_: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_port}"

    def add(self, subject: str, schema: Any, **said: Any) -> int:
        """Register a schema; its number.

        Args:
            subject: what it is a version of.
            schema: the schema, one of Avro or JSON.
            **said: what else there is to it, such as ``schemaType``, ``references`` and ``compiled``.
        """
        number = len(self.schemas) + 1
        text = json.dumps(schema)
        self.schemas[number] = {"schema": text, "compiled": text, "id": number} | said
        self.subjects.setdefault(subject, []).append(number)
        return number

    def answer(self, path: list[str]) -> Any:
        """What is answered to a path; None where there is no such thing."""
        match path:
            case ["schemas", "ids", number]:
                return self.schemas.get(int(number))
            case ["subjects", subject, "versions"]:
                return [*range(1, len(self.subjects[subject]) + 1)] if subject in self.subjects else None
            case ["subjects", subject, "versions", version]:
                return self.schemas[self.subjects[subject][int(version) - 1]]
        return None

    def close(self) -> None:
        """Stop it."""
        self.server.shutdown()
        self.server.server_close()
