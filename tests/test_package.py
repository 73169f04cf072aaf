"""What a package index shows of a release."""

from __future__ import annotations

import functools
import http.server
import re
import runpy
import threading
import unittest
from pathlib import Path
from typing import Any

import httpx

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text(encoding="utf-8")


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *args: Any) -> None:
        pass


class Description(unittest.TestCase):
    def setUp(self) -> None:
        self.setup = runpy.run_path(str(ROOT / "setup.py"), run_name="looked at")

    def test_every_link_of_a_release_leads_somewhere(self) -> None:
        with http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=ROOT)) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            self.addCleanup(server.shutdown)
            address = f"http://127.0.0.1:{server.server_port}/"
            text = self.setup["described"](README, address)
            links = [*re.findall(r"\]\(([^)]*)\)", text), *self.setup["urls"](address).values()]
            ours = [link for link in links if link.startswith(address)]
            self.assertGreater(len(ours), 30)
            self.assertEqual([link for link in links if not link.startswith("http")], [])
            self.assertEqual([link for link in ours if httpx.head(link).status_code != 200], [])

    def test_without_an_address_no_link_is_left_that_leads_nowhere(self) -> None:
        text = self.setup["described"](README, "")
        self.assertEqual(re.findall(r"\]\((?!http)[^)]*\)", text), [])
        self.assertIn("layout says how", text)
        self.assertEqual(self.setup["urls"](""), {})
